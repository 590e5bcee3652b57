package rule

import (
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/standing"
)

// stood is a version that was put to its standing evaluation.
func stood(more ...func(*evidence.Evidence)) Facts {
	return base(func(f *Facts) {
		incumbent(f)
		f.Version.Model = "heat-demand"
		f.Standing = &standing.Standing{Model: "heat-demand", Number: 2}
		e := report("E-4", evidence.EvaluationKind, evidence.VerdictPassed, 0, nil)
		e.AddedBy, e.Version, e.Says = naming.Service, "heat-demand@2", "rmse 0.3"
		e.Evaluation = &evidence.Evaluation{
			Judged: &evidence.Judged{Version: "heat-demand@2", Standing: "heat-demand#2"},
			Against: &evidence.Beside{Version: "heat-demand@1", Rows: 50, Differences: []evidence.MetricDifference{
				{Metric: "rmse", Is: 0.3, Was: 0.25, Verdict: evidence.Worse},
				{Metric: "mae", Is: 0.2, Was: 0.19, Verdict: evidence.CannotTell},
			}},
		}
		for _, do := range more {
			do(&e)
		}
		f.Evidence = []evidence.Evidence{e}
	})
}

func casesOfStanding() []ruleCase {
	return []ruleCase{
		{"nothing is set", Standing{}, base(nil), Waiting, "has no standing evaluation"},
		{"not done yet", Standing{}, base(func(f *Facts) {
			f.Standing = &standing.Standing{Model: "heat-demand", Number: 2}
		}), Waiting, "not put to the standing evaluation heat-demand#2"},
		{"done", Standing{}, stood(), Passed, "E-4, by the standing evaluation heat-demand#2: rmse 0.3"},
		{"another revision", Standing{}, stood(func(e *evidence.Evidence) {
			e.Evaluation.Judged.Standing = "heat-demand#1"
		}), Waiting, "not put to"},
		{"forged", Standing{}, stood(func(e *evidence.Evidence) { e.AddedBy = "runa" }), Waiting, "not put to"},
		{"of another version", Standing{}, stood(func(e *evidence.Evidence) {
			e.Evaluation.Judged.Version = "heat-demand@1"
		}), Waiting, "not put to"},
		{"a limit was broken", Standing{}, stood(func(e *evidence.Evidence) {
			e.Verdict = evidence.VerdictFailed
		}), Failed, "failed: rmse 0.3"},
		{"worse", Standing{NoWorse: []string{"mae", "rmse"}}, stood(), Failed, "rmse is surely worse than that of " +
			"heat-demand@1 on the same 50 rows: 0.3, where it was 0.25"},
		{"not surely worse", Standing{NoWorse: []string{"mae"}}, stood(), Passed, "mae is not surely worse"},
		{"of nobody", Standing{NoWorse: []string{"mae"}}, stood(func(e *evidence.Evidence) {
			e.Evaluation.Against = nil
		}), Waiting, "does not hold it against heat-demand@1"},
		{"of another", Standing{NoWorse: []string{"mae"}}, stood(func(e *evidence.Evidence) {
			e.Evaluation.Against.Version = "heat-demand@0"
		}), Waiting, "holds it against heat-demand@0; the incumbent is heat-demand@1 now"},
		{"not measured", Standing{NoWorse: []string{"accuracy"}}, stood(), Waiting, "has no accuracy of both"},
		{"nobody there", Standing{NoWorse: []string{"rmse"}}, func() Facts {
			f := stood()
			f.Incumbent = nil
			return f
		}(), Passed, "rmse 0.3"},
		{"no cases", Checked{}, base(nil), Waiting, "has no cases"},
		{"not checked", Checked{Environment: "workbench"}, checkedBy(func(e *evidence.Evidence) {
			e.Tests.Checked.Environment = "plant-north"
		}), Waiting, "by the cases heat-demand#3 in workbench yet"},
		{"checked by others", Checked{}, checkedBy(func(e *evidence.Evidence) {
			e.Tests.Checked.Cases = "heat-demand#2"
		}), Waiting, "innerladder check heat-demand@2"},
		{"a forged check", Checked{}, checkedBy(func(e *evidence.Evidence) { e.AddedBy = "runa" }), Waiting, "yet"},
		{"checked", Checked{Environment: "workbench"}, checkedBy(nil), Passed, "E-6, by the cases heat-demand#3"},
		{"not as it must be", Checked{}, checkedBy(func(e *evidence.Evidence) {
			e.Verdict = evidence.VerdictFailed
		}), Failed, "E-6, by the cases heat-demand#3"},
		{"a replay", Shadowed{Requests: 10, Disagreement: 0.01, Replay: true}, replayed(nil), Passed, "100 copies"},
		{"not asked for", Shadowed{Requests: 10, Disagreement: 0.01}, replayed(nil), Waiting, "10 are demanded"},
		{"a forged replay", Shadowed{Requests: 10, Disagreement: 0.01, Replay: true}, replayed(
			func(e *evidence.Evidence) { e.AddedBy = "runa" },
		), Waiting, "10 are demanded"},
		{"a replay against another", Shadowed{Requests: 10, Disagreement: 0.01, Replay: true}, replayed(
			func(e *evidence.Evidence) { e.Replay.Against = "heat-demand@0" },
		), Waiting, "the incumbent is heat-demand@1"},
	}
}

// checkedBy is a version that was asked the cases of its model.
func checkedBy(more func(*evidence.Evidence)) Facts {
	return base(func(f *Facts) {
		f.Cases = "heat-demand#3"
		e := report("E-6", evidence.CasesKind, evidence.VerdictPassed, 0, nil)
		e.AddedBy, e.Version, e.Says = naming.Service, "heat-demand@2", "7 tests, all passed"
		e.Tests = &evidence.TestReport{Checked: &evidence.Checked{
			Version: "heat-demand@2", Cases: "heat-demand#3", Environment: "workbench",
		}}
		if more != nil {
			more(&e)
		}
		f.Evidence = []evidence.Evidence{e}
	})
}

// replayed is a version that was asked again what callers had asked.
func replayed(more func(*evidence.Evidence)) Facts {
	return base(func(f *Facts) {
		incumbent(f)
		e := report("E-5", evidence.ReplayKind, evidence.Unjudged, 0, nil)
		e.AddedBy, e.Version = naming.Service, "heat-demand@2"
		e.Replay = &evidence.ReplayReport{
			ShadowReport: evidence.ShadowReport{Requests: 100, Against: "heat-demand@1"},
			Judged:       &evidence.Judged{Version: "heat-demand@2"},
		}
		if more != nil {
			more(&e)
		}
		f.Evidence = []evidence.Evidence{e}
	})
}
