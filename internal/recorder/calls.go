package recorder

import (
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

// called counts a request of a caller by their name. The cell is locked.
func (c *cell) called(name string, class sketch.Class) {
	n := c.calls[name]
	if n == nil {
		n = c.another(name)
	}
	n.Requests++
	switch {
	case class.Failed():
		n.Failed++
	case class == sketch.CallerError:
		n.Wrong++
	}
}

// another begins to count the calls of somebody who has not called since the cell was emptied; those beyond the ones
// that are told apart are counted together.
func (c *cell) another(name string) *request.Calls {
	if c.calls == nil {
		c.calls = map[string]*request.Calls{}
	}
	if len(c.calls) >= request.MostCallers {
		name = beyond
	}
	if c.calls[name] == nil {
		c.calls[name] = &request.Calls{}
	}
	return c.calls[name]
}

// beyond stands for callers beyond those that a cell tells apart: no name that a caller gives is left as it.
const beyond = "\xff"

// countCalls adds what callers asked of an endpoint in a second, by the names that they gave. The recorder is locked.
func (r *Recorder) countCalls(endpoint string, at time.Time, given map[string]*request.Calls) {
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
		calls[name] = calls[name].Plus(*n)
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
	of := minutes[minute]
	for name, n := range calls {
		if _, known := of[name]; !known && len(of) >= request.MostCallers {
			name = request.Others
		}
		of[name] = of[name].Plus(n)
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
