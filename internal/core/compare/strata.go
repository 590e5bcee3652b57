package compare

import (
	"fmt"
	"time"

	"innerladder/internal/core/sketch"
)

// Stratum is what both versions did under one split in one window of time, nil for one that did
// nothing. Shares and traffic change from one to the next, so the two are compared within each and
// the differences are put together; pooled, two equal versions can differ either way (Simpson 1951).
type Stratum struct {
	Length               time.Duration
	Incumbent, Candidate *sketch.Summary
}

// leastStrata is from how many strata on their differences tell how much chance spreads what is seen.
const leastStrata = 20

// both reports whether both versions answered something.
func (s Stratum) both() bool { return requests(s.Incumbent) > 0 && requests(s.Candidate) > 0 }

func requests(s *sketch.Summary) uint64 {
	if s == nil {
		return 0
	}
	return s.Counts.Requests
}

// leftOut is what is not compared because only one version answered then.
type leftOut struct {
	lasted   time.Duration
	requests uint64
	// away counts requests that were meant for the other version and that it had no healthy address
	// for.
	away uint64
}

// together keeps the strata in which both answered, and says what that leaves out.
func together(strata []Stratum, incumbent, candidate string) (both []Stratum, notes []string) {
	var onlyIncumbent, onlyCandidate leftOut
	for _, s := range strata {
		switch {
		case s.both():
			both = append(both, s)
		case requests(s.Incumbent) > 0:
			onlyIncumbent.add(s.Length, s.Incumbent, s.Candidate)
		case requests(s.Candidate) > 0:
			onlyCandidate.add(s.Length, s.Candidate, s.Incumbent)
		}
	}
	for _, l := range []struct {
		leftOut
		answered, other string
	}{{onlyIncumbent, incumbent, candidate}, {onlyCandidate, candidate, incumbent}} {
		if l.requests > 0 {
			notes = append(notes, l.sentence(l.answered, l.other))
		}
	}
	return both, notes
}

func (l *leftOut) add(length time.Duration, answered, other *sketch.Summary) {
	l.lasted += length
	l.requests += requests(answered)
	if other != nil {
		l.away += other.Counts.Unavailable
	}
}

func (l leftOut) sentence(answered, other string) string {
	s := fmt.Sprintf("Left out: %s in which only %s answered (%d requests)", lasting(l.lasted), answered, l.requests)
	if l.away > 0 {
		s += fmt.Sprintf("; %s was to answer %d requests then and was not healthy", other, l.away)
	}
	return s + "."
}

// lasting writes how long windows are together.
func lasting(d time.Duration) string {
	d = d.Round(time.Minute)
	switch {
	case d < time.Hour:
		return fmt.Sprintf("%d min", d/time.Minute)
	case d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	}
	return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
}

// pooled is all that both did as one stratum: for versions that never answered at the same time.
func pooled(strata []Stratum) []Stratum {
	all := Stratum{Incumbent: &sketch.Summary{}, Candidate: &sketch.Summary{}}
	for _, s := range strata {
		for _, side := range []struct{ into, from *sketch.Summary }{
			{all.Incumbent, s.Incumbent}, {all.Candidate, s.Candidate},
		} {
			if side.from != nil {
				side.into.Merge(side.from)
			}
		}
	}
	return []Stratum{all}
}
