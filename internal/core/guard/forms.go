package guard

import (
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// readForms asks whether the trial gives the outputs that main gives, of the same types. It reads
// nothing (no sentence) while it does. The share of answers that have an output is a distribution
// of two cells, so the same bound holds at any moment of looking; what the inputs were does not
// matter, so few distinct ones are no reason to wait. Outputs that only the trial gives are said
// and do not fire: whoever calls main does not miss them.
func readForms(g Guard, mainVersion string, main, trial Lane, alpha float64) Reading {
	var r Reading
	forms := main.Forms.All()
	if main.Forms.Answers == 0 || trial.Forms.Answers == 0 {
		return r
	}
	for _, form := range forms {
		p, q := cells(&main.Forms, form), cells(&trial.Forms, form)
		gap := seqtest.CDFGap(p, q, alpha/float64(len(forms)))
		progress := gap.Seen / (g.Margin + gap.Noise)
		if percent(q[0], trial.Forms.Answers) >= percent(p[0], main.Forms.Answers) || gap.Seen <= g.Margin ||
			progress < r.Progress {
			continue
		}
		r.Progress = progress
		r.Sentence = fmt.Sprintf("gives the output %s of type %s in %.3g %% of its answers, %s in %.3g %%%s%s",
			form.Name, form.Datatype, percent(q[0], trial.Forms.Answers), mainVersion,
			percent(p[0], main.Forms.Answers), instead(form, &main.Forms, &trial.Forms), verdictOf(gap, g))
	}
	return r
}

func verdictOf(gap seqtest.Gap, g Guard) string {
	if gap.Low > g.Margin {
		return fmt.Sprintf(": surely a gap of %.2f, and %.2f is allowed.", gap.Low, g.Margin)
	}
	return fmt.Sprintf("; the guard fires at a gap of %.2f.", g.Margin+gap.Noise)
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

// cells are the answers that have an output, and those that do not.
func cells(f *sketch.Forms, form sketch.Form) []uint64 {
	return []uint64{f.Of(form), f.Answers - min(f.Of(form), f.Answers)}
}
