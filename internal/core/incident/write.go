package incident

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/drift"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/request"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/span"
)

// Material is what was gathered about a rollback. Anything may be missing.
type Material struct {
	Candidate, Incumbent *registry.Version
	Rollout              *rollout.Rollout
	Decisions            []rollout.Decision
	Comparison           *compare.Comparison
	Curve                []guard.Progress
	// Profiles are the rows behind the candidate against those behind the incumbent.
	Profiles *compare.Profiles
	// Evidence are the newest reports of each kind about the candidate.
	Evidence   []evidence.Evidence
	Promotions []ladder.Promotion
	// LookedAtData reports whether a gate demanded that somebody looks at how the data moved.
	LookedAtData bool
	// Requests and Failed are what the candidate did, Callers about how many known ones asked.
	Requests, Failed, Callers uint64
	// Kept are requests of the candidate that are in the log, those that failed first.
	Kept []request.Kept
}

// Write writes the report about an incident.
func Write(i *Incident, m Material, now time.Time) Report {
	r := Report{
		WrittenAt: now, Requests: m.Requests, Failed: m.Failed, Callers: m.Callers, Comparison: m.Comparison,
		Curve: m.Curve,
		Moved: moved(m.Profiles), Approved: []Approval{}, Timeline: timeline(i, m),
	}
	r.Samples = []Sample{}
	for _, k := range m.Kept {
		r.Samples = append(r.Samples, Sample{k.ID, k.Ended, k.Outcome, k.Status, k.Reason})
	}
	if r.Curve == nil {
		r.Curve = []guard.Progress{}
	}
	if m.Candidate != nil && m.Incumbent != nil {
		d := registry.DiffVersions(m.Incumbent, m.Candidate)
		r.Diff = &d
	}
	for _, p := range m.Promotions {
		if p.State != ladder.CarriedOut && p.State != ladder.ToReview {
			continue
		}
		a := Approval{
			Promotion: p.ID,
			To:        p.To,
			AskedBy:   p.AskedBy,
			At:        p.OpenedAt,
			Emergency: p.Emergency,
			Signed:    []string{},
		}
		if p.ClosedAt != nil {
			a.At = *p.ClosedAt
		}
		for _, s := range p.SignOffs {
			if s.Answer == rule.Yes {
				a.Signed = append(a.Signed, s.By)
			}
		}
		r.Approved = append(r.Approved, a)
	}
	r.Known = known(i, m, r)
	r.Sentence = sentence(i, m, r)
	return r
}

// timeline is what happened, in order.
func timeline(i *Incident, m Material) []Event {
	out := []Event{}
	for _, d := range m.Decisions {
		what := d.Did
		bad := d.Signal != "" || d.Phase == rollout.RolledBack
		if bad {
			what = strings.TrimSpace(d.Seen + " " + d.Did)
		}
		out = append(out, Event{At: d.At, What: what, By: d.By, Bad: bad})
	}
	if len(m.Decisions) == 0 {
		first := fmt.Sprintf("%s got its first share of %s.", i.Candidate, i.Endpoint)
		out = append(out, Event{At: i.Begun, What: first, By: "a split by hand"},
			Event{At: i.At, What: i.Why, By: i.By, Bad: true})
	}
	again := fmt.Sprintf("#%d is in force: %s answers all of %s again.", i.For, i.Incumbent, i.Endpoint)
	out = append(out, Event{At: i.At, What: again, By: i.By})
	slices.SortStableFunc(out, func(a, b Event) int { return a.At.Compare(b.At) })
	return out
}

// moved lists the columns that moved, those that moved most first.
func moved(p *compare.Profiles) []Moved {
	out := []Moved{}
	if p == nil {
		return out
	}
	for _, c := range p.Columns {
		out = append(out, Moved{c.Name, string(c.Movement.Verdict), c.Movement.PSI, c.Movement.Sentence})
	}
	slices.SortStableFunc(out, func(a, b Moved) int {
		switch {
		case a.PSI > b.PSI:
			return -1
		case a.PSI < b.PSI:
			return 1
		}
		return 0
	})
	return out
}

// said is its sentence after the name of the column.
func (m Moved) said() string {
	text := strings.TrimSuffix(m.Sentence, ".")
	if text == "" {
		return "moved"
	}
	return strings.ToLower(text[:1]) + text[1:]
}

// furthest is the column that moved most, if one did.
func (r *Report) furthest() (Moved, bool) {
	for _, m := range r.Moved {
		if m.Verdict == string(drift.Moved) {
			return m, true
		}
	}
	return Moved{}, false
}

// sentence says in a few what happened, what it did to callers, and what explains it.
func sentence(i *Incident, m Material, r Report) string {
	out := []string{fmt.Sprintf("%s gave %d answers in %s, and %d of them failed.", i.Candidate, r.Requests,
		span.Rounded(i.At.Sub(i.Begun).Round(time.Second)), r.Failed)}
	if r.Callers > 0 {
		who := "callers"
		if r.Callers == 1 {
			who = "caller"
		}
		out = append(out, fmt.Sprintf("About %d %s got them, of those who give a name or a key.", r.Callers, who))
	}
	if c := m.Comparison; c != nil && i.Signal == guard.PredictionDrift {
		for _, d := range c.Predictions {
			if d.IncumbentMean == nil || d.CandidateMean == nil {
				continue
			}
			direction := "higher"
			shift := *d.CandidateMean - *d.IncumbentMean
			if shift < 0 {
				direction, shift = "lower", -shift
			}
			unit := d.Unit
			if unit != "" {
				unit = " " + unit
			}
			out = append(out, fmt.Sprintf(
				"Its %s was %.3g%s %s than that of %s in the same minutes (%.3g against %.3g).", d.Column,
				shift, unit, direction, i.Incumbent, *d.CandidateMean, *d.IncumbentMean))
			break
		}
	}
	if f, ok := r.furthest(); ok {
		out = append(out, fmt.Sprintf("What it was made from differs most in %s, which %s.", f.Column, f.said()))
	}
	return strings.Join(out, " ")
}

// known asks of each kind of evidence whether it could have shown what went wrong.
func known(i *Incident, m Material, r Report) []Known {
	out := []Known{profileKnown(m, r), evaluationKnown(i, m, r), answersKnown(i, m)}
	if strings.HasPrefix(i.Signal, "latency") || i.Signal == guard.TimeoutRate {
		out = append(out, reportKnown(m, evidence.LoadKind, "load", "a load test at the traffic of "+i.Endpoint))
	}
	if i.Signal == guard.ErrorRate || i.Signal == guard.MissingOutputs {
		out = append(out,
			reportKnown(m, evidence.TestsKind, "tests", "integration tests with what callers really send"))
	}
	out = append(out,
		reportKnown(m, evidence.ShadowKind, "replay", "a run on copies of real requests before it answers any"))
	if m.Rollout == nil {
		out = append(out, Known{
			"plan", "missing", "It was given its share by hand.",
			fmt.Sprintf("A plan would have held the harm down: innerladder roll %s -to VERSION.", i.Endpoint),
		})
	}
	return out
}

func profileKnown(m Material, r Report) Known {
	f, ok := r.furthest()
	switch {
	case m.Profiles == nil:
		return Known{
			"profile", "missing", "One of the versions has no reference profile.",
			"Register versions with -sample, so that what they were made from can be compared.",
		}
	case ok && !m.LookedAtData:
		return Known{
			"profile", "yes",
			fmt.Sprintf("%s %s. Nobody had to look.", f.Column, f.said()),
			"Make it a requirement of the gate that somebody looks at data that moved.",
		}
	case ok:
		return Known{"profile", "yes", fmt.Sprintf("%s %s.", f.Column, f.said()), ""}
	}
	return Known{"profile", "no", "The rows behind both versions are alike.", ""}
}

func evaluationKnown(i *Incident, m Material, r Report) Known {
	if r.Diff == nil ||
		!slices.ContainsFunc(m.Evidence, func(e evidence.Evidence) bool { return e.Kind == evidence.EvaluationKind }) {
		return Known{
			"evaluation", "missing", "No report of an evaluation is attached to it.",
			"Attach one, and let the gate ask for metrics that were measured.",
		}
	}
	var said, worse []string
	for _, c := range r.Diff.Metrics {
		if c.From == nil || c.To == nil {
			continue
		}
		said = append(said, fmt.Sprintf("%s %.4g against %.4g", c.Name, *c.To, *c.From))
		if c.Verdict == "worse" {
			worse = append(worse, said[len(said)-1])
		}
	}
	// One of many that is a little worse shows nothing; what is better on other rows is not called so.
	if 2*len(worse) > len(said) {
		return Known{"evaluation", "yes", strings.Join(worse, ", ") + ".", ""}
	}
	finding := strings.Join(said, ", ") + "."
	advice := "It was measured on rows that do not show this."
	if i.Signal == guard.PredictionDrift {
		advice = "Rows with the same fault cannot show it: evaluate it on the rows of " + i.Incumbent + " too."
	}
	return Known{"evaluation", "no", finding, advice}
}

func answersKnown(i *Incident, m Material) Known {
	switch {
	case m.Incumbent != nil && m.Incumbent.KnownAnswers != nil:
		return Known{
			"known_answers", "no", i.Incumbent + " has known answers, and " + i.Candidate + " was not asked for them.",
			"Send them to the next candidate before it answers.",
		}
	case m.Candidate != nil && m.Candidate.KnownAnswers != nil:
		return Known{"known_answers", "no", "It gave its own known answers: it is the model that was registered.", ""}
	}
	return Known{
		"known_answers", "missing", "None are kept of either version.",
		"Keep those of " + i.Incumbent + ": innerladder answers " + i.Incumbent + ".",
	}
}

func reportKnown(m Material, kind, source, what string) Known {
	for _, e := range m.Evidence {
		if e.Kind != kind {
			continue
		}
		could := "no"
		if e.Verdict == "failed" {
			could = "yes"
		}
		return Known{source, could, fmt.Sprintf("%s %s: %s", e.ID, e.Verdict, or(e.Says, e.Name)), ""}
	}
	return Known{source, "missing", "There was none.", "It would have shown it: " + what + "."}
}
