package evidence

import (
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func TestTheKindOfAReportIsTold(t *testing.T) {
	for text, want := range map[string]string{
		`{"rows":3,"metrics":{"rmse":1}}`:                              EvaluationKind,
		"\xef\xbb\xbf\n {\"metrics\":{}}":                              EvaluationKind,
		`{"requests":3,"errors":0,"seconds":1,"latency_ms":{"p50":1}}`: LoadKind,
		`{"requests":3,"disagreed":1}`:                                 ShadowKind,
		`<?xml version="1.0"?><!-- made --><testsuites/>`:              TestsKind,
		`<testsuite name="a"></testsuite>`:                             TestsKind,
		`<svg/>`:                                                       "",
		`{"model":"x"}`:                                                "",
		`[1,2]`:                                                        "",
		`{"metrics":`:                                                  "",
		``:                                                             "",
		"\x93NUMPY":                                                    "",
	} {
		if got := KindOf(strings.NewReader(text)); got != want {
			t.Errorf("%q is %q, want %q", text, got, want)
		}
	}
}

func TestReadEvidence(t *testing.T) {
	for _, c := range []struct {
		name, kind, given, text string
		verdict, code, says     string
	}{
		{"tests", TestsKind, "", `<testsuites><testsuite name="a"><testcase name="x" time="1.5"/><testcase name="y" time="1,000.25"/></testsuite></testsuites>`, "passed", "", "2 tests in 16m41.75s, all passed"},
		{
			"nested suites", TestsKind, "",
			`<testsuite><testsuite name="in"><testcase name="x"/></testsuite><testcase name="y"><error message="boom"/></testcase></testsuite>`, "failed", "", "1 of 2 tests",
		},
		{
			"what the cases say counts", TestsKind, "",
			`<testsuite tests="9" failures="0"><testcase name="x"><failure>wrong</failure></testcase></testsuite>`,
			"failed", "", "1 of 1 test ",
		},
		{
			"all skipped", TestsKind, "", `<testsuite><testcase name="x"><skipped/></testcase></testsuite>`, "failed",
			"",
			"no test was run, 1 skipped",
		},
		{"no tests", TestsKind, "", `<testsuite/>`, "failed", "", "no test was run"},
		{
			"a stricter verdict", TestsKind, "failed", `<testsuite><testcase name="x"/></testsuite>`, "failed", "",
			"all passed",
		},
		{"a verdict against it", TestsKind, "passed", `<testsuite/>`, "", "evidence.verdict", ""},
		{"another document", TestsKind, "", `<html/>`, "", "evidence.tests", ""},
		{"broken off", TestsKind, "", `<testsuite><testcase`, "", "evidence.tests", ""},
		{"nothing", TestsKind, "", ``, "", "evidence.tests", ""},
		{
			"evaluation", EvaluationKind, "", `{"rows":100,"metrics":{"rmse":0.3},"limits":{"rmse":{"at_most":0.4}}}`,
			"passed", "", "rmse 0.3 on 100 rows",
		},
		{
			"limit broken", EvaluationKind, "", `{"metrics":{"rmse":0.5},"limits":{"rmse":{"at_most":0.4}}}`, "failed",
			"",
			"rmse is above 0.4",
		},
		{"no limits", EvaluationKind, "", `{"metrics":{"rmse":0.5}}`, "none", "", "rmse 0.5"},
		{"judged by who attached it", EvaluationKind, "passed", `{"metrics":{"rmse":0.5}}`, "passed", "", ""},
		{
			"limit of nothing", EvaluationKind, "", `{"metrics":{"rmse":0.5},"limits":{"mae":{"at_most":1}}}`, "",
			"evidence.evaluation", "",
		},
		{"no metrics", EvaluationKind, "", `{"rows":1}`, "", "evidence.evaluation", ""},
		{
			"not square", EvaluationKind, "",
			`{"metrics":{"accuracy":1},"confusion":{"labels":["a","b"],"counts":[[1,2],[3]]}}`, "",
			"evidence.evaluation", "",
		},
		{
			"edges", EvaluationKind, "", `{"metrics":{"rmse":1},"residuals":{"edges":[1,2],"counts":[1,2]}}`, "",
			"evidence.evaluation", "",
		},
		{"mistyped", EvaluationKind, "", `{"metrix":{}}`, "", "evidence.evaluation", ""},
		{"load", LoadKind, "", `{"requests":1000,"errors":1,"seconds":10,"latency_ms":{"p99":20},"limits":{"p99":{"at_most":25},"error_rate":{"at_most":0.01}}}`, "passed", "", "100/s, 0.1 % errors, p99 20 ms"},
		{"slow", LoadKind, "", `{"requests":1000,"errors":0,"seconds":10,"latency_ms":{"p99":30},"limits":{"p99":{"at_most":25}}}`, "failed", "", "p99 is above 25"},
		{"more errors than requests", LoadKind, "", `{"requests":1,"errors":2,"seconds":1}`, "", "evidence.load", ""},
		{
			"shadow", ShadowKind, "", `{"requests":1000,"disagreed":5,"against":"heat-demand@1"}`, "none", "",
			"0.5 % answered differently",
		},
		{"document", DocumentKind, "", `anything`, "none", "", ""},
		{"no verdict", DocumentKind, "perhaps", `anything`, "", "evidence.verdict", ""},
	} {
		f, verdict, err := Read(c.kind, c.given, strings.NewReader(c.text))
		if fault.Code(err) != c.code || verdict != c.verdict || !strings.Contains(f.Says, c.says) {
			t.Errorf("%s: %q, %q, %v; want %q, %q, %q", c.name, verdict, f.Says, err, c.verdict, c.says, c.code)
		}
	}
}

// Whatever the bytes are, a report is read or refused, and one with a failed test never
// passes.
func FuzzReadEvidence(f *testing.F) {
	f.Add(`<testsuite><testcase name="x" time="1"><failure message="m"/></testcase></testsuite>`)
	f.Add(`{"metrics":{"a":1},"curves":[{"name":"c","x":[1,2],"y":[3,4]}],"confusion":{"labels":["a","b"],"counts":[[1,2],[3,4]]}}`)
	f.Add(`{"requests":10,"errors":1,"seconds":0.5,"latency_ms":{"p50":1}}`)
	f.Fuzz(func(t *testing.T, text string) {
		for _, kind := range Kinds() {
			got, verdict, err := Read(kind, "", strings.NewReader(text))
			if err == nil && verdict == VerdictPassed && got.Tests != nil && got.Tests.Failures+got.Tests.Errors > 0 {
				t.Errorf("%s passed", text)
			}
			if err == nil && verdict == "" {
				t.Errorf("%s: neither verdict nor error", kind)
			}
		}
	})
}

func TestOnlyWhatIsReadIsBounded(t *testing.T) {
	for kind, code := range map[string]string{
		"": "evidence.large", EvaluationKind: "evidence.large", TestsKind: "evidence.large",
		DocumentKind: "", PictureKind: "",
	} {
		if err := CheckSize(kind, "a", largest+1); fault.Code(err) != code || CheckSize(kind, "a", largest) != nil {
			t.Errorf("%s: %v, want %q", kind, err, code)
		}
	}
}

func TestOnlyAnEvaluationMeasures(t *testing.T) {
	found := Findings{Metrics: map[string]float64{"rmse": 1}, Evaluation: &Evaluation{Data: "winter#1"}}
	for _, kind := range Kinds() {
		metrics, data := Evidence{Kind: kind, Findings: found}.Measures()
		if is := kind == EvaluationKind; (len(metrics) == 1) != is || (data == "winter#1") != is {
			t.Errorf("%s measures %v on %q", kind, metrics, data)
		}
	}
}
