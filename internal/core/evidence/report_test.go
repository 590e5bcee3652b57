package evidence

import (
	"strings"
	"testing"
)

// Reports with parts that do not belong together are refused whole.
func TestReportsThatDoNotAddUp(t *testing.T) {
	for name, c := range map[string]struct{ kind, report, says string }{
		"nothing":    {EvaluationKind, ``, "empty"},
		"no metrics": {EvaluationKind, `{"rows": 3}`, "no metrics"},
		"one class": {
			EvaluationKind, `{"metrics":{"a":1},"confusion":{"labels":["ok"],"counts":[[1]]}}`,
			"confusion matrix",
		},
		"a row short": {
			EvaluationKind,
			`{"metrics":{"a":1},"confusion":{"labels":["ok","bad"],"counts":[[1,2]]}}`, "confusion matrix",
		},
		"a cell short": {
			EvaluationKind,
			`{"metrics":{"a":1},"confusion":{"labels":["ok","bad"],"counts":[[1,2],[3]]}}`, "confusion matrix",
		},
		"fewer than none": {
			EvaluationKind,
			`{"metrics":{"a":1},"confusion":{"labels":["ok","bad"],"counts":[[1,2],[3,-1]]}}`, "confusion matrix",
		},
		"a curve of one point": {
			EvaluationKind, `{"metrics":{"a":1},"curves":[{"name":"roc","x":[0],"y":[0]}]}`,
			`"roc"`,
		},
		"x without y": {
			EvaluationKind, `{"metrics":{"a":1},"curves":[{"name":"roc","x":[0,1],"y":[0]}]}`,
			`"roc"`,
		},
		"edges and counts": {
			EvaluationKind, `{"metrics":{"a":1},"residuals":{"edges":[0,1],"counts":[1,2]}}`,
			"residuals",
		},
		"edges in disorder": {
			EvaluationKind, `{"metrics":{"a":1},"residuals":{"edges":[1,0],"counts":[1]}}`,
			"residuals",
		},
		"a limit of nothing": {
			EvaluationKind, `{"metrics":{"a":1},"limits":{"a":{}}}`,
			"neither at_least nor at_most",
		},
		"a limit without a value": {EvaluationKind, `{"metrics":{"a":1},"limits":{"b":{"at_most":1}}}`, "no value"},
		"no requests": {
			LoadKind, `{"requests":0,"errors":0,"seconds":1,"latency_ms":{"p50":1}}`,
			"request",
		},
		"more errors than asked": {LoadKind, `{"requests":2,"errors":3,"seconds":1,"latency_ms":{"p50":1}}`, "errors"},
		"more differ than asked": {ShadowKind, `{"requests":2,"disagreed":3}`, "3 of 2"},
		"nobody was asked":       {ShadowKind, `{"requests":0,"disagreed":0}`, "0 of 0"},
		"an unknown member":      {ShadowKind, `{"requests":2,"disagree":0}`, "disagree"},
	} {
		f, verdict, err := Read(c.kind, "", strings.NewReader(c.report))
		if err == nil || !strings.Contains(err.Error(), c.says) || verdict != "" {
			t.Errorf("%s: %+v, %q, %v", name, f, verdict, err)
		}
	}
	if _, _, err := Read(DocumentKind, "perhaps", strings.NewReader("x")); err == nil {
		t.Error("a verdict of perhaps")
	}
	for given, want := range map[string]string{
		"": Unjudged, VerdictPassed: VerdictPassed,
		VerdictFailed: VerdictFailed,
	} {
		if _, got, err := Read(DocumentKind, given, strings.NewReader("x")); err != nil || got != want {
			t.Errorf("a document given as %q: %q, %v", given, got, err)
		}
	}
}

// A test run is counted by its cases, however suites are nested and whatever sums they
// carry.
func TestTestRunsAreCounted(t *testing.T) {
	report := `<?xml version="1.0"?><testsuites tests="99" failures="0"><testsuite name="outer" tests="50">
		<testcase name="a" classname="heat" time="1,000.5"/><testcase name="b"><error message="no server"/></testcase>
		<testsuite name="inner"><testcase name="c"><skipped/></testcase><testcase name="d"><failure>` + strings.Repeat("é", 500) + `</failure></testcase></testsuite>
		<testcase name="e" time="never"/></testsuite><testcase name="alone"/></testsuites>`
	f, verdict, err := Read(TestsKind, "", strings.NewReader(report))
	if err != nil {
		t.Fatal(err)
	}
	r := f.Tests
	if r.Total != 6 || r.Failures != 1 || r.Errors != 1 || r.Skipped != 1 || r.Ran() != 5 || r.Seconds != 1000.5 ||
		verdict != VerdictFailed {
		t.Errorf("%+v, %s", r, verdict)
	}
	if len(r.Suites) != 2 || r.Suites[0].Total != 3 || r.Suites[1].Total != 2 || r.Suites[1].Failed != 1 ||
		r.Suites[1].Skipped != 1 {
		t.Errorf("suites: %+v", r.Suites)
	}
	if len(r.Failed) != 2 || r.Failed[0].Name != "b" || r.Failed[0].Suite != "outer" || r.Failed[1].Suite != "inner" ||
		!strings.HasSuffix(r.Failed[1].Message, "…") || strings.ContainsRune(r.Failed[1].Message, '\uFFFD') {
		t.Errorf("failed: %+v", r.Failed)
	}
	many := `<testsuite>` + strings.Repeat(`<testcase name="x"><failure/></testcase>`, 150) + `</testsuite>`
	if f, _, err = Read(TestsKind, "", strings.NewReader(many)); err != nil || f.Tests.Failures != 150 ||
		len(f.Tests.Failed) != 100 {
		t.Errorf("of many the first hundred: %d of %d, %v", len(f.Tests.Failed), f.Tests.Failures, err)
	}
}
