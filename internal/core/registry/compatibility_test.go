package registry

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
)

// What a change of one column means to whoever calls the old version. A gate lets a
// candidate through by this, so every rule stands here on its own.
func TestWhatAChangedColumnMeans(t *testing.T) {
	low, high, higher := 0.0, 1.0, 2.0
	number := Column{Name: "x", Type: Number}
	with := func(change func(*Column)) Column {
		c := number
		change(&c)
		return c
	}
	text := func(nullable bool, levels ...string) Column {
		return Column{Name: "x", Type: Text, Nullable: nullable, Levels: levels}
	}
	for name, c := range map[string]struct {
		from, to      Column
		input, output Compatibility
	}{
		"the same": {number, number, Compatible, Compatible},
		"another range": {
			with(func(c *Column) { c.Min, c.Max = &low, &high }),
			with(func(c *Column) { c.Min, c.Max = &low, &higher }), Compatible, Compatible,
		},
		"an integer becomes a number": {with(func(c *Column) { c.Type = Integer }), number, Widened, Breaking},
		"a number becomes an integer": {number, with(func(c *Column) { c.Type = Integer }), Breaking, Breaking},
		"a number becomes a text":     {number, with(func(c *Column) { c.Type = Text }), Breaking, Breaking},
		"another unit": {
			with(func(c *Column) { c.Unit = "°C" }),
			with(func(c *Column) { c.Unit = "°F" }), Breaking, Breaking,
		},
		"a unit is added": {number, with(func(c *Column) { c.Unit = "°F" }), Breaking, Breaking},
		"another shape": {
			with(func(c *Column) { c.Shape = []int64{2} }),
			with(func(c *Column) { c.Shape = []int64{3} }), Breaking, Breaking,
		},
		"may be missing now":          {number, with(func(c *Column) { c.Nullable = true }), Widened, Breaking},
		"may be missing no more":      {with(func(c *Column) { c.Nullable = true }), number, Breaking, Widened},
		"a level more":                {text(false, "a", "b"), text(false, "a", "b", "c"), Widened, Widened},
		"a level less":                {text(false, "a", "b"), text(false, "a"), Breaking, Widened},
		"any level":                   {text(false, "a", "b"), text(false), Widened, Widened},
		"levels that were any before": {text(false), text(false, "a"), Widened, Widened},
	} {
		got := DiffVersions(&Version{Ref: "m@1", Signature: &Signature{Inputs: []Column{c.from}}},
			&Version{Ref: "m@2", Signature: &Signature{Inputs: []Column{c.to}}}).Compatibility
		if got != c.input {
			t.Errorf("%s, an input: %s, want %s", name, got, c.input)
		}
		got = DiffVersions(&Version{Ref: "m@1", Signature: &Signature{Outputs: []Column{c.from}}},
			&Version{Ref: "m@2", Signature: &Signature{Outputs: []Column{c.to}}}).Compatibility
		if got != c.output {
			t.Errorf("%s, an output: %s, want %s", name, got, c.output)
		}
	}
}

// Columns that come and go.
func TestColumnsComeAndGo(t *testing.T) {
	x, y := Column{Name: "x", Type: Number}, Column{Name: "y", Type: Number}
	optional := Column{Name: "y", Type: Number, Nullable: true}
	for name, c := range map[string]struct {
		from, to Signature
		want     Compatibility
	}{
		"an input that must be there": {Signature{Inputs: []Column{x}}, Signature{Inputs: []Column{x, y}}, Breaking},
		"an input that may be absent": {
			Signature{Inputs: []Column{x}},
			Signature{Inputs: []Column{x, optional}},
			Widened,
		},
		"an input goes":   {Signature{Inputs: []Column{x, y}}, Signature{Inputs: []Column{x}}, Breaking},
		"an output comes": {Signature{Outputs: []Column{x}}, Signature{Outputs: []Column{x, y}}, Widened},
		"an output goes":  {Signature{Outputs: []Column{x, y}}, Signature{Outputs: []Column{x}}, Breaking},
		"another order": {
			Signature{Inputs: []Column{x, y}},
			Signature{Inputs: []Column{y, x}},
			Compatible,
		},
	} {
		d := DiffVersions(&Version{Ref: "m@1", Signature: &c.from}, &Version{Ref: "m@2", Signature: &c.to})
		if d.Compatibility != c.want {
			t.Errorf("%s: %s, want %s: %+v", name, d.Compatibility, c.want, d.Signature)
		}
		if breaks := slices.ContainsFunc(d.Signature,
			func(c Change) bool { return c.Breaking }); breaks != (c.want == Breaking) {
			t.Errorf("%s: which change breaks is not said: %+v", name, d.Signature)
		}
	}
}

// Which datatypes of the protocol a column can be sent as.
func TestWhatAServerTakes(t *testing.T) {
	for _, c := range []struct {
		datatype string
		takes    []Type
	}{
		{"FP64", []Type{Number, Integer}},
		{"FP16", []Type{Number, Integer}},
		{"BF16", []Type{Number, Integer}},
		{"INT64", []Type{Integer}},
		{"UINT8", []Type{Integer}},
		{"BOOL", []Type{Boolean}},
		{"BYTES", []Type{Text}},
		{"COMPLEX", nil},
		{"", nil},
	} {
		for _, kind := range []Type{Number, Integer, Boolean, Text} {
			s := Signature{Inputs: []Column{{Name: "x", Type: kind}}}
			reasons := s.Fits([]Tensor{{Name: "x", Datatype: c.datatype, Shape: []int64{-1}}}, nil)
			if fits := len(reasons) == 0; fits != slices.Contains(c.takes, kind) {
				t.Errorf("%s as %s: %v", kind, c.datatype, reasons)
			}
		}
	}
}

// Shapes must agree, as far as both sides say them.
func TestShapesAtTheServer(t *testing.T) {
	for name, c := range map[string]struct {
		column []int64
		tensor []int64
		fits   bool
	}{
		"one value":                {nil, []int64{-1}, true},
		"one value, said":          {nil, []int64{-1, 1}, true},
		"three values":             {[]int64{3}, []int64{-1, 3}, true},
		"three values as a matrix": {[]int64{2, 3}, []int64{-1, 6}, true},
		"too few":                  {[]int64{3}, []int64{-1, 2}, false},
		"any number at the server": {[]int64{3}, []int64{-1, -1}, true},
		"any number in a request":  {[]int64{-1}, []int64{-1, 4}, true},
		"one and four":             {nil, []int64{-1, 4}, false},
	} {
		s := Signature{Inputs: []Column{{Name: "x", Type: Number, Shape: c.column}}}
		if reasons := s.Fits([]Tensor{{Name: "x", Datatype: "FP32", Shape: c.tensor}},
			nil); (len(reasons) == 0) != c.fits {
			t.Errorf("%s: %v", name, reasons)
		}
	}
	// Columns side by side in one tensor, when it takes all of them.
	s := Signature{Inputs: []Column{{Name: "a", Type: Number}, {Name: "b", Type: Integer}}}
	for width, fits := range map[int64]bool{2: true, -1: true, 3: false} {
		if reasons := s.Fits([]Tensor{{Name: "features", Datatype: "FP32", Shape: []int64{-1, width}}},
			nil); (len(reasons) == 0) != fits {
			t.Errorf("%d wide: %v", width, reasons)
		}
	}
	s.Inputs = append(s.Inputs, Column{Name: "c", Type: Text})
	if reasons := s.Fits([]Tensor{{Name: "features", Datatype: "FP32", Shape: []int64{-1, 3}}},
		nil); len(reasons) == 0 {
		t.Error("a text among numbers")
	}
}

// A sample request holds a value that every column can take, and survives its JSON.
func TestSampleRequestsOfDeclaredColumns(t *testing.T) {
	low, high, huge := 2.0, 6.0, 1e300
	s := &Signature{Inputs: []Column{
		{Name: "between", Type: Number, Min: &low, Max: &high},
		{Name: "from", Type: Number, Min: &high},
		{Name: "to", Type: Number, Max: &low},
		{Name: "any", Type: Number},
		{Name: "count", Type: Integer, Min: &huge},
		{Name: "flag", Type: Boolean},
		{Name: "mix", Type: Text, Levels: []string{"harbour", "works"}},
		{Name: "free", Type: Text},
		{Name: "three", Type: Number, Shape: []int64{3}, Min: &low},
	}}
	var request struct {
		Inputs []struct {
			Name  string
			Shape []int64
			Data  []any
		}
	}
	if err := json.Unmarshal(s.SampleRequest(nil), &request); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, in := range request.Inputs {
		got[in.Name] = fmt.Sprint(in.Data)
	}
	for name, want := range map[string]string{
		"between": "[4]", "from": "[6]", "to": "[2]", "any": "[0]",
		"flag": "[false]", "mix": "[harbour]", "free": "[]", "three": "[2 2 2]",
	} {
		if got[name] != want {
			t.Errorf("%s: %s, want %s", name, got[name], want)
		}
	}
	if wide := (&Signature{Inputs: []Column{{Name: "picture", Type: Number, Shape: []int64{3, 2000, 2000}}}}).
		SampleRequest(nil); wide != nil {
		t.Errorf("a sample of %d bytes", len(wide))
	}
	if none := (&Signature{}).SampleRequest(nil); none != nil {
		t.Errorf("of nothing: %s", none)
	}
}

// Numbers that are no numbers do not come in, wherever they stand.
func TestNumbersThatAreNone(t *testing.T) {
	for _, x := range []float64{math.NaN(), math.Inf(1), math.Inf(-1)} {
		if err := CheckMetrics(map[string]float64{"rmse": x}); err == nil || !strings.Contains(err.Error(), "finite") {
			t.Errorf("a metric of %v: %v", x, err)
		}
		if err := CheckImportance(map[string]float64{"wind": x}); err == nil {
			t.Errorf("an importance of %v", x)
		}
		if err := (&Signature{Inputs: []Column{{Name: "x", Type: Number, Min: &x}}}).Check("signature"); err == nil {
			t.Errorf("a range from %v", x)
		}
	}
	if err := CheckMetrics(map[string]float64{"": 1}); err == nil {
		t.Error("a metric without a name")
	}
}

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
		f, verdict, err := ReadEvidence(c.kind, "", strings.NewReader(c.report))
		if err == nil || !strings.Contains(err.Error(), c.says) || verdict != "" {
			t.Errorf("%s: %+v, %q, %v", name, f, verdict, err)
		}
	}
	if _, _, err := ReadEvidence(DocumentKind, "perhaps", strings.NewReader("x")); err == nil {
		t.Error("a verdict of perhaps")
	}
	for given, want := range map[string]string{
		"": Unjudged, VerdictPassed: VerdictPassed,
		VerdictFailed: VerdictFailed,
	} {
		if _, got, err := ReadEvidence(DocumentKind, given, strings.NewReader("x")); err != nil || got != want {
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
	f, verdict, err := ReadEvidence(TestsKind, "", strings.NewReader(report))
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
	if f, _, err = ReadEvidence(TestsKind, "", strings.NewReader(many)); err != nil || f.Tests.Failures != 150 ||
		len(f.Tests.Failed) != 100 {
		t.Errorf("of many the first hundred: %d of %d, %v", len(f.Tests.Failed), f.Tests.Failures, err)
	}
}
