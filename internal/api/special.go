package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/record"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

// special lists the routes that are not plain JSON in, JSON out.
func special() []operation {
	return []operation{
		{
			method: "GET", path: "/events", id: "events",
			summary: "Server-sent events: every change as `change`, every second what all endpoints do as `now`, " +
				"and `anew` to those who have missed so much that they must read everything again",
			permission: access.Read, status: 200,
			in: new(eventsIn), produces: "text/event-stream", handle: (*API).events,
		},
	}
}

type eventsIn struct {
	LastEventID string `header:"Last-Event-ID" description:"the last change that was seen; what came after is sent first"`
}

// events streams changes and the state of all endpoints.
func (a *API) events(c fiber.Ctx, by act.Actor) error {
	var in eventsIn
	if err := read(c, &in); err != nil {
		return err
	}
	ctx := context.WithoutCancel(c.Context()) // the stream outlives the handler
	again, err := a.identity(c)
	if err != nil {
		return err
	}
	changes, stop := a.app.Changes()
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer stop()
		l := listener{API: a, by: by, again: again, w: w}
		l.listen(ctx, in.LastEventID, changes)
	})
}

// listener is somebody who listens to the events.
type listener struct {
	*API
	by act.Actor
	// again finds who listens once more: a stream ends with the session or the token that it
	// came with.
	again func(context.Context) (act.Actor, error)
	w     *bufio.Writer
	// seen is the newest line of the record that was looked at.
	seen int64
}

// listen writes events until the listener goes, may no longer listen, or the service stops.
func (l *listener) listen(ctx context.Context, last string, changes <-chan record.Entry) {
	if last != "" && !l.takeUp(ctx, last) {
		return
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		if _, err := l.again(ctx); fault.Is(err, fault.Unsigned) || !l.state(ctx) {
			return
		}
		// A change is sent at once, the state once a second.
		for ticked := false; !ticked; {
			select {
			case e, open := <-changes:
				if !open || !l.change(e) {
					return
				}
			case <-tick.C:
				ticked = true
			case <-l.stopping:
				return
			}
		}
	}
}

// takeUp sends what was missed since the last change that the listener saw, and reports whether
// the stream goes on.
func (l *listener) takeUp(ctx context.Context, last string) (goesOn bool) {
	number, err := strconv.ParseInt(last, 10, 64)
	if err != nil {
		number = math.MaxInt64 // nothing that we have sent
	}
	goesOn = true
	newest, anew, err := l.app.Record.Missed(ctx, l.by, number, func(e record.Entry) bool {
		goesOn = l.change(e)
		return goesOn
	})
	if err != nil {
		l.log.Error("what a listener has missed was not read", "error", err)
		return false // it comes back
	}
	if anew {
		l.seen = newest
		return l.send(newest, "anew", map[string]string{"reason": "more has changed than can be told"})
	}
	return goesOn
}

// state sends what the endpoints do now that the listener may see.
func (l *listener) state(ctx context.Context) bool {
	now, err := l.now(ctx)
	if err != nil {
		l.log.Error("the state of the endpoints was not read", "error", err)
		return true
	}
	return l.send(0, "now", slices.DeleteFunc(slices.Clone(now),
		func(n wire.EndpointNow) bool { return !l.by.Rights.May(access.Read, n.Project) }))
}

// change sends a change that the listener may see, and reports whether the stream goes on.
func (l *listener) change(e record.Entry) bool {
	if e.Seq <= l.seen {
		return true
	}
	l.seen = e.Seq
	switch class, _, _ := strings.Cut(e.Kind, "."); class {
	case "member", "person", "role", "token": // rights may have changed: the listener comes back with its new ones
		if !l.by.Sees(e) || e.Kind == "person.choices" {
			return e.Subject != l.by.Name || e.Kind == "person.choices"
		}
		return l.send(e.Seq, "change", e.Activity()) && e.Subject != l.by.Name && class != "role"
	}
	return !l.by.Sees(e) || l.send(e.Seq, "change", e.Activity())
}

// send sends an event; false means that the listener has gone.
func (l *listener) send(id int64, event string, data any) bool {
	b, err := json.Marshal(data)
	if err != nil {
		l.log.Error("an event was not sent", "event", event, "error", err)
		return true
	}
	if id > 0 {
		fmt.Fprintf(l.w, "id: %d\n", id)
	}
	fmt.Fprintf(l.w, "event: %s\ndata: %s\n\n", event, b)
	return l.w.Flush() == nil
}

// now reads the state of all endpoints, at most about once a second however many
// listen.
func (a *API) now(ctx context.Context) ([]wire.EndpointNow, error) {
	a.nowMu.Lock()
	defer a.nowMu.Unlock()
	if time.Since(a.nowAt) < 900*time.Millisecond {
		return a.nowCache, nil
	}
	now, err := a.app.Observe.EndpointsNow(ctx, act.BySelf())
	if err == nil {
		a.nowCache, a.nowAt = now, time.Now()
	}
	return now, err
}
