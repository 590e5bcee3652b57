package test

import (
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"innerladder/internal/core/traffic"
)

// soakFor is how long a steady load goes on: an hour as a soak, or so many minutes as SOAK_MINUTES says.
func soakFor(t *testing.T) time.Duration {
	t.Helper()
	if text := os.Getenv("SOAK_MINUTES"); text != "" {
		n, err := strconv.Atoi(text)
		must(t, err)
		return time.Duration(n) * time.Minute
	}
	return time.Duration(longer(5, 3600)) * time.Second
}

// Thousands of requests a second, with a trial, watches, the log of requests and bodies that are read: every one is
// answered and counted, and memory does not grow with them.
func TestSoakThousandsASecond(t *testing.T) {
	h := open(t)
	h.twoVersions()
	_, err := h.runa.Split(t.Context(), "demand-hourly", []traffic.Lane{
		{Kind: traffic.Main, Version: "heat-demand@1", Share: 9000},
		{Kind: traffic.Trial, Version: "heat-demand@2", Share: 1000},
	}, "", -1)
	must(t, err)
	const workers, perSecond = 64, 5000
	length := soakFor(t)
	c := h.caller(workers)
	var asked, failed atomic.Int64
	begin := time.Now()
	var all sync.WaitGroup
	for w := range workers {
		all.Go(func() {
			for n := 0; ; n++ {
				due := begin.Add(time.Duration(n*workers+w) * time.Second / perSecond)
				if due.Sub(begin) > length {
					return
				}
				select { // at once where it is late
				case <-time.After(time.Until(due)):
				case <-t.Context().Done():
					return
				}
				asked.Add(1)
				if status, _, body, err := c.infer(float64((n*workers+w)%100_000) / 100); err != nil || status != 200 {
					if failed.Add(1) <= 5 {
						t.Errorf("%d %s %v", status, body, err)
					}
				}
			}
		})
	}
	var sizes []float64
	tick := time.NewTicker(length / 10)
	defer tick.Stop()
	for time.Since(begin) < length {
		<-tick.C
		sizes = append(sizes, float64(resident(t, h.cmd.Process.Pid)))
		t.Logf("after %v: %d requests, %.0f MiB", time.Since(begin).Round(time.Second), asked.Load(),
			sizes[len(sizes)-1])
	}
	all.Wait()
	n := int(asked.Load())
	await(t, "all requests to be counted", 10*time.Second, func() bool { return h.served("demand-hourly") == n })
	rate := float64(n) / time.Since(begin).Seconds()
	third, last := sizes[len(sizes)/3], sizes[len(sizes)-1]
	growth := (last - third) / (float64(n) * 2 / 3) * 1e6
	t.Logf("%d requests, %.0f a second, %d failed; %.0f MiB after a third, %.0f at the end: %.2f MiB a million "+
		"requests", n, rate, failed.Load(), third, last, growth)
	if last > 1.25*third+32 {
		t.Errorf("memory grows: %.0f MiB after a third, %.0f at the end", third, last)
	}
}
