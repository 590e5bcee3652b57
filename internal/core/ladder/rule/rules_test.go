package rule

import (
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
)

func candidate() Facts {
	return Facts{
		Version: &registry.Version{
			Ref: "heat-demand@2", Digest: "d2", Metrics: map[string]float64{"rmse": 0.3},
			Artifacts: []registry.Artifact{{Name: "m"}},
		},
		StoredArtifacts: 1, ReadAt: noon, Now: noon,
	}
}

var noon = time.Date(2026, 1, 14, 12, 0, 0, 0, time.UTC) // a Wednesday

func sign(by string, a Answer, note string) SignOff {
	return SignOff{By: by, Answer: a, Note: note, At: noon, CandidateDigest: "d2"}
}

func value(x float64) *float64 { return &x }

func report(id, kind, verdict string, age time.Duration, more func(*evidence.Evidence)) evidence.Evidence {
	e := evidence.Evidence{ID: id, Kind: kind, Name: "report", Verdict: verdict, AddedAt: noon.Add(-age)}
	if more != nil {
		more(&e)
	}
	return e
}

func base(more func(*Facts)) Facts {
	f := candidate()
	f.To, f.Answers = "live", &Answers{Promotion: "P-1", AskedBy: "runa"}
	if more != nil {
		more(&f)
	}
	return f
}

func incumbent(f *Facts) {
	f.Incumbent = &registry.Version{Ref: "heat-demand@1", Metrics: map[string]float64{"rmse": 0.25, "r2": 0.9}}
}

// measured has a report measure the rmse of a version.
func measured(v *registry.Version, x float64, data string) {
	was := v.Metrics["rmse"]
	v.Measured = map[string]metric.Measured{"rmse": metric.Took(x, &was, "E-1", data, noon)}
	v.Metrics["rmse"] = x
}

func tests(ran int) func(*evidence.Evidence) {
	return func(e *evidence.Evidence) { e.Tests = &evidence.TestReport{Total: ran} }
}

// ruleCase is a requirement, what it is asked of, and what it must say.
type ruleCase struct {
	name  string
	rule  Rule
	facts Facts
	want  State
	says  string
}

func casesOfMetrics() []ruleCase {
	return []ruleCase{
		{"metric within", Metric{Metric: "rmse", AtMost: value(0.3)}, base(nil), Passed, "0.3"},
		{"metric above", Metric{Metric: "rmse", AtMost: value(0.2)}, base(nil), Failed, "at most 0.2"},
		{"metric below", Metric{Metric: "rmse", AtLeast: value(0.4)}, base(nil), Failed, "at least 0.4"},
		{"metric missing", Metric{Metric: "mae", AtMost: value(1)}, base(nil), Waiting, "No mae"},
		{
			"worse than the incumbent",
			Metric{Metric: "rmse", NoWorseBy: value(0.01)},
			base(incumbent), Failed,
			"0.05 worse than heat-demand@1",
		},
		{
			"just within the margin",
			Metric{Metric: "rmse", NoWorseBy: value(0.05)},
			base(incumbent), Passed,
			"heat-demand@1",
		},
		{"within a share", Metric{Metric: "rmse", NoWorseByShare: value(0.2)}, base(incumbent), Passed, ""},
		{
			"more is better",
			Metric{Metric: "r2", NoWorseBy: value(0)},
			base(func(f *Facts) { incumbent(f); f.Version.Metrics["r2"] = 0.91 }), Passed, "",
		},
		{
			"less is better, it is said",
			Metric{Metric: "r2", NoWorseBy: value(0), Better: "lower"},
			base(func(f *Facts) { incumbent(f); f.Version.Metrics["r2"] = 0.91 }), Failed, "worse than heat-demand@1",
		},
		{
			"nobody to compare with",
			Metric{Metric: "rmse", NoWorseBy: value(0)},
			base(nil), Passed,
			"nobody stands on live",
		},
		{"no tests", EvidenceOf{Evidence: "tests"}, base(nil), Waiting, "innerladder attach heat-demand@2 -kind tests"},
		{
			"tests failed",
			EvidenceOf{Evidence: "tests"},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "tests", "failed", 0, nil)} }), Failed,
			"E-1",
		},
		{"the newest counts", EvidenceOf{Evidence: "tests"}, base(func(f *Facts) {
			f.Evidence = []evidence.Evidence{
				report("E-2", "tests", "passed", 0, nil),
				report("E-1", "tests", "failed", time.Hour, nil),
			}
		}), Passed, "E-2"},
	}
}

// casesOfMeasures are about what was claimed and what was measured.
func casesOfMeasures() []ruleCase {
	return []ruleCase{
		{
			"only claimed",
			Metric{Metric: "rmse", AtMost: value(1), Measured: true},
			base(nil), Waiting,
			"only claimed, as 0.3: attach the report",
		},
		{
			"measured otherwise than claimed",
			Metric{Metric: "rmse", AtMost: value(0.5)},
			base(func(f *Facts) { measured(f.Version, 0.9, "winter") }), Failed, "0.9",
		},
		{
			"measured, and claimed otherwise",
			Metric{Metric: "rmse", AtMost: value(1), Measured: true},
			base(func(f *Facts) { measured(f.Version, 0.9, "winter") }), Passed, "(claimed: 0.3)",
		},
		{
			"the incumbent is only claimed",
			Metric{Metric: "rmse", NoWorseBy: value(1), Measured: true},
			base(func(f *Facts) { incumbent(f); measured(f.Version, 0.3, "winter") }), Waiting,
			"The rmse of heat-demand@1 is only claimed",
		},
		{
			"measured on other data",
			Metric{Metric: "rmse", NoWorseBy: value(1), Measured: true},
			base(func(f *Facts) {
				incumbent(f)
				measured(f.Version, 0.3, "winter")
				measured(f.Incumbent, 0.25, "summer")
			}), Passed, "(measured on summer, not on winter)",
		},
		{
			"the incumbent has none",
			Metric{Metric: "mae", NoWorseBy: value(1)},
			base(func(f *Facts) { incumbent(f); f.Version.Metrics["mae"] = 0.1 }), Waiting, "No mae of heat-demand@1",
		},
		{"any metric", MetricRecorded{}, base(nil), Passed, "1 metric known, 0 of them measured"},
		{"any that was measured", MetricRecorded{Measured: true}, base(nil), Waiting, "no report measured any"},
		{
			"one was measured",
			MetricRecorded{Measured: true},
			base(func(f *Facts) { measured(f.Version, 0.3, "") }), Passed, "1 metric measured",
		},
		{
			"no metric at all",
			MetricRecorded{},
			base(func(f *Facts) { f.Version.Metrics = nil }), Waiting, "No metric is known",
		},
	}
}

// casesOfData are about how the data moved.
func casesOfData() []ruleCase {
	looked := func(f *Facts) {
		incumbent(f)
		f.Version.ProfileRows, f.Incumbent.ProfileRows = 500, 500
		f.Answers.Ticks = []Tick{{Rung: "live", Item: "data-moved", By: "tove", Note: "a colder winter"}}
	}
	return []ruleCase{
		{"no data to move against", DataLookedAt{}, base(nil), Passed, "nobody stands on live"},
		{"nobody knows how the data moved", DataLookedAt{}, base(incumbent), Waiting, "has no reference profile"},
		{"nobody looked at how the data moved", DataLookedAt{}, base(func(f *Facts) {
			looked(f)
			f.Answers.Ticks = nil
		}), Waiting, "Nobody has looked yet"},
		{"looked at for other bytes", DataLookedAt{}, base(func(f *Facts) {
			looked(f)
			f.Answers.Ticks[0].Stale = true
		}), Waiting, "Nobody has looked yet"},
		{"who asked looked", DataLookedAt{}, base(func(f *Facts) {
			looked(f)
			f.Answers.Ticks[0].By = f.Answers.AskedBy
		}), Waiting, "Nobody has looked yet"},
		{"looked at how the data moved", DataLookedAt{}, base(looked), Passed, "a colder winter"},
	}
}

func casesOfEvidence() []ruleCase {
	return []ruleCase{
		{
			"too old",
			EvidenceOf{Evidence: "tests", NoOlder: span.Duration(time.Hour)},
			base(func(f *Facts) {
				f.Evidence = []evidence.Evidence{report("E-1", "tests", "passed", 2*time.Hour,
					nil)}
			}), Waiting, "no older than 1h",
		},
		{
			"too few tests",
			EvidenceOf{Evidence: "tests", LeastTests: 10},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "tests", "passed", 0, tests(9))} }),
			Failed, "9 tests of the 10",
		},
		{
			"unjudged",
			EvidenceOf{Evidence: "document"},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "document", "none", 0, nil)} }),
			Waiting, "neither",
		},
		{
			"unjudged will do",
			EvidenceOf{Evidence: "document", Unjudged: true},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "document", "none", 0, nil)} }),
			Passed, "attached",
		},
		{"no card", CardSections{[]string{"limits"}}, base(nil), Failed, "no card"},
		{"an empty section", CardSections{[]string{"limits", "Data"}}, base(func(f *Facts) {
			f.Version.Card = &registry.Card{Sections: []registry.CardSection{
				{Kind: "limits", Title: "Limits"},
				{Title: "data", Body: "two winters"},
			}}
		}), Failed, "nothing of limits."},
		{"lineage", LineageComplete{}, base(nil), Failed, "its code, its run"},
		{
			"lineage of some",
			LineageComplete{Parts: []string{"run"}},
			base(func(f *Facts) { f.Version.Run = "run-1" }),
			Passed, "run",
		},
		{
			"evaluated is not trained",
			LineageComplete{Parts: []string{"data"}},
			base(func(f *Facts) { f.Version.Data = []lineage.DataUse{{Data: "w#1", Role: lineage.EvaluatedOn}} }),
			Failed, "trained on",
		},
		{
			"uncommitted code",
			LineageComplete{Parts: []string{"code"}, CleanCode: true},
			base(func(f *Facts) { f.Version.Code = &lineage.Code{Commit: "0123456789", Dirty: true} }), Failed,
			"01234567",
		},
		{"unknown needs", NoDenied{[]string{"oldlib"}}, base(nil), Waiting, "not known"},
		{"denied", NoDenied{[]string{"old-lib"}}, base(needs("Old_Lib", "")), Failed, "denied"},
		{"denied release", NoDenied{[]string{"numpy<1.22"}}, base(needs("numpy", "==1.9.5")), Failed, "1.9.5"},
		{"later release", NoDenied{[]string{"numpy<1.22"}}, base(needs("numpy", "==1.22")), Passed, "1 package"},
		{"perhaps denied", NoDenied{[]string{"numpy<1.22"}}, base(needs("numpy", ">=1.20")), Failed, "pin it"},
		{"not placed", Placed{"workbench"}, base(nil), Waiting, "not placed"},
		{
			"not healthy",
			Placed{"workbench"},
			base(func(f *Facts) { f.Places = []Place{{Environment: "workbench", Reason: "it is down"}} }), Waiting,
			"it is down",
		},
	}
}

func oneInput(datatype string) *signature.Signature {
	return &signature.Signature{Inputs: []signature.Column{
		{Name: "x", Type: signature.Number, Datatype: datatype, Shape: []int64{-1}},
	}}
}

// contracts has an endpoint rely on one type of its input, then on others that are decided, and
// the version take one; "" is no signature.
func contracts(first, takes string, later ...string) func(*Facts) {
	return func(f *Facts) {
		var d traffic.Decided
		for i, datatype := range append([]string{first}, later...) {
			d = append(d, traffic.Contract{Endpoint: "demand-hourly", Number: i + 1, Signature: *oneInput(datatype)})
		}
		f.Contracts = []traffic.Decided{d}
		if f.Version.Signature = nil; takes != "" {
			f.Version.Signature = oneInput(takes)
		}
	}
}

func casesOfCallers() []ruleCase {
	return []ruleCase{
		{"no incumbent", SignatureNotBroken{}, base(nil), Passed, "No caller can break"},
		{"no signatures", SignatureNotBroken{}, base(incumbent), Passed, "heat-demand@1, which is on the rung, has no"},
		{"no signature where the incumbent has one", SignatureNotBroken{}, base(func(f *Facts) {
			incumbent(f)
			x := signature.Column{Name: "x", Type: signature.Number}
			f.Incumbent.Signature = &signature.Signature{Inputs: []signature.Column{x}}
		}), Waiting, "not known whether callers of heat-demand@1"},
		{"no signature, and nothing is known of callers", SignatureNotBroken{}, base(func(f *Facts) {
			incumbent(f)
			f.IncumbentAnswers = true
		}), Waiting, "not known what callers of heat-demand@1 rely on"},
		{
			"keeps the contract",
			SignatureNotBroken{},
			base(contracts("FP32", "FP32")), Passed,
			"keeps contract 1 of demand-hourly",
		},
		{
			"breaks the contract",
			SignatureNotBroken{},
			base(contracts("FP32", "FP64")), Failed,
			"breaks contract 1 of demand-hourly: input x was FP32 [any] and is FP64 [any]",
		},
		{
			"keeps the one that is decided",
			SignatureNotBroken{},
			base(contracts("FP32", "FP64", "FP64")), Passed,
			"keeps contract 2",
		},
		{
			"a contract, and no signature",
			SignatureNotBroken{},
			base(contracts("FP32", "")), Waiting,
			"Place it somewhere",
		},
		{"a contract, and only what a server says", SignatureNotBroken{}, base(func(f *Facts) {
			contracts("FP32", "")(f)
			f.Places = []Place{{Declared: &signature.Served{Inputs: oneInput("FP64").Served().Inputs}}}
		}), Failed, "breaks contract 1"},
	}
}

func casesOfPeople() []ruleCase {
	return []ruleCase{
		{
			"placed",
			Placed{"workbench"},
			base(func(f *Facts) {
				f.Places = []Place{{Environment: "plant-north"}, {Environment: "workbench", Healthy: true}}
			}), Passed,
			"",
		},
		{"no shadow", Shadowed{Requests: 1000, Disagreement: 0.01}, base(nil), Waiting, "1000 are demanded"},
		{
			"shadow of another",
			Shadowed{Requests: 10, Disagreement: 0.01},
			base(func(f *Facts) { incumbent(f); shadow(100, 0, "heat-demand@9")(f) }), Waiting, "heat-demand@9",
		},
		{"shadow differs", Shadowed{Requests: 10, Disagreement: 0.01}, base(shadow(100, 2, "")), Failed, "2 %"},
		{"shadow agrees", Shadowed{Requests: 10, Disagreement: 0.02}, base(shadow(100, 2, "")), Passed, ""},
		{
			"not enough",
			SignOffs{Count: 2},
			base(func(f *Facts) { f.Answers.SignOffs = []SignOff{sign("odd", Yes, "")} }), Waiting, "1 sign-off",
		},
		{
			"the wrong role",
			SignOffs{Count: 1, Roles: []string{"safety"}},
			base(func(f *Facts) { f.Answers.SignOffs = []SignOff{sign("odd", Yes, "")} }), Waiting,
			"safety other than runa",
		},
		{
			"the trainer",
			SignOffs{Count: 1, NotTrainer: true},
			base(func(f *Facts) {
				f.Trainers = []string{"odd"}
				f.Answers.SignOffs = []SignOff{sign("odd", Yes,
					"")}
			}), Waiting, "trained",
		},
		{
			"an open list",
			Checklist{[]Item{{Name: "a", Text: "a"}, {Name: "b", Text: "b"}}},
			base(func(f *Facts) { f.Answers.Ticks = []Tick{{Rung: "live", Item: "a", By: "odd"}} }), Waiting,
			"1 of 2 items of the checklist open: b",
		},
		{
			"the list of one's own",
			Checklist{[]Item{{Name: "a", Text: "a"}}},
			base(func(f *Facts) { f.Answers.Ticks = []Tick{{Rung: "live", Item: "a", By: "runa"}} }), Waiting, "a",
		},
		{"no freeze", NoFreeze{}, base(func(f *Facts) { f.Frozen = &Frozen{} }), Passed, ""},
		{"freeze", NoFreeze{}, base(func(f *Facts) {
			freezes := []Freeze{
				{
					Name: "cold week", Zone: "UTC", From: "2026-01-12 00:00",
					To: "2026-01-19 08:00",
				},
				{Name: "spring", Zone: "UTC", From: "2026-04-01 00:00", To: "2026-04-02 00:00"},
			}
			f.Frozen = new(FrozenBy(freezes, f.Now))
		}), Waiting, "until Mon 2026-01-19 08:00 UTC"},
	}
}

func TestRules(t *testing.T) {
	cases := slices.Concat(casesOfMetrics(), casesOfMeasures(), casesOfData(), casesOfEvidence(),
		casesOfCallers(), casesOfPeople(), casesOfStanding(), casesOfRobustness())
	seen := map[string]bool{}
	for _, c := range cases {
		seen[c.rule.Kind()] = true
		got := c.rule.Evaluate(c.facts)
		if got.State != c.want || !strings.Contains(got.Sentence, c.says) || !strings.HasSuffix(got.Sentence, ".") {
			t.Errorf("%s: %s, %q; want %s with %q", c.name, got.State, got.Sentence, c.want, c.says)
		}
	}
	for _, k := range Kinds() {
		if plain := k.Kind == "artifact_stored" || k.Kind == "metric_recorded" ||
			k.Kind == "signature_not_broken"; !seen[k.Kind] && !plain {
			t.Errorf("no case for %s", k.Kind)
		}
	}
}

func needs(name, want string) func(*Facts) {
	return func(f *Facts) { f.Version.Dependencies = []registry.Dependency{{Name: name, Want: want}} }
}

func shadow(requests, disagreed uint64, against string) func(*Facts) {
	return func(f *Facts) {
		f.Evidence = []evidence.Evidence{{
			ID: "E-9", Kind: evidence.ShadowKind,
			Findings: evidence.Findings{Shadow: &evidence.ShadowReport{
				Requests: requests, Disagreed: disagreed,
				Against: against,
			}},
		}}
	}
}

func TestFreezes(t *testing.T) {
	nights := Freeze{Name: "nights", Zone: "Europe/Stockholm", From: "22:00", To: "06:00", Days: []string{"fri"}}
	for at, until := range map[string]string{
		"2026-01-16T20:59:00Z": "",                     // Friday 21:59 there
		"2026-01-16T21:00:00Z": "2026-01-17T05:00:00Z", // 22:00
		"2026-01-17T04:59:00Z": "2026-01-17T05:00:00Z", // Saturday 05:59
		"2026-01-17T05:00:00Z": "",
		"2026-03-27T23:00:00Z": "2026-03-28T05:00:00Z",
		"2026-07-17T20:00:00Z": "2026-07-18T04:00:00Z", // summer time
	} {
		now, _ := time.Parse(time.RFC3339, at)
		got, on := nights.InForce(now)
		if on != (until != "") || (on && got.UTC().Format(time.RFC3339) != until) {
			t.Errorf("at %s: %v until %s, want %q", at, on, got.UTC().Format(time.RFC3339), until)
		}
	}
}
