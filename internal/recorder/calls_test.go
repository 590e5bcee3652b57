package recorder

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

// What each caller asked is neither lost nor counted twice, on however many shards and lanes, while it cannot be
// written, and over a restart; there are never more names than are told apart.
func TestCallsAreCountedByName(t *testing.T) {
	path := filepath.Join(t.TempDir(), "signals.db")
	r, store := start(t, path, 10)
	call := func(at time.Time, lane, name string, class sketch.Class, n int) {
		l := r.Lane(Key{Endpoint: "demand-hourly", Split: 1, Lane: lane, Version: "heat-demand@1"})
		for i := range n {
			l.Observe(uint32(i), Observation{Class: class, Name: name, Count: true})
		}
		l.Observe(0, Observation{Class: class}) // a copy: nobody has asked for it
		r.Tick(at.Add(time.Second))
	}
	call(minute, "main", "desk", sketch.Answered, 30)
	call(minute, "trial", "desk", sketch.TimedOut, 4)
	call(minute.Add(time.Second), "main", "", sketch.CallerError, 5)
	call(minute.Add(time.Second), "main", "desk\u202e\n", sketch.Answered, 1)
	call(minute.Add(time.Second), Pinned, request.Others, sketch.Answered, 2)
	flush(t, r)
	_ = store.Close()
	call(minute.Add(2*time.Second), "main", "planner", sketch.Answered, 7)
	for range 3 {
		if err := r.Flush(t.Context()); err == nil {
			t.Fatal("it was written into a closed store")
		}
	}
	attach(t, r, path)
	flush(t, r)
	flush(t, r)
	r, store = start(t, path, 10)
	call(minute.Add(3*time.Second), "main", "desk", sketch.Answered, 3)
	call(minute.Add(90*time.Minute), "main", "desk", sketch.Answered, 1)
	flush(t, r)
	read := func(level signals.Level) []signals.Called {
		t.Helper()
		all, err := store.Calls(t.Context(), "demand-hourly", level, minute.Add(-48*time.Hour),
			minute.Add(48*time.Hour))
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	minutes := read(signals.Minute)
	want := map[string]request.Calls{
		"desk": {Requests: 38, Failed: 4}, request.Unnamed: {Requests: 7, Wrong: 5}, "planner": {Requests: 7},
	}
	if len(minutes) != 2 || fmt.Sprint(minutes[0].Calls) != fmt.Sprint(want) {
		t.Errorf("%+v, want %+v", minutes, want)
	}
	if days := read(signals.Day); len(days) != 1 || days[0].Calls["desk"].Requests != 39 {
		t.Errorf("%+v", days)
	}
	for i := range 1000 {
		call(minute.Add(3*time.Hour), "main", fmt.Sprint("program ", i), sketch.Answered, 1)
	}
	flush(t, r)
	minutes = read(signals.Minute)
	crowd := minutes[len(minutes)-1].Calls
	var all uint64
	for _, n := range crowd {
		all += n.Requests
	}
	if len(crowd) != request.MostCallers+1 || all != 1000 || crowd[request.Others].Requests != 800 {
		t.Errorf("%d names, %d requests, %d of others", len(crowd), all, crowd[request.Others].Requests)
	}
}
