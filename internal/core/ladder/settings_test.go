package ladder

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
)

// Every kind of requirement with settings that cannot be meant: the field and the remedy
// are named, and the ladder is not taken.
func TestSettingsThatCannotBeMeant(t *testing.T) {
	for settings, code := range map[string]string{
		`"kind":"metric"`:                                                              "requirement.metric",
		`"kind":"metric","metric":" ","at_most":1`:                                     "requirement.metric",
		`"kind":"metric","metric":"rmse","at_most":1,"from":"rumour"`:                  "requirement.from",
		`"kind":"metric","metric":"rmse","no_worse_by":-1`:                             "requirement.limit",
		`"kind":"metric","metric":"rmse","no_worse_by_share":-0.1`:                     "requirement.limit",
		`"kind":"metric","metric":"rmse","at_least":2,"at_most":1`:                     "requirement.limit",
		`"kind":"evidence"`:                                                            "evidence.kind",
		`"kind":"evidence","evidence":"gossip"`:                                        "evidence.kind",
		`"kind":"evidence","evidence":"tests","no_older_than":"-1h"`:                   "requirement.age",
		`"kind":"evidence","evidence":"tests","no_older_than":"a week"`:                "requirement.settings",
		`"kind":"evidence","evidence":"load","least_tests":4`:                          "requirement.tests",
		`"kind":"evidence","evidence":"tests","least_tests":-4`:                        "requirement.tests",
		`"kind":"sign_offs","count":0`:                                                 "requirement.count",
		`"kind":"sign_offs","count":21`:                                                "requirement.count",
		`"kind":"checklist"`:                                                           "requirement.items",
		`"kind":"checklist","items":[]`:                                                "requirement.items",
		`"kind":"checklist","items":[{"name":"","text":"x"}]`:                          "requirement.item",
		`"kind":"checklist","items":[{"name":"x"}]`:                                    "requirement.item",
		`"kind":"checklist","items":[{"name":"x","text":"x"},{"name":"x","text":"y"}]`: "ladder.item_twice",
		`"kind":"card_sections"`:                                                       "requirement.sections",
		`"kind":"lineage","parts":["data","rumour"]`:                                   "requirement.parts",
		`"kind":"no_denied_dependency"`:                                                "requirement.denied",
		`"kind":"no_denied_dependency","denied":["numpy<<1"]`:                          "requirement.denied",
		`"kind":"no_denied_dependency","denied":["numpy<"]`:                            "requirement.denied",
		`"kind":"no_denied_dependency","denied":["numpy<1.2-of-ours"]`:                 "requirement.denied",
		`"kind":"no_denied_dependency","denied":[""]`:                                  "requirement.denied",
		`"kind":"placed"`: "requirement.environment",
		`"kind":"shadowed","requests":0,"disagreement":0.1`:   "requirement.shadowed",
		`"kind":"shadowed","requests":10,"disagreement":1.1`:  "requirement.shadowed",
		`"kind":"shadowed","requests":10,"disagreement":-0.1`: "requirement.shadowed",
		`"kind":"no_freeze","until":"spring"`:                 "requirement.settings",
		`"kind":"artifact_stored","twice":true`:               "requirement.settings",
		`"metric":"rmse"`:                                     "requirement.kind",
	} {
		var l Ladder
		err := json.Unmarshal(fmt.Appendf(nil, `{"rungs":[{"name":"draft"},{"name":"live","gate":[{%s}]}]}`, settings),
			&l)
		if err == nil {
			err = l.Check()
		}
		if fault.Code(err) != code {
			t.Errorf("%s: %v (%q), want %q", settings, err, fault.Code(err), code)
		} else if !strings.Contains(err.Error(), "; ") {
			t.Errorf("%s: no remedy in %q", settings, err)
		}
	}
}

// Every kind describes itself: the console's editor and the help are made of that.
func TestKindsDescribeThemselves(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds() {
		if k.Kind == "" || k.What == "" || seen[k.Kind] {
			t.Errorf("%+v", k)
		}
		seen[k.Kind] = true
		for _, s := range k.Settings {
			if s.Name == "" || s.What == "" ||
				!strings.Contains(" text texts number count flag items ", " "+s.Type+" ") {
				t.Errorf("%s: %+v", k.Kind, s)
			}
			// What is described is what is read: a value of the type is taken.
			value := map[string]string{"text": `"` + strings.Join(append(s.Among[:min(1, len(s.Among))], "")[:1], "") +
				`"`, "texts": `[]`, "number": `1`, "count": `1`, "flag": `true`, "items": `[]`}[s.Type]
			if s.Name == "no_older_than" {
				value = `"1h"`
			}
			var q Requirement
			if err := json.Unmarshal(fmt.Appendf(nil, `{"kind":%q,%q:%s}`, k.Kind, s.Name, value), &q); err != nil ||
				q.Kind() != k.Kind {
				t.Errorf("%s with %s %s: %v", k.Kind, s.Name, value, err)
			}
		}
	}
	if len(seen) != 13 {
		t.Errorf("%d kinds; describe the new one in docs/guide.md", len(seen))
	}
}

// A freeze that cannot be in force, or whose time cannot be read, is refused by its field.
func TestFreezesThatCannotBeMeant(t *testing.T) {
	good := Freeze{Name: "holidays", Zone: "Europe/Stockholm", From: "2026-12-20 16:00", To: "2027-01-06 08:00"}
	if err := good.check("freezes[0]"); err != nil {
		t.Fatal(err)
	}
	for field, change := range map[string]func(*Freeze){
		"freeze.name": func(f *Freeze) { f.Name = " " },
		"freeze.zone": func(f *Freeze) { f.Zone = "" },
		"freeze.days": func(f *Freeze) { f.Days = []string{"someday"} },
		"freeze.from": func(f *Freeze) { f.From = "in December" },
		"freeze.to":   func(f *Freeze) { f.To = f.From },
	} {
		f := good
		change(&f)
		if err := f.check("freezes[0]"); fault.Code(err) != field {
			t.Errorf("%s: %v", field, err)
		}
	}
	weekly := Freeze{Name: "nights", Zone: "UTC", Days: []string{"mon"}, From: "22:00", To: "6"}
	if err := weekly.check("freezes[0]"); fault.Code(err) != "freeze.to" {
		t.Errorf("a time of day: %v", err)
	}
	weekly.To = "06:00"
	if err := weekly.check("freezes[0]"); err != nil {
		t.Errorf("over midnight: %v", err)
	}
	if got := weekly.String(); got != "nights: every mon from 22:00 to 06:00, UTC" {
		t.Error(got)
	}
}

// Of several freezes in force the one that holds longest is named.
func TestTheLongestFreeze(t *testing.T) {
	l := Ladder{Freezes: []Freeze{
		{Name: "short", Zone: "UTC", From: "2026-01-12 00:00", To: "2026-01-14 00:00"},
		{Name: "long", Zone: "UTC", From: "2026-01-01 00:00", To: "2026-01-20 00:00"},
		{Name: "over", Zone: "UTC", From: "2025-01-01 00:00", To: "2026-01-02 00:00"},
	}}
	at := time.Date(2026, 1, 13, 12, 0, 0, 0, time.UTC)
	if f := l.Frozen(at); f.Name != "long" || !f.Until.Equal(time.Date(2026, 1, 20, 0, 0, 0, 0, time.UTC)) {
		t.Errorf("%+v", f)
	}
	if f := l.Frozen(at.AddDate(1, 0, 0)); f != (Frozen{}) {
		t.Errorf("a year later: %+v", f)
	}
}

func TestWhatIsDenied(t *testing.T) {
	for _, c := range []struct {
		denied, name, want string
		state              State
		says               string
	}{
		{"oldlib", "OldLib", ">=1", Failed, "which is denied"},
		{"old-lib", "old_lib", "", Failed, "which is denied"},
		{"oldlib", "oldlibrary", "", Passed, "1 package"},
		{"numpy<1.22", "numpy", "==1.21.6", Failed, "1.21.6"},
		{"numpy<1.22", "numpy", "==1.22", Passed, ""},
		{"numpy<=1.22", "numpy", "==1.22", Failed, ""},
		{"numpy>2", "numpy", "==2.1", Failed, ""},
		{"numpy>=2", "numpy", "== 2.0", Failed, ""},
		{"numpy==1.9", "numpy", "===1.9.0", Failed, ""},
		{"numpy==1.9", "numpy", "==1.10", Passed, ""},
		// What a build adds is of the same release, unless the bound names a build.
		{"torch==2.1.0", "torch", "==2.1.0+cu121", Failed, "2.1.0+cu121"},
		{"torch==2.1.0+cpu", "torch", "==2.1.0+cu121", Passed, ""},
		{"torch==2.1.0+cpu", "torch", "==2.1.0+cpu", Failed, ""},
		// A post-release comes after its release, what comes before it before.
		{"torch<=2.0", "torch", "==2.0.post1", Passed, ""},
		{"torch>2.0", "torch", "==2.0.post1", Failed, ""},
		{"torch<2.0", "torch", "==2.0rc1", Failed, "2.0rc1"},
		{"torch<2.0rc1", "torch", "==2.0.dev3", Failed, ""},
		{"torch<2.0", "torch", "==1!1.0", Passed, ""},
		{"torch==2.0", "torch", "==v2.0.0", Failed, "pin it"},
		{"torch==2.0", "torch", "==2.*", Failed, "pin it"},
		{"torch==2.0", "torch", "===2.0_nightly", Failed, "no release by PEP 440"},
		{"a__b", "A.-b", "==1", Failed, ""},
		{"numpy<1.22", "numpy", ">=1.20", Failed, "pin it"},
		{"numpy<1.22", "numpy", "", Failed, "pin it"},
	} {
		v := &registry.Version{Ref: "heat-demand@2", Dependencies: []registry.Dependency{{Name: c.name, Want: c.want}}}
		if got := (NoDenied{[]string{c.denied}}).Evaluate(Facts{Version: v}); got.State != c.state ||
			!strings.Contains(got.Sentence, c.says) {
			t.Errorf("%s%s where %s is denied: %+v", c.name, c.want, c.denied, got)
		}
	}
}

// A statement is about the bytes that were signed for: any other file, version or digest
// does not fit it.
func TestWhatAStatementFits(t *testing.T) {
	v := &registry.Version{
		Ref: "heat-demand@2", Digest: "d2",
		Artifacts: []registry.Artifact{{Name: "model.onnx", Digest: "aa"}, {Name: "fill.json", Digest: "bb"}},
	}
	p := ask("rehearsal", "live")
	s := sign("tove", Yes, "read the measures")
	s.CandidateDigest = "d2"
	st := StatementOf(p, v, s)
	st.Predicate.Version = v.Ref
	body, err := st.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := ParseStatement(body); err != nil || again.Predicate.By != "tove" || len(again.Subject) != 2 {
		t.Fatalf("%+v, %v", again, err)
	}
	for name, c := range map[string]struct {
		digests map[string]string
		change  func(*registry.Version)
		want    string
	}{
		"as it was": {map[string]string{"model.onnx": "aa", "fill.json": "bb"}, nil, ""},
		"other bytes": {
			map[string]string{"model.onnx": "ax", "fill.json": "bb"},
			nil,
			"model.onnx has other bytes",
		},
		"a file is gone": {map[string]string{"model.onnx": "aa"}, nil, "fill.json is not in the store"},
		"another digest": {
			map[string]string{"model.onnx": "aa", "fill.json": "bb"},
			func(v *registry.Version) { v.Digest = "d3" }, "another digest",
		},
		"one file more": {
			map[string]string{"model.onnx": "aa", "fill.json": "bb"},
			func(v *registry.Version) { v.Artifacts = append(v.Artifacts, registry.Artifact{Name: "more"}) },
			"more was not vouched for",
		},
		"another version": {
			map[string]string{"model.onnx": "aa", "fill.json": "bb"},
			func(v *registry.Version) { v.Ref = "heat-demand@3" }, "about heat-demand@2",
		},
	} {
		now := *v
		if c.change != nil {
			c.change(&now)
		}
		got := strings.Join(st.Misfits(&now, c.digests), "; ")
		if (c.want == "") != (got == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
	for _, bad := range []string{
		``, `[]`, `{"_type":"x","predicateType":"` + SignOffPredicate + `"}`,
		`{"_type":"` + StatementType + `","predicateType":"https://elsewhere.example/v1"}`,
	} {
		if _, err := ParseStatement([]byte(bad)); err == nil {
			t.Errorf("%s was taken for a statement", bad)
		}
	}
	none := StatementOf(p, &registry.Version{Ref: "heat-demand@2", Digest: "d2"}, s)
	if len(none.Subject) != 1 || none.Subject[0].Digest["innerLadderVersion"] != "d2" {
		t.Errorf("a version without files: %+v", none.Subject)
	}
}
