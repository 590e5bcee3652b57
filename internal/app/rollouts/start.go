package rollouts

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// wanted is a rollout that somebody wants, with what was found for it.
type wanted struct {
	endpoint *traffic.Endpoint
	to       string
	plan     rollout.Plan
}

// want finds out what a rollout that somebody wants is about.
func (s *Service) want(ctx context.Context, r records.View, endpoint string, n wire.NewRollout) (w wanted, err error) {
	if w.endpoint, err = s.traffic.FindEndpoint(ctx, r, endpoint); err != nil {
		return w, err
	}
	e := w.endpoint
	v, err := s.registry.Resolve(ctx, r, "to", n.To)
	if err != nil {
		return w, err
	}
	w.to = v.Ref
	switch {
	case v.Model != e.Model:
		return w, fault.New(fault.Refused, "split.model", "%s is not a version of %s, which %s serves", v.Ref, e.Model,
			e.Name).In("to").Do("name versions of %s", e.Model)
	case e.Split == nil:
		return w, fault.New(fault.Refused, "rollout.no_split",
			"nothing answers for %s yet, so there is nothing to move from",
			e.Name).
			In("endpoint").
			Do("make its first split with: innerladder split %s %s=100", e.Name, v.Ref)
	case e.Split.Main().Version == v.Ref:
		return w, fault.New(fault.Refused, "rollout.there", "%s answers main of %s already", v.Ref, e.Name).In("to").
			Do("name another version")
	}
	if w.plan, err = s.findPlan(ctx, r, e.Project, n.Plan); err != nil {
		return w, err
	}
	if err := e.CheckSignal("plan", w.plan.Compare.Signal); err != nil {
		return w, err
	}
	for _, g := range w.plan.Guards {
		if err := e.CheckSignal("plan", g.Signal); err != nil {
			return w, err
		}
	}
	return w, nil
}

// Foresee says what a rollout would do, and what is lacking; it changes nothing.
func (s *Service) Foresee(ctx context.Context, by act.Actor, endpoint string, n wire.NewRollout,
) (wire.Outlook, error) {
	if err := by.May(access.Read); err != nil {
		return wire.Outlook{}, err
	}
	w, err := s.want(ctx, s.Read(by), endpoint, n)
	if err != nil {
		return wire.Outlook{}, err
	}
	out := wire.Outlook{Endpoint: w.endpoint.Name, From: w.endpoint.Split.Main().Version, To: w.to, Plan: w.plan}
	if out.Lacking, err = s.lacking(ctx, s.Read(by), w); err != nil {
		return out, err
	}
	out.Forecast = rollout.Foresee(w.plan, s.trafficOf(ctx, w.endpoint, w.plan))
	all, err := s.Read(by).EvidenceOf(ctx, w.to)
	if err != nil {
		return out, err
	}
	for i := range all {
		if r := all[i].OwnReplay(); r != nil && r.Endpoint == out.Endpoint && r.Against == out.From {
			values := r.Values()
			out.Forecast.Expect(rollout.Replayed{
				Evidence: all[i].ID, Requests: r.Replayed, Differing: values["disagreement"],
				Failing: values["error_rate"],
			})
			break
		}
	}
	out.Sentence = out.Forecast.Sentence()
	return out, nil
}

// lacking lists all that keeps a rollout from being started now.
func (s *Service) lacking(ctx context.Context, r records.View, w wanted) ([]string, error) {
	out := []string{}
	e := w.endpoint
	if e.Rollout != "" {
		out = append(out, fmt.Sprintf("%s moves %s now: end it first with: innerladder rollout end %s -why REASON",
			e.Rollout, e.Name, e.Rollout))
	}
	if e.Rollout == "" && len(e.Split.Lanes) > 1 {
		out = append(out, fmt.Sprintf(
			"%s has more than one lane by hand, %s: end it first with: innerladder split %s %s=100",
			e.Name, e.Split.String(), e.Name, e.Split.Main().Version))
	}
	more, err := s.traffic.Lacking(ctx, r, e, w.to, w.plan.Capacity, w.plan.Kind == rollout.Shadow)
	return append(out, more...), err
}

// Start starts a rollout. What it lacks is said all at once; one that starts at a time to come may lack it
// until then.
func (s *Service) Start(ctx context.Context, by act.Actor, endpoint string, n wire.NewRollout,
) (*rollout.Rollout, error) {
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*rollout.Rollout, error) {
		w, err := s.want(ctx, t.View, endpoint, n)
		if err != nil {
			return nil, err
		}
		if err := t.By.Need(access.Route, w.endpoint.Project); err != nil {
			return nil, err
		}
		later := n.StartsAt != nil && n.StartsAt.After(t.Now)
		lacking, err := s.lacking(ctx, t.View, w)
		if err != nil {
			return nil, err
		}
		if len(lacking) > 0 && (!later || w.endpoint.Rollout != "" || len(w.endpoint.Split.Lanes) > 1) {
			return nil, fault.New(fault.Refused, "rollout.lacks", "the rollout cannot begin: %s",
				strings.Join(lacking, "; ")).
				In("to").
				Do("mend that, or give a time to start at by which it is")
		}
		o := &rollout.Rollout{
			Project: w.endpoint.Project, Endpoint: w.endpoint.Name, Incumbent: w.endpoint.Split.Main().Version,
			Candidate: w.to, Plan: w.plan, Reason: n.Reason, By: t.By.Name, AskedAt: t.Now, State: rollout.Start(t.Now),
		}
		if later {
			at := n.StartsAt.UTC()
			o.StartsAt = &at
		}
		if err := t.AddRollout(ctx, o); err != nil {
			return nil, err
		}
		d := o.Begun(t.Now)
		if err := t.AddDecision(ctx, o.ID, d); err != nil {
			return nil, err
		}
		return o, t.Note(ctx, act.Entry{
			Project: o.Project, Kind: "rollout.started", Subject: o.Endpoint,
			Also:     []string{o.ID, o.Candidate, o.Incumbent},
			Sentence: fmt.Sprintf("%s: %s", o.ID, d.Seen), Reason: n.Reason, After: o,
		})
	})
}

// findPlan finds a plan by NAME or NAME#REVISION, the usual one for no name.
func (s *Service) findPlan(ctx context.Context, r records.View, project, named string) (rollout.Plan, error) {
	p, err := s.plan(ctx, r, project, named)
	return p.Plan, err
}

func (s *Service) plan(ctx context.Context, r records.View, project, named string) (wire.KeptPlan, error) {
	if named == "" {
		named = rollout.Usual
	}
	name, number, given := strings.Cut(named, "#")
	revision := 0
	if given {
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 {
			return wire.KeptPlan{}, fault.New(fault.Invalid, "plan.revision", "%q is no revision of a plan", named).
				In("plan").
				Do("write NAME#NUMBER, such as ours#2")
		}
		revision = n
	}
	for _, p := range rollout.BuiltIn() {
		if p.Name == name && revision == 0 {
			return builtIn(p), nil
		}
	}
	stored, err := r.Plan(ctx, project, name, revision)
	if errors.Is(err, records.ErrNone) {
		var names []string
		for _, p := range rollout.BuiltIn() {
			names = append(names, p.Name)
		}
		all, _ := r.Plans(ctx)
		for _, p := range all {
			if p.Project == project {
				names = append(names, p.Plan.Name)
			}
		}
		return wire.KeptPlan{}, fault.New(fault.Unknown, "plan.unknown", "there is no plan %q", named).In("plan").
			Do("%s", act.Exist("plans", names))
	}
	if err != nil {
		return wire.KeptPlan{}, err
	}
	return shown(*stored), nil
}
