package ladder

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
)

// Every kind of requirement with settings that cannot be meant: the field and the remedy
// are named, and the ladder is not taken.
func TestSettingsThatCannotBeMeant(t *testing.T) {
	for settings, code := range map[string]string{
		`"kind":"metric"`:                                                              "requirement.metric",
		`"kind":"metric","metric":" ","at_most":1`:                                     "requirement.metric",
		`"kind":"metric","metric":"rmse","at_most":1,"from":"rumour"`:                  "requirement.settings",
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

// Of several freezes in force the one that holds longest is named.
func TestTheLongestFreeze(t *testing.T) {
	l := Ladder{Freezes: []rule.Freeze{
		{Name: "short", Zone: "UTC", From: "2026-01-12 00:00", To: "2026-01-14 00:00"},
		{Name: "long", Zone: "UTC", From: "2026-01-01 00:00", To: "2026-01-20 00:00"},
		{Name: "over", Zone: "UTC", From: "2025-01-01 00:00", To: "2026-01-02 00:00"},
	}}
	at := time.Date(2026, 1, 13, 12, 0, 0, 0, time.UTC)
	if f := l.Frozen(at); f.Name != "long" || !f.Until.Equal(time.Date(2026, 1, 20, 0, 0, 0, 0, time.UTC)) {
		t.Errorf("%+v", f)
	}
	if f := l.Frozen(at.AddDate(1, 0, 0)); f != (rule.Frozen{}) {
		t.Errorf("a year later: %+v", f)
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
	s := sign("tove", rule.Yes, "read the measures")
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
