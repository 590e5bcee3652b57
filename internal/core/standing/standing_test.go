package standing

import (
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
)

func TestWhatCanBeMeant(t *testing.T) {
	for code, e := range map[string]Standing{
		"":              {Data: "winters#1"},
		"standing.rows": {From: "winters.csv"},
	} {
		if err := e.Check(); fault.Code(err) != code {
			t.Errorf("%+v: %v, want %s", e, err, code)
		}
	}
	for _, e := range []Standing{{}, {Data: "d#1", From: "https://a.example/d"}} {
		if err := e.Check(); fault.Code(err) != "standing.rows" {
			t.Errorf("%+v: %v", e, err)
		}
	}
}

func TestHowFarAVersionIs(t *testing.T) {
	for want, j := range map[Candidate]job.Job{
		{Version: "m@1", State: Going, Job: "J-1"}:                      {ID: "J-1", State: job.Waiting},
		{Version: "m@1", State: Judged, Job: "J-2", Evidence: "E-1"}:    {ID: "J-2", State: job.Done},
		{Version: "m@1", State: Broken, Job: "J-3", Why: "failed: why"}: {ID: "J-3", State: job.Failed, Reason: "why"},
	} {
		j.Scoring, j.Evaluating = &job.Scoring{Version: "m@1"}, &job.Evaluating{Evidence: "E-1"}
		if got := Of(&j); got != want {
			t.Errorf("%+v, want %+v", got, want)
		}
	}
}
