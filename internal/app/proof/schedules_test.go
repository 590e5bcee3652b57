package proof

import (
	"testing"
	"time"
)

// Turns are meant by the clock on the wall, also in nights in which it is put forward or back.
func TestTurnsByTheClockOnTheWall(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		cron, after string
		want        []string
	}{
		{"15 2 * * *", "2026-03-28T00:00:00Z", []string{
			"2026-03-28T01:15:00Z", "2026-03-29T01:15:00Z", "2026-03-30T00:15:00Z", // there is no 02:15 on the 29th
		}},
		{"15 2 * * *", "2026-10-24T00:00:00Z", []string{
			"2026-10-24T00:15:00Z", "2026-10-25T01:15:00Z", "2026-10-26T01:15:00Z", // there are two on the 25th
		}},
		{"30 * * * *", "2026-10-24T23:45:00Z", []string{
			"2026-10-25T01:30:00Z", "2026-10-25T02:30:00Z", "2026-10-25T03:30:00Z",
		}},
		{"0 9 * * mon-fri", "2026-11-27T09:00:00Z", []string{"2026-11-30T08:00:00Z", "2026-12-01T08:00:00Z"}},
		{"0 0 29 2 *", "2026-11-27T09:00:00Z", []string{"2028-02-28T23:00:00Z"}},
	} {
		at, err := time.Parse(time.RFC3339, c.after)
		for _, want := range c.want {
			if err == nil {
				at, err = times(c.cron, oslo)(at)
			}
			if err != nil || at.Format(time.RFC3339) != want {
				t.Errorf("%s after %s: %s, %v; want %s", c.cron, c.after, at.Format(time.RFC3339), err, want)
			}
		}
	}
	for _, never := range []string{"0 0 31 2 *", "61 * * * *", "a b c d e"} {
		if at, err := times(never, oslo)(time.Now()); err == nil {
			t.Errorf("%s is at %s", never, at)
		}
	}
}
