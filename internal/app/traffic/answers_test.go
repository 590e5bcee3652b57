package traffic

import (
	"strings"
	"testing"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/signature"
	"innerladder/internal/oip"
)

// An answer as large as a picture is not kept with a placement, which is read each second.
func TestLargeAnswersAreNotKept(t *testing.T) {
	of := func(n int) []oip.Tensor {
		return []oip.Tensor{{Name: "y", Data: make(oip.Data, n)}}
	}
	if c := heard([]byte(`{}`), of(10)); c == nil || len(c.Outputs["y"]) != 10 {
		t.Errorf("a small one: %+v", c)
	}
	if c := heard([]byte(`{}`), of(largestHeard)); c != nil {
		t.Error("a large one is kept")
	}
}

// What cannot be sent proves nothing.
func TestWhatCannotBeSentProvesNothing(t *testing.T) {
	sequence := signature.Column{
		Name: "x", Type: signature.Number, Datatype: "FP32",
		Within: []signature.Container{{Kind: signature.Sequence}},
	}
	at := asked{exact: &signature.Signature{Inputs: []signature.Column{sequence}}}
	known := &answers.Known{Cases: []answers.Case{{Outputs: map[string][]any{"y": {1.0}}}}}
	if told, wrong := at.proves(t.Context(), known); wrong || !strings.Contains(told, "cannot be sent") {
		t.Errorf("%q, %v", told, wrong)
	}
}
