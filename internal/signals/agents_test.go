package signals

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/sketch"
)

// reported is a batch of an agent with one window.
func reported(number int64, at time.Time, sum *sketch.Summary, now time.Time) Reported {
	return Reported{
		Endpoint: "demand-hourly",
		Agent: elsewhere.Agent{
			ID: "91b1b05d-e64e-4443-834f-3d753028cf1d", Name: "substation-7", Number: number, HeardAt: now, Until: at,
			Requests: sum.Counts.Requests,
		},
		Windows: []Window{{Key: key, At: at, Summary: sum}},
		Ages:    Ages{Minutes: 24 * time.Hour, Hours: 48 * time.Hour, Days: 1000 * time.Hour},
	}
}

// Batches are added to what is there, however late they come and whatever was rolled up or forgotten meanwhile, and
// each counts once.
func TestBatchesAreAdded(t *testing.T) {
	s := open(t)
	now := midnight.Add(4 * 24 * time.Hour).Add(30 * time.Minute)
	want := &sketch.Summary{}
	number := int64(0)
	report := func(at time.Time, seed uint64) {
		t.Helper()
		one := minuteOf(5, seed)
		want.Merge(one)
		number++
		for again := range 2 {
			taken, err := s.Report(t.Context(), reported(number, at, one.Clone(), now))
			if err != nil || taken != (again == 0) {
				t.Fatalf("batch %d: taken %v, %v", number, taken, err)
			}
		}
	}
	for m := 0; m < 4*24*60; m += 7 {
		report(midnight.Add(time.Duration(m)*time.Minute), uint64(m))
	}
	roll(t, s, now)
	whole := Query{From: midnight.Add(-24 * time.Hour), To: now.Add(time.Hour)}
	for _, at := range []time.Time{ // of hours that are rolled up, of some that are forgotten, and of before everything
		now.Add(-2 * time.Hour), now.Add(-2 * time.Hour).Add(7 * time.Minute), midnight.Add(5 * time.Hour),
		midnight.Add(-2 * time.Hour),
	} {
		if at.Before(now.Add(-24 * time.Hour)) {
			ages := Ages{Minutes: 24 * time.Hour, Hours: 48 * time.Hour, Days: 1000 * time.Hour, Readings: time.Hour}
			if err := s.Forget(t.Context(), now, ages); err != nil {
				t.Fatal(err)
			}
		}
		report(at.Truncate(time.Minute), uint64(at.Unix()))
		whole.Longest = Day
		if got, _ := sum(t, s, whole); !equal(got, want) {
			t.Errorf("after one of %s: %+v instead of %+v", at, got.Counts, want.Counts)
		}
	}
	late := Query{From: now.Add(-3 * time.Hour).Truncate(time.Hour), To: now}
	minutes, _ := sum(t, s, late)
	late.Longest = Hour
	if hours, _ := sum(t, s, late); !equal(hours, minutes) {
		t.Errorf("by the hour %+v, by the minute %+v", hours.Counts, minutes.Counts)
	}
	more := reported(1, now.Truncate(time.Minute), minuteOf(0, 1), now)
	more.Windows = nil
	for i := range MostAgents {
		more.ID = fmt.Sprintf("00000000-0000-4000-8000-%012d", i)
		_, err := s.Report(t.Context(), more)
		if last := i == MostAgents-1; errors.Is(err, ErrManyAgents) != last || err != nil && !last {
			t.Fatalf("agent %d beside the first: %v", i, err)
		}
	}
	agents, err := s.Agents(t.Context(), "demand-hourly")
	if err != nil || len(agents) != MostAgents {
		t.Fatalf("%d agents, %v", len(agents), err)
	}
	if a := agents[len(agents)-1]; a.Number != number || a.Requests != want.Counts.Requests || !a.HeardAt.Equal(now) {
		t.Errorf("%+v", a)
	}
}
