package recorder

import (
	"path/filepath"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/signals"
)

// What was turned away is neither lost nor counted twice, over minutes, while it cannot be written, and over a restart
// within a minute; hours and days have what their minutes have.
func TestRefusalsAreCountedOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "signals.db")
	r, store := start(t, path, 10)
	refuse := func(at time.Time, endpoint string, why request.Reason, n int) {
		for range n {
			r.Refusals(endpoint).Count(why)
		}
		r.Tick(at.Add(time.Second))
	}
	refuse(minute, "demand-hourly", request.NoKey, 3)
	refuse(minute.Add(time.Second), "demand-hourly", request.NoKey, 2)
	refuse(minute.Add(time.Second), "", request.UnknownEndpoint, 7)
	flush(t, r)
	refuse(minute.Add(2*time.Second), "demand-hourly", request.NoKey, 4)
	refuse(minute.Add(59*time.Minute), "demand-hourly", request.NoHealthyLane, 1)
	_ = store.Close()
	for range 3 {
		if err := r.Flush(t.Context()); err == nil {
			t.Fatal("it was written into a closed store")
		}
	}
	refuse(minute.Add(60*time.Minute), "demand-hourly", request.NoKey, 1)
	attach(t, r, path)
	flush(t, r)
	flush(t, r)
	if n := r.RefusedLately("demand-hourly", minute, minute.Add(2*time.Hour)); n[request.NoHealthyLane] != 1 ||
		n[request.NoKey] != 1 {
		t.Errorf("of the last quarter of an hour there are %v", n)
	}
	if all := r.RefusedTotals(); all["demand-hourly"].Total() != 11 || all[""][request.UnknownEndpoint] != 7 {
		t.Errorf("%v", all)
	}

	r, store = start(t, path, 10) // the service begins again in the same minute
	refuse(minute.Add(5*time.Second), "demand-hourly", request.NoKey, 5)
	flush(t, r)
	read := func(endpoint string, level signals.Level) []signals.Refused {
		t.Helper()
		all, err := store.Refused(t.Context(), endpoint, level, minute.Add(-48*time.Hour), minute.Add(48*time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	minutes := read("demand-hourly", signals.Minute)
	if len(minutes) != 3 || minutes[0].Refusals[request.NoKey] != 14 ||
		minutes[1].Refusals[request.NoHealthyLane] != 1 ||
		minutes[2].Refusals[request.NoKey] != 1 ||
		!minutes[0].At.Equal(minute) {
		t.Errorf("minutes: %+v", minutes)
	}
	hours := read("demand-hourly", signals.Hour)
	if len(hours) != 2 || hours[0].Refusals.Total() != 15 || hours[1].Refusals.Total() != 1 {
		t.Errorf("hours: %+v", hours)
	}
	if days := read("demand-hourly", signals.Day); len(days) != 1 || days[0].Refusals.Total() != 16 {
		t.Errorf("days: %+v", days)
	}
	if none := read("", signals.Day); len(none) != 1 || none[0].Refusals[request.UnknownEndpoint] != 7 {
		t.Errorf("without an endpoint: %+v", none)
	}
	// Old minutes go, the rest stays.
	if err := store.Forget(t.Context(), minute.Add(100*24*time.Hour), signals.Ages{
		Minutes: 24 * time.Hour, Hours: 24 * time.Hour, Days: 365 * 24 * time.Hour, Readings: time.Hour,
	}); err != nil {
		t.Fatal(err)
	}
	if left := read("demand-hourly", signals.Day); len(left) != 1 || left[0].Refusals.Total() != 16 {
		t.Errorf("days after forgetting: %+v", left)
	}
}
