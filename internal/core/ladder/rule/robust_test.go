package rule

import (
	"testing"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// troubled is a version that was put to trouble in the workbench, with rows like those of the incumbent.
func troubled(more func(*evidence.Evidence, *evidence.RobustnessReport)) Facts {
	return base(func(f *Facts) {
		incumbent(f)
		e := report("E-8", evidence.RobustnessKind, evidence.VerdictPassed, 0, nil)
		e.AddedBy, e.Version = naming.Service, "heat-demand@2"
		moved := 0.1
		e.Robustness = &evidence.RobustnessReport{
			Rows: 60, Answered: 60, Like: "heat-demand@1", Environment: "workbench",
			Judged: &evidence.Judged{Version: "heat-demand@2"},
			Tried: []evidence.Troubled{
				{Trouble: evidence.TroubleNoise, Rows: 60, Answered: 60, Moved: &moved, Verdict: evidence.Moves},
				{Trouble: evidence.TroubleMissing, Input: "mix", Rows: 60, Refused: 60, Verdict: evidence.Refuses},
			},
		}
		if more != nil {
			more(&e, e.Robustness)
		}
		f.Evidence = []evidence.Evidence{e}
	})
}

func casesOfRobustness() []ruleCase {
	breaks := func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
		r.Tried[1].Refused, r.Tried[1].Broke, r.Tried[1].Verdict = 0, 60, evidence.Breaks
	}
	return []ruleCase{
		{"not troubled", Robust{Environment: "workbench"}, base(nil), Waiting, "in workbench yet; place it there"},
		{"not troubled anywhere", Robust{}, base(nil), Waiting, "innerladder robustness heat-demand@2"},
		{"holds", Robust{Environment: "workbench"}, troubled(nil), Passed, "E-8: 2 troubles with 60 rows"},
		{"held elsewhere", Robust{Environment: "plant-north"}, troubled(nil), Waiting, "in plant-north yet"},
		{"forged", Robust{}, troubled(func(e *evidence.Evidence, _ *evidence.RobustnessReport) {
			e.AddedBy = "runa"
		}), Waiting, "not put to trouble yet"},
		{"of what matters least", Robust{}, troubled(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Aside = true
		}), Waiting, "not put to trouble yet"},
		{"like another", Robust{}, troubled(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Like = "heat-demand@0"
		}), Waiting, "the incumbent is heat-demand@1 now"},
		{"like itself, as was wished", Robust{}, troubled(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Like, r.Named = "heat-demand@2", true
		}), Waiting, "rows like those of heat-demand@2; the incumbent is heat-demand@1 now"},
		{"the incumbent has no profile", Robust{}, troubled(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Like, r.Incumbent = "heat-demand@2", "heat-demand@1"
		}), Passed, "60 rows"},
		{"breaks", Robust{}, troubled(breaks), Failed, "breaks is above 0"},
		{"may break", Robust{Breaks: 1}, troubled(breaks), Passed, "breaks 1"},
		{"moves too far", Robust{Noise: 0.05}, troubled(nil), Failed, "noise is above 0.05"},
		{"a looser report does not loosen the gate", Robust{}, troubled(
			func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
				breaks(nil, r)
				many := 9.0
				r.Limits = map[string]evidence.Limit{"breaks": {AtMost: &many}}
			},
		), Failed, "breaks is above 0"},
		{"nothing usual is answered", Robust{}, troubled(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Answered, r.Refused, r.Tried = 0, 60, nil
		}), Failed, "0 of 60 usual rows are answered"},
	}
}

func TestRobustnessThatCannotBeMeant(t *testing.T) {
	for _, q := range []Robust{{Breaks: -1}, {Noise: -1}} {
		if err := q.check("gate[0]"); fault.Code(err) != "requirement.robust" {
			t.Errorf("%+v: %v", q, err)
		}
	}
}
