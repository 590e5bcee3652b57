package guard

import (
	"strings"
	"testing"

	"innerladder/internal/core/sketch"
)

func answersWith(n int, forms ...sketch.Form) (f sketch.Forms) {
	for range n {
		f.Add(forms)
	}
	return f
}

// A trial that does not give what main gives, or gives it as another type, is rolled back and says
// so; one that gives more is not.
func TestOutputsThatAreNotThere(t *testing.T) {
	y, scores := sketch.Form{Name: "y", Datatype: "FP64"}, sketch.Form{Name: "scores", Datatype: "FP64"}
	text := sketch.Form{Name: "y", Datatype: "BYTES"}
	for name, c := range map[string]struct {
		main, trial sketch.Forms
		fires       bool
		says        string
	}{
		"missing":      {answersWith(500, y), answersWith(200, scores), true, "gives the output y of type FP64 in 0 %"},
		"another type": {answersWith(500, y), answersWith(200, text), true, "(it gives it as BYTES): worse than"},
		"one of two":   {answersWith(500, y, scores), answersWith(200, y), true, "output scores"},
		"twenty":       {answersWith(20, y), answersWith(20, text), true, "gives the output y"},
		"too few":      {answersWith(500, y), answersWith(4, text), false, "the guard fires at"},
		"the same":     {answersWith(500, y), answersWith(200, y), false, "gives the outputs that heat-demand@1 gives"},
		"more":         {answersWith(500, y), answersWith(200, y, scores), false, "gives the outputs that"},
		"nothing read": {sketch.Forms{}, answersWith(200, y), false, "waits until an answer of heat-demand@1"},
	} {
		main, trial := lane(500, 0), lane(200, 0)
		main.Forms, trial.Forms = c.main, c.trial
		state, actions := Step(DefaultTerms(), 2, trials, State{}, pair(main, trial), t0)
		reading := readingOf(state, MissingOutputs)
		if (len(actions) > 0) != c.fires || !strings.Contains(reading.Sentence, c.says) {
			t.Errorf("%s: %d actions, %+v", name, len(actions), reading)
		}
		if c.fires && (actions[0].Signal != MissingOutputs || reading.Progress < 1) {
			t.Errorf("%s: %+v", name, actions[0])
		}
		said := readingOf(state, PredictionDrift).Sentence
		if more := "gives scores, which heat-demand@1 does not; it has no"; name == "more" &&
			!strings.HasPrefix(said, more) {
			t.Errorf("%s: %s", name, said)
		}
	}
}
