package traffic

import (
	"context"
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/custom"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// AddEndpoint adds an endpoint.
func (s *Service) AddEndpoint(ctx context.Context, by act.Actor, n wire.NewEndpoint) (*traffic.Endpoint, error) {
	if err := naming.Check("name", n.Name); err != nil {
		return nil, err
	}
	terms := guard.DefaultTerms()
	if n.Terms != nil {
		terms = *n.Terms
	}
	if err := terms.Check(); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Endpoint, error) {
		m, err := s.registry.FindModel(ctx, t.View, "model", n.Model)
		if err != nil {
			return nil, err
		}
		l, err := t.Ladder(ctx, m.Project)
		if err != nil {
			return nil, err
		}
		if n.Rung == "" {
			n.Rung = l.Highest()
		}
		if err := l.CheckRung("rung", n.Rung); err != nil {
			return nil, err
		}
		place, err := s.findEnvironment(ctx, t.View, n.Environment)
		if err != nil {
			return nil, err
		}
		if err := place.CheckProject(m.Project); err != nil {
			return nil, err
		}
		if _, err := t.Endpoint(ctx, n.Name); err == nil {
			return nil, fault.New(fault.Refused, "endpoint.exists", "there is an endpoint %s already", n.Name).
				In("name").Do("use it, or choose another name")
		} else if !errors.Is(err, records.ErrNone) {
			return nil, err
		}
		if err := act.NameFree(ctx, t.View, "endpoints", n.Name); err != nil {
			return nil, err
		}
		e := traffic.Endpoint{
			Name: n.Name, Project: m.Project, Model: n.Model, Environment: n.Environment, Rung: n.Rung,
			Description: n.Description, Terms: terms, Repeatable: n.Repeatable,
			Checked: n.Checked, Requests: request.UsualKeeping(),
			Custom: []custom.Signal{}, CreatedBy: t.By.Name, CreatedAt: t.Now,
		}
		if err := e.CheckTerms(terms); err != nil {
			return nil, err
		}
		if err := t.View.AddEndpoint(ctx, e); err != nil {
			return nil, err
		}
		return &e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "endpoint.added", Subject: e.Name,
			Sentence: fmt.Sprintf("Endpoint %s was added for %s in %s.", e.Name, e.Model, e.Environment), After: e,
		})
	})
}

// EditEndpoint changes what is said about an endpoint and what it demands. What answers now must
// meet it afterwards too, and a trial goes on by the terms that it began with.
func (s *Service) EditEndpoint(ctx context.Context, by act.Actor, name string,
	edit wire.EditEndpoint,
) (*traffic.Endpoint, error) {
	if edit.Terms != nil {
		if err := edit.Terms.Check(); err != nil {
			return nil, err
		}
	}
	if edit.Sticky != nil && *edit.Sticky != "" {
		if err := traffic.CheckOn("sticky", *edit.Sticky); err != nil {
			return nil, err
		}
	}
	if edit.Requests != nil {
		if err := edit.Requests.Check(); err != nil {
			return nil, err
		}
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Endpoint, error) {
		e, err := s.FindEndpoint(ctx, t.View, name)
		if err != nil {
			return nil, err
		}
		before := *e
		if edit.Requests != nil {
			e.Requests = *edit.Requests
		}
		if edit.Description != nil {
			e.Description = *edit.Description
		}
		if edit.Repeatable != nil {
			e.Repeatable = *edit.Repeatable
		}
		if edit.Checked != nil {
			e.Checked = *edit.Checked
		}
		if edit.Sticky != nil {
			e.Sticky = *edit.Sticky
		}
		if err := own(e, edit); err != nil {
			return nil, err
		}
		if edit.Terms != nil {
			if e.Split != nil && len(e.Split.Lanes) > 1 {
				return nil, fault.New(fault.Refused, "endpoint.trial",
					"%s has a trial, which goes on by the terms that it began with", name).In("terms").
					Do("end the trial first, or change them afterwards")
			}
			if err := e.CheckTerms(*edit.Terms); err != nil {
				return nil, err
			}
			e.Terms = *edit.Terms
		}
		if edit.Rung != nil {
			if err := s.raise(ctx, t, e, *edit.Rung); err != nil {
				return nil, err
			}
		}
		if reflect.DeepEqual(before, *e) {
			return nil, nothingToChange("a description, a rung, a margin")
		}
		if err := t.SetEndpoint(ctx, *e); err != nil {
			return nil, err
		}
		return e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "endpoint.changed", Subject: name, Sentence: "Endpoint " + name + " was changed.",
			Reason: edit.Reason, Before: settings(before), After: settings(*e),
		})
	})
}

// own says whose an endpoint is, and what to do about it.
func own(e *traffic.Endpoint, edit wire.EditEndpoint) error {
	before := e.Watches
	if edit.Owner != nil {
		e.Watches.Owner = *edit.Owner
	}
	if edit.Runbook != nil {
		e.Watches.Runbook = *edit.Runbook
	}
	if !reflect.DeepEqual(before, e.Watches) {
		e.Watches.Revision++
	}
	return e.Watches.Check()
}

// settings are what can be changed of an endpoint.
func settings(e traffic.Endpoint) wire.EditEndpoint {
	return wire.EditEndpoint{
		Description: &e.Description, Rung: &e.Rung, Terms: &e.Terms, Repeatable: &e.Repeatable,
		Checked: &e.Checked,
		Sticky:  &e.Sticky, Requests: &e.Requests, Owner: &e.Watches.Owner, Runbook: &e.Watches.Runbook,
	}
}

// raise has an endpoint demand another rung, on which what answers now must stand.
func (s *Service) raise(ctx context.Context, t *act.Tx, e *traffic.Endpoint, rung string) error {
	l, err := t.Ladder(ctx, e.Project)
	if err != nil {
		return err
	}
	if err := l.CheckRung("rung", rung); err != nil {
		return err
	}
	e.Rung = rung
	if e.Split == nil {
		return nil
	}
	for _, lane := range e.Split.Lanes {
		v, err := s.registry.Resolve(ctx, t.View, "version", lane.Version)
		if err != nil {
			return err
		}
		if l.Height(v.Rung) < l.Height(rung) {
			return fault.New(fault.Refused, "endpoint.rung", "%s answers for %s and stands on %s", v.Ref, e.Name,
				v.Rung).In("rung").
				Do("ask for %s first with: innerladder promote %s -to %s", rung, v.Ref, rung)
		}
	}
	return nil
}

// quiet is how long nobody may have called an endpoint that is taken away.
const quiet = 15 * time.Minute

// RemoveEndpoint takes away an endpoint that nobody calls. One that has answered keeps its name and
// its splits, by which what it answered is traced; its last split has no lane.
func (s *Service) RemoveEndpoint(ctx context.Context, by act.Actor, name, reason string) (*traffic.Endpoint, error) {
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Endpoint, error) {
		e, err := s.FindEndpoint(ctx, t.View, name)
		if err != nil {
			return nil, err
		}
		if e.Rollout != "" {
			return nil, fault.New(fault.Refused, "rollout.in_force", "%s moves %s now", e.Rollout, name).
				In("endpoint").
				Do("end it first with: innerladder rollout end %s -why REASON", e.Rollout)
		}
		if e.Split != nil {
			if err := naming.CheckReason(reason, "say why; it answers nobody from now on"); err != nil {
				return nil, err
			}
			if called := s.recorder.Recent(name, t.Now.Add(-quiet), t.Now.Add(time.Second)); len(called) > 0 {
				return nil, fault.New(fault.Refused, "endpoint.called", "%s was called within the last %s", name,
					quiet).In("endpoint").Do("stop its callers first, or take their keys away, and wait")
			}
			closing := &traffic.Split{Endpoint: name, Reason: reason, Author: t.By.Name, MadeAt: t.Now}
			if err := t.AddSplit(ctx, closing); err != nil {
				return nil, err
			}
		}
		if err := t.View.RemoveEndpoint(ctx, e, t.Now); err != nil {
			return nil, err
		}
		return e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "endpoint.removed", Subject: name,
			Sentence: "Endpoint " + name + " was taken away.", Reason: reason, Before: *e,
		})
	})
}

// Endpoints lists all endpoints.
func (s *Service) Endpoints(ctx context.Context, by act.Actor) (wire.Listed[traffic.Endpoint], error) {
	return act.List(s.Base, by, func(r records.View) ([]traffic.Endpoint, string, error) {
		all, err := r.Endpoints(ctx)
		return all, "", err
	})
}

// Endpoint finds an endpoint.
func (s *Service) Endpoint(ctx context.Context, by act.Actor, name string) (*traffic.Endpoint, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	return s.FindEndpoint(ctx, s.Read(by), name)
}

// EndpointFor finds an endpoint for which an actor has a permission in its project.
func (s *Service) EndpointFor(ctx context.Context, by act.Actor, need access.Permission, name string,
) (*traffic.Endpoint, error) {
	if err := by.May(need); err != nil {
		return nil, err
	}
	e, err := s.FindEndpoint(ctx, s.Read(by), name)
	if err != nil {
		return nil, err
	}
	return e, by.Need(need, e.Project)
}

// EndpointWithBack finds an endpoint and where a way back would lead. It reads the splits for
// that, so who only needs the endpoint takes Endpoint.
func (s *Service) EndpointWithBack(ctx context.Context, by act.Actor, name string) (*traffic.Endpoint, error) {
	e, err := s.Endpoint(ctx, by, name)
	if err != nil || e.Split == nil {
		return e, err
	}
	history, err := s.History(ctx, s.Read(by), name)
	if err != nil {
		return nil, err
	}
	if back, err := traffic.WayBack(history); err == nil {
		e.Back = &back
	}
	return e, nil
}

// FindEndpoint finds an endpoint by name, or says which there are.
func (s *Service) FindEndpoint(ctx context.Context, r records.View, name string) (*traffic.Endpoint, error) {
	e, err := r.Endpoint(ctx, name)
	if !errors.Is(err, records.ErrNone) {
		return e, err
	}
	f := fault.New(fault.Unknown, "endpoint.unknown", "there is no endpoint %q", name).In("endpoint")
	if all, err := r.Endpoints(ctx); err == nil {
		names := make([]string, len(all))
		for i, e := range all {
			names[i] = e.Name
		}
		f = f.Do("%s", act.Exist("endpoints", names))
	}
	return nil, f
}

// Splits lists the splits of an endpoint, newest first.
func (s *Service) Splits(ctx context.Context, by act.Actor, endpoint string,
	p records.Page,
) (wire.Listed[traffic.Split], error) {
	if _, err := s.Endpoint(ctx, by, endpoint); err != nil {
		return wire.Listed[traffic.Split]{}, err
	}
	return act.List(s.Base, by, func(r records.View) ([]traffic.Split, string, error) {
		return r.Splits(ctx, endpoint, p)
	})
}

// Split makes a new split of an endpoint and puts it in force. based is the number of the split it was decided on,
// -1 when the caller does not care. Without rules (nil) those in force stay whose versions have a lane; an empty
// list ends them.
func (s *Service) Split(ctx context.Context, by act.Actor, endpoint string, lanes []traffic.Lane,
	rules []traffic.Rule, reason string, based int,
) (*traffic.Split, error) {
	if err := by.May(access.Route); err != nil {
		return nil, err
	}
	if err := traffic.CheckLanes(lanes); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Split, error) {
		e, err := s.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return nil, err
		}
		if err := checkBased(e, based); err != nil {
			return nil, err
		}
		if err := s.free(ctx, t.View, e); err != nil {
			return nil, err
		}
		resolved := slices.Clone(lanes)
		for i, l := range lanes {
			v, err := s.registry.Resolve(ctx, t.View, fmt.Sprintf("lanes[%d].version", i), l.Version)
			if err != nil {
				return nil, err
			}
			resolved[i].Version = v.Ref
		}
		// A rung and a number may turn out to be the same version.
		if err := traffic.CheckLanes(resolved); err != nil {
			return nil, err
		}
		next := &traffic.Split{Endpoint: e.Name, Lanes: resolved, Reason: reason}
		standings, err := s.checkStandings(ctx, t.View, e, next, true)
		if err != nil {
			return nil, err
		}
		if rules == nil && e.Split != nil {
			rules = traffic.KeepRules(e.Split.Rules, resolved)
		}
		if next.Rules, err = s.resolveRules(ctx, t.View, rules, resolved); err != nil {
			return nil, err
		}
		if next.Contract, err = s.contractFor(ctx, t, e, next, standings); err != nil {
			return nil, err
		}
		return s.PutInForce(ctx, t, e, next)
	})
}

// checkBased refuses a change that was decided on another split than the one in force.
func checkBased(e *traffic.Endpoint, based int) error {
	current := 0
	if e.Split != nil {
		current = e.Split.Number
	}
	if based >= 0 && based != current {
		return fault.New(fault.Stale, "split.changed", "the split in force is %s#%d, not #%d", e.Name, current, based).
			In("If-Match").
			Do("look at it, and decide again")
	}
	return nil
}

// demand is what an endpoint asks of the versions that answer for it. A way back does not ask for the
// rung: it must stay open.
func (s *Service) demand(ctx context.Context, r records.View, e *traffic.Endpoint, rung bool) (traffic.Demand, error) {
	ladder, err := r.Ladder(ctx, e.Project)
	d := traffic.Demand{
		Endpoint: e.Name, Model: e.Model, Environment: e.Environment, Rung: e.Rung,
		Height: ladder.Height(e.Rung), Ladder: ladder.Height,
	}
	if !rung {
		d.Height = -1
	}
	return d, err
}

// standing is what is known of a version where it would answer for an endpoint.
func (s *Service) standing(ctx context.Context, r records.View, e *traffic.Endpoint, d traffic.Demand,
	ref string,
) (traffic.Standing, error) {
	v, err := s.registry.Resolve(ctx, r, "version", ref)
	if err != nil {
		return traffic.Standing{}, err
	}
	st := traffic.Standing{
		Version: v.Ref, Model: v.Model, Rung: v.Rung, Height: d.Ladder(v.Rung), Signature: v.Signature,
	}
	p, err := r.PlacementOf(ctx, v.Ref, e.Environment)
	if errors.Is(err, records.ErrNone) {
		return st, nil
	}
	if err == nil {
		st.Placed, st.Healthy, st.Reason, st.Elsewhere = true, p.Healthy, p.Reason(), p.Elsewhere
		st.Signature = p.Exactly(v.Signature)
	}
	return st, err
}

// checkStandings asks whether the versions of a split may answer for the endpoint now, notes whether they do so
// elsewhere, and says what is known of each that answers. Of one that only gets copies no rung is asked, and no
// contract.
func (s *Service) checkStandings(ctx context.Context, r records.View, e *traffic.Endpoint, split *traffic.Split,
	rung bool,
) (answering []traffic.Standing, err error) {
	d, err := s.demand(ctx, r, e, rung)
	if err != nil {
		return nil, err
	}
	var all []traffic.Standing
	for i, l := range split.Lanes {
		st, err := s.standing(ctx, r, e, d, l.Version)
		if err == nil {
			err = d.Check(l, st, fmt.Sprintf("lanes[%d].version", i))
		}
		if err != nil {
			return nil, err
		}
		all = append(all, st)
		if l.Kind.Answers() {
			answering = append(answering, st)
		}
	}
	split.Elsewhere, err = traffic.AreElsewhere(all)
	return answering, err
}

// PutInForce writes the next split of an endpoint.
func (s *Service) PutInForce(ctx context.Context, t *act.Tx, e *traffic.Endpoint,
	split *traffic.Split,
) (*traffic.Split, error) {
	split.Author, split.MadeAt = t.By.Name, t.Now
	if err := t.AddSplit(ctx, split); err != nil {
		return nil, err
	}
	said := fmt.Sprintf("%s#%d: %s.", e.Name, split.Number, split)
	switch {
	case split.ReturnsTo > 0:
		said = fmt.Sprintf("%s#%d: back to #%d, %s.", e.Name, split.Number, split.ReturnsTo, split)
	case split.Leaves > 0:
		said = fmt.Sprintf("%s#%d: away from #%d, %s.", e.Name, split.Number, split.Leaves, split)
	}
	said += s.late(e.Name, t.Now)
	var before any
	if e.Split != nil {
		before = e.Split
	}
	return split, t.Note(ctx, act.Entry{
		Project: e.Project, Kind: "split.made", Subject: e.Name, Sentence: said,
		Reason: split.Reason, Before: before, After: split,
	})
}

// resolveRules finds the versions that rules name, which must have a lane.
func (s *Service) resolveRules(ctx context.Context, r records.View, rules []traffic.Rule, lanes []traffic.Lane,
) ([]traffic.Rule, error) {
	out := slices.Clone(rules)
	for i := range out {
		v, err := s.registry.Resolve(ctx, r, fmt.Sprintf("rules[%d].version", i), out[i].Version)
		if err != nil {
			return nil, err
		}
		out[i].Version = v.Ref
	}
	return out, traffic.CheckTargets("rules", out, lanes)
}

// Explain says where a request would go now, and why.
func (s *Service) Explain(ctx context.Context, by act.Actor, endpoint, named string, a traffic.Asked,
) (traffic.Where, error) {
	e, err := s.Endpoint(ctx, by, endpoint)
	if err != nil {
		return traffic.Where{}, err
	}
	if e.Split == nil {
		return traffic.Where{}, fault.New(fault.Refused, "explain.no_split", "nothing answers for %s yet", endpoint).
			In("endpoint").Do("make a split with: innerladder split %s %s@NUMBER=100", endpoint, e.Model)
	}
	return traffic.Explain(e.Name, e.Split, e.Sticky, named, a)
}

// free refuses a split by hand while a rollout moves the endpoint, or nothing may be moved.
func (s *Service) free(ctx context.Context, r records.View, e *traffic.Endpoint) error {
	if e.Rollout != "" {
		return fault.New(fault.Refused, "rollout.in_force", "%s moves %s now", e.Rollout, e.Name).In("endpoint").
			Do("end it first with: innerladder rollout end %s -why REASON", e.Rollout)
	}
	frozen, err := s.Frozen(ctx, r, e.Project)
	if err == nil && frozen != "" {
		err = fault.New(fault.Refused, "freeze.on", "a change freeze is on: %s", frozen).In("endpoint").
			Do("wait for its end; ways back are open: innerladder back %s", e.Name)
	}
	return err
}

// Frozen says why nothing is moved in a project now: a change freeze of its ladder is in force. It is empty when
// there is none.
func (s *Service) Frozen(ctx context.Context, r records.View, project string) (string, error) {
	l, err := r.Ladder(ctx, project)
	if err != nil {
		return "", err
	}
	f := l.Frozen(s.Now())
	if f.Name == "" {
		return "", nil
	}
	return fmt.Sprintf("%s, until %s", f.Name, f.Until.UTC().Format("2006-01-02 15:04 UTC")), nil
}

// Lacking lists all that a version lacks to answer for an endpoint, or with copies to get those, each with what to do
// about it. capacity is how many healthy addresses it must have, as a share of those of main.
func (s *Service) Lacking(ctx context.Context, r records.View, e *traffic.Endpoint, ref string,
	capacity float64, copies bool,
) (out []string, err error) {
	d, err := s.demand(ctx, r, e, !copies)
	if err != nil {
		return nil, err
	}
	st, err := s.standing(ctx, r, e, d, ref)
	if err != nil {
		return nil, err
	}
	for _, f := range d.Lacks(st, "version") {
		out = append(out, f.Detail+": "+f.Remedy)
	}
	if st.Elsewhere || e.Split.Elsewhere {
		out = append(out, fmt.Sprintf("%s answers where the gateway does not reach, so no rollout can move it: say "+
			"what answers there with: innerladder split %s VERSION=100", e.Name, e.Name))
	}
	if !st.Placed {
		return out, nil
	}
	decided, err := s.decided(ctx, r, e)
	if err != nil {
		return nil, err
	}
	if len(decided) > 0 {
		main, err := s.standing(ctx, r, e, d, e.Split.Main().Version)
		if err != nil {
			return nil, err
		}
		var f *fault.Fault
		if _, err := decided.Under([]traffic.Standing{main, st}); errors.As(err, &f) {
			out = append(out, f.Detail+": "+f.Remedy)
		}
	}
	has, err := s.HealthyAddresses(ctx, r, ref, e.Environment)
	if err != nil {
		return nil, err
	}
	answering, err := s.HealthyAddresses(ctx, r, e.Split.Main().Version, e.Environment)
	if need := int(math.Ceil(capacity * float64(answering))); err == nil && st.Healthy && has < need {
		out = append(out, fmt.Sprintf("%s has %d healthy addresses, and all traffic needs %d, as %s has: add some "+
			"with: innerladder placement add %s -env %s -at URL", ref, has, need, e.Split.Main().Version, ref,
			e.Environment))
	}
	return out, err
}

// HealthyAddresses is how many addresses of a version are healthy in an environment.
func (s *Service) HealthyAddresses(ctx context.Context, r records.View, ref, environment string) (n int, err error) {
	p, err := r.PlacementOf(ctx, ref, environment)
	if errors.Is(err, records.ErrNone) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	for _, a := range p.Addresses {
		if a.Healthy {
			n++
		}
	}
	return n, nil
}

// WayTo finds the split by which an endpoint leaves the one in force for a reason and returns to an earlier one:
// to the given revision, or for 0 to where the way back leads by itself. What it returns to must be healthy
// and keep its contract.
func (s *Service) WayTo(ctx context.Context, r records.View, endpoint string, to int, reason string,
	based int,
) (*traffic.Endpoint, *traffic.Split, error) {
	e, err := s.FindEndpoint(ctx, r, endpoint)
	if err != nil {
		return nil, nil, err
	}
	if err := checkBased(e, based); err != nil {
		return nil, nil, err
	}
	target, err := s.wayBack(ctx, r, endpoint, to)
	if err != nil {
		return nil, nil, err
	}
	back := &traffic.Split{
		Endpoint: e.Name, Lanes: target.Lanes, Rules: target.Rules, Reason: reason, ReturnsTo: target.Number,
		Leaves: e.Split.Number, Contract: target.Contract,
	}
	standings, err := s.checkStandings(ctx, r, e, back, false)
	if err != nil {
		return nil, nil, err
	}
	return e, back, keepsContract(ctx, r, target, standings)
}

// Move puts the lanes of a rollout in force, whose versions must be able to answer and keep a contract
// together.
func (s *Service) Move(ctx context.Context, t *act.Tx, e *traffic.Endpoint, next *traffic.Split,
) (*traffic.Split, error) {
	standings, err := s.checkStandings(ctx, t.View, e, next, false)
	if err != nil {
		return nil, err
	}
	if next.Contract, err = s.contractFor(ctx, t, e, next, standings); err != nil {
		return nil, err
	}
	return s.PutInForce(ctx, t, e, next)
}

// History reads the newest splits of an endpoint, in ascending order; the last is in force.
func (s *Service) History(ctx context.Context, r records.View, endpoint string) ([]traffic.Split, error) {
	splits, _, err := r.Splits(ctx, endpoint, records.Page{Limit: traffic.LookBack})
	slices.Reverse(splits)
	return splits, err
}

// wayBack finds the split that a way back leads to: the one that is named, or for 0 the one
// that it leads to by itself.
func (s *Service) wayBack(ctx context.Context, r records.View, endpoint string, to int) (traffic.Split, error) {
	splits, err := s.History(ctx, r, endpoint)
	if err != nil {
		return traffic.Split{}, err
	}
	if to == 0 {
		return traffic.WayBack(splits)
	}
	newest := traffic.Split{}
	if len(splits) > 0 {
		newest = splits[len(splits)-1]
	}
	if to < 1 || to >= newest.Number {
		return traffic.Split{}, fault.New(fault.Invalid, "back.revision", "#%d is not an earlier revision of %s", to,
			endpoint).In("to").
			Do("name one from 1 to %d; see: innerladder splits %s", newest.Number-1, endpoint)
	}
	one, _, err := r.Splits(ctx, endpoint, records.Page{Limit: 1, After: fmt.Sprint(to + 1)})
	if err != nil {
		return traffic.Split{}, err
	}
	one[0].Lanes = traffic.Answering(one[0].Lanes)
	if slices.Equal(one[0].Lanes, newest.Lanes) {
		return traffic.Split{}, fault.New(fault.Refused, "back.same", "#%d is what is in force: %s", to,
			newest.String()).
			In("to").Do("nothing would change; see: innerladder splits %s", endpoint)
	}
	return one[0], nil
}
