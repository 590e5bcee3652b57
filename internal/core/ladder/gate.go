package ladder

import (
	"slices"
	"time"

	"innerladder/internal/core/ladder/rule"
)

// Evaluate finds out how far every requirement between the candidate's rung and the
// rung asked for is met.
func (l Ladder) Evaluate(p *Promotion, f rule.Facts) []rule.Finding {
	out := []rule.Finding{}
	f.Answers, f.To = p.answers(), p.To
	if f.Frozen == nil {
		frozen := l.Frozen(f.Now)
		f.Frozen = &frozen
	}
	for _, g := range l.gates(p.From, p.To) {
		out = append(out, rule.Finding{
			Rung: g.rung, Requirement: g.Kind(), Outcome: g.evaluate(f), ByPeople: g.ByPeople(),
		})
	}
	return out
}

func (g gated) evaluate(f rule.Facts) rule.Outcome {
	// Ticks belong to the gate of one rung.
	if c, ok := g.Rule.(rule.Looked); ok {
		return c.EvaluateFor(g.rung, f)
	}
	return g.Evaluate(f)
}

// Wants reports whether a gate of the ladder has a requirement of a kind.
func (l Ladder) Wants(kind string) bool {
	return slices.ContainsFunc(l.Rungs, func(r Rung) bool {
		return slices.ContainsFunc(r.Gate, func(q rule.Requirement) bool { return q.Kind() == kind })
	})
}

// Checklist lists the items on the way of a promotion, with their ticks.
func (l Ladder) Checklist(p *Promotion) []rule.Listed {
	out := []rule.Listed{}
	if l.Height(p.To) < 0 {
		return out // the ladder is another by now
	}
	for _, g := range l.gates(p.From, p.To) {
		if c, ok := g.Rule.(rule.Looked); ok {
			for _, item := range c.Look() {
				out = append(out, rule.Listed{Rung: g.rung, Item: item, Tick: p.answers().Tick(g.rung, item.Name)})
			}
		}
	}
	return out
}

// Frozen finds the freeze that holds longest of those in force.
func (l Ladder) Frozen(now time.Time) rule.Frozen { return rule.FrozenBy(l.Freezes, now) }

// Demands reports whether a gate demands that versions run in an environment.
func (l Ladder) Demands(environment string) bool {
	for _, r := range l.Rungs {
		for _, q := range r.Gate {
			if p, ok := q.Rule.(rule.Placed); ok && p.Environment == environment {
				return true
			}
		}
	}
	return false
}

// MetricsOf lists the metrics that the ladder's gates name.
func (l Ladder) MetricsOf() []string {
	var out []string
	for _, r := range l.Rungs {
		for _, q := range r.Gate {
			if m, ok := q.Rule.(rule.Metric); ok && !slices.Contains(out, m.Metric) {
				out = append(out, m.Metric)
			}
		}
	}
	return out
}
