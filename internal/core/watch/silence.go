package watch

import (
	"fmt"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/span"
)

const (
	// missed is how many requests must have failed to come, by the quietest hour that is known, for silence to be
	// told. None of so many would come by chance once in 10¹³.
	missed = 30
	// leastKnown is of how many hours it must be known how many requests came.
	leastKnown = 24
)

// Quietest is what is known of the quietest hours of an endpoint.
type Quietest struct {
	// Hours are known, Fewest is how many requests came in the quietest of them.
	Hours  int
	Fewest uint64
}

// silence looks at an endpoint that nobody has called for a while. It fires when even in the quietest hour that is
// known many would have come; an endpoint that has hours without any is never called silent.
func silence(s Stand, silent time.Duration, q Quietest, now time.Time) Stand {
	if s.Signal == "" {
		s = Stand{Signal: RequestRate, State: NotEnough, Since: now}
	}
	s.Rule, s.Then = "Tell when nobody calls although many would have in the quietest hour that is known.", guard.Notify
	before := s.State
	expected := float64(q.Fewest) * silent.Hours()
	s.Progress = expected / missed
	s.Began, s.Seen = now.Add(-silent), expected
	switch {
	case q.Hours < leastKnown:
		s.State, s.Progress = NotEnough, 0
		s.Sentence = fmt.Sprintf(
			"%d of %d hours are known, whose quietest says how long nobody may call.",
			q.Hours,
			leastKnown,
		)
	case q.Fewest == 0:
		s.State = NotEnough
		s.Sentence = "There are hours in which nobody calls, so that silence says nothing."
	default:
		s.Sentence = fmt.Sprintf(
			"Nobody has called for %s; in the quietest hour of the last week there were %d requests.",
			span.Rounded(silent),
			q.Fewest,
		)
		switch {
		case expected >= missed:
			s.State = Firing
		case before == Firing && silent > Every:
			// the first who calls again ends it
		default:
			s.State = Quiet
		}
	}
	if s.State != before {
		s.Since = now
	}
	return s
}
