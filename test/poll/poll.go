// Package poll waits in tests for what comes by itself.
package poll

import "time"

// Within asks every 20 ms whether something holds, and reports whether it did within a time.
func Within(limit time.Duration, holds func() bool) bool {
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
