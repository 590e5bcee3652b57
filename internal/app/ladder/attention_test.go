package ladder

import (
	"fmt"
	"testing"
	"time"

	"innerladder/internal/core/record"
)

// What is looked at is what may have changed, all of it now and then, and nothing else.
func TestWhichPromotionsAreLookedAt(t *testing.T) {
	now := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	var a attention
	looks := func(what string, want wanted) {
		t.Helper()
		if got := a.take(now); fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %+v, want %+v", what, got, want)
		}
	}
	note := func(kind, subject string, also ...string) {
		a.noted(t.Context(), []record.Entry{{Kind: kind, Project: "forecasting", Subject: subject, Also: also}})
	}
	looks("at the start", wanted{all: true})
	looks("when nothing happened", wanted{})
	note("evidence.attached", "heat-demand@7", "E-1")
	note("promotion.signed", "return-temp@2", "P-1")
	note("data.added", "winters#2")
	note("person.signed_in", "runa")
	looks("after evidence and an answer", wanted{models: []string{"heat-demand", "return-temp"}})
	looks("once more", wanted{})
	note("ladder.changed", "forecasting")
	note("placement.fell", "heat-demand@7")
	looks("after a change of the ladder", wanted{projects: []string{"forecasting"}})
	note("member.added", "tove")
	looks("after somebody got a role", wanted{all: true})

	a.at("P-1", now.Add(time.Minute))
	a.at("P-2", now.Add(2*time.Minute))
	a.at("P-2", time.Time{})
	looks("before its time", wanted{})
	now = now.Add(2 * time.Minute)
	looks("at its time", wanted{ids: []string{"P-1"}})
	looks("after its time", wanted{})

	a.again(wanted{projects: []string{"forecasting"}, models: []string{"heat-demand"}, ids: []string{"P-3"}})
	looks("what could not be looked at", wanted{
		projects: []string{"forecasting"}, models: []string{"heat-demand"}, ids: []string{"P-3"},
	})
	now = now.Add(lookAnyway)
	looks("when all of it is due", wanted{all: true})
	now = now.Add(-48 * time.Hour)
	looks("when the clock was set back", wanted{all: true})
	looks("and then", wanted{})
}
