package guard

import (
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/interval"
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
	// Lacking is the evidence that it is missing more often than allowed, Given that it is not.
	Lacking seqtest.Rate  `json:"lacking"`
	Given   seqtest.Rate  `json:"given"`
	Taken   seqtest.Block `json:"taken"`
}

// readForms asks whether the trial gives the outputs that main gives, of the same types, and reports the
// one that is missing most. What the inputs were does not matter, so few distinct ones are no reason to
// wait. Outputs that only the trial gives are said with the predictions and do not fire: whoever calls
// main does not miss them.
func (t *TrialState) readForms(g Guard, e *Pair, level levels) Reading {
	main, trial := &e.Incumbent.Forms, &e.Candidate.Forms
	forms := main.All()
	if t.Forms == nil {
		t.Forms = map[string]FormState{}
	}
	var r Reading
	least := 1.0
	for _, form := range forms {
		each := levels{level.alpha / float64(len(forms)), level.beta}
		found := t.readForm(g, form, main, trial, each)
		least = min(least, found.Enough)
		if found.Sentence != "" && found.Progress > r.Progress {
			r = found
		}
	}
	switch {
	case len(forms) == 0 && t.After:
		r.Sentence = unknownBefore(t)
	case len(forms) == 0:
		r.Sentence = fmt.Sprintf("waits until an answer of %s has been read.", t.Incumbent)
	case trial.Answers == 0:
		r.Sentence = "waits until an answer has been read."
	default:
		if r.Enough = least; r.Sentence == "" {
			r.Sentence = fmt.Sprintf("gives the outputs that %s gives, in %d answers that were read%s", t.Incumbent,
				trial.Answers, r.says(0, level.alpha, g.Allows()))
		}
	}
	return r
}

// readForm moves the guard on of one output; it has no sentence while that is there.
func (t *TrialState) readForm(g Guard, form sketch.Form, main, trial *sketch.Forms, level levels) Reading {
	key := form.Name + " " + form.Datatype
	s, known := t.Forms[key]
	now := seqtest.Block{
		IncumbentRequests: main.Answers, IncumbentFailed: main.Answers - min(main.Of(form), main.Answers),
		CandidateRequests: trial.Answers, CandidateFailed: trial.Answers - min(trial.Of(form), trial.Answers),
	}
	fresh := since(s.Taken, now)
	if t.After {
		bound := interval.Above(float64(now.IncumbentFailed), float64(now.IncumbentRequests), level.alpha/2)
		level = level.half()
		s.Lacking = observeAlone(s.Lacking, min(0.999, bound+g.Margin), fresh.CandidateRequests, fresh.CandidateFailed)
	} else {
		if line := (seqtest.Line{Slope: 1, Offset: g.Margin}); !known || s.Lacking.Line != line {
			s.Lacking, s.Given = seqtest.Rate{Line: line}, seqtest.Rate{Line: line, Below: true}
		}
		s.Lacking.Observe(fresh)
		s.Given.Observe(fresh)
	}
	s.Taken = now
	t.Forms[key] = s
	log := s.Lacking.LogE()
	found := level.reading(log, s.Given.LogE())
	p, q := percent(main.Of(form), main.Answers), percent(trial.Of(form), trial.Answers)
	gone := min(main.Answers, trial.Answers) >= soon && p >= 100*Mostly && q <= 100*Hardly
	verdict := found.says(log, level.alpha, g.Allows())
	if gone && found.Progress < 1 {
		found.Progress = 1
		verdict = fmt.Sprintf(": of %d answers and %d that is enough to tell.", trial.Answers, main.Answers)
	}
	if trial.Answers == 0 || p-q <= 100*g.Margin {
		return Reading{Progress: 0, Enough: found.Enough}
	}
	found.Sentence = fmt.Sprintf("gives the output %s of type %s in %.3g %% of its answers, %s in %.3g %%%s%s",
		form.Name, form.Datatype, q, t.Incumbent, p, instead(form, main, trial), verdict)
	return found
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
