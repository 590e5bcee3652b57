package rule

import (
	"testing"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// disturbed is a version that was tested for robustness in the workbench, with rows like those of the incumbent.
func disturbed(more func(*evidence.Evidence, *evidence.RobustnessReport)) Facts {
	return base(func(f *Facts) {
		incumbent(f)
		e := report("E-8", evidence.RobustnessKind, evidence.VerdictPassed, 0, nil)
		e.AddedBy, e.Version = naming.Service, "heat-demand@2"
		moved := 0.1
		e.Robustness = &evidence.RobustnessReport{
			Rows: 60, Answered: 60, Environment: "workbench", Likeness: evidence.Likeness{Like: "heat-demand@1"},
			Judged: &evidence.Judged{Version: "heat-demand@2"},
			Tried: []evidence.Disturbed{
				{
					Disturbance: evidence.DisturbanceNoise, Rows: 60, Answered: 60, Moved: &moved,
					Verdict: evidence.Moves,
				},
				{
					Disturbance: evidence.DisturbanceMissing, Input: "mix", Rows: 60, Refused: 60,
					Verdict: evidence.Refuses,
				},
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
		{"not tested", Robust{Environment: "workbench"}, base(nil), Waiting, "in workbench yet; place it there"},
		{"not tested anywhere", Robust{}, base(nil), Waiting, "innerladder robustness heat-demand@2"},
		{"holds", Robust{Environment: "workbench"}, disturbed(nil), Passed, "E-8: 2 disturbances with 60 rows"},
		{"held elsewhere", Robust{Environment: "plant-north"}, disturbed(nil), Waiting, "in plant-north yet"},
		{"forged", Robust{}, disturbed(func(e *evidence.Evidence, _ *evidence.RobustnessReport) {
			e.AddedBy = "runa"
		}), Waiting, "not tested for robustness yet"},
		{"of what matters least", Robust{}, disturbed(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Aside = true
		}), Waiting, "not tested for robustness yet"},
		{"like another", Robust{}, disturbed(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Like = "heat-demand@0"
		}), Waiting, "the incumbent is heat-demand@1 now"},
		{"like itself, as was wished", Robust{}, disturbed(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Like, r.Named = "heat-demand@2", true
		}), Waiting, "rows like those of heat-demand@2; the incumbent is heat-demand@1 now"},
		{"the incumbent has no profile", Robust{}, disturbed(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
			r.Like, r.Incumbent = "heat-demand@2", "heat-demand@1"
		}), Passed, "60 rows"},
		{"breaks", Robust{}, disturbed(breaks), Failed, "breaks is above 0"},
		{"may break", Robust{Breaks: 1}, disturbed(breaks), Passed, "breaks 1"},
		{"moves too far", Robust{Noise: 0.05}, disturbed(nil), Failed, "noise is above 0.05"},
		{"a looser report does not loosen the gate", Robust{}, disturbed(
			func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
				breaks(nil, r)
				many := 9.0
				r.Limits = map[string]evidence.Limit{"breaks": {AtMost: &many}}
			},
		), Failed, "breaks is above 0"},
		{"nothing usual is answered", Robust{}, disturbed(func(_ *evidence.Evidence, r *evidence.RobustnessReport) {
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
