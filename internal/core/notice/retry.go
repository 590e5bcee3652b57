package notice

import "time"

const (
	firstWait = 5 * time.Second
	longWait  = 4 * time.Hour
	// mostTries makes the last attempt come about a day after the first.
	mostTries = 16
)

// Retry says how long to wait after so many failed attempts to deliver something: twice
// as long each time, up to some hours, and not all at the same moment. It reports false
// when it is time to give up. key is any number of the delivery's own.
func Retry(tries int, key int64) (wait time.Duration, again bool) {
	if tries >= mostTries {
		return 0, false
	}
	wait = longWait
	if shift := tries - 1; shift < 12 {
		wait = min(longWait, firstWait<<max(0, shift))
	}
	// Up to a fifth more, by the key, so that what failed together is not sent together.
	return wait + wait/5*time.Duration(uint64(key)*0x9e3779b97f4a7c15>>56)/256, true
}
