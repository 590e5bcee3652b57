package watch

import (
	"fmt"
	"math"
	"time"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/stat"
)

// Past is what an endpoint did in some time before, by which it is told what is usual.
type Past struct {
	Counts  sketch.Counts
	Refused uint64
	// Latency is nil where it is not known.
	Latency *sketch.Quantiles
	// Missing and Outside are shares by column.
	Missing, Outside map[string]float64
	// PerSecond is how many requests came a second at this time of the day; below 0 where it is not known.
	PerSecond float64
	// Custom are the values of custom signals, by name.
	Custom map[string]*sketch.Numbers
}

// leastPast is of how many requests it is known what is usual.
const leastPast = 1000

// Known reports whether enough is known of it.
func (p *Past) Known() bool { return p != nil && p.Counts.Requests >= leastPast }

// past is what a rule holds against.
func (u *Usual) past(v Versus) *Past {
	switch v {
	case Yesterday:
		return u.Yesterday
	case LastWeek:
		return u.LastWeek
	case Main:
		return u.Main
	}
	return nil
}

// counted is how many requests a rate is of, how many of them were bad, and how that is said. Requests of callers
// whose request had failed in the same second already are not among them.
func counted(signal string, c sketch.Counts, refused uint64) (seen, bad float64, what string) {
	independent := float64(c.Requests - min(c.Requests, c.Repeated))
	switch signal {
	case ErrorRate:
		return independent, float64(c.Failed() - min(c.Failed(), c.Repeated)), "failed"
	case TimeoutRate:
		return independent, min(independent, float64(c.TimedOut)), "took longer than may be waited"
	case CallerErrorRate:
		return float64(c.Requests), float64(c.CallerErrors), "were at fault themselves"
	case FallbackRate:
		return float64(c.Requests), float64(c.Fallback), "were answered by another lane than theirs"
	case RefusalRate:
		return float64(c.Requests + refused), float64(refused), "were turned away"
	}
	return 0, 0, ""
}

// notKnown says why nothing can be held against some time before.
func notKnown(r Rule, p *Past) string {
	switch {
	case r.Versus == "" || p.Known():
		return ""
	case r.Versus == Main:
		return fmt.Sprintf("Main has answered fewer than %d requests beside the trial.", leastPast)
	case r.Versus == LastWeek:
		return "What it was a week ago is not known yet."
	}
	return fmt.Sprintf("What it was in the day before is not known yet: there were fewer than %d requests.", leastPast)
}

// rate looks at the share of requests of which something is bad.
func rate(r Rule, c sketch.Counts, refused uint64, u *Usual) Look {
	seen, bad, what := counted(r.Signal, c, refused)
	l := Look{
		Signal: r.Name(), Rule: r, Seen: seen, Bad: bad, Allowed: r.Limit.Value,
		What: "requests" + of(r) + " " + what,
	}
	p := u.past(r.Versus)
	switch why := notKnown(r, p); {
	case r.Versus == Main && c.Requests == 0:
		l.Why = noTrial
	case why != "" && !r.Limit.Given:
		l.Seen, l.Bad, l.Why = 0, 0, why
	case why == "" && r.Versus == Main:
		// What main does is an estimate too: the trial is held against the most that it may be.
		n, k, _ := counted(r.Signal, p.Counts, p.Refused)
		l.Allowed = max(l.Allowed, r.Times*interval.Wilson(k, n, 0.98).High)
	case why == "" && r.Versus != "":
		n, k, _ := counted(r.Signal, p.Counts, p.Refused)
		l.Allowed = max(l.Allowed, r.Times*k/n)
	}
	return l
}

const noTrial = "There is no trial now."

func of(r Rule) string {
	if r.Versus == Main {
		return " of the trial"
	}
	return ""
}

// slower looks at the share of requests that take longer than a quantile allows.
func slower(r Rule, q float64, took *sketch.Quantiles, u *Usual) Look {
	l := Look{Signal: r.Name(), Rule: r, Allowed: 1 - q}
	threshold := 0.0
	if r.Limit.Given {
		threshold = r.Limit.Value * 1e9
	}
	p := u.past(r.Versus)
	why := notKnown(r, p)
	if r.Versus == Main && took.Count() == 0 {
		l.Why = noTrial
		return l
	}
	if why == "" && r.Versus != "" && p.Latency != nil {
		threshold = max(threshold, r.Times*p.Latency.Nanoseconds(q))
	}
	if threshold == 0 {
		l.Why = why
		if why == "" {
			l.Why = "How long requests usually take is not known."
		}
		return l
	}
	l.Seen, l.Bad = float64(took.Count()), float64(took.Above(threshold))
	l.What = "requests" + of(r) + " took longer than " + milliseconds(threshold)
	return l
}

// slow looks at the share of requests that take twice as long as nearly all did before.
func slow(r Rule, took *sketch.Quantiles, u *Usual) Look {
	l := Look{Signal: r.Name(), Rule: r, Allowed: r.Limit.Value}
	if !u.Yesterday.Known() || u.Yesterday.Latency == nil {
		l.Why = fmt.Sprintf("How long requests usually take is not known yet: there were fewer than %d.", leastPast)
		return l
	}
	threshold := 2 * u.Yesterday.Latency.Nanoseconds(0.99)
	l.Seen, l.Bad = float64(took.Count()), float64(took.Above(threshold))
	l.What = "requests took longer than " + milliseconds(threshold) + ", twice what nearly all took before"
	return l
}

func milliseconds(ns float64) string { return fmt.Sprintf("%.4g ms", ns/1e6) }

// leastMinutes is of how many minutes it can be told how evenly requests come.
const leastMinutes = 30

// Dispersion is how unevenly requests come, by how many came in each of some minutes: their variance by their mean, 1
// where they come independently. It is 0 where that cannot be told.
func Dispersion(minutes []float64) float64 {
	mean, variance := stat.MeanVariance(minutes, nil)
	if len(minutes) < leastMinutes || mean <= 0 {
		return 0
	}
	return max(variance/mean, 0.1)
}

// fewer are the shares of the least rate that are bet on when too few requests come.
var fewer = []float64{0.6, 0.3, 0.1, 0.01}

// Came is how many requests came since the last look at how many do.
type Came struct {
	Requests uint64        `json:"requests"`
	Took     time.Duration `json:"took"`
}

// tooFew looks at whether fewer requests come than are wanted, a minute at a time. Requests come in bursts: what tells
// that the rate is lower than λ is the likelihood ratio of Poisson's law, to the power of one by the dispersion (the
// variance of the counts per minute by their mean), which bounds it where they come less evenly.
func (w *Watched) tooFew(r Rule, s *Seen, u *Usual) Look {
	l := Look{Signal: r.Name(), Rule: r}
	w.Came.Requests, w.Came.Took = w.Came.Requests+s.All.Counts.Requests+s.Refused, w.Came.Took+s.Took
	came := w.Came
	if came.Took >= time.Minute {
		w.Came = Came{}
	}
	p := u.past(r.Versus)
	least := math.Inf(1)
	if r.Limit.Given {
		least = r.Limit.Value
	}
	if r.Versus != "" {
		if p == nil || p.PerSecond < 0 {
			l.Why = "It is not known yet how many requests came at this time, a " +
				map[Versus]string{Yesterday: "day", LastWeek: "week"}[r.Versus] + " ago."
			return l
		}
		least = min(least, r.Times*p.PerSecond)
	}
	if u.Dispersion <= 0 {
		l.Why = "How evenly requests come is not known yet: that takes half an hour."
		return l
	}
	if came.Took < time.Minute {
		return l
	}
	requests, wanted := came.Requests, least*came.Took.Seconds()
	l.Seen, l.Bad = wanted, wanted-float64(requests)
	l.Allowed, l.Slack = 0, 2*math.Sqrt(u.Dispersion*wanted)+1
	l.What = fmt.Sprintf("requests did not come, of which at least %.3g a second are wanted", least)
	for _, share := range fewer {
		log := float64(requests)*math.Log(share) + wanted*(1-share)
		l.Bets = append(l.Bets, log/max(1, u.Dispersion))
	}
	return l
}

// ofColumn looks at the share of rows in which a column is missing, or outside of the range of its reference.
func ofColumn(r Rule, name string, rows, bad uint64, share, usual float64, what string) Look {
	l := Look{
		Signal: name, Rule: r, Seen: float64(rows) * share, Bad: float64(bad) * share, Allowed: r.Limit.Value,
		Raw: float64(bad) / float64(max(1, rows)), What: what,
	}
	if r.Versus != "" {
		l.Allowed = max(l.Allowed, r.Times*usual)
	}
	if share < 0.1 {
		l.Why = "Not enough to tell: the same rows come again and again."
	}
	return l
}
