package guard

import (
	"fmt"
	"math"
	"strings"
	"time"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// leastTail is how many of the main lane's answers must be beyond a quantile before that is a
// threshold.
const leastTail = 2

// leastHour is how many answers of an hour must be beyond its quantile before that is its own.
const leastHour = 20

// LatencyState is where a guard on a quantile of latency stands. Its threshold is the main lane's quantile
// over the past, and what is bet on are the answers after it: those of the trial beyond what is allowed
// against those of main beyond the threshold. The hypothesis is that of every threshold the trial has no
// more beyond what is allowed of it than main has beyond itself.
type LatencyState struct {
	Tail
	// Over is the evidence that the trial is slower than allowed, Under that it is not.
	Over  seqtest.Rate `json:"over"`
	Under seqtest.Rate `json:"under"`
}

// Tail is what of both lanes was beyond main's quantile over the past.
type Tail struct {
	// Threshold is in nanoseconds, Limit what is allowed of it; both 0 while main has answered too
	// little.
	Threshold float64 `json:"threshold"`
	Limit     float64 `json:"limit"`
	// Taken is how much is beyond them already.
	Taken seqtest.Block `json:"taken"`
}

// next is what came since beyond the threshold, and beyond what is allowed of it; it sets both for what comes next.
func (s *Tail) next(e *Pair, q float64, limit func(threshold float64) float64) (fresh seqtest.Block) {
	if s.Threshold > 0 {
		fresh = since(s.Taken, beyond(e, s.Threshold, s.Limit))
	}
	if main := e.Incumbent.Latency; float64(main.Count())*(1-q) >= leastTail {
		s.Threshold = main.Nanoseconds(q)
		s.Limit = limit(s.Threshold)
		s.Taken = beyond(e, s.Threshold, s.Limit)
	}
	return fresh
}

// beyond counts the answers of both lanes that are slower than a threshold, and than its limit. Requests
// that failed are slower than any.
func beyond(e *Pair, threshold, limit float64) seqtest.Block {
	count := func(l *Lane, ns float64) (all, slow uint64) {
		failed := l.Counts.Failed()
		return l.Latency.Count() + failed, l.Latency.Above(ns) + failed
	}
	var b seqtest.Block
	b.IncumbentRequests, b.IncumbentFailed = count(&e.Incumbent, threshold)
	b.CandidateRequests, b.CandidateFailed = count(&e.Candidate, limit)
	return b
}

// Limit is the latency in nanoseconds that is allowed where the main lane's is x.
func (g Guard) Limit(x float64) float64 {
	return math.Max(math.Max(1, g.Ratio)*x, x+g.Margin*float64(time.Millisecond))
}

// observe bets on what came since.
func (s *LatencyState) observe(g Guard, e *Pair, q float64) {
	b := s.next(e, q, g.Limit)
	s.Over.Observe(b)
	s.Under.Observe(b)
}

// observeAfter holds a version that took over against the quantile of what was before: its answers beyond
// what is allowed of that, against an upper bound of the share that was beyond itself. The quantile is that of its
// slowest hour of the day before, because latency follows the day.
func (s *LatencyState) observeAfter(g Guard, e *Pair, q, alpha float64) {
	main := e.Incumbent.Latency
	if main == nil || float64(main.Count())*(1-q) < leastTail {
		return
	}
	if s.Threshold == 0 {
		s.Threshold = main.Nanoseconds(q)
		for _, hour := range e.Hours {
			if float64(hour.Count())*(1-q) >= leastHour {
				s.Threshold = math.Max(s.Threshold, hour.Nanoseconds(q))
			}
		}
		s.Limit = g.Limit(s.Threshold)
	}
	now := beyond(e, s.Threshold, s.Limit)
	b := since(s.Taken, now)
	s.Taken = now
	bound := math.Max(1-q, interval.Above(float64(now.IncumbentFailed), float64(now.IncumbentRequests), alpha))
	s.Over = observeAlone(s.Over, bound, b.CandidateRequests, b.CandidateFailed)
}

// readLatency moves the guard on a quantile on by what is new in the evidence.
func (t *TrialState) readLatency(g Guard, e *Pair, level levels) Reading {
	s, known := t.Latencies[g.Signal]
	if !known {
		line := seqtest.Line{Slope: 1}
		s = LatencyState{Over: seqtest.Rate{Line: line}, Under: seqtest.Rate{Line: line, Below: true}}
	}
	q := quantileOf[g.Signal]
	if t.After {
		level = level.half()
		s.observeAfter(g, e, q, level.alpha)
	} else {
		s.observe(g, e, q)
	}
	if t.Latencies == nil {
		t.Latencies = map[string]LatencyState{}
	}
	t.Latencies[g.Signal] = s
	name := strings.TrimPrefix(g.Signal, "latency_")
	if s.Threshold == 0 && t.After {
		return Reading{Sentence: unknownBefore(t)}
	}
	if s.Threshold == 0 {
		return Reading{Sentence: fmt.Sprintf("waits until %s has answered enough to know its %s.", t.Incumbent, name)}
	}
	log := s.Over.LogE()
	r := level.reading(log, s.Under.LogE())
	ms := sketch.Milliseconds
	trial, seen := e.Candidate.Latency.Nanoseconds(q), s.Over.Seen
	if t.After {
		seen = beyond(e, s.Threshold, s.Limit)
	}
	r.Sentence = fmt.Sprintf("answers within %.1f ms at %s, %s within %.1f; %.3g %% of its requests are slower than "+
		"what is allowed of that, %.3g %% of the other's than that itself%s", ms(trial), name, t.Incumbent,
		ms(s.Threshold), percent(seen.CandidateFailed, seen.CandidateRequests),
		percent(seen.IncumbentFailed, seen.IncumbentRequests), r.says(log, level.alpha, g.Allows()))
	return r
}

// Quantile is that of a signal of latency, 0 of others.
func Quantile(signal string) float64 { return quantileOf[signal] }
