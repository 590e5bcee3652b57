package evidence

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/naming"
)

// What is written is read again, with who made it; nobody else can claim that.
func TestReportIsReadAgain(t *testing.T) {
	by := Checked{Job: "J-4", Version: "m@2", Environment: "workbench", Cases: "m#1", Digest: "d", By: "build"}
	text, err := JUnit("checks", &by, Suite{"cases m#1", []Result{
		{Name: "a", Took: time.Millisecond},
		{Name: "b", Why: "y is 1\x00 & <more>"},
		{Name: "c", Why: "no", Broken: true},
	}})
	if err != nil {
		t.Fatal(err)
	}
	f, verdict, err := Read(CasesKind, "", bytes.NewReader(text))
	if err != nil || verdict != VerdictFailed {
		t.Fatalf("%s, %v\n%s", verdict, err, text)
	}
	if f.Tests.Total != 3 || f.Tests.Failures != 1 || f.Tests.Errors != 1 || *f.Tests.Checked != by ||
		!strings.HasSuffix(f.Tests.Failed[0].Message, "y is 1 & <more>") {
		t.Errorf("%+v %+v", f.Tests, f.Tests.Checked)
	}
	if f.CheckForeign() == nil {
		t.Error("anybody can attach it")
	}
	e := Evidence{Version: "m@2", AddedBy: naming.Service, Findings: f}
	if e.OwnTests() == nil {
		t.Error("it is not the service's own")
	}
	if e.Version = "m@3"; e.OwnTests() != nil {
		t.Error("it is of another version")
	}
}
