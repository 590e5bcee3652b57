package observe

import (
	"context"
	"fmt"
	"strings"
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
		if err := s.raiseOwn(ctx, watch.SignalsLost, theSignals, "signals", l.Sentence); err != nil {
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
			theSignals, "signals",
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
func (s *Service) raiseOwn(ctx context.Context, kind watch.AlertKind, subject, signal, sentence string) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Administer, func(t *act.Tx) (struct{}, error) {
		return struct{}{}, s.Raise(
			ctx,
			t,
			&watch.Alert{Kind: kind, Subject: subject, Signal: signal, Sentence: sentence},
		)
	})
	return err
}

// Degraded says what does not work now, and what still does; empty when all is well.
func (s *Service) Degraded() string {
	var parts []string
	if trouble := s.DB.Trouble(); trouble != nil {
		parts = append(parts, fmt.Sprintf("nothing can be recorded since %s (%s); requests are answered, guards go "+
			"on, everything can be read", trouble.Since.Format("15:04:05"), trouble.Why))
	}
	if trouble, _ := s.signals.Trouble(); trouble != "" {
		parts = append(parts, "what is measured cannot be written ("+trouble+"); requests are answered, guards go on, "+
			"records can be read and changed; comparisons and curves miss what is not written")
	}
	return strings.Join(parts, "; ")
}

// theRecords is the subject of alerts about ladder.db.
const theRecords = "ladder.db"

// WatchRecords tries whether something can be recorded again while nothing can, and tells of it afterwards: an alert is
// a record itself. Meanwhile the log, /readyz, the metrics and each call that is refused say so.
func (s *Service) WatchRecords(ctx context.Context) error {
	if trouble := s.DB.Trouble(); trouble != nil {
		if err := s.DB.Probe(ctx); err != nil {
			return fmt.Errorf("since %s: %w", trouble.Since.Format(time.RFC3339), err)
		}
	}
	past := s.DB.Overcome()
	for i, p := range past {
		failed := "A change failed"
		if p.Refused > 1 {
			failed = fmt.Sprintf("%d changes failed", p.Refused)
		}
		err := s.raiseOwn(ctx, watch.RecordsAway, theRecords, "records", fmt.Sprintf(
			"Nothing could be recorded from %s to %s: %s. %s. Requests were answered, and what guards did was in "+
				"force all the same.", p.Since.Format("15:04:05"), p.Until.Format("15:04:05"), p.Why, failed))
		if err != nil {
			s.DB.Returned(past[i:])
			return err
		}
	}
	return nil
}
