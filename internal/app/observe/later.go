package observe

import (
	"context"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/signals"
)

const (
	// singleFor is up to how long a window on what came later is looked at one by one; more by hours.
	singleFor = 6 * time.Hour
	// MostSingle is how many are looked at one by one at most.
	MostSingle = 200_000
	// laterPoints is how many steps a curve of it has at most, about.
	laterPoints = 120
	// longestLater is the longest window on it.
	longestLater = 400 * 24 * time.Hour
)

// Later is a window on what came later than the answers that it is of: truths, and values of custom signals.
type Later struct {
	From, To time.Time
	// Step is how long the steps of a curve are; Single is set where they are made of single values, not of hours.
	Step   time.Duration
	Single bool
}

// CheckLater says whether a window on what came later can be looked at.
func CheckLater(window time.Duration) error {
	if window < time.Minute || window > longestLater {
		return fault.New(fault.Invalid, "window.range", "a window of %s cannot be looked at", window).In("window").
			Do("give from 1m to 9600h, such as 24h")
	}
	return nil
}

// LaterOf is the window that ends at a moment, or now for the zero time and for what is still to come.
func LaterOf(window time.Duration, until, now time.Time) (Later, error) {
	if err := CheckLater(window); err != nil {
		return Later{}, err
	}
	l := Later{To: now, Single: window <= singleFor}
	if !until.IsZero() {
		l.To = earlier(until, now)
	}
	unit := time.Minute
	if !l.Single {
		unit = time.Hour
	}
	l.Step = max(unit, (window / laterPoints).Round(unit))
	l.From = l.To.Add(-window).Truncate(l.Step)
	return l, nil
}

// ByHours is the same window in steps of whole hours.
func (l Later) ByHours() Later {
	l.Single, l.Step = false, max(time.Hour, l.Step)
	l.From = l.From.Truncate(l.Step)
	return l
}

// Answered counts the requests that each version answered to callers who were dealt to it.
func (s *Service) Answered(ctx context.Context, endpoint string, l Later) (map[string]uint64, error) {
	level := signals.Hour
	if l.Single {
		level = signals.Minute
	}
	windows, err := s.recorder.Windows(ctx, signals.Query{Endpoint: endpoint, From: l.From, To: l.To, Longest: level})
	out := map[string]uint64{}
	for _, w := range windows {
		if c := w.Summary.Counts; w.Dealt() {
			out[w.Version] += c.Requests - min(c.Requests, c.Failed()+c.CallerErrors)
		}
	}
	return out, err
}
