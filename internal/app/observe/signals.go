package observe

import (
	"context"
	"fmt"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/watch"
	"innerladder/internal/signals"
)

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
		return struct{}{}, s.Raise(
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
