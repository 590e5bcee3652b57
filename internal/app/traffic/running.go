package traffic

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	reg "innerladder/internal/app/registry"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/replica"
	"innerladder/internal/core/traffic"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/runner"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

const (
	// readyWithin is how long the replicas of a version may take to be ready at placement.
	readyWithin = 2 * time.Minute
	// longestBatchWait bounds how long a request may be made to wait for others.
	longestBatchWait = time.Second
	mostBatchRows    = 65_536
)

// run is what is known of a version that runs on this machine beyond the record.
type run struct {
	runner.Version
	// template is that by which it runs.
	template replica.Template
	scale    replica.Scale
}

// errNoRunner is said where nothing is run: in tests of other things.
var errNoRunner = fault.New(fault.Refused, "placement.no_runner", "this service runs no versions itself").In("runner").
	Do("place the version where it runs, with -at URL")

// planRun finds out how a version is run: from its only file that can be computed.
func (s *Service) planRun(v *registry.Version, n wire.NewRunner) (*traffic.Runner, error) {
	r := &traffic.Runner{ID: uuid.NewString(), BatchRows: n.BatchRows, Template: n.Template}
	var err error
	if r.Replicas, err = replica.ParseRange(cmp.Or(n.Replicas, "1")); err != nil {
		return nil, err
	}
	wait, err := time.ParseDuration(cmp.Or(n.BatchWait, "0s"))
	if err != nil || wait < 0 || wait > longestBatchWait || n.BatchRows < 0 || n.BatchRows > mostBatchRows {
		return nil, fault.New(fault.Invalid, "placement.batch", "%d rows within %q cannot be computed together",
			n.BatchRows, n.BatchWait).In("runner").
			Do("ask for 0 to %d rows, and a wait such as 2ms, up to %v", mostBatchRows, longestBatchWait)
	}
	r.BatchWaitMS = float64(wait) / float64(time.Millisecond)
	if r.Template != "" { // it finds out by itself what it can serve
		return r, r.CheckReplicas(r.Replicas)
	}
	file, err := reg.Computed("runner", v)
	if err != nil {
		return nil, err
	}
	r.Digest, r.Format = file.Digest, file.Contents.Format
	return r, nil
}

// start plans how a version is run and starts it; its addresses come back once it is ready.
func (s *Service) start(ctx context.Context, v *registry.Version, p *traffic.Placement, n wire.NewPlacement) ([]string,
	error,
) {
	if len(n.Addresses) > 0 || n.Elsewhere || n.ServedAs != "" {
		return nil, fault.New(fault.Invalid, "placement.run_at", "what is run here has an address of its own").
			In("runner").Do("leave out the addresses, served_as and elsewhere, or the runner")
	}
	var err error
	if p.Runner, err = s.planRun(v, *n.Runner); err != nil {
		return nil, err
	}
	return s.begin(ctx, v, p.Runner)
}

// template finds that by which a version is run; the zero value where it is the built-in model server.
func (s *Service) template(ctx context.Context, r *traffic.Runner) (replica.Template, error) {
	if r.Template == "" {
		return replica.Template{}, nil
	}
	if !s.runners.Commands() {
		return replica.Template{}, errNoCommands
	}
	read := s.DB.Read(records.Everything)
	t, there, err := findTemplate(ctx, read, r.Template)
	if err == nil && !there {
		err = unknownTemplate(ctx, read, r.Template)
	}
	return t, err
}

// versionOf is what the keeper of runners is told of a version, which a template serves where it has one.
func (s *Service) versionOf(v *registry.Version, r *traffic.Runner, t replica.Template, replicas int) (runner.Version,
	error,
) {
	if r.Template != "" {
		return s.fill(v, r, t, runner.Version{ID: r.ID, Name: v.Model, Replicas: replicas}), nil
	}
	f, err := s.registry.FileOf(r.Digest)
	if r.Format == registry.FormatEnsemble {
		f = s.runners.File(r.ID, ensembleFile)
	}
	return runner.Version{
		ID: r.ID, File: f, Format: r.Format, Name: v.Model, Signature: v.Signature, Replicas: replicas,
		BatchRows: r.BatchRows, BatchWait: time.Duration(r.BatchWaitMS * float64(time.Millisecond)),
	}, err
}

// begin starts a version and waits until all its replicas are ready; their addresses come back.
func (s *Service) begin(ctx context.Context, v *registry.Version, r *traffic.Runner) ([]string, error) {
	if s.runners == nil {
		return nil, errNoRunner
	}
	t, err := s.template(ctx, r)
	if err != nil {
		return nil, err
	}
	version, err := s.versionOf(v, r, t, r.Replicas.Least)
	if err == nil {
		err = s.furnish(ctx, v, r)
	}
	if err != nil {
		return nil, err
	}
	s.runners.Begin(ctx, version)
	deadline, cancel := context.WithTimeout(ctx, readyWithin)
	defer cancel()
	tick := time.NewTicker(30 * time.Millisecond)
	defer tick.Stop()
	for {
		all := s.runners.Look(deadline, r.ID)
		addresses, refused := ready(all)
		if refused != "" {
			return nil, fault.New(fault.Refused, "placement.cannot_run", "%s cannot be run here: %s", v.Ref, refused).
				In("runner").Do("see what can be with: innerladder look FILE; or run it in a server of its own, and " +
				"place it with -at URL")
		}
		if len(addresses) >= r.Replicas.Least {
			return addresses, nil
		}
		select {
		case <-tick.C:
		case <-deadline.Done():
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, fault.New(fault.Refused, "placement.not_ready", "%s was not ready within %v: %s", v.Ref,
				readyWithin, why(all)).In("runner").Do("try again, or with fewer replicas")
		}
	}
}

// ensembleFile is what the built-in runner is told of an ensemble.
const ensembleFile = "ensemble.json"

// assemble writes down what an ensemble is made of, with the files of its members.
func (s *Service) assemble(ctx context.Context, v *registry.Version, r *traffic.Runner) error {
	file, err := reg.Computed("runner", v)
	if err != nil {
		return err
	}
	set := runner.Ensemble{Plan: *file.Contents.Ensemble}
	for _, m := range set.Plan.Members {
		of, err := s.registry.Version(ctx, act.BySelf(), m.Version)
		if err != nil {
			return err
		}
		part, err := reg.Computed("runner", of)
		if err != nil {
			return err
		}
		path, err := s.registry.FileOf(part.Digest)
		if err != nil {
			return err
		}
		set.Files = append(set.Files, runner.MemberFile{
			File: path, Format: part.Contents.Format, Signature: of.Signature,
		})
	}
	text, err := json.Marshal(set)
	if err != nil {
		return err
	}
	return s.runners.Write(r.ID, ensembleFile, text)
}

// furnish makes what stands in the folder of a version besides its processes, where it is not there: at placement, and
// after the records came back from a backup.
func (s *Service) furnish(ctx context.Context, v *registry.Version, r *traffic.Runner) error {
	switch {
	case r.Template != "" && !s.runners.Has(s.runners.Folder(r.ID)):
		return s.unpack(v, r)
	case r.Format == registry.FormatEnsemble && !s.runners.Has(s.runners.File(r.ID, ensembleFile)):
		return s.assemble(ctx, v, r)
	}
	return nil
}

// ready lists the addresses of replicas that are ready, and why one cannot ever be.
func ready(all []replica.Replica) (addresses []string, refused string) {
	for _, r := range all {
		switch r.State {
		case "ready":
			addresses = append(addresses, r.Address)
		case "refused":
			refused = r.Reason
		}
	}
	return addresses, refused
}

// why is the first reason for a replica that is not ready.
func why(all []replica.Replica) string {
	for _, r := range all {
		if r.Reason != "" {
			return r.Reason
		}
	}
	return "it is still starting"
}

// StepRunners makes what runs on this machine be what is placed: what is missing is started, what is not placed any
// more ends, and the gateway is told where what runs is by now.
func (s *Service) StepRunners(ctx context.Context, now time.Time) error {
	if s.runners == nil {
		return nil
	}
	placed, err := s.DB.Read(records.Everything).RunPlacements(ctx, "")
	if err != nil {
		return err // nothing is ended because the record cannot be read
	}
	maps.DeleteFunc(s.runs, func(id string, _ *run) bool {
		return !slices.ContainsFunc(placed, func(p traffic.Placement) bool { return p.Runner.ID == id })
	})
	var wanted []runner.Version
	err = jobs.Each(placed, func(p traffic.Placement) string { return p.Version + " in " + p.Environment },
		func(p traffic.Placement) error {
			r, err := s.runOf(ctx, p)
			if err != nil {
				return err
			}
			reports := s.runners.Replicas(p.Runner.ID)
			r.Replicas = s.scale(p, r, reports, now)
			wanted = append(wanted, r.Version)
			return s.followRun(ctx, p, reports, r.Replicas)
		})
	// What cannot be read now goes on as it is; what may not run any more ends.
	var leave []string
	for _, p := range placed {
		allowed := p.Runner.Template == "" || s.runners.Commands()
		if allowed && !slices.ContainsFunc(wanted, func(w runner.Version) bool { return w.ID == p.Runner.ID }) {
			leave = append(leave, p.Runner.ID)
		}
	}
	return errors.Join(err, s.runners.Step(ctx, now, wanted, leave))
}

// runOf is what is known of a placement that runs here. A version does not change, so it is read once; a template may.
func (s *Service) runOf(ctx context.Context, p traffic.Placement) (*run, error) {
	t, err := s.template(ctx, p.Runner)
	if err != nil {
		return nil, err
	}
	if r := s.runs[p.Runner.ID]; r != nil && reflect.DeepEqual(r.template, t) {
		return r, nil
	}
	v, err := s.registry.Version(ctx, act.BySelf(), p.Version)
	if err != nil {
		return nil, err
	}
	r := &run{template: t}
	replicas := len(p.Addresses) // as many as answer, where this process has not counted them yet
	if before := s.runs[p.Runner.ID]; before != nil {
		r.scale, replicas = before.scale, before.Replicas
	}
	if r.Version, err = s.versionOf(v, p.Runner, t, replicas); err == nil {
		err = s.furnish(ctx, v, p.Runner)
	}
	if err != nil {
		return nil, err
	}
	s.runs[p.Runner.ID] = r
	return r, nil
}

// scale says how many replicas a placement has from now on.
func (s *Service) scale(p traffic.Placement, r *run, reports []replica.Replica, now time.Time) int {
	underWay := 0.0
	for _, one := range reports {
		underWay += one.Work.UnderWay
	}
	want, because := r.scale.Step(p.Runner.Replicas, r.Replicas, underWay, now)
	if want != r.Replicas {
		s.Log.Info("replicas change", "version", p.Version, "environment", p.Environment, "from", r.Replicas,
			"to", want, "because", because)
	}
	return want
}

// followRun puts the addresses of the replicas that there are into the record, and so into force at the gateway. One
// that goes is taken from there before its process is asked to end.
func (s *Service) followRun(ctx context.Context, p traffic.Placement, reports []replica.Replica, wanted int) error {
	var next []traffic.Address
	for _, r := range reports {
		if r.Number > wanted || r.Address == "" {
			continue
		}
		i := slices.IndexFunc(p.Addresses, func(a traffic.Address) bool { return a.URL == r.Address })
		switch {
		case i >= 0:
			next = append(next, p.Addresses[i])
		case r.State == "ready":
			next = append(next, traffic.Address{URL: r.Address, Healthy: true, Since: s.Now()})
		}
	}
	// Where a replica has no address now, it comes back at the one that it had.
	for _, a := range p.Addresses {
		if len(next) < min(wanted, len(p.Addresses)) &&
			!slices.ContainsFunc(next, func(o traffic.Address) bool { return o.URL == a.URL }) {
			next = append(next, a)
		}
	}
	after := p
	after.Addresses = nil
	if after = after.With(next...); len(next) == 0 || sameURLs(after, p) {
		return nil
	}
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Place, func(t *act.Tx) (struct{}, error) {
		none := struct{}{}
		now, err := t.PlacementOf(ctx, p.Version, p.Environment)
		if errors.Is(err, records.ErrNone) {
			return none, nil // taken away meanwhile
		}
		if err != nil || !now.SameAddresses(p) {
			return none, err
		}
		after.Runner = now.Runner
		if err := t.SetAddresses(ctx, &after); err != nil {
			return none, err
		}
		return none, t.Note(ctx, act.Entry{
			Project: p.Project, Kind: "placement.changed", Subject: p.Version,
			Sentence: fmt.Sprintf("%s in %s runs at %s now.", p.Version, p.Environment,
				strings.Join(after.URLs(), ", ")),
			Before: p.URLs(), After: after.URLs(),
		})
	})
	return err
}

// sameURLs reports whether two placements have the same addresses in whatever order.
func sameURLs(a, b traffic.Placement) bool {
	x, y := a.URLs(), b.URLs()
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}

// changeReplicas changes how many processes a placement has.
func (s *Service) changeReplicas(ctx context.Context, by act.Actor, before *traffic.Placement,
	edit wire.EditAddresses,
) (*traffic.Placement, error) {
	if before.Runner == nil {
		return nil, fault.New(fault.Refused, "placement.not_run", "%s in %s runs in servers of others", before.Version,
			before.Environment).In("replicas").
			Do("start more of them, and add their addresses with: innerladder addresses %s -env %s -add URL",
				before.Version, before.Environment)
	}
	r, err := replica.ParseRange(edit.Replicas)
	if err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Place, func(t *act.Tx) (*traffic.Placement, error) {
		p, err := placed(ctx, t.View, before.Version, before.Environment)
		if err != nil {
			return nil, err
		}
		if p.Runner == nil || p.Runner.ID != before.Runner.ID {
			return nil, fault.New(fault.Stale, "placement.changed", "%s in %s was placed anew meanwhile", p.Version,
				p.Environment).In("replicas").Do("look at it again, and say what is still to change")
		}
		if err := p.Runner.CheckReplicas(r); err != nil {
			return nil, err
		}
		was := p.Runner.Replicas
		p.Runner.Replicas = r
		if err := t.SetAddresses(ctx, p); err != nil {
			return nil, err
		}
		return p, t.Note(ctx, act.Entry{
			Project: p.Project, Kind: "placement.changed", Subject: p.Version,
			Sentence: fmt.Sprintf("%s in %s has %s replicas from now on.", p.Version, p.Environment, r),
			Reason:   edit.Reason, Before: was, After: r,
		})
	})
}

// Running lists what runs on this machine, of one version when a ref is given.
func (s *Service) Running(ctx context.Context, by act.Actor, ref string) (wire.Listed[wire.Running], error) {
	version := ""
	if ref != "" {
		v, err := s.registry.Version(ctx, by, ref)
		if err != nil {
			return wire.Listed[wire.Running]{}, err
		}
		version = v.Ref
	}
	return act.List(s.Base, by, func(r records.View) ([]wire.Running, string, error) {
		placed, err := r.RunPlacements(ctx, version)
		out := []wire.Running{}
		for _, p := range placed {
			w := wire.Running{
				Version: p.Version, Environment: p.Environment, Runner: *p.Runner, Replicas: []replica.Replica{},
			}
			if s.runners != nil {
				w.Replicas = s.runners.Replicas(p.Runner.ID)
			}
			out = append(out, w)
		}
		return out, "", err
	})
}

// RunningLog is the last lines that a replica wrote. They may hold what a model server says of the rows that it was
// asked, so it takes the permission to place.
func (s *Service) RunningLog(ctx context.Context, by act.Actor, ref, environment string, n, lines int) (wire.RunningLog,
	error,
) {
	v, _, err := s.toPlace(ctx, by, ref, environment)
	if err != nil {
		return wire.RunningLog{}, err
	}
	p, err := placed(ctx, s.Read(by), v.Ref, environment)
	if err != nil {
		return wire.RunningLog{}, err
	}
	if p.Runner == nil || s.runners == nil {
		return wire.RunningLog{}, fault.New(fault.Refused, "placement.not_run", "%s in %s runs in servers of others",
			v.Ref, environment).In("environment").Do("look at the log of the model server where it runs")
	}
	out, err := s.runners.Log(p.Runner.ID, n, lines)
	if err != nil {
		return wire.RunningLog{}, fault.New(fault.Unknown, "placement.no_replica", "%s in %s: %v", v.Ref, environment,
			err).In("replica").Do("see what there is with: innerladder running %s", v.Ref)
	}
	return wire.RunningLog{Lines: out}, nil
}
