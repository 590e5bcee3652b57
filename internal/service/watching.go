package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

// StepTrials steps the watching of every endpoint that has a trial. What goes wrong with
// one stops no other.
func (s *Service) StepTrials(ctx context.Context) error {
	by := act.BySelf()
	endpoints, err := s.Endpoints(ctx, by)
	if err != nil {
		return err
	}
	name := func(e traffic.Endpoint) string { return e.Name }
	return jobs.Each(endpoints.Items, name, func(e traffic.Endpoint) error {
		trials, err := s.trialsOf(ctx, s.DB.Read(records.Everything), e)
		if err != nil || len(trials) == 0 {
			return err
		}
		evidence, ready := s.recorder.Evidence(e.Name)
		if !ready {
			return nil // what is known of the trial is still being read
		}
		last, err := s.watching(ctx, e.Name)
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
		return s.keepWatching(ctx, e.Name, state)
	})
}

// watching is where the watching of an endpoint's trials stands. It is in memory, so that
// guards go on when the signals are away, and read from there at first.
func (s *Service) watching(ctx context.Context, endpoint string) (guard.State, error) {
	s.watchMu.Lock()
	state, known := s.watched[endpoint]
	s.watchMu.Unlock()
	if known {
		return state, nil
	}
	kept := s.signals.Store()
	if kept == nil {
		return guard.State{}, nil
	}
	state, err := kept.Watching(ctx, endpoint)
	if errors.Is(err, signals.ErrNone) {
		return guard.State{}, nil
	}
	return state, err
}

// keepWatching keeps where the watching of an endpoint's trials stands.
func (s *Service) keepWatching(ctx context.Context, endpoint string, state guard.State) error {
	s.watchMu.Lock()
	s.watched[endpoint] = state
	s.watchMu.Unlock()
	if kept := s.signals.Store(); kept != nil {
		return kept.PutWatching(ctx, endpoint, state)
	}
	return nil
}

// awayFor is how long the signals must be in trouble before an alert says so: a moment's
// lock is nothing to wake anybody for.
const awayFor = 5 * time.Second

// theSignals is the subject of alerts about signals.db.
const theSignals = "signals.db"

// WatchSignals raises and resolves the alerts about what is measured.
func (s *Service) WatchSignals(ctx context.Context) error {
	for _, l := range s.signals.Losses() {
		if err := s.raiseOwn(ctx, watch.SignalsLost, l.Sentence); err != nil {
			s.signals.Returned([]signals.Loss{l})
			return err
		}
	}
	trouble, since := s.signals.Trouble()
	away := trouble != "" && s.Clock().Sub(since) >= awayFor
	now := map[bool]int32{true: saidAway, false: saidWell}[away]
	if s.said.Load() == now { // at first it is not known what was said before a restart
		return nil
	}
	var err error
	if away {
		err = s.raiseOwn(
			ctx,
			watch.SignalsAway,
			fmt.Sprintf(
				"What is measured cannot be written since %s: %s. Requests are answered, guards go on, and minutes "+
					"are kept in memory.",
				since.UTC().Format("15:04:05"),
				trouble,
			),
		)
	} else {
		_, err = act.Change(ctx, s.Base, act.BySelf(), access.Administer, func(t *act.Tx) (struct{}, error) {
			return struct{}{}, s.resolveAlerts(ctx, t, watch.SignalsAway, theSignals,
				"What is measured is written again.")
		})
	}
	if err == nil {
		s.said.Store(now)
	}
	return err
}

// What was said last of the signals.
const (
	saidAway int32 = 1 + iota
	saidWell
)

// raiseOwn raises an alert about the service itself.
func (s *Service) raiseOwn(ctx context.Context, kind watch.AlertKind, sentence string) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Administer, func(t *act.Tx) (struct{}, error) {
		return struct{}{}, s.raise(
			ctx,
			t,
			&watch.Alert{Kind: kind, Subject: theSignals, Signal: "signals", Sentence: sentence},
		)
	})
	return err
}

// Degraded says what does not work now, and what still does; empty when all is well.
func (s *Service) Degraded() string {
	trouble, _ := s.signals.Trouble()
	if trouble == "" {
		return ""
	}
	return "what is measured cannot be written (" + trouble +
		"); requests are answered, guards go on, records can be read and changed; comparisons and curves miss what " +
		"is not written"
}
