// Package span writes lengths of time as people do, and says which are looked at.
package span

import (
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// Duration is a time.Duration that is written as Go writes it.
type Duration time.Duration

// String writes 24h rather than 24h0m0s.
func (d Duration) String() string {
	s := time.Duration(d).String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Rounded writes a duration as precisely as people want to read it: 12s, 3m20s, 5h10m, 3d4h.
func Rounded(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d < time.Second:
		return d.Round(time.Millisecond).String()
	case d < time.Hour:
		return Duration(d.Round(time.Second)).String()
	case d < 2*day:
		return Duration(d.Round(time.Minute)).String()
	}
	d = d.Round(time.Hour)
	text := Duration(d % day).String()
	if d%day == 0 {
		text = ""
	}
	return strings.TrimSuffix(time.Duration(d/day).String(), "ns") + "d" + text
}

// CheckWindow says whether a window of at least a minute, and at most so long, is looked at.
func CheckWindow(window, longest time.Duration) error {
	if window < time.Minute || window > longest {
		return fault.New(fault.Invalid, "window.range", "a window of %s cannot be looked at", window).In("window").
			Do("give from 1m to %s, such as 24h", Duration(longest))
	}
	return nil
}

// MarshalText writes a duration.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads a duration.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	if err != nil {
		return fault.New(fault.Invalid, "duration.form", "%q is no duration", b).Do("give one such as 30m, 24h or 336h")
	}
	*d = Duration(v)
	return nil
}
