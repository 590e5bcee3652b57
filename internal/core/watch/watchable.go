package watch

import (
	"slices"
	"strings"

	"innerladder/internal/core/guard"
)

// Signals that people can have watched beside those that are watched as usual.
const (
	CallerErrorRate = "caller_error_rate"
	TimeoutRate     = guard.TimeoutRate
	FallbackRate    = "fallback_rate"
)

// watchable are the signals that rules can be about, in the order in which they are told.
var watchable = []string{
	ErrorRate, TimeoutRate, CallerErrorRate, FallbackRate, RefusalRate, SlowRate, guard.LatencyP50, guard.LatencyP90,
	guard.LatencyP95, guard.LatencyP99, RequestRate, MissingRate, OutOfRangeRate, FeatureDrift, PredictionDrift, MAE,
	Accuracy, Custom,
}

// ofColumns are those of single columns, and of all columns when none is named; a custom one has its name there.
var ofColumns = []string{MissingRate, OutOfRangeRate, FeatureDrift, PredictionDrift, MAE, Accuracy, Custom}

// ofLeast are those whose limit is what is wanted at least.
var ofLeast = []string{RequestRate, Accuracy}

// ofVersions reports whether a version is to blame for a signal, so that it can help to hold or to go back.
func ofVersions(signal string) bool {
	return guard.Quantile(signal) > 0 ||
		slices.Contains([]string{ErrorRate, TimeoutRate, SlowRate, PredictionDrift, MAE, Accuracy, Custom}, signal)
}

// ofLanes reports whether the lanes of main and trial have a signal each.
func ofLanes(signal string) bool {
	return guard.Quantile(signal) > 0 || slices.Contains([]string{ErrorRate, TimeoutRate, CallerErrorRate}, signal)
}

func list[T ~string](all []T) string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = string(x)
	}
	return strings.Join(out, ", ")
}

// Watchable is a signal that rules can be about, and what they can say of it.
type Watchable struct {
	Signal    string           `json:"signal"`
	Unit      Unit             `json:"unit" description:"of its limit: % or s; empty for a number"`
	OfColumns bool             `json:"of_columns" description:"of single columns, or of all when none is named"`
	Versus    []Versus         `json:"versus" description:"what it can be held against beside a limit"`
	Then      []guard.Response `json:"then" description:"what can follow"`
}

// Watchables lists what rules can be about.
func Watchables() (out []Watchable) {
	for _, signal := range watchable {
		w := Watchable{
			Signal: signal, Unit: unitOf(signal), OfColumns: slices.Contains(ofColumns, signal),
			Versus: versusOf(signal), Then: []guard.Response{guard.Notify},
		}
		if ofVersions(signal) {
			w.Then = guard.Responses
		}
		out = append(out, w)
	}
	return out
}

// versusOf is what a signal can be held against beside a limit.
func versusOf(signal string) []Versus {
	switch {
	case strings.HasSuffix(signal, "_drift") || signal == SlowRate:
		return []Versus{}
	case signal == MAE || signal == Accuracy:
		return []Versus{Registered}
	case ofLanes(signal):
		return []Versus{Yesterday, LastWeek, Main}
	}
	return []Versus{Yesterday, LastWeek}
}

// unitOf is that of the limits of a signal.
func unitOf(signal string) Unit {
	switch {
	case guard.Quantile(signal) > 0:
		return Time
	case signal == RequestRate || signal == MAE || signal == Custom || strings.HasSuffix(signal, "_drift"):
		return Plain
	}
	return PerCent
}
