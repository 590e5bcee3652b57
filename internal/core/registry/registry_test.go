package registry

import (
	"math"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/signature"
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
	same.Note, same.CreatedBy, same.Code, same.Run, same.Tags = "again", "odd", &lineage.Code{Commit: "1"}, "run-3",
		[]string{"winter"}
	if same.Identity() != first {
		t.Error("who, when, note or order of files changed the identity")
	}
	for name, change := range map[string]func(*Version){
		"bytes":     func(v *Version) { v.Artifacts[0].Digest = "33" },
		"metric":    func(v *Version) { v.Metrics["rmse"] = 3.3 },
		"parameter": func(v *Version) { v.Params["depth"] = "7" },
		"signature": func(v *Version) { v.Signature = &signature.Signature{} },
		"parent":    func(v *Version) { v.Parents = []lineage.Parent{{Version: "base@1", Relation: "fine-tuned"}} },
		"data":      func(v *Version) { v.Data = []lineage.DataUse{{Data: "winters#2", Role: lineage.TrainedOn}} },
		"card":      func(v *Version) { v.Card = &Card{Text: "# Heat"} },
	} {
		v := base()
		change(v)
		if v.Identity() == first {
			t.Errorf("another %s, and the same identity", name)
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
		d.Compatibility != signature.NotKnown {
		t.Errorf("diff: %+v", d)
	}
}

// Numbers that are no numbers do not come in, wherever they stand.
func TestNumbersThatAreNone(t *testing.T) {
	for _, x := range []float64{math.NaN(), math.Inf(1), math.Inf(-1)} {
		if err := metric.Check(map[string]float64{"rmse": x}); err == nil || !strings.Contains(err.Error(), "finite") {
			t.Errorf("a metric of %v: %v", x, err)
		}
		if err := CheckImportance(map[string]float64{"wind": x}); err == nil {
			t.Errorf("an importance of %v", x)
		}
		number := signature.Column{Name: "x", Type: signature.Number, Min: &x}
		if err := (&signature.Signature{Inputs: []signature.Column{number}}).Check("signature"); err == nil {
			t.Errorf("a range from %v", x)
		}
	}
	if err := metric.Check(map[string]float64{"": 1}); err == nil {
		t.Error("a metric without a name")
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
		if ref, err := lineage.ParseDataRef("f", s); err == nil {
			if again, err := lineage.ParseDataRef("f", ref.String()); err != nil || again != ref {
				t.Fatalf("%q reads as %v, which reads as %v, %v", s, ref, again, err)
			}
		}
		if n, err := lineage.ParseRunRef("f", s); err == nil && n < 1 {
			t.Fatalf("%q is run %d", s, n)
		}
	})
}
