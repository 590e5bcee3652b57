package signals

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/sketch"

	"github.com/google/uuid"
)

// cost is what a request cost.
func cost(n int, id string, at time.Time, x float64) custom.Value {
	return custom.Value{
		Signal: "cost", Request: uuid.UUID{15: byte(n), 14: byte(n >> 8), 13: 1}.String(), ID: id,
		Version: "heat-demand@2", Lane: "main", Split: 3, At: at, Arrived: at.Add(time.Hour), X: x,
	}
}

func (s *Store) reports(t *testing.T, replace bool, values ...custom.Value) string {
	t.Helper()
	fates, err := s.PutCustom(t.Context(), "demand-hourly", values, replace)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(fates)
}

// hour sums up the values of an hour that are kept of it.
func (s *Store) hour(t *testing.T, at time.Time) (out sketch.Numbers) {
	t.Helper()
	hours, err := s.CustomHours(t.Context(), "demand-hourly", "cost", at, at.Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	for i := range hours {
		out.Merge(&hours[i].Numbers)
	}
	return out
}

// A value is known by its request and its id, or by its id alone, however often it is reported.
func TestCustomValuesCountOnce(t *testing.T) {
	s := open(t)
	one, two := cost(1, "", midnight, 3), cost(1, "second order", midnight, 5)
	night := custom.Value{
		Signal: "cost", ID: "night 4", Version: "heat-demand@2", At: midnight.Add(3 * time.Hour),
		Arrived: midnight.Add(9 * time.Hour), X: -7.5,
	}
	if f := s.reports(t, false, one, two, one, night); f != "[joined joined again joined]" {
		t.Error(f)
	}
	if n := s.hour(t, midnight); n.N != 2 || n.Sum != 8 {
		t.Errorf("%d values, %v together", n.N, n.Sum)
	}
	other := cost(1, "", midnight, 30)
	if f := s.reports(t, false, other); f != "[other]" {
		t.Error(f)
	}
	if f := s.reports(t, true, other, two); f != "[replaced again]" {
		t.Error(f)
	}
	if n := s.hour(t, midnight); n.N != 2 || n.Sum != 35 {
		t.Errorf("when one was replaced: %d values, %v together", n.N, n.Sum)
	}
	moved := night // it was said of a wrong hour
	moved.At = midnight.Add(5 * time.Hour)
	if f := s.reports(t, true, moved); f != "[replaced]" {
		t.Error(f)
	}
	if a, b := s.hour(t, night.At), s.hour(t, moved.At); a.N != 0 || b.N != 1 || b.Sum != -7.5 {
		t.Errorf("%d are left where it was, %d where it is", a.N, b.N)
	}
	of := LaterQuery{
		Endpoint: "demand-hourly", Versions: []string{"heat-demand@1", "heat-demand@2"}, From: midnight, Limit: 10,
	}
	all, err := s.CustomsLater(t.Context(), "cost", of)
	if err != nil || len(all) != 3 || all[0].X != 30 || all[1].ID != "second order" || all[2].Request != "" {
		t.Errorf("%+v, %v", all, err)
	}
	of.After = all[1].Seq
	later, err := s.CustomsLater(t.Context(), "cost", of)
	if err != nil || len(later) != 1 || later[0] != all[2] {
		t.Errorf("%+v, %v", later, err)
	}
}

// What was kept by the hour is what one pass over all values gives, however they came and changed.
func TestCustomHoursAreWhatTheValuesAre(t *testing.T) {
	s := open(t)
	r := rand.New(rand.NewPCG(8, 1))
	now := map[int]float64{}
	for range 40 {
		var some []custom.Value
		for range r.IntN(30) {
			n := r.IntN(300)
			some = append(some, cost(n, "", midnight.Add(time.Duration(n)*time.Minute),
				math.Round(r.NormFloat64()*100)))
		}
		replace := r.IntN(3) == 0
		fates, err := s.PutCustom(t.Context(), "demand-hourly", some, replace)
		if err != nil {
			t.Fatal(err)
		}
		for i, v := range some {
			n := int(v.At.Sub(midnight) / time.Minute)
			if fates[i] == outcome.Joined || fates[i] == outcome.Replaced {
				now[n] = v.X
			}
			if fates[i] == outcome.Other && replace {
				t.Fatal("another value stayed although it was to be replaced")
			}
		}
	}
	for h := range 5 {
		var want sketch.Numbers
		for n := range 60 {
			if x, there := now[h*60+n]; there {
				want.Add(x)
			}
		}
		got := s.hour(t, midnight.Add(time.Duration(h)*time.Hour))
		if got.N != want.N || math.Abs(got.Sum-want.Sum) > 1e-6 || math.Abs(got.Around-want.Around) > 1e-4 ||
			got.Min != want.Min || got.Max != want.Max {
			t.Errorf("hour %d: %+v, want %+v", h, got, want)
		}
	}
}

// Numbers only grow, though all that had one is forgotten: a guard that took in all up to one misses nothing after it.
func TestNumbersOfValuesGrow(t *testing.T) {
	s := open(t)
	last := func(at time.Time) int64 {
		s.reports(t, false, cost(int(at.Unix()%1000), "", at, 1))
		all, err := s.Customs(t.Context(), CustomQuery{
			Endpoint: "demand-hourly", From: at, To: at.Add(time.Second), Limit: 1,
		})
		if err != nil || len(all) != 1 {
			t.Fatal(err, all)
		}
		return all[0].Seq
	}
	before := last(midnight)
	ages := Ages{Minutes: time.Hour, Hours: 24 * time.Hour, Days: 48 * time.Hour, Readings: time.Hour}
	later := midnight.Add(100 * time.Hour)
	if err := s.Forget(t.Context(), later, ages); err != nil {
		t.Fatal(err)
	}
	s.reports(t, false, cost(700, "", later, 4))
	if err := s.ForgetCustom(t.Context(), "demand-hourly", "cost"); err != nil {
		t.Fatal(err)
	}
	left, err := s.Customs(t.Context(), CustomQuery{
		Endpoint: "demand-hourly", To: later, Limit: 10,
	})
	if err != nil || len(left) != 0 || s.hour(t, midnight) != (sketch.Numbers{}) {
		t.Errorf("%+v is left, %v", left, err)
	}
	if after := last(later.Add(time.Second)); after <= before {
		t.Errorf("%d came after %d", after, before)
	}
}

// Guards take in one row of a request, and each truth once, in the order in which the truth came.
func TestOutcomesInOrder(t *testing.T) {
	s := open(t)
	s.puts(t, false, pair(1, 0, midnight, 1, 2), pair(1, 1, midnight, 1, 3))
	s.puts(t, false, pair(2, 0, midnight.Add(-time.Hour), 1, 4), pair(3, 0, midnight.Add(time.Minute), 1, 5))
	read := func(after int64) (out []NumberedOutcome) {
		t.Helper()
		out, err := s.OutcomesLater(t.Context(), LaterQuery{
			Endpoint: "demand-hourly", Numbers: true, Versions: []string{"heat-demand@2"}, From: midnight, After: after,
			Limit: 10,
		})
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	all := read(0)
	if len(all) != 2 || all[0].Truth != 2 || all[1].Truth != 5 || all[1].Seq <= all[0].Seq {
		t.Fatalf("%+v", all)
	}
	pinned, other := pair(7, 0, midnight, 1, 9), pair(8, 0, midnight, 1, 9)
	pinned.Lane, other.Version = Pinned, "heat-demand@1"
	s.puts(t, false, pinned, other)
	s.puts(t, true, pair(3, 0, midnight.Add(time.Minute), 1, 50))
	if again := read(all[1].Seq); len(again) != 0 {
		t.Errorf("a truth that took the place of another came again: %+v", again)
	}
	s.puts(t, false, pair(4, 0, midnight.Add(time.Minute), 1, 6), pair(1, 2, midnight, 1, 7))
	if next := read(all[1].Seq); len(next) != 1 || next[0].Truth != 6 {
		t.Errorf("%+v", next)
	}
}
