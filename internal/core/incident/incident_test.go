package incident

import (
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/drift"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/rollout"
)

var t0 = time.Date(2026, 1, 12, 3, 12, 4, 0, time.UTC)

func opened(signal string) *Incident {
	return &Incident{
		ID: "I-3", Endpoint: "demand-hourly", Candidate: "heat-demand@3", Incumbent: "heat-demand@2", Signal: signal,
		By: "inner-ladder", Why: "it does", Left: 5, For: 6, Begun: t0, At: t0.Add(5 * time.Second), State: "open",
	}
}

func material() Material {
	low, high := 1.09, 1.64
	return Material{
		Candidate: &registry.Version{Ref: "heat-demand@3"}, Incumbent: &registry.Version{Ref: "heat-demand@2"},
		Comparison: &compare.Comparison{
			Rows: []compare.Row{{Signal: "error_rate", Unit: "share", Verdict: compare.NotEnough}},
			Predictions: []compare.Distribution{
				{Column: "demand_mw", Unit: "MW", IncumbentMean: &low, CandidateMean: &high},
			},
		},
		Profiles: &compare.Profiles{Columns: []compare.ProfileColumn{
			{Name: "wind_ms", Movement: drift.Movement{PSI: 0.02, Verdict: drift.Steady, Sentence: "Within noise."}},
			{
				Name:     "outdoor_c",
				Movement: drift.Movement{PSI: 10, Verdict: drift.Moved, Sentence: "Moved far (PSI 10)."},
			},
		}},
		Promotions: []ladder.Promotion{
			{ID: "P-5", To: "live", AskedBy: "runa", State: ladder.CarriedOut, SignOffs: []rule.SignOff{
				{By: "tove", Answer: rule.Yes}, {By: "odd", Answer: rule.No},
			}},
			{ID: "P-6", To: "live", State: ladder.Withdrawn},
		},
		Decisions: []rollout.Decision{
			{At: t0, Did: "It begins with 20 %.", By: "inner-ladder"},
			{
				At:     t0.Add(5 * time.Second),
				Seen:   "It predicts another demand_mw.",
				Did:    "@2 answers again.",
				Signal: "prediction_drift",
			},
		},
		Rollout: &rollout.Rollout{}, Requests: 206,
	}
}

func find(t *testing.T, r Report, source string) Known {
	t.Helper()
	for _, k := range r.Known {
		if k.Source == source {
			return k
		}
	}
	t.Fatalf("nothing is said of %s: %+v", source, r.Known)
	return Known{}
}

func TestAReport(t *testing.T) {
	i := opened(guard.PredictionDrift)
	m := material()
	r := Write(i, m, t0)
	for _, want := range []string{
		"heat-demand@3 gave 206 answers in 5s", "demand_mw was 0.55 MW higher than that of heat-demand@2",
		"differs most in outdoor_c, which moved far (PSI 10).",
	} {
		if !strings.Contains(r.Sentence, want) {
			t.Errorf("no %q in %q", want, r.Sentence)
		}
	}
	if len(r.Timeline) != 3 || !r.Timeline[1].Bad || !strings.Contains(r.Timeline[2].What, "#6 is in force") {
		t.Errorf("%+v", r.Timeline)
	}
	if len(r.Approved) != 1 || len(r.Approved[0].Signed) != 1 || r.Approved[0].Signed[0] != "tove" {
		t.Errorf("%+v", r.Approved)
	}
	if r.Moved[0].Column != "outdoor_c" {
		t.Errorf("%+v", r.Moved)
	}
	if k := find(t, r, "profile"); k.Could != "yes" || !strings.Contains(k.Finding, "Nobody had to look") ||
		k.Advice == "" {
		t.Errorf("%+v", k)
	}
	m.LookedAtData = true
	if k := find(t, Write(i, m, t0), "profile"); k.Could != "yes" || k.Advice != "" {
		t.Errorf("somebody looked: %+v", k)
	}
	i.Report, i.Cause = &r, "degrees"
	for _, want := range []string{
		"# I-3: heat-demand@3 predicted something else", "## Could it have been known?", "degrees",
	} {
		if !strings.Contains(i.Markdown(), want) {
			t.Errorf("no %q in\n%s", want, i.Markdown())
		}
	}
}

// What is asked of the evidence depends on what went wrong, and nothing that is missing stops a report.
func TestWhatCouldHaveBeenKnown(t *testing.T) {
	slow := Write(opened(guard.LatencyP99), Material{}, t0)
	if k := find(t, slow, "load"); k.Could != "missing" {
		t.Errorf("%+v", k)
	}
	if k := find(t, slow, "plan"); k.Could != "missing" ||
		!strings.Contains(k.Advice, "innerladder roll demand-hourly") {
		t.Errorf("%+v", k)
	}
	m := material()
	m.Evidence = []evidence.Evidence{{ID: "E-4", Kind: evidence.TestsKind, Verdict: "failed"}}
	failing := Write(opened(guard.ErrorRate), m, t0)
	if k := find(t, failing, "tests"); k.Could != "yes" || !strings.Contains(k.Finding, "E-4") {
		t.Errorf("%+v", k)
	}
	if len(slow.Timeline) != 3 || slow.Curve == nil || slow.Moved == nil {
		t.Errorf("%+v", slow)
	}
	for signal, want := range map[string]string{
		guard.ErrorRate: "failed more", guard.TimeoutRate: "timed out", guard.LatencyP50: "slower",
		guard.MissingOutputs: "outputs", "placement_health": "no healthy", "": "taken back by inner-ladder",
	} {
		if got := opened(signal).Title(); !strings.Contains(got, want) {
			t.Errorf("%q: %s", signal, got)
		}
	}
}

// An evaluation showed it when most of what it measured was worse, not when one of many is a little.
func TestWhatAnEvaluationShowed(t *testing.T) {
	m := material()
	m.Evidence = []evidence.Evidence{{ID: "E-4", Kind: evidence.EvaluationKind}}
	m.Incumbent.Metrics = map[string]float64{"bias": -0.0145, "rmse": 0.104, "mae": 0.078}
	m.Candidate.Metrics = map[string]float64{"bias": -0.0176, "rmse": 0.103, "mae": 0.076}
	k := find(t, Write(opened(guard.PredictionDrift), m, t0), "evaluation")
	if k.Could != "no" || !strings.Contains(k.Finding, "rmse") || !strings.Contains(k.Advice, "heat-demand@2") {
		t.Errorf("%+v", k)
	}
	m.Candidate.Metrics["rmse"] = 0.203
	k = find(t, Write(opened(guard.PredictionDrift), m, t0), "evaluation")
	if k.Could != "yes" || k.Finding != "bias -0.0176 against -0.0145, rmse 0.203 against 0.104." {
		t.Errorf("%+v", k)
	}
}
