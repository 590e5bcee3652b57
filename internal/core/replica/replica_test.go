package replica

import (
	"testing"
	"time"
)

func TestParseRange(t *testing.T) {
	for text, want := range map[string]string{
		"3": "3", "1..4": "1..4", " 2 .. 2 ": "2", "0": "", "4..1": "", "1..17": "", "many": "", "": "", "1..": "",
	} {
		r, err := ParseRange(text)
		if (err == nil) != (want != "") || (err == nil && r.String() != want) {
			t.Errorf("%q: %v, %v; want %q", text, r, err, want)
		}
	}
}

// A replica that ends again and again is started ever later; one that ran calmly begins anew.
func TestStartedAgain(t *testing.T) {
	now := time.Unix(1_000_000, 0)
	l := Life{Started: now}
	for i, want := range []time.Duration{0, 1, 2, 4, 8, 16, 32, 60, 60} {
		now = now.Add(time.Second)
		l = l.Ended(now)
		if got := l.Next.Sub(now); got != want*time.Second {
			t.Errorf("end %d: after %v, want %v", i+1, got, want*time.Second)
		}
		l.Started = now
	}
	now = now.Add(time.Hour)
	if l = l.Ended(now); !l.Next.Equal(now) || l.Restarts != 10 {
		t.Errorf("after an hour: %+v", l)
	}
}

// play steps through spans of load and lists what was decided.
func play(r Range, have int, spans ...[2]float64) (counts []int, changes int) {
	var s Scale
	now := time.Unix(1_000_000, 0)
	for _, span := range spans {
		for range int(span[1]) {
			now = now.Add(time.Second)
			want, why := s.Step(r, have, span[0], now)
			if want != have {
				changes++
				if why == "" {
					panic("no reason is given")
				}
			}
			have = want
		}
		counts = append(counts, have)
	}
	return counts, changes
}

// The number follows the load, quickly up and slowly down, and does not swing.
func TestFollowsTheLoad(t *testing.T) {
	r := Range{1, 4}
	counts, changes := play(r, 1, [2]float64{1, 600}, [2]float64{11, 60}, [2]float64{1, 60}, [2]float64{1, 1800})
	if counts[0] != 1 || counts[1] != 3 || counts[2] != 3 || counts[3] != 1 || changes > 4 {
		t.Errorf("%v after %d changes", counts, changes)
	}
	if counts, _ := play(r, 1, [2]float64{200, 60}); counts[0] != 4 {
		t.Errorf("too much for all: %v", counts)
	}
	var swing [][2]float64 // a load that goes up and down every five seconds
	for i := range 200 {
		swing = append(swing, [2]float64{float64(2 + 8*(i%2)), 5})
	}
	if _, changes := play(r, 2, swing...); changes > 2 {
		t.Errorf("%d changes", changes)
	}
	for _, c := range []struct{ have, want int }{{1, 2}, {5, 2}, {2, 2}} {
		if counts, _ := play(Range{2, 2}, c.have, [2]float64{50, 5}); counts[0] != c.want {
			t.Errorf("from %d: %v", c.have, counts)
		}
	}
}
