package signals

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/test/template"
)

var (
	bins = sketch.Bins{Edges: []float64{0, 1, 2, 3}}
	key  = Key{Endpoint: "demand-hourly", Split: 2, Lane: "main", Version: "heat-demand@1"}
	// midnight is when the days of these tests begin.
	midnight = time.Date(2026, 1, 12, 0, 0, 0, 0, time.UTC)
)

// stores are the ways in which a store comes about. What holds of a new one holds of all.
var stores = map[string]func(*testing.T) *Store{
	"new": open,
	"opened again": func(t *testing.T) *Store {
		path := filepath.Join(t.TempDir(), "signals.db")
		s := openAt(t, path)
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		return openAt(t, path)
	},
	"from a snapshot": func(t *testing.T) *Store {
		path := filepath.Join(t.TempDir(), "snapshot.db")
		if err := open(t).Snapshot(t.Context(), path); err != nil {
			t.Fatal(err)
		}
		return openAt(t, path)
	},
}

// TestStores holds every store to what the rooms above rely on, however it came about.
func TestStores(t *testing.T) {
	for name, open := range stores {
		t.Run(name, func(t *testing.T) {
			for name, test := range map[string]func(*testing.T, *Store){
				"a window comes back as it was":  windowComesBackAsItWas,
				"rolling up changes nothing":     rollingUpChangesNothing,
				"minutes that are not rolled up": minutesThatAreNotRolledUpAreNotForgotten,
				"evidence":                       evidenceIsOfItsTrial,
			} {
				t.Run(name, func(t *testing.T) { test(t, open(t)) })
			}
		})
	}
}

func open(t *testing.T) *Store {
	path := filepath.Join(t.TempDir(), "signals.db")
	template.Copy(t, "signals.db", path, template.Of(Open))
	return openAt(t, path)
}

func openAt(t *testing.T, path string) *Store {
	t.Helper()
	s, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	if err := s.Write(t.Context(),
		Batch{Bins: []FixedBins{{Column{"demand-hourly", Output, "demand_mw"}, "a test", bins}}}); err != nil {
		t.Fatal(err)
	}
	return s
}

// minuteOf makes what a lane did in a minute: n requests, all different from others of
// another seed.
func minuteOf(n int, seed uint64) *sketch.Summary {
	dice := rand.New(rand.NewPCG(seed, 1))
	s := &sketch.Summary{}
	c := sketch.NewColumn(bins)
	for range n {
		s.Add(sketch.Answered, time.Duration(1+dice.IntN(50))*time.Millisecond, time.Millisecond)
		c.AddNumber(4*dice.Float64() - 0.5)
		s.Content.Distinct.AddHash(dice.Uint64())
		s.Callers.AddHash(dice.Uint64())
		s.Content.Forms.Add([]sketch.Form{{Name: "demand_mw", Datatype: "FP64"}})
		one := func(x float64) []sketch.Output { return []sketch.Output{{Name: "demand_mw", Rows: 1, Data: []any{x}}} }
		s.Content.Paired.Agree(one(dice.Float64()), one(dice.Float64()), 0.5)
	}
	s.Content.Bodies, s.Content.Rows = uint64(n), uint64(n)
	s.Content.Outputs = map[string]*sketch.Column{"demand_mw": c}
	s.Content.Ask(uint64(n), 0.5)
	return s
}

func write(t *testing.T, s *Store, k Key, at time.Time, sum *sketch.Summary) {
	t.Helper()
	if err := s.Write(t.Context(), Batch{Windows: []Window{{Key: k, At: at, Summary: sum}}}); err != nil {
		t.Fatal(err)
	}
}

func roll(t *testing.T, s *Store, now time.Time) {
	t.Helper()
	for more := true; more; {
		var err error
		if more, err = s.Roll(t.Context(), now); err != nil {
			t.Fatal(err)
		}
	}
}

// sum merges everything that a query finds, and counts the windows.
func sum(t *testing.T, s *Store, q Query) (*sketch.Summary, int) {
	t.Helper()
	q.Endpoint, q.Latency, q.Backend, q.Content = "demand-hourly", true, true, true
	windows, err := s.Windows(t.Context(), q)
	if err != nil {
		t.Fatal(err)
	}
	out := &sketch.Summary{}
	for _, w := range windows {
		out.Merge(w.Summary)
	}
	return out, len(windows)
}

func equal(a, b *sketch.Summary) bool {
	return a.Counts == b.Counts && a.Latency.At(0.9) == b.Latency.At(0.9) && a.Latency.Count() == b.Latency.Count() &&
		a.Latency.Sum() == b.Latency.Sum() && a.Backend.Sum() == b.Backend.Sum() &&
		a.Content.Rows == b.Content.Rows && a.Content.Distinct.Count() == b.Content.Distinct.Count() &&
		a.Callers.Count() == b.Callers.Count() &&
		fmt.Sprint(a.Content.Forms) == fmt.Sprint(b.Content.Forms) &&
		a.Content.Paired.Pairs == b.Content.Paired.Pairs && a.Content.Paired.Disagreed == b.Content.Paired.Disagreed &&
		a.Content.Paired.Outputs["demand_mw"].Size(0.9) == b.Content.Paired.Outputs["demand_mw"].Size(0.9) &&
		reflect.DeepEqual(a.Content.Outputs["demand_mw"].Counts, b.Content.Outputs["demand_mw"].Counts)
}

func windowComesBackAsItWas(t *testing.T, s *Store) {
	want := minuteOf(300, 1)
	write(t, s, key, midnight, minuteOf(100, 1))
	write(t, s, key, midnight, want) // the running minute is written again
	got, n := sum(t, s, Query{From: midnight, To: midnight.Add(time.Minute)})
	if n != 1 || !equal(got, want) ||
		got.Content.Outputs["demand_mw"].Mean() != want.Content.Outputs["demand_mw"].Mean() ||
		got.Probability() != 0.5 {
		t.Errorf("%d windows: %+v", n, got)
	}
	if w, err := s.Window(t.Context(), key, midnight); err != nil || w.Summary.Counts.Requests != 300 {
		t.Errorf("%+v, %v", w, err)
	}
	if _, err := s.Window(t.Context(), key, midnight.Add(time.Minute)); !errors.Is(err, ErrNone) {
		t.Error(err)
	}
	// What was not asked for is not read.
	windows, err := s.Windows(t.Context(),
		Query{Endpoint: "demand-hourly", From: midnight, To: midnight.Add(time.Hour)})
	if err != nil || windows[0].Summary.Latency.Count() != 0 || windows[0].Summary.Content.Outputs != nil ||
		windows[0].Summary.Counts.Requests != 300 {
		t.Errorf("%+v, %v", windows, err)
	}
	if other, _ := sum(t, s, Query{
		From: midnight, To: midnight.Add(time.Hour),
		Versions: []string{"heat-demand@7"},
	}); other.Counts.Requests != 0 {
		t.Error("another version was read")
	}
}

// However a span is covered, by minutes, hours or days, the same comes out; and late minutes
// reach the hours and days that were made already.
func rollingUpChangesNothing(t *testing.T, s *Store) {
	trial := key
	trial.Lane, trial.Version = "trial", "heat-demand@2"
	for m := 0; m < 3*24*60; m += 7 {
		at := midnight.Add(time.Duration(m) * time.Minute)
		write(t, s, key, at, minuteOf(5, uint64(m)))
		write(t, s, trial, at, minuteOf(1, uint64(m)+1e6))
	}
	now := midnight.Add(72*time.Hour + 30*time.Minute)
	write(t, s, key, now.Truncate(time.Minute), minuteOf(9, 77)) // the running hour
	from, to := midnight.Add(5*time.Hour), now.Add(time.Minute)
	want, minutes := sum(t, s, Query{From: from, To: to})
	roll(t, s, now)
	roll(t, s, now) // nothing happens twice
	for longest, most := range map[Level]int{Minute: minutes, Hour: 2*67 + 1, Day: 2*(2+19) + 1} {
		got, n := sum(t, s, Query{From: from, To: to, Longest: longest})
		if !equal(got, want) || n > most {
			t.Errorf("by %v: %d windows, %+v instead of %+v", longest.Length(), n, got.Counts, want.Counts)
		}
	}
	late := midnight.Add(6*time.Hour + time.Minute)
	write(t, s, key, late, minuteOf(11, 5))
	want, _ = sum(t, s, Query{From: from, To: to})
	for _, longest := range []Level{Hour, Day} {
		if got, _ := sum(t, s, Query{From: from, To: to, Longest: longest}); !equal(got, want) {
			t.Errorf("by %v after a late minute: %+v instead of %+v", longest.Length(), got.Counts, want.Counts)
		}
	}
	if counts, err := s.Counted(t.Context(), trial, now); err != nil || counts.Requests != 618 {
		t.Errorf("%d requests since the lane has been there, %v", counts.Requests, err)
	}

	// Minutes go when they are old, and nothing of the sums.
	whole, _ := sum(t, s, Query{From: midnight, To: to, Longest: Day})
	if err := s.Forget(t.Context(), now,
		Ages{Minutes: 24 * time.Hour, Hours: 48 * time.Hour, Days: 1000 * time.Hour, Readings: time.Hour}); err != nil {
		t.Fatal(err)
	}
	if _, n := sum(t, s, Query{From: midnight, To: midnight.Add(24 * time.Hour)}); n != 0 {
		t.Errorf("%d old minutes are still there", n)
	}
	if after, _ := sum(t, s, Query{From: midnight, To: to, Longest: Day}); !equal(after, whole) {
		t.Errorf("%+v instead of %+v", after.Counts, whole.Counts)
	}
}

func minutesThatAreNotRolledUpAreNotForgotten(t *testing.T, s *Store) {
	write(t, s, key, midnight, minuteOf(5, 1))
	if err := s.Forget(t.Context(), midnight.Add(10_000*time.Hour),
		Ages{Minutes: time.Hour, Hours: time.Hour, Days: time.Hour, Readings: time.Hour}); err != nil {
		t.Fatal(err)
	}
	if _, n := sum(t, s, Query{From: midnight, To: midnight.Add(time.Hour)}); n != 1 {
		t.Error("it is gone")
	}
}

func evidenceIsOfItsTrial(t *testing.T, s *Store) {
	pair := guard.TrialPair{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 2}
	m := minuteOf(50, 3)
	for range 2 { // it is replaced, not added
		e := Evidence{
			Endpoint: "demand-hourly", Trial: pair, Version: "heat-demand@2", Counts: m.Counts,
			Content: m.Content,
		}
		if err := s.Write(t.Context(), Batch{Evidence: []Evidence{e}}); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.Evidence(t.Context(), "demand-hourly", pair)
	if err != nil || len(got) != 1 || got[0].Counts != m.Counts || got[0].Content.Rows != 50 ||
		got[0].Content.Outputs["demand_mw"].Seen() != 50 || got[0].Content.Paired.Pairs != 50 {
		t.Fatalf("%+v, %v", got, err)
	}
	again := pair
	again.Begun = 5
	if other, err := s.Evidence(t.Context(), "demand-hourly", again); err != nil || len(other) != 0 {
		t.Errorf("another trial of the pair: %+v, %v", other, err)
	}
	if err := s.ForgetTrials(t.Context(), "demand-hourly", []int{5}); err != nil {
		t.Fatal(err)
	}
	if left, err := s.Evidence(t.Context(), "demand-hourly", pair); err != nil || len(left) != 0 {
		t.Errorf("a trial that has ended: %+v, %v", left, err)
	}
}

// keeper is one with a store that is open.
func keeper(t *testing.T) (k *Keeper, path string, attached *int) {
	t.Helper()
	path, attached = filepath.Join(t.TempDir(), "signals.db"), new(int)
	k = NewKeeper(path, slog.New(slog.DiscardHandler), func(_ context.Context, s *Store) error {
		if s != nil {
			*attached++
		}
		return nil
	})
	t.Cleanup(func() { _ = k.Close() })
	return k, path, attached
}

func TestAKeeperHealsWhatCanBeHealed(t *testing.T) {
	damage := func(path string) error {
		return os.WriteFile(path, []byte(strings.Repeat("this is no database. ", 1000)), 0o600)
	}
	for name, c := range map[string]struct {
		before, during func(path string) error
		loses          int
	}{
		"nothing":               {nil, nil, 0},
		"deleted while it runs": {nil, os.Remove, 1},
		"another in its place": {
			nil,
			func(p string) error { return errors.Join(os.Remove(p), os.WriteFile(p, nil, 0o600)) }, 1,
		},
		"damaged before a start": {damage, nil, 1},
		"damaged while it runs":  {nil, damage, 1},
	} {
		t.Run(name, func(t *testing.T) {
			k, path, attached := keeper(t)
			if c.before != nil {
				if err := c.before(path); err != nil {
					t.Fatal(err)
				}
			}
			now := time.Now()
			if err := k.Look(t.Context(), now, nil); err != nil || k.Store() == nil {
				t.Fatal(err)
			}
			if c.during != nil {
				if err := c.during(path); err != nil {
					t.Fatal(err)
				}
			}
			for i := range 3 {
				// A damaged file may show when it is written to.
				wrote := k.Store().Write(t.Context(),
					Batch{Windows: []Window{{Key: key, At: midnight, Summary: minuteOf(3, 1)}}})
				_ = k.Look(t.Context(), now.Add(time.Duration(i)*time.Second), wrote)
			}
			if text, _ := k.Trouble(); text != "" {
				t.Errorf("it is still in trouble: %s", text)
			}
			if losses := k.Losses(); len(losses) != c.loses || *attached != 1+c.loses-len(filter(c.before)) {
				t.Errorf("%d losses, %d stores: %+v", len(losses), *attached, losses)
			}
			if err := k.Store().Write(t.Context(),
				Batch{Windows: []Window{{Key: key, At: midnight, Summary: minuteOf(3, 1)}}}); err != nil {
				t.Error(err)
			}
		})
	}
}

// filter is a list of one where there is something.
func filter(f func(string) error) []int {
	if f == nil {
		return nil
	}
	return []int{1}
}

func TestAKeeperSaysWhatItCannotHeal(t *testing.T) {
	k, path, _ := keeper(t)
	if err := os.Mkdir(path, 0o700); err != nil { // no file can be made there
		t.Fatal(err)
	}
	now := time.Now()
	for i := range 3 {
		if err := k.Look(t.Context(), now.Add(time.Duration(i)*time.Second), nil); err == nil {
			t.Fatal("a directory was opened")
		}
	}
	if text, since := k.Trouble(); text == "" || !since.Equal(now) {
		t.Errorf("%q since %s", text, since)
	}
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	if err := k.Look(t.Context(), now, nil); err != nil {
		t.Fatal(err)
	}
	if err := k.Look(t.Context(), now, fmt.Errorf("database is locked")); err == nil {
		t.Error("a write that failed is no trouble")
	}
	if text, _ := k.Trouble(); !strings.Contains(text, "locked") {
		t.Errorf("%q", text)
	}
}

// A full disk stops a write, loses nothing of what was there, and no more than that.
func TestAFullDisk(t *testing.T) {
	s := open(t)
	write(t, s, key, midnight, minuteOf(300, 1))
	var pages int
	if err := s.db.Write.QueryRowContext(t.Context(), `PRAGMA page_count`).Scan(&pages); err != nil {
		t.Fatal(err)
	}
	limit := func(n int) {
		t.Helper()
		if _, err := s.db.Write.ExecContext(t.Context(), fmt.Sprintf("PRAGMA max_page_count = %d", n)); err != nil {
			t.Fatal(err)
		}
	}
	limit(pages + 2)
	var full error
	for m := 1; m < 200 && full == nil; m++ {
		full = s.Write(t.Context(), Batch{Windows: []Window{{
			Key: key, At: midnight.Add(time.Duration(m) * time.Minute),
			Summary: minuteOf(300, uint64(m)),
		}}})
	}
	if full == nil || !strings.Contains(full.Error(), "full") || Damaged(full) {
		t.Fatalf("%v", full)
	}
	if got, n := sum(t, s, Query{From: midnight, To: midnight.Add(time.Minute)}); n != 1 || got.Counts.Requests != 300 {
		t.Errorf("what was there is gone: %+v", got.Counts)
	}
	limit(1 << 30)
	write(t, s, key, midnight.Add(time.Hour), minuteOf(300, 2))
}
