package guard

import (
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

const (
	// soon is after how many answers of each lane an output that main gives and the trial never does
	// is reason enough.
	soon = 20
	// Mostly and Hardly are in which share of its answers a version gives an output, or does not.
	Mostly, Hardly = 0.5, 0.05
)

// FormState is where the watching of one output stands: of the answers in which it is not there.
type FormState struct {
	Lacking seqtest.Rate  `json:"lacking"`
	Taken   seqtest.Block `json:"taken"`
}

// readForms asks whether the trial gives the outputs that main gives, of the same types. It reads
// nothing (no sentence) while it does. What the inputs were does not matter, so few distinct ones are no
// reason to wait. Outputs that only the trial gives are said
// and do not fire: whoever calls main does not miss them.
func (t *TrialState) readForms(g Guard, e *Pair, alpha float64) Reading {
	var r Reading
	main, trial := &e.Incumbent.Forms, &e.Candidate.Forms
	forms := main.All()
	if t.Forms == nil {
		t.Forms = map[string]FormState{}
	}
	for _, form := range forms {
		key := form.Name + " " + form.Datatype
		s, known := t.Forms[key]
		if line := (seqtest.Line{Slope: 1, Offset: g.Margin}); !known || s.Lacking.Line != line {
			s.Lacking = seqtest.Rate{Line: line}
		}
		now := seqtest.Block{
			IncumbentRequests: main.Answers, IncumbentFailed: main.Answers - min(main.Of(form), main.Answers),
			CandidateRequests: trial.Answers, CandidateFailed: trial.Answers - min(trial.Of(form), trial.Answers),
		}
		s.Lacking.Observe(since(s.Taken, now))
		s.Taken = now
		t.Forms[key] = s
		level := alpha / float64(len(forms))
		log := s.Lacking.LogE()
		found := reading(log, 0, level)
		p, q := percent(main.Of(form), main.Answers), percent(trial.Of(form), trial.Answers)
		gone := min(main.Answers, trial.Answers) >= soon && p >= 100*Mostly && q <= 100*Hardly
		verdict := found.says(log, level, fmt.Sprintf("%.2g points fewer", 100*g.Margin))
		if gone && found.Progress < 1 {
			found.Progress = 1
			verdict = fmt.Sprintf(": of %d answers and %d that is enough to tell.", trial.Answers, main.Answers)
		}
		if trial.Answers == 0 || p-q <= 100*g.Margin || found.Progress <= r.Progress {
			continue
		}
		r = found
		r.Sentence = fmt.Sprintf("gives the output %s of type %s in %.3g %% of its answers, %s in %.3g %%%s%s",
			form.Name, form.Datatype, q, t.Incumbent, p, instead(form, main, trial),
			verdict)
	}
	return r
}

// instead names the type that an output has in place of another, if it has one.
func instead(form sketch.Form, main, trial *sketch.Forms) string {
	var types []string
	for _, o := range trial.All() {
		if o.Name == form.Name && main.Of(o) == 0 {
			types = append(types, o.Datatype)
		}
	}
	if len(types) == 0 {
		return ""
	}
	return " (it gives it as " + strings.Join(types, " and ") + ")"
}

// onlyTrial says which outputs the trial gives in most answers and main in none.
func onlyTrial(mainVersion string, main, trial *sketch.Forms) string {
	var names []string
	for _, o := range trial.All() {
		there := slices.ContainsFunc(main.All(), func(m sketch.Form) bool { return m.Name == o.Name })
		if main.Answers > 0 && !there && 2*trial.Of(o) > trial.Answers {
			names = append(names, o.Name)
		}
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("gives %s, which %s does not; it ", strings.Join(names, " and "), mainVersion)
}
