package watch

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// Custom is the signal of numbers that a team reports: custom.NAME.
const Custom = guard.Custom

// Side is the side of a limit that is wrong.
type Side string

// The sides.
const (
	Above Side = "above"
	Below Side = "below"
)

// Enum lists them for the document of the API.
func (Side) Enum() []any { return []any{Above, Below} }

// customStakes are the bets on how far a mean is beyond what is allowed, in units of the farthest that a value can be
// from that (Waudby-Smith and Ramdas 2024).
var customStakes = []float64{0.02, 0.06, 0.2, 0.5, 0.9}

// leastSpread is of how many values of the day before it is known how far values spread.
const leastSpread = 50

// ofCustom looks at what was reported of custom signals that rules are about.
func (w *Watched) ofCustom(set *Set, s *Seen, u *Usual) (out []Look) {
	for _, full := range slices.Sorted(maps.Keys(s.Custom)) {
		signal, name := Parts(full)
		if r, ok := set.rule(signal, name); ok && len(s.Custom[full]) > 0 {
			out = append(out, meanOf(r, full, s.Custom[full], u))
		}
	}
	return out
}

// meanOf looks at the mean of what was reported. Values count as no further from the usual than nearly all of the day
// before were, so that no single one decides.
func meanOf(r Rule, full string, values []float64, u *Usual) Look {
	_, name := Parts(full)
	l := Look{Signal: full, Rule: r, Below: r.Beyond == Below}
	day := u.Yesterday.custom(name)
	if day == nil || day.N < leastSpread {
		l.Why = fmt.Sprintf("How far values of %s spread is not known yet: there were fewer than %d in the day before.",
			name, leastSpread)
		return l
	}
	allowed, why := r.allowedMean(name, u)
	if why != "" {
		l.Why = why
		return l
	}
	sign := 1.0
	if l.Below {
		sign = -1
	}
	l.Allowed = sign * allowed
	// A limit may be far from the usual: values count as far as twice as far, or nothing could be beyond it.
	centre, clip := seqtest.ScaleOf(day.Mean, day.Deviation(), max(day.Max-day.Mean, day.Mean-day.Min),
		allowed-day.Mean)
	reach := clip + math.Abs(centre-allowed) + 1e-12
	l.What, l.Bets = name, make([]float64, len(customStakes))
	squares := 0.0
	for _, x := range values {
		l.Seen, l.Bad, squares = l.Seen+1, l.Bad+sign*x, squares+x*x
		beyond := sign * (max(centre-clip, min(centre+clip, x)) - allowed)
		for i, stake := range customStakes {
			l.Bets[i] += math.Log1p(stake * beyond / reach)
		}
	}
	l.Slack = 2*math.Sqrt(max(0, squares-l.Bad*l.Bad/l.Seen)) + 1e-12
	return l
}

// allowedMean is the mean that is allowed, or why it is not known.
func (r Rule) allowedMean(name string, u *Usual) (allowed float64, why string) {
	if r.Versus == "" {
		return r.Limit.Value, ""
	}
	was := u.past(r.Versus).custom(name)
	switch {
	case (was == nil || was.N < leastSpread || was.Mean <= 0) && r.Limit.Given:
		return r.Limit.Value, ""
	case was == nil || was.N < leastSpread:
		return 0, fmt.Sprintf("What %s was then is not known: there were fewer than %d values.", name, leastSpread)
	case was.Mean <= 0:
		return 0, fmt.Sprintf("The mean of %s was %.4g then, and times of that say nothing; give a limit.", name,
			was.Mean)
	}
	allowed = r.Times * was.Mean
	switch {
	case r.Limit.Given && r.Beyond == Below:
		allowed = min(allowed, r.Limit.Value)
	case r.Limit.Given:
		allowed = max(allowed, r.Limit.Value)
	}
	return allowed, ""
}

// custom are the values of a custom signal in some time before; nil where none are known.
func (p *Past) custom(name string) *sketch.Numbers {
	if p == nil {
		return nil
	}
	return p.Custom[name]
}

// saysMean is where a watch over a custom signal stands in words.
func (s Stand) saysMean(l Look, in string) string {
	how := "at most %.4g is allowed"
	if l.Below {
		how = "at least %.4g is wanted"
	}
	return fmt.Sprintf("The mean of %s is %.4g in %.0f reports of %s; "+how+".", l.What, s.Rate, s.Seen, in, s.Allowed)
}
