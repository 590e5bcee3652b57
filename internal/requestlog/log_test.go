package requestlog

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/test/poll"
)

// endpoint is the number of demand-hourly.
const endpoint = 7

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

func open(t *testing.T, dir string) *Log {
	t.Helper()
	l := New(dir, []byte("secret"), slog.New(slog.DiscardHandler))
	t.Cleanup(l.files.close)
	return l
}

// kept are the ids of entries.
func kept(found []request.Kept) (out []string) {
	for _, e := range found {
		out = append(out, e.ID)
	}
	return out
}

// put hands over requests with the numbers in [from, to), which end a second apart, and writes them.
func put(t *testing.T, l *Log, from, to int) (all []request.Kept) {
	t.Helper()
	s := l.Stream(endpoint, "demand-hourly", request.UsualKeeping())
	for i := from; i < to; i++ {
		e := numbered(i)
		asked := fmt.Appendf(nil, `{"inputs":[{"name":"wind","data":[%d]}]}`, i%10)
		s.Put(idOf(i), e, asked, []byte(`{"outputs":[{"name":"demand","data":[1]}]}`))
		e.ID, e.Request = textOf(slices.Clone(id(i))), asked
		all = append(all, e)
		if i%100 == 99 || i == to-1 {
			for l.writeSome(t.Context(), e.Ended) {
			}
		}
	}
	return all
}

func id(i int) []byte { b := idOf(i); return b[:] }

func idOf(i int) (b [16]byte) {
	b[0] = 1
	binary.BigEndian.PutUint64(b[8:], uint64(i))
	return b
}

func numbered(i int) request.Kept {
	e := request.Kept{
		Ended: noon.Add(time.Duration(i) * time.Second), Split: 1 + i/500, Lane: "main", Version: "heat-demand@1",
		Outcome: request.Answered, Status: 200, Total: int64(1000 * (i % 50)), Chance: 1,
	}
	switch {
	case i%7 == 0:
		e.Version, e.Lane = "heat-demand@2", "trial"
	case i%11 == 0:
		e.Outcome, e.Status, e.Key = request.ServerError, 502, "desk"
	case i%13 == 0:
		e.Instead = "heat-demand@2"
	}
	return e
}

// Whatever is looked for, all parts together give what looking at every request gives, each once, newest first.
func TestAPageAfterTheOther(t *testing.T) {
	l := open(t, t.TempDir())
	var all []request.Kept
	for day := range 3 { // a day has 86 400 seconds
		all = append(all, put(t, l, day*86_400, day*86_400+700)...)
	}
	draw := rand.New(rand.NewPCG(1, 2))
	pick := func(of ...string) string { return of[draw.IntN(len(of))] }
	for range 60 {
		f := request.Filter{
			Version: pick("", "", "heat-demand@2"), Lane: pick("", "", "trial", "main"), Key: pick("", "", "", "desk"),
			Outcome: request.Outcome(pick("", "", "server_error", "answered")), Trouble: draw.IntN(4) == 0,
		}
		if draw.IntN(3) == 0 {
			f.Slower = 30 * time.Millisecond
		}
		if draw.IntN(3) == 0 {
			f.From = noon.Add(time.Duration(draw.IntN(2*86_400)) * time.Second)
			f.To = f.From.Add(time.Duration(draw.IntN(2*86_400)) * time.Second)
		}
		if draw.IntN(3) == 0 {
			c, _ := request.ParseCondition("wind>7")
			f.Where = append(f.Where, c)
		}
		var want []string
		for _, e := range slices.Backward(all) {
			if looksFor(f, e) {
				want = append(want, e.ID)
			}
		}
		var got []string
		for part := (Part{Limit: 1 + draw.IntN(300)}); ; {
			found, err := l.Search(t.Context(), endpoint, f, part)
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, kept(found.Items)...)
			if part.Before = found.Next; found.Next == "" {
				break
			}
			if len(found.Items) != part.Limit {
				t.Fatalf("%+v: a part of %d has %d", f, part.Limit, len(found.Items))
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%+v: %d were found, and there are %d", f, len(got), len(want))
		}
	}
	if found, err := l.Search(t.Context(), 99, request.Filter{}, Part{Limit: 5}); err != nil || len(found.Items) > 0 {
		t.Errorf("of another endpoint: %v, %v", found, err)
	}
}

// looksFor is what a filter means, said once more.
func looksFor(f request.Filter, e request.Kept) bool {
	return (f.Version == "" || f.Version == e.Version) && (f.Lane == "" || f.Lane == e.Lane) &&
		(f.Key == "" || f.Key == e.Key) && (f.Outcome == "" || f.Outcome == e.Outcome) &&
		(!f.Trouble || e.Outcome != request.Answered || e.Instead != "") && e.Total >= f.Slower.Microseconds() &&
		(f.From.IsZero() || !e.Ended.Before(f.From)) && (f.To.IsZero() || e.Ended.Before(f.To)) &&
		(len(f.Where) == 0 || strings.Contains(string(e.Request), "[8]") || strings.Contains(string(e.Request), "[9]"))
}

// Who follows gets what comes, each once and in order, over midnight and whatever is looked for.
func TestFollowing(t *testing.T) {
	l := open(t, t.TempDir())
	for name, f := range map[string]request.Filter{"all": {}, "the trial": {Version: "heat-demand@2"}} {
		l := l
		if name != "all" {
			l = open(t, t.TempDir())
		}
		put(t, l, 0, 10)
		begin, err := l.Search(t.Context(), endpoint, f, Part{Limit: 500})
		if err != nil {
			t.Fatal(err)
		}
		var want, got []string
		after := begin.Newest
		for at := 10; at < 86_400; at += 14_400 {
			for _, e := range put(t, l, at, at+90) {
				if looksFor(f, e) {
					want = append(want, e.ID)
				}
			}
			for {
				found, err := l.Search(t.Context(), endpoint, f, Part{Limit: 40, After: after})
				if err != nil {
					t.Fatal(err)
				}
				got, after = append(got, kept(found.Items)...), found.Newest
				if len(found.Items) < 40 {
					break
				}
			}
		}
		if !slices.Equal(got, want) || len(want) == 0 {
			t.Errorf("%s: got %d of %d", name, len(got), len(want))
		}
	}
	if _, err := l.Search(t.Context(), endpoint, request.Filter{}, Part{Limit: 1, After: "yesterday"}); err == nil {
		t.Error("any text is taken for a place in the log")
	}
}

// A search for something rare says how far it has looked, and goes on from there.
func TestASearchForSomethingRare(t *testing.T) {
	l := open(t, t.TempDir())
	l.looks = 1000
	put(t, l, 0, 1500)
	c, _ := request.ParseCondition("wind=77")
	f := request.Filter{Where: []request.Condition{c}}
	found, err := l.Search(t.Context(), endpoint, f, Part{Limit: 10})
	if err != nil || len(found.Items) > 0 || found.Next == "" || !found.Until.Before(noon.Add(501*time.Second)) {
		t.Fatalf("%+v, %v", found, err)
	}
	if found, err = l.Search(t.Context(), endpoint, f, Part{Limit: 10, Before: found.Next}); err != nil ||
		found.Next != "" || len(found.Items) > 0 {
		t.Errorf("%+v, %v", found, err)
	}
}

func TestFindingOne(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	put(t, l, 0, 20)
	// It came before midnight and ended after it.
	e, err := l.Find(t.Context(), endpoint, idOf(3), noon.Add(-20*time.Hour))
	if err != nil || e.Outcome != numbered(3).Outcome || !e.Ended.Equal(noon.Add(3*time.Second)) ||
		string(e.Request) != `{"inputs":[{"name":"wind","data":[3]}]}` {
		t.Errorf("%+v, %v", e, err)
	}
	for name, wrong := range map[string]func() error{
		"another id":       func() error { _, err := l.Find(t.Context(), endpoint, idOf(99), noon); return err },
		"another endpoint": func() error { _, err := l.Find(t.Context(), 8, idOf(3), noon); return err },
		"another day": func() error {
			_, err := l.Find(t.Context(), endpoint, idOf(3), noon.AddDate(0, 0, 5))
			return err
		},
	} {
		if err := wrong(); err != ErrNone {
			t.Errorf("%s: %v", name, err)
		}
	}
	// After a restart all is there, and times do not run back although the clock does.
	l.files.close()
	l = open(t, dir)
	s := l.Stream(endpoint, "demand-hourly", request.UsualKeeping())
	s.Put(idOf(3), numbered(3), nil, nil) // the same id once more
	s.Put(idOf(50), numbered(0), nil, nil)
	l.writeSome(t.Context(), noon)
	found, err := l.Search(t.Context(), endpoint, request.Filter{}, Part{Limit: 100})
	if err != nil || len(found.Items) != 21 || found.Items[0].ID != textOf(id(50)) ||
		found.Items[0].Ended.Before(found.Items[1].Ended) {
		t.Errorf("%d, %v", len(found.Items), err)
	}
}

func TestDaysAreDroppedWhole(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	for day := range 5 {
		put(t, l, day*86_400, day*86_400+50)
	}
	days := func() (out []string) {
		all, err := l.files.list()
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range all {
			out = append(out, s.day)
		}
		return out
	}
	now := noon.AddDate(0, 0, 4)
	forget := func(age time.Duration, most int64) {
		t.Helper()
		if err := l.Forget(now, func(int64) time.Duration { return age }, most); err != nil {
			t.Fatal(err)
		}
	}
	forget(90*24*time.Hour, 1<<40)
	if got := days(); len(got) != 5 {
		t.Errorf("nothing is old, and there are %v", got)
	}
	forget(48*time.Hour, 1<<40) // the 27th ended a day and a half ago, the 26th more than two days
	if got := days(); !slices.Equal(got, []string{"2026-11-27", "2026-11-28", "2026-11-29"}) {
		t.Errorf("%v", got)
	}
	forget(48*time.Hour, l.Bytes()-1)
	if got := days(); len(got) != 2 || got[0] != "2026-11-28" {
		t.Errorf("%v", got)
	}
	// The day that is written stays, and takes no more: what comes is counted as lost, and that is told.
	forget(48*time.Hour, 1)
	if got := days(); !slices.Equal(got, []string{"2026-11-29"}) {
		t.Errorf("%v", got)
	}
	put(t, l, 4*86_400+60, 4*86_400+65)
	if s := l.Status(); s.Unwritten != 5 || !strings.Contains(s.Trouble, "bytes") {
		t.Errorf("%+v", s)
	}
	forget(48*time.Hour, 1<<40)
	put(t, l, 4*86_400+70, 4*86_400+75)
	if s := l.Status(); s.Unwritten != 5 || s.Trouble != "" {
		t.Errorf("%+v", s)
	}
	if entries, err := os.ReadDir(dir); err != nil || len(entries) != 1 {
		t.Errorf("directories of days without any request stay: %v, %v", entries, err)
	}
}

// Somebody may take a day away while the service runs.
func TestADayThatIsTakenAway(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	put(t, l, 0, 5)
	if err := os.RemoveAll(filepath.Join(dir, noon.Format(time.DateOnly))); err != nil {
		t.Fatal(err)
	}
	found, err := l.Search(t.Context(), endpoint, request.Filter{}, Part{Limit: 10})
	if err != nil || len(found.Items) != 0 {
		t.Errorf("%v, %v", found, err)
	}
	put(t, l, 5, 8)
	if found, err = l.Search(t.Context(), endpoint, request.Filter{}, Part{Limit: 10}); err != nil ||
		len(found.Items) != 3 {
		t.Errorf("%d, %v", len(found.Items), err)
	}
}

// A file that is no database must not keep other endpoints from being written, nor other days from being read.
func TestADamagedDay(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	path := filepath.Join(dir, place{noon.Format(time.DateOnly), endpoint}.path())
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(strings.Repeat("no database ", 2000)), 0o600); err != nil {
		t.Fatal(err)
	}
	l.Stream(8, "valve-check", request.UsualKeeping()).Put(idOf(1), numbered(1), nil, nil)
	put(t, l, 0, 5)
	if s := l.Status(); s.Unwritten != 5 || s.Trouble == "" {
		t.Errorf("%+v", s)
	}
	if found, err := l.Search(t.Context(), 8, request.Filter{}, Part{Limit: 10}); err != nil || len(found.Items) != 1 {
		t.Errorf("%v, %v", found, err)
	}
	if _, err := l.Search(t.Context(), endpoint, request.Filter{}, Part{Limit: 10}); err == nil {
		t.Error("a damaged file is read as an empty one")
	}
}

// Whoever hands requests over never waits, whatever becomes of them.
func TestNobodyWaitsForTheLog(t *testing.T) {
	l := open(t, t.TempDir()) // nothing writes
	s := l.Stream(endpoint, "demand-hourly", request.UsualKeeping())
	for i := range queueLength + 100 {
		s.Put(idOf(i), numbered(1), nil, nil)
	}
	if st := l.Status(); st.Waiting != queueLength || st.Unwritten != 100 {
		t.Errorf("%+v", st)
	}
	for l.writeSome(t.Context(), noon) {
	}
	k := request.UsualKeeping()
	k.Bytes = request.LargestKept
	s = l.Stream(endpoint, "demand-hourly", k)
	large := json.RawMessage(`"` + strings.Repeat("x", 1<<20-2) + `"`)
	for i := range 2 * mostWaiting >> 20 {
		s.Put(idOf(i), numbered(1), large, nil)
	}
	if st := l.Status(); st.Waiting != mostWaiting>>20 || l.waiting.Load() > mostWaiting {
		t.Errorf("%+v, %d bytes wait", st, l.waiting.Load())
	}
}

func TestSharesAndBounds(t *testing.T) {
	l := open(t, t.TempDir())
	k := request.UsualKeeping()
	second := func(s *Stream, faultless int) (n int, chance float64) {
		for range faultless {
			if c, ok := s.Wants(false); ok {
				n, chance = n+1, c
			}
		}
		l.Tick()
		return n, chance
	}
	s := l.Stream(1, "a", k)
	if n, chance := second(s, 80); n != 80 || chance != 1 {
		t.Errorf("below the bound %d of 80 are kept, each with %v", n, chance)
	}
	if n, _ := second(s, 10_000); n != 2*k.PerSecond {
		t.Errorf("in a second in which traffic jumps %d are kept", n)
	}
	if n, chance := second(s, 10_000); n < 50 || n > 150 || chance < 0.0099 || chance > 0.0101 {
		t.Errorf("of 10 000 a second %d are kept, each with %v", n, chance)
	}
	k.Share, k.PerSecond = 2500, 0
	s = l.Stream(2, "b", k)
	if n, chance := second(s, 10_000); n < 2200 || n > 2800 || chance != 0.25 {
		t.Errorf("a quarter: %d of 10 000, each with %v", n, chance)
	}
	k.Share = 0
	if n, _ := second(l.Stream(2, "b", k), 1000); n != 0 {
		t.Errorf("none: %d", n)
	}
	rare := 0
	for range 10_000 {
		if c, ok := s.Wants(true); ok && c == 1 {
			rare++
		}
	}
	if rare != mostRare || l.Status().Unwritten != 10_000-mostRare {
		t.Errorf("%d with a fault are kept in a second, %d counted as lost", rare, l.Status().Unwritten)
	}
	if Rare(sketch.Answered, false) || !Rare(sketch.Answered, true) || !Rare(sketch.CallerError, false) {
		t.Error("which are rare")
	}
}

// What is hidden never reaches the disk.
func TestWhatIsHiddenIsNotWritten(t *testing.T) {
	dir := t.TempDir()
	l := open(t, dir)
	k := request.UsualKeeping()
	k.Columns = []request.ColumnRule{{Pattern: "address", How: request.Hide}}
	s := l.Stream(endpoint, "demand-hourly", k)
	const street = "Kvartsgata 7"
	s.Put(idOf(1), numbered(1), []byte(`{"inputs":[{"name":"address","data":["`+street+`"]},{"name":"x","data":[1]}]}`),
		[]byte(`{"error":"nobody lives in `+street+`"}`))
	l.writeSome(t.Context(), noon)
	l.files.close()
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if strings.Contains(string(b), street) {
			t.Errorf("%s has it", path)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
	e, err := l.Find(t.Context(), endpoint, idOf(1), noon)
	if err != nil || e.RequestNote != "hidden: address" || e.AnswerNote == "" || len(e.Answer) > 0 ||
		e.AnswerBytes == 0 {
		t.Errorf("%+v, %v", e, err)
	}
}

// Whatever was handed over before the end is written, also what is being written when it comes.
func TestNothingIsLostAtTheEnd(t *testing.T) {
	dir := t.TempDir()
	l := New(dir, []byte("secret"), slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	s := l.Stream(endpoint, "demand-hourly", request.UsualKeeping())
	for i := range 5000 {
		s.Put(idOf(i), numbered(1), nil, nil)
	}
	go func() { l.Run(ctx); close(ended) }()
	if !poll.Within(5*time.Second, func() bool { return l.Status().Waiting < 5000 }) {
		t.Error("nothing is written")
	}
	stop()
	<-ended
	l = open(t, dir)
	found, err := l.Search(t.Context(), endpoint, request.Filter{}, Part{Limit: 20_000})
	if err != nil || len(found.Items) != 5000 {
		t.Errorf("%d of 5000 are there, %v", len(found.Items), err)
	}
}

// Few files stay open, however many endpoints there are, and none is closed under whoever reads it.
func TestManyEndpoints(t *testing.T) {
	l := open(t, t.TempDir())
	l.files.keeps = 2
	for round := range 3 {
		for e := range int64(8) {
			l.Stream(e, "demand-hourly", request.UsualKeeping()).Put(idOf(round*8+int(e)), numbered(1), nil, nil)
		}
		l.writeSome(t.Context(), noon)
	}
	var all sync.WaitGroup
	for e := range int64(8) {
		all.Go(func() {
			for range 20 {
				found, err := l.Search(t.Context(), e, request.Filter{}, Part{Limit: 10})
				if err != nil || len(found.Items) != 3 {
					t.Errorf("%d requests of endpoint %d, %v", len(found.Items), e, err)
				}
			}
		})
	}
	all.Wait()
	if n := len(l.files.open); n > 2 {
		t.Errorf("%d files stay open", n)
	}
	if s := l.Status(); s.Unwritten > 0 || s.Trouble != "" {
		t.Errorf("%+v", s)
	}
}
