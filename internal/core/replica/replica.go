// Package replica says how many servers of a version run on this machine, and when one that ended is started again.
package replica

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// Most is how many replicas a placement may have.
const Most = 16

// Range is how many replicas there may be: as many as it says, or between two numbers, as the load wants it.
type Range struct {
	Least int `json:"least" description:"how many replicas there are at least"`
	Most  int `json:"most" description:"how many there are at most; with the same number it does not follow the load"`
}

// ParseRange reads a number, or two as 1..4.
func ParseRange(text string) (Range, error) {
	low, high, two := strings.Cut(text, "..")
	if !two {
		high = low
	}
	a, errA := strconv.Atoi(strings.TrimSpace(low))
	b, errB := strconv.Atoi(strings.TrimSpace(high))
	r := Range{a, b}
	if errA != nil || errB != nil {
		return r, fault.New(fault.Invalid, "replicas.wrong", "%.40q is no number of replicas", text).In("replicas").
			Do("write a number, such as 3, or two, such as 1..4")
	}
	return r, r.Check()
}

// Check says what is wrong with a range.
func (r Range) Check() error {
	if r.Least < 1 || r.Most < r.Least || r.Most > Most {
		return fault.New(fault.Invalid, "replicas.wrong", "there cannot be from %d to %d replicas", r.Least, r.Most).
			In("replicas").Do("ask for 1 to %d, the smaller number first", Most)
	}
	return nil
}

// Follows reports whether the number follows the load.
func (r Range) Follows() bool { return r.Most > r.Least }

// String writes the range as it is given.
func (r Range) String() string {
	if r.Follows() {
		return fmt.Sprintf("%d..%d", r.Least, r.Most)
	}
	return strconv.Itoa(r.Least)
}

// Life is how often a replica has ended, and when it is started again. Its zero value may be started at once.
type Life struct {
	// Started is when it was started last, Next when it may be again.
	Started, Next time.Time
	// Ends counts how often it has ended since it last ran calmly; Restarts all times.
	Ends, Restarts int
}

const (
	// calm is how long a replica must run for what it did before to be forgotten.
	calm = time.Minute
	// longestPause is between two starts of one that ends again and again.
	longestPause = time.Minute
)

// Ended is the life after the replica has ended: the first time it is started again at once, then after one second,
// two, four, up to a minute.
func (l Life) Ended(now time.Time) Life {
	if now.Sub(l.Started) >= calm {
		l.Ends = 0
	}
	pause := time.Duration(0)
	if l.Ends > 0 {
		pause = min(longestPause, time.Second<<min(l.Ends-1, 10))
	}
	l.Ends++
	l.Restarts++
	l.Next = now.Add(pause)
	return l
}

// Scale is how the number of replicas follows the load. Its zero value knows nothing yet.
type Scale struct {
	// quick and slow are means of how many requests are under way at the same time, over some seconds and some minutes.
	quick, slow float64
	since, last time.Time
	changed     time.Time
}

const (
	// each is how many requests at the same time are well for one replica.
	each = 4.0
	// quickOver and slowOver are how long the means remember.
	quickOver = 10 * time.Second
	slowOver  = 3 * time.Minute
	// upAfter and downAfter are the least times from one change to the next.
	upAfter   = 10 * time.Second
	downAfter = 3 * time.Minute
	// room is the share of what fewer replicas could do that must be enough before there are fewer.
	room = 0.7
)

// Step takes how many requests were under way at the same time on the average since the last step, and says how many
// replicas there should be from now on. It goes up when they are too many for those that there are for some seconds, as
// far as needed at once, and down one at a time when fewer would have been enough for minutes.
func (s *Scale) Step(r Range, have int, underWay float64, now time.Time) (want int, why string) {
	if s.since.IsZero() {
		s.since, s.last, s.changed = now, now, now
	}
	passed := now.Sub(s.last)
	s.last = now
	s.quick += (underWay - s.quick) * share(passed, quickOver)
	s.slow += (underWay - s.slow) * share(passed, slowOver)
	switch {
	case have < r.Least:
		return r.Least, fmt.Sprintf("at least %d are wanted", r.Least)
	case have > r.Most:
		return r.Most, fmt.Sprintf("at most %d are wanted", r.Most)
	case !r.Follows():
		return have, ""
	}
	need := min(r.Most, max(r.Least, int(math.Ceil(s.quick/each))))
	if need > have && now.Sub(s.changed) >= upAfter {
		s.changed, s.slow = now, max(s.slow, s.quick)
		return need, fmt.Sprintf("%.1f requests are under way at the same time, more than %.0f for each of %d", s.quick,
			each, have)
	}
	enough := max(s.quick, s.slow) < room*each*float64(have-1)
	if have > r.Least && enough && now.Sub(s.changed) >= downAfter {
		s.changed = now
		return have - 1, fmt.Sprintf("%.1f requests were under way at the same time, which %d can do", s.slow, have-1)
	}
	return have, ""
}

// share is how much of a mean a step makes that took some time.
func share(passed, over time.Duration) float64 { return 1 - math.Exp(-passed.Seconds()/over.Seconds()) }
