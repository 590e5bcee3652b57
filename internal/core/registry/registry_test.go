package registry

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func TestParseRef(t *testing.T) {
	cases := []struct{ in, want, code string }{
		{"heat-demand@7", "heat-demand@7", ""},
		{"heat-demand@live", "heat-demand@live", ""},
		{"heat-demand", "", "ref.no_version"},
		{"heat-demand@", "", "ref.no_version"},
		{"heat-demand@0", "", "ref.number"},
		{"heat-demand@-3", "", "ref.number"},
		{"Heat Demand@1", "", "name.form"},
		{"heat-demand@Live!", "", "name.form"},
		{"../etc@1", "", "name.form"},
		{"@1", "", "name.empty"},
	}
	for _, c := range cases {
		got, err := ParseRef("version", c.in)
		if fault.Code(err) != c.code {
			t.Errorf("%q: error %v, want code %q", c.in, err, c.code)
		} else if err == nil && got.String() != c.want {
			t.Errorf("%q: got %q", c.in, got)
		}
	}
}

func TestIdentity(t *testing.T) {
	base := func() *Version {
		return &Version{
			Artifacts: []Artifact{{Name: "b", Digest: "22", Size: 2}, {Name: "a", Digest: "11", Size: 1}},
			Metrics:   map[string]float64{"rmse": 3.2}, Params: map[string]string{"depth": "6"},
		}
	}
	first := base().Identity()
	same := base()
	same.Artifacts[0], same.Artifacts[1] = same.Artifacts[1], same.Artifacts[0]
	same.Note, same.CreatedBy, same.Code, same.Run, same.Tags = "again", "odd", &Code{Commit: "1"}, "run-3",
		[]string{"winter"}
	if same.Identity() != first {
		t.Error("who, when, note or order of files changed the identity")
	}
	for name, change := range map[string]func(*Version){
		"bytes":     func(v *Version) { v.Artifacts[0].Digest = "33" },
		"metric":    func(v *Version) { v.Metrics["rmse"] = 3.3 },
		"parameter": func(v *Version) { v.Params["depth"] = "7" },
		"signature": func(v *Version) { v.Signature = &Signature{} },
		"parent":    func(v *Version) { v.Parents = []Parent{{"base@1", "fine-tuned"}} },
		"data":      func(v *Version) { v.Data = []DataUse{{"winters#2", TrainedOn}} },
		"card":      func(v *Version) { v.Card = &Card{Text: "# Heat"} },
	} {
		v := base()
		change(v)
		if v.Identity() == first {
			t.Errorf("another %s, and the same identity", name)
		}
	}
}

func TestFits(t *testing.T) {
	sig := &Signature{
		Inputs:  []Column{{Name: "temp_c", Type: Number}, {Name: "hour", Type: Integer}},
		Outputs: []Column{{Name: "demand_mw", Type: Number}},
	}
	mix := &Signature{Inputs: []Column{{Name: "mix", Type: Text}}}
	out := []Tensor{{"demand_mw", "FP64", []int64{-1}}}
	cases := []struct {
		name    string
		sig     *Signature
		in, out []Tensor
		want    string
	}{
		{
			"column by column", sig,
			[]Tensor{{"temp_c", "FP32", []int64{-1}}, {"hour", "INT64", []int64{-1, 1}}},
			out,
			"",
		},
		{"integers as numbers", sig, []Tensor{{"temp_c", "FP64", []int64{-1}}, {"hour", "FP64", []int64{-1}}}, out, ""},
		{"packed", sig, []Tensor{{"rows", "FP64", []int64{-1, 2}}}, out, ""},
		{"packed, too wide", sig, []Tensor{{"rows", "FP64", []int64{-1, 5}}}, out, `no input "temp_c"`},
		{"missing input", sig, []Tensor{{"temp_c", "FP64", []int64{-1}}}, out, `no input "hour"`},
		{"extra input", sig, []Tensor{
			{"temp_c", "FP64", []int64{-1}},
			{"hour", "INT64", []int64{-1}},
			{"wind_ms", "FP64", []int64{-1}},
		}, out, `wants an input "wind_ms"`},
		{
			"numbers as integers", sig,
			[]Tensor{{"temp_c", "INT32", []int64{-1}}, {"hour", "INT64", []int64{-1}}},
			out,
			`"temp_c" is number in the signature and INT32`,
		},
		{
			"vector for a scalar", sig,
			[]Tensor{{"temp_c", "FP64", []int64{-1, 3}}, {"hour", "INT64", []int64{-1}}},
			out,
			`1 values in a row of the signature and 3`,
		},
		{
			"other output", sig,
			[]Tensor{{"temp_c", "FP64", []int64{-1}}, {"hour", "INT64", []int64{-1}}},
			[]Tensor{{"y", "FP64", []int64{-1}}},
			`no output "demand_mw"`,
		},
		{"text", mix, []Tensor{{"mix", "BYTES", []int64{-1}}}, nil, ""},
		{"text as number", mix, []Tensor{{"mix", "FP32", []int64{-1}}}, nil, `"mix" is text`},
	}
	for _, c := range cases {
		got := strings.Join(c.sig.Fits(c.in, c.out), "; ")
		if (c.want == "") != (got == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s: got %q, want %q", c.name, got, c.want)
		}
	}
}

func TestDiffSignatures(t *testing.T) {
	base := Signature{
		Inputs:  []Column{{Name: "temp_c", Type: Number, Unit: "°C"}, {Name: "hour", Type: Integer}},
		Outputs: []Column{{Name: "demand_mw", Type: Number}},
	}
	cases := []struct {
		name   string
		change func(*Signature)
		want   Compatibility
	}{
		{"nothing", func(*Signature) {}, Compatible},
		{"another range", func(s *Signature) { low := 1.0; s.Inputs[1].Min, s.Inputs[1].Max = &low, &low }, Compatible},
		{"integer to number", func(s *Signature) { s.Inputs[1].Type = Number }, Widened},
		{"may now be missing", func(s *Signature) { s.Inputs[0].Nullable = true }, Widened},
		{
			"one more output", func(s *Signature) { s.Outputs = append(s.Outputs, Column{Name: "p90", Type: Number}) },
			Widened,
		},
		{
			"one more input", func(s *Signature) { s.Inputs = append(s.Inputs, Column{Name: "wind_ms", Type: Number}) },
			Breaking,
		},
		{"another unit", func(s *Signature) { s.Inputs[0].Unit = "°F" }, Breaking},
		{"an input less", func(s *Signature) { s.Inputs = s.Inputs[:1] }, Breaking},
		{"the output is text now", func(s *Signature) { s.Outputs[0].Type = Text }, Breaking},
	}
	for _, c := range cases {
		other := Signature{
			Inputs:  append([]Column(nil), base.Inputs...),
			Outputs: append([]Column(nil), base.Outputs...),
		}
		c.change(&other)
		changes, got := DiffSignatures(&base, &other)
		if slices.ContainsFunc(changes, func(ch Change) bool { return ch.Breaking }) != (got == Breaking) {
			t.Errorf("%s: %s, by %+v", c.name, got, changes)
		}
		if got != c.want {
			t.Errorf("%s: got %s, want %s (%v)", c.name, got, c.want, changes)
		}
		if (c.name == "nothing") != (len(changes) == 0) {
			t.Errorf("%s: %v", c.name, changes)
		}
	}
}

func TestDiffVersions(t *testing.T) {
	a := &Version{
		Ref: "heat-demand@1", Metrics: map[string]float64{"rmse": 0.4, "r2": 0.9, "bias": -0.3},
		Params: map[string]string{"depth": "6", "old": "x"},
	}
	b := &Version{
		Ref: "heat-demand@2", Metrics: map[string]float64{"rmse": 0.3, "r2": 0.8, "bias": 0.1},
		Params: map[string]string{"depth": "7"},
	}
	d := DiffVersions(a, b)
	verdicts := map[string]string{}
	for _, m := range d.Metrics {
		verdicts[m.Name] = m.Verdict
	}
	if verdicts["rmse"] != "better" || verdicts["r2"] != "worse" || verdicts["bias"] != "better" {
		t.Errorf("verdicts: %v", verdicts)
	}
	if len(d.Params) != 2 || d.Params[0].Kind != "changed" || d.Params[1].Kind != "removed" ||
		d.Compatibility != NotKnown {
		t.Errorf("diff: %+v", d)
	}
}

func FuzzRefs(f *testing.F) {
	for _, s := range []string{"heat-demand@7", "heat-demand@live", "winters#2", "run-12", "a@", "@", "#", "run-"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if ref, err := ParseRef("f", s); err == nil {
			if again, err := ParseRef("f", ref.String()); err != nil || again != ref {
				t.Fatalf("%q reads as %v, which reads as %v, %v", s, ref, again, err)
			}
		}
		if ref, err := ParseDataRef("f", s); err == nil {
			if again, err := ParseDataRef("f", ref.String()); err != nil || again != ref {
				t.Fatalf("%q reads as %v, which reads as %v, %v", s, ref, again, err)
			}
		}
		if n, err := ParseRunRef("f", s); err == nil && n < 1 {
			t.Fatalf("%q is run %d", s, n)
		}
	})
}

// A number that is read the quick way is the number that it says.
func FuzzDecimal(f *testing.F) {
	for _, s := range []string{
		"0", "-12.345", ".5", "5.", "-", ".", "1e5", "999999999999999", "0.000000000000001",
		"-0",
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		x, ok := decimal(s)
		if !ok {
			return
		}
		if want, err := strconv.ParseFloat(s, 64); err != nil || math.Float64bits(x) != math.Float64bits(want) {
			t.Fatalf("%q reads as %v, want %v, %v", s, x, want, err)
		}
	})
}

func TestWhichWayAMetricIsBetter(t *testing.T) {
	for _, c := range []struct {
		metric   string
		from, to float64
		want     string
	}{
		{"rmse", 0.3, 0.2, "better"},
		{"macro_f1", 0.3, 0.2, "worse"},
		{"accuracy", 0.3, 0.3, "same"},
		{"bias", -0.2, 0.1, "better"},
		{"bias", -0.2, -0.3, "worse"},
		{"bias", 0.2, -0.2, "same"},
		{"train_loss", -3, -5, "better"}, // a loss may be below zero
	} {
		if got := JudgeMetric(c.metric, c.from, c.to); got != c.want {
			t.Errorf("%s from %v to %v: %s, want %s", c.metric, c.from, c.to, got, c.want)
		}
	}
	if SaysWhatIsBetter("savings") || !SaysWhatIsBetter("Val_Log_Loss") || !SaysWhatIsBetter("roc_auc") {
		t.Error("which names say it")
	}
}
