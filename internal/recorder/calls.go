package recorder

import (
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

// called counts a request of a caller by their name. The cell is locked.
func (c *cell) called(name string, class sketch.Class) {
	if c.calls == nil {
		c.calls = map[string]request.Calls{}
	}
	addCalls(c.calls, name, beyond, callsOf(class))
}

// beyond stands for callers beyond those that a cell tells apart: no name that a caller gives is left as it.
const beyond = "\xff"

func callsOf(class sketch.Class) request.Calls {
	one := request.Calls{Requests: 1}
	switch {
	case class.Failed():
		one.Failed = 1
	case class == sketch.CallerError:
		one.Wrong = 1
	}
	return one
}

// addCalls adds the calls of a name, or to those of the others where there are too many names.
func addCalls(to map[string]request.Calls, name, others string, more request.Calls) {
	if _, known := to[name]; !known && len(to) >= request.MostCallers {
		name = others
	}
	to[name] = to[name].Plus(more)
}

// countCalls adds what callers asked of an endpoint in a second, by the names that they gave. The recorder is locked.
func (r *Recorder) countCalls(endpoint string, at time.Time, given map[string]request.Calls) {
	if len(given) == 0 {
		return
	}
	calls := map[string]request.Calls{}
	for name, n := range given {
		if name == beyond {
			name = request.Others
		} else {
			name = request.CallerName(name)
		}
		calls[name] = calls[name].Plus(n)
	}
	r.mergeCalls(endpoint, at.Truncate(time.Minute), calls)
}

// mergeCalls adds calls of a minute to those that wait to be written. The recorder is locked.
func (r *Recorder) mergeCalls(endpoint string, minute time.Time, calls map[string]request.Calls) {
	minutes := r.calls[endpoint]
	if minutes == nil {
		minutes = map[time.Time]map[string]request.Calls{}
		r.calls[endpoint] = minutes
	}
	if minutes[minute] == nil {
		if len(minutes) >= mostClosed {
			return
		}
		minutes[minute] = map[string]request.Calls{}
	}
	for name, n := range calls {
		addCalls(minutes[minute], name, request.Others, n)
	}
}

// takeCalls takes what waits to be written. The recorder is locked.
func (r *Recorder) takeCalls() (out []signals.Called) {
	for endpoint, minutes := range r.calls {
		for at, calls := range minutes {
			out = append(out, signals.Called{Endpoint: endpoint, At: at, Calls: calls})
		}
	}
	clear(r.calls)
	return out
}

// keepCalls takes back what could not be written. The recorder is locked.
func (r *Recorder) keepCalls(back []signals.Called) {
	for _, b := range back {
		r.mergeCalls(b.Endpoint, b.At, b.Calls)
	}
}
