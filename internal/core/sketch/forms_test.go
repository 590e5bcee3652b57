package sketch

import (
	"fmt"
	"testing"
)

func TestFormsOfAnswers(t *testing.T) {
	y, z := Form{"y", "FP64"}, Form{"z", "BYTES"}
	var f, g, read Forms
	f.Add([]Form{y, z, y}) // twice in one answer is once
	f.Add([]Form{y})
	f.Add(nil)
	g.Add([]Form{z})
	f.Merge(&g)
	if f.Answers != 4 || f.Of(y) != 2 || f.Of(z) != 2 || len(f.All()) != 2 {
		t.Errorf("%+v", f)
	}
	b := f.AppendBinary(nil)
	if err := read.MergeBinary(b); err != nil || fmt.Sprint(read) != fmt.Sprint(f) {
		t.Errorf("read %+v, %v; want %+v", read, err, f)
	}
	if err := new(Forms).MergeBinary([]byte{binaryForm, 1, 200, 'y'}); err == nil {
		t.Error("a text that is cut short is read")
	}
	var many Forms
	for i := range 200 {
		many.Add([]Form{{fmt.Sprint(i), "FP32"}})
	}
	if len(many.All()) != mostForms || many.Answers != 200 {
		t.Errorf("%d forms of %d answers", len(many.All()), many.Answers)
	}
}
