// Package poll waits in tests for what comes by itself.
package poll

import "time"

// least is how long is waited at least: on a machine that is busy with other things everything takes longer, and a
// test that gives up early speaks of the machine.
const least = 90 * time.Second

// Within asks every 20 ms whether something holds, and reports whether it did within a time, or 90 seconds where that
// is less.
func Within(limit time.Duration, holds func() bool) bool {
	limit = max(limit, least)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for late := time.After(limit); !holds(); {
		select {
		case <-tick.C:
		case <-late:
			return false
		}
	}
	return true
}
