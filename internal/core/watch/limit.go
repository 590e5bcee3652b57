package watch

import (
	"math"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/span"
)

// Unit is that in which a limit is written.
type Unit string

// The units of limits.
const (
	PerCent Unit = "%"
	Time    Unit = "s"
	Plain   Unit = ""
)

// Limit is a bound: a share of 1, seconds, or a number of its own.
type Limit struct {
	Value float64
	Unit  Unit
	Given bool
}

// String writes a limit as it is read: 1 %, 200ms, 0.2.
func (l Limit) String() string {
	switch {
	case !l.Given:
		return ""
	case l.Unit == PerCent:
		return strconv.FormatFloat(math.Round(l.Value*1e10)/1e8, 'f', -1, 64) + " %"
	case l.Unit == Time:
		return span.Duration(math.Round(l.Value * float64(time.Second))).String()
	}
	return strconv.FormatFloat(l.Value, 'f', -1, 64)
}

// MarshalText writes a limit.
func (l Limit) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads a limit. Whether the unit is that of the signal is for Check to say.
func (l *Limit) UnmarshalText(b []byte) error {
	text := strings.TrimSpace(string(b))
	if text == "" {
		*l = Limit{}
		return nil
	}
	number, percent := strings.CutSuffix(text, "%")
	if x, err := strconv.ParseFloat(strings.TrimSpace(number), 64); err == nil && math.Abs(x) < 1e12 && !(percent &&
		x < 0) {
		*l = Limit{Value: x, Given: true}
		if percent {
			l.Value, l.Unit = math.Round(x*1e8)/1e10, PerCent // as precisely as it is written
		}
		return nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		*l = Limit{Value: d.Seconds(), Unit: Time, Given: true}
		return nil
	}
	return fault.New(fault.Invalid, "limit.form", "%q is no limit", b).
		Do("give a share such as 1 %%, a time such as 200ms, or a number such as 0.2")
}

// Percent is a limit of so many per cent.
func Percent(x float64) Limit { return Limit{Value: x / 100, Unit: PerCent, Given: true} }
