package intake

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
)

// Plan reads a plan of a rollout, a YAML file of ours. Shares are written in per cent, durations as Go
// writes them. What is wrong is said with line and column.
func Plan(text []byte) (rollout.Plan, error) {
	var p rollout.Plan
	err := bound(text, "plan", "innerladder plan show careful", &p, func() error {
		p.Complete()
		return p.Check()
	})
	return p, err
}

// PlanText writes a plan as Plan reads it.
func PlanText(p rollout.Plan) string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line("name: %s", p.Name)
	line("kind: %s", p.Kind)
	if p.About != "" {
		line("about: %s", strconv.Quote(p.About))
	}
	if p.Warm > 0 {
		line("warm: %d", p.Warm)
	}
	copiesText(line, p.Copies)
	compareText(line, p.Compare)
	if len(p.First) > 0 {
		line("first:")
	}
	for _, rule := range p.First {
		line("  - %q", rule)
	}
	if len(p.Steps) > 0 {
		line("steps:")
	}
	for _, s := range p.Steps {
		line("  - share: %s", traffic.Percent(s.Share))
		if s.Time > 0 {
			line("    time: %s", s.Time)
		}
		if s.Requests > 0 {
			line("    requests: %d", s.Requests)
		}
		if s.Good != nil {
			line("    good: [%s]", strings.Join(s.Good, ", "))
		}
	}
	bakeText(line, p.Bake)
	guardsText(line, p.Guards)
	if p.Harm != (rollout.Harm{}) {
		line("harm:")
	}
	if p.Harm.BadAnswers > 0 {
		line("  bad_answers: %v", p.Harm.BadAnswers)
	}
	if p.Harm.Share > 0 {
		line("  share: %s", traffic.Percent(p.Harm.Share))
	}
	line("alpha: %v\nbeta: %v\npatience: %s\ncapacity: %v", p.Alpha, p.Beta, p.Patience, p.Capacity)
	if len(p.Hours) > 0 {
		line("hours:")
	}
	for _, h := range p.Hours {
		line("  - from: %q\n    to: %q\n    zone: %s", h.From, h.To, cmp.Or(h.Zone, "UTC"))
		if len(h.Days) > 0 {
			line("    days: [%s]", strings.Join(slices.Clone(h.Days), ", "))
		}
	}
	return out.String()
}

func bakeText(line func(string, ...any), b rollout.Bake) {
	if b == (rollout.Bake{}) {
		return
	}
	line("bake:")
	if b.Time > 0 {
		line("  time: %s", b.Time)
	}
	if b.Requests > 0 {
		line("  requests: %d", b.Requests)
	}
	if b.Copies.Share > 0 {
		line("  copies:\n    share: %s", traffic.Percent(b.Copies.Share))
	}
	if b.Copies.Tolerance > 0 {
		line("    tolerance: %v", b.Copies.Tolerance)
	}
}

func copiesText(line func(string, ...any), c rollout.Copies) {
	if c.Share == 0 {
		return
	}
	line("copies:\n  share: %s", traffic.Percent(c.Share))
	if c.Time > 0 {
		line("  time: %s", c.Time)
	}
	if c.Requests > 0 {
		line("  requests: %d", c.Requests)
	}
	if c.Good != nil {
		line("  good: [%s]", strings.Join(c.Good, ", "))
	}
	if c.Tolerance > 0 {
		line("  tolerance: %v", c.Tolerance)
	}
}

func compareText(line func(string, ...any), c rollout.Compare) {
	if c.Share == 0 {
		return
	}
	line("compare:\n  share: %s\n  signal: %s\n  margin: %v", traffic.Percent(c.Share), c.Signal, c.Margin)
	if c.Alpha > 0 {
		line("  alpha: %v", c.Alpha)
	}
	if c.Time > 0 {
		line("  time: %s", c.Time)
	}
	line("  most: %s", c.Most)
}

func guardsText(line func(string, ...any), guards []guard.Guard) {
	line("guards:")
	for _, g := range guards {
		line("  - signal: %s", g.Signal)
		if g.Ratio > 0 {
			line("    ratio: %v", g.Ratio)
		}
		line("    margin: %v", g.Margin)
		if g.Then != "" {
			line("    then: %s", g.Then)
		}
	}
}
