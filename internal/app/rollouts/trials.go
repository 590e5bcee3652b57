package rollouts

import (
	"context"
	"fmt"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
)

// RollBack ends the trial of a version because a guard fired. It does nothing when the
// split it is about is not in force any more.
func (s *Service) RollBack(ctx context.Context, endpoint string, split int, action guard.Action) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Route, func(t *act.Tx) (struct{}, error) {
		none := struct{}{}
		e, err := s.traffic.FindEndpoint(ctx, t.View, endpoint)
		if err != nil || e.Split == nil || e.Split.Number != split {
			return none, err
		}
		history, err := s.traffic.History(ctx, t.View, endpoint)
		if err != nil {
			return none, err
		}
		next := traffic.Without(history)
		next.Reason = action.Sentence
		made, err := s.traffic.PutInForce(ctx, t, e, &next)
		if err != nil {
			return none, err
		}
		if err := s.ladder.StepDown(ctx, t, e, action.RollBack, split, action.Sentence); err != nil {
			return none, err
		}
		return none, s.observe.Raise(ctx, t, &watch.Alert{
			Kind: watch.RolledBack, Project: e.Project, Endpoint: e.Name,
			Subject: action.RollBack, Signal: action.Signal,
			Sentence: fmt.Sprintf("%s Rolled back from #%d to %s by #%d.", action.Sentence, split, made, made.Number),
		})
	})
	return err
}

// StepTrials steps the watching of every endpoint that has a trial. What goes wrong with
// one stops no other.
func (s *Service) StepTrials(ctx context.Context) error {
	by := act.BySelf()
	endpoints, err := s.traffic.Endpoints(ctx, by)
	if err != nil {
		return err
	}
	name := func(e traffic.Endpoint) string { return e.Name }
	return jobs.Each(endpoints.Items, name, func(e traffic.Endpoint) error {
		trials, err := s.traffic.TrialsOf(ctx, s.DB.Read(records.Everything), e)
		if err != nil || len(trials) == 0 {
			return err
		}
		evidence, ready := s.observe.Evidence(ctx, e.Name, trials)
		if !ready {
			return nil // what is known of the trial is still being read
		}
		last, err := s.observe.Watching(ctx, e.Name)
		if err != nil {
			return err
		}
		state, actions := guard.Step(e.Plan, e.Split.Number, trials, last, evidence, s.Now())
		for _, a := range actions {
			s.Log.Warn(
				"a guard fired",
				"endpoint",
				e.Name,
				"split",
				e.Split.Number,
				"version",
				a.RollBack,
				"signal",
				a.Signal,
				"why",
				a.Sentence,
			)
			if err := s.RollBack(ctx, e.Name, e.Split.Number, a); err != nil {
				return err // the state is not kept, so the guard fires again at the next step
			}
		}
		return s.observe.KeepWatching(ctx, e.Name, state)
	})
}
