package rollouts

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
)

// shown is what the copies that a rollout sends have shown so far; nil where it sends none.
func (s *Service) shown(ctx context.Context, e *traffic.Endpoint, o *rollout.Rollout) (*evidence.ShadowReport, error) {
	if o.Copies == 0 {
		return nil, nil
	}
	pairs, err := s.traffic.PairsOf(ctx, s.DB.Read(records.Everything), *e)
	if err != nil {
		return nil, err
	}
	main, other, tolerance := o.Incumbent, o.Candidate, o.Plan.Copies.Tolerance
	if !o.Unheard() { // it has taken over, and the other one gets the copies
		main, other, tolerance = o.Candidate, o.Incumbent, o.Plan.Bake.Copies.Tolerance
	}
	r := s.observe.CopiesShown(ctx, e.Name, pairs, main, other, tolerance)
	if r != nil {
		r.Rollout = o.ID
	}
	return r, nil
}

// attach attaches what the copies of a shadow have shown to the candidate, and says under which number; empty where
// none could be compared.
func (s *Service) attach(ctx context.Context, t *act.Tx, e *traffic.Endpoint, o *rollout.Rollout, ended rollout.Phase,
) (string, error) {
	report, err := s.shown(ctx, e, o)
	if err != nil || report == nil || report.Requests == 0 {
		return "", err
	}
	verdict := evidence.VerdictPassed
	if ended != rollout.Finished {
		verdict = evidence.VerdictFailed
	}
	name := fmt.Sprintf("copies-%s.json", strings.ToLower(o.ID))
	made, err := s.registry.AttachOwn(ctx, t, o.Candidate, evidence.ShadowKind, verdict, name, report)
	if err != nil {
		return "", err
	}
	return made.ID, nil
}

// copiesOf is what the copies of a rollout have shown: so far, or in the report that became of them.
func (s *Service) copiesOf(ctx context.Context, by act.Actor, o *rollout.Rollout) (*evidence.ShadowReport, error) {
	if o.Evidence != "" {
		e, err := s.registry.Report(ctx, by, o.Evidence)
		if err != nil {
			return nil, err
		}
		return e.Shadow, nil
	}
	if o.Copies == 0 {
		return nil, nil
	}
	e, err := s.traffic.FindEndpoint(ctx, s.DB.Read(records.Everything), o.Endpoint)
	if err != nil {
		return nil, err
	}
	return s.shown(ctx, e, o)
}

// endCopies takes away the lane of a version that only got copies, because a guard fired, and tells of it. Nobody got
// an answer of its, so it keeps its rung, and there is no incident.
func (s *Service) endCopies(ctx context.Context, e *traffic.Endpoint, a guard.Action) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Route, func(t *act.Tx) (struct{}, error) {
		none := struct{}{}
		is, err := s.traffic.FindEndpoint(ctx, t.View, e.Name)
		if err != nil || is.Split == nil || is.Split.Number != e.Split.Number {
			return none, err
		}
		made, err := s.traffic.PutInForce(ctx, t, is, &traffic.Split{
			Endpoint: e.Name, Rules: is.Split.Rules, Contract: is.Split.Contract, Reason: a.Sentence,
			Lanes: slices.DeleteFunc(slices.Clone(is.Split.Lanes), func(l traffic.Lane) bool {
				return l.Kind == traffic.Shadow && l.Version == a.Pair.Candidate
			}),
		})
		if err != nil {
			return none, err
		}
		return none, s.observe.Raise(ctx, t, &watch.Alert{
			Kind: watch.GuardFired, Project: e.Project, Endpoint: e.Name, Subject: a.Pair.Candidate, Signal: a.Signal,
			Sentence: fmt.Sprintf("%s It gets no more copies since #%d.", a.Sentence, made.Number),
		})
	})
	return err
}
