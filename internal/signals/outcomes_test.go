package signals

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"innerladder/internal/core/outcome"

	"github.com/google/uuid"
)

// pair is a number that was predicted for a request, with its truth.
func pair(n, row int, at time.Time, predicted, truth float64) outcome.Pair {
	id := uuid.UUID{15: byte(n), 14: byte(n >> 8)}
	return outcome.Pair{
		Request: id.String(), Row: row, Output: "demand", Version: "heat-demand@2", Lane: "main", At: at,
		Arrived: at.Add(time.Hour), Number: true, Predicted: predicted, Truth: truth,
	}
}

func (s *Store) puts(t *testing.T, replace bool, pairs ...outcome.Pair) []outcome.Fate {
	t.Helper()
	fates, err := s.PutOutcomes(t.Context(), "demand-hourly", pairs, replace)
	if err != nil {
		t.Fatal(err)
	}
	return fates
}

// A truth is known by its request, row and output, however often it is told; another stays out unless it is to replace.
func TestOutcomesAreToldOnce(t *testing.T) {
	s := open(t)
	one, two := pair(1, 0, midnight, 1, 1.5), pair(1, 1, midnight, 2, 2)
	if f := s.puts(t, false, one, two, one); fmt.Sprint(f) != "[joined joined again]" {
		t.Errorf("%v", f)
	}
	other := pair(1, 0, midnight, 1, 3)
	if f := s.puts(t, false, other); f[0] != outcome.Other {
		t.Errorf("%v", f)
	}
	if f := s.puts(t, true, other); f[0] != outcome.Replaced {
		t.Errorf("%v", f)
	}
	class := outcome.Pair{
		Request: one.Request, Output: "state", Version: "v@1", Lane: "trial", At: midnight.Add(time.Minute),
		Arrived: midnight, PredictedClass: "ok", TruthClass: "leaking",
	}
	s.puts(t, false, class)
	all, err := s.Outcomes(t.Context(), OutcomeQuery{
		Endpoint: "demand-hourly", From: midnight, To: midnight.Add(time.Hour), Worst: true, Limit: 10,
	})
	if err != nil || len(all) != 3 || all[0].Truth != 3 || all[1] != class || all[2] != two {
		t.Errorf("%+v, %v", all, err)
	}
	some, err := s.Outcomes(t.Context(), OutcomeQuery{
		Endpoint: "demand-hourly", From: midnight, To: midnight.Add(time.Hour), Version: "v@1", Output: "state",
		Limit: 10,
	})
	if err != nil || len(some) != 1 || some[0] != class {
		t.Errorf("%+v, %v", some, err)
	}
	hours, err := s.OutcomeHours(t.Context(), "demand-hourly", midnight, midnight.Add(time.Hour))
	if err != nil || len(hours) != 2 || hours[0].Rows != 2 || hours[0].Requests != 1 || hours[0].Absolute != 2 ||
		hours[1].Confusion["leaking"]["ok"] != 1 {
		t.Errorf("%+v, %v", hours, err)
	}
	if _, err := s.PutOutcomes(t.Context(), "e", []outcome.Pair{{Request: "no id"}}, false); err == nil {
		t.Error("an id that is none was taken")
	}
}

// The sums of the hours are what one pass over all pairs says, in whatever parts and order they were told.
func TestHoursOfOutcomesAreAllOfThem(t *testing.T) {
	s := open(t)
	r := rand.New(rand.NewPCG(5, 6))
	var pairs []outcome.Pair
	whole := outcome.Sums{}
	for n := range 400 {
		p := pair(n, 0, midnight.Add(time.Duration(r.IntN(5*3600))*time.Second), r.NormFloat64(), r.NormFloat64())
		pairs = append(pairs, p)
		whole.Add(&p, true)
	}
	r.Shuffle(len(pairs), func(i, j int) { pairs[i], pairs[j] = pairs[j], pairs[i] })
	for len(pairs) > 0 {
		n := min(len(pairs), 1+r.IntN(60))
		s.puts(t, false, pairs[:n]...)
		pairs = pairs[n:]
	}
	hours, err := s.OutcomeHours(t.Context(), "demand-hourly", midnight, midnight.Add(24*time.Hour))
	if err != nil || len(hours) != 5 {
		t.Fatalf("%d hours, %v", len(hours), err)
	}
	sum := outcome.Sums{}
	for i := range hours {
		sum.Merge(&hours[i].Sums)
	}
	if sum.Rows != whole.Rows || sum.Requests != whole.Requests || math.Abs(sum.Squares-whole.Squares) > 1e-9 ||
		math.Abs(sum.Errors-whole.Errors) > 1e-9 {
		t.Errorf("%+v\nwant %+v", sum, whole)
	}
	// Single ones are forgotten with the hours, their sums with the days.
	ages := Ages{Minutes: time.Hour, Hours: 48 * time.Hour, Days: 96 * time.Hour, Readings: time.Hour}
	left := func(now time.Time) (pairs, hours int) {
		t.Helper()
		if err := s.Forget(t.Context(), now, ages); err != nil {
			t.Fatal(err)
		}
		p, err := s.Outcomes(t.Context(), OutcomeQuery{
			Endpoint: "demand-hourly", From: midnight, To: midnight.Add(24 * time.Hour), Limit: 1000,
		})
		if err != nil {
			t.Fatal(err)
		}
		h, err := s.OutcomeHours(t.Context(), "demand-hourly", midnight, midnight.Add(24*time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		return len(p), len(h)
	}
	if p, h := left(midnight.AddDate(0, 0, 1)); p != 400 || h != 5 {
		t.Errorf("after a day: %d, %d", p, h)
	}
	if p, h := left(midnight.AddDate(0, 0, 3)); p != 0 || h != 5 {
		t.Errorf("after three days: %d, %d", p, h)
	}
	if p, h := left(midnight.AddDate(0, 0, 6)); p != 0 || h != 0 {
		t.Errorf("after six days: %d, %d", p, h)
	}
}
