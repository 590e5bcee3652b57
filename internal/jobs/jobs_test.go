package jobs

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

func TestJobsKeepTheirPaceWhateverOthersDo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(slog.New(slog.DiscardHandler))
		var quick, wrong, second atomic.Int64
		wake := make(chan struct{}, 1)
		s.Add(Job{
			Name: "quick", Every: time.Second, Wake: wake,
			Run: func(context.Context, time.Time) error { quick.Add(1); return nil },
		})
		s.Add(Job{
			Name: "hangs", Every: time.Second,
			Run: func(ctx context.Context, _ time.Time) error { <-ctx.Done(); return ctx.Err() },
		})
		s.Add(Job{Name: "panics", Every: time.Second, Run: func(context.Context, time.Time) error { panic("oh") }})
		s.Add(Job{
			Name: "fails", Every: time.Second,
			Run: func(context.Context, time.Time) error { wrong.Add(1); return errors.New("no") },
		})
		s.Add(Job{Name: "on the second", OnTheSecond: true, Run: func(_ context.Context, now time.Time) error {
			if now.Nanosecond() != 0 {
				t.Errorf("began at %s", now)
			}
			second.Add(1)
			return nil
		}})
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan struct{})
		go func() { s.Run(ctx); close(ended) }()
		time.Sleep(10*time.Second + 300*time.Millisecond)
		wake <- struct{}{}
		synctest.Wait()
		if quick.Load() != 12 || wrong.Load() != 11 || second.Load() != 10 {
			t.Errorf("in 10 s: %d, %d, %d turns", quick.Load(), wrong.Load(), second.Load())
		}
		for _, r := range s.Reports() {
			switch {
			case r.Name == "panics" && (r.Failures != 11 || !strings.HasPrefix(r.Error, "panic: oh")),
				r.Name == "fails" && (r.Runs != 11 || r.Error != "no"), r.Name == "quick" && r.Error != "":
				t.Errorf("%+v", r)
			}
		}
		cancel()
		<-ended
	})
}

func TestAJobThatIsSlowGoesOnAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := New(slog.New(slog.DiscardHandler))
		turns := 0
		s.Add(Job{
			Name: "slow", Every: time.Second,
			Run: func(context.Context, time.Time) error { turns++; time.Sleep(3 * time.Second); return nil },
		})
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		s.Run(ctx)
		if turns != 10 {
			t.Errorf("%d turns of 3 s in 30 s", turns)
		}
	})
}

func TestEachItemHasItsOwnError(t *testing.T) {
	var done []string
	err := Each([]string{"a", "b", "c"}, func(s string) string { return s }, func(s string) error {
		switch s {
		case "a":
			return errors.New("no")
		case "b":
			panic("oh")
		}
		done = append(done, s)
		return nil
	})
	if len(done) != 1 || err == nil || !strings.Contains(err.Error(), "a: no") ||
		!strings.Contains(err.Error(), "b: panic: oh") {
		t.Errorf("%v, %v", done, err)
	}
}

func TestBusyDoesOneOfEachNameAtATime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var b Busy
		slow, quick := 0, 0
		for range 10 {
			b.Start("slow", func() { slow++; time.Sleep(5 * time.Second) })
			b.Start("quick", func() { quick++ })
			time.Sleep(time.Second)
		}
		b.Wait()
		if slow != 2 || quick != 10 {
			t.Errorf("%d and %d", slow, quick)
		}
	})
}
