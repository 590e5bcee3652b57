package watch

import "innerladder/internal/core/guard"

// EndpointState is how an endpoint is, in a word.
type EndpointState string

// The states of an endpoint, the worst first.
const (
	Unhealthy EndpointState = "unhealthy"
	Failing   EndpointState = "failing"
	Refusing  EndpointState = "refusing"
	Drifting  EndpointState = "drifting"
	NoTraffic EndpointState = "no traffic"
	OnTrial   EndpointState = "on trial"
	Well      EndpointState = "well"
)

// EndpointStates lists them, the worst first.
func EndpointStates() []EndpointState {
	return []EndpointState{Unhealthy, Failing, Refusing, Drifting, NoTraffic, OnTrial, Well}
}

// Enum lists the states for the document of the API.
func (EndpointState) Enum() (out []any) {
	for _, s := range EndpointStates() {
		out = append(out, s)
	}
	return out
}

// Known is what is known of an endpoint beside its watches.
type Known struct {
	// Healthy is set when some lane that answers has a healthy address, Called when somebody called it lately, Trial
	// when it has a trial.
	Healthy, Called, Trial bool
}

// failing are the signals that say that an endpoint fails its callers.
var failing = []string{
	ErrorRate, TimeoutRate, FallbackRate, SlowRate, guard.LatencyP50, guard.LatencyP90, guard.LatencyP95,
	guard.LatencyP99,
}

// State is the worst that can be said of an endpoint.
func (w *Watched) State(k Known) EndpointState {
	switch {
	case !k.Healthy:
		return Unhealthy
	case w.Is(failing...):
		return Failing
	case w.Is(RefusalRate, CallerErrorRate):
		return Refusing
	case w.Is(FeatureDrift, PredictionDrift, MissingRate, OutOfRangeRate, MAE, Accuracy):
		return Drifting
	case !k.Called || w.Is(RequestRate):
		return NoTraffic
	case k.Trial:
		return OnTrial
	}
	return Well
}
