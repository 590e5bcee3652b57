package ladder_test

import (
	"fmt"
	"time"

	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
)

// A promotion is judged by facts that it is handed, as often as somebody looks; nothing is
// looked up, and no clock is read.
func ExampleLadder_Judge() {
	l := ladder.Ladder{CarryOut: ladder.AtOnce, Rungs: []ladder.Rung{
		{Name: "draft"},
		{Name: "live", Gate: []rule.Requirement{
			{Rule: rule.MetricRecorded{}},
			{Rule: rule.SignOffs{Count: 1}},
		}},
	}}
	now := time.Date(2026, 1, 15, 9, 0, 0, 0, time.UTC)
	p := &ladder.Promotion{
		ID: "P-1", Version: "heat-demand@2", From: "draft", To: "live", AskedBy: "runa", State: ladder.Open,
		OpenedAt: now,
	}
	facts := rule.Facts{Now: now, Version: &registry.Version{
		Ref: "heat-demand@2", Digest: "d2", Metrics: map[string]float64{"rmse": 0.38},
	}, MetricCount: 1}
	show := func() {
		l.Judge(p, facts)
		for _, f := range p.Findings {
			fmt.Println(f.State, "-", f.Sentence)
		}
		fmt.Println(p.Version, "would be", l.Settle(p, false).Words())
	}
	show()
	// The one who asked cannot sign; somebody else can.
	fmt.Println(p.Sign(rule.SignOff{By: "runa", Answer: rule.Yes, At: now}, l.Rung("live")) != nil)
	_ = p.Sign(rule.SignOff{By: "tove", Answer: rule.Yes, At: now, CandidateDigest: "d2"}, l.Rung("live"))
	show()
	// Output:
	// passed - 1 metric known, 0 of them measured by a report.
	// waiting - Waits for 1 sign-off by someone other than runa.
	// heat-demand@2 would be open
	// true
	// passed - 1 metric known, 0 of them measured by a report.
	// passed - Signed by tove.
	// heat-demand@2 would be carried out
}

// Of several freezes the one that holds longest counts.
func ExampleLadder_Frozen() {
	l := ladder.Ladder{Freezes: []rule.Freeze{
		{Name: "winter holidays", Zone: "UTC", From: "2026-12-20 16:00", To: "2027-01-06 08:00"},
		{Name: "nights", Zone: "UTC", From: "22:00", To: "06:00", Days: []string{"thu"}},
	}}
	for _, at := range []string{"2026-12-17T12:00:00Z", "2026-12-17T23:00:00Z", "2026-12-24T23:00:00Z"} {
		now, _ := time.Parse(time.RFC3339, at)
		if f := l.Frozen(now); f.Name != "" {
			fmt.Println(f.Name, "until", f.Until.Format("2006-01-02 15:04"))
		} else {
			fmt.Println("nothing is frozen")
		}
	}
	// Output:
	// nothing is frozen
	// nights until 2026-12-18 06:00
	// winter holidays until 2027-01-06 08:00
}
