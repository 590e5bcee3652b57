package demo

import (
	"bytes"
	"math"
	"slices"
	"testing"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder/rule"
)

// returnFitted is a version of return-temp as the demo makes it.
func returnFitted(t *testing.T) *release {
	t.Helper()
	p := &play{town: newTown(7, threeYears)}
	r, err := p.returnRelease("two winters", returnTerms())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// What the demo attaches as evidence is what the service reads, and it passes because the
// model is good, not because the report says so.
func TestTheEvidenceIsRead(t *testing.T) {
	r := returnFitted(t)
	e, err := r.evaluationOf("winter-2026#1")
	if err != nil {
		t.Fatal(err)
	}
	if e.Rows != int64(len(r.sample)) || e.Metrics["rmse"] <= 0 || len(e.Segments) != len(mixes) || len(e.Curves) != 1 {
		t.Errorf("%+v", e)
	}
	sum := 0
	for _, n := range e.Residuals.Counts {
		sum += n
	}
	if sum != len(r.sample) || !slices.IsSorted(e.Residuals.Edges) ||
		len(e.Residuals.Edges) != len(e.Residuals.Counts)+1 {
		t.Errorf("%d residuals of %d rows: %+v", sum, len(r.sample), e.Residuals)
	}
	rows := int64(0)
	for _, s := range e.Segments {
		rows += s.Rows
	}
	if rows != e.Rows {
		t.Errorf("the mixes have %d rows of %d", rows, e.Rows)
	}
	report, err := evidence.JUnit("return-temp", nil, r.runChecks())
	if err != nil {
		t.Fatal(err)
	}
	f, verdict, err := evidence.Read(evidence.TestsKind, "", bytes.NewReader(report))
	if err != nil || verdict != evidence.VerdictPassed || f.Tests.Total != 5 || f.Tests.Ran() != 5 {
		t.Errorf("%+v, %s, %v", f, verdict, err)
	}
}

// A model with a mistake in it does not pass the demo's tests.
func TestTheChecksFindMistakes(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(r *release)
		fails string
	}{
		"no numbers": {
			func(r *release) { r.fitted.Weights[0][0] = math.NaN() },
			"answers every row with a number",
		},
		"far from everything": {func(r *release) { r.fitted.Weights[0][0] += 1e4 }, "stays near what was ever seen"},
		"blind to the demand": {func(r *release) {
			for i, term := range r.fitted.Terms {
				if slices.Contains(term.Of, "demand_1h_mw") {
					r.fitted.Weights[0][i+1] = 0
				}
			}
		}, "moves with the last hour's demand"},
	} {
		r := returnFitted(t)
		c.spoil(r)
		found := false
		for _, one := range r.runChecks().Results {
			found = found || one.Name == c.fails && one.Why != ""
		}
		if !found {
			t.Errorf("%s: %q passed", name, c.fails)
		}
	}
}

func TestTheTeamsLadderCanBeClimbed(t *testing.T) {
	for _, now := range []time.Time{
		time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC),
		time.Date(2026, 12, 31, 23, 0, 0, 0, time.UTC), time.Date(2028, 2, 29, 1, 0, 0, 0, time.UTC),
	} {
		l := ladderOf(now)
		if err := l.Check(); err != nil {
			t.Errorf("at %s: %v", now, err)
		}
		if f := l.Frozen(now); f != (rule.Frozen{}) {
			t.Errorf("at %s the story stands still: %+v", now, f)
		}
		if f := l.Frozen(now.AddDate(0, 0, 35)); f.Name != "holidays" {
			t.Errorf("the holidays after %s are not in force: %+v", now, f)
		}
	}
}
