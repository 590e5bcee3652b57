package observe

import (
	"context"
	"time"

	"innerladder/internal/app/act"
	corespan "innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
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
func CheckLater(window time.Duration) error { return corespan.CheckWindow(window, longestLater) }

// LaterAsked is a question about what came later of the answers of an endpoint: in which window, and where it is kept.
type LaterAsked struct {
	Later
	Endpoint *traffic.Endpoint
	Kept     *signals.Store
}

// AskLater is what somebody asks about a window that ends at a moment, or now for the zero time.
func (s *Service) AskLater(ctx context.Context, by act.Actor, endpoint string, window time.Duration, until time.Time,
) (LaterAsked, error) {
	e, err := s.traffic.Endpoint(ctx, by, endpoint)
	if err != nil {
		return LaterAsked{}, err
	}
	if err := CheckLater(window); err != nil {
		return LaterAsked{}, err
	}
	kept := s.signals.Store()
	if kept == nil {
		return LaterAsked{}, recorder.Away()
	}
	return LaterAsked{laterOf(window, until, s.Now()), e, kept}, nil
}

// MainFirst orders versions: the one that answers main now is the first.
func (a *LaterAsked) MainFirst(x, y string) int {
	main := a.Endpoint.MainVersion()
	switch {
	case x == y:
		return 0
	case x == main:
		return -1
	case y == main:
		return 1
	}
	return 0
}

// laterOf is the window that ends at a moment, or now for the zero time and for what is still to come.
func laterOf(window time.Duration, until, now time.Time) Later {
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
	return l
}

// ByHours makes the steps of the window whole hours.
func (l *Later) ByHours() {
	l.Single, l.Step = false, max(time.Hour, l.Step)
	l.From = l.From.Truncate(l.Step)
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
