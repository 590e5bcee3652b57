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
	changes, stop := a.app.Changes()
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer stop()
		a.stream(ctx, by, w, in.LastEventID, changes)
	})
}

func (a *API) stream(ctx context.Context, by act.Actor, w *bufio.Writer, last string, changes <-chan record.Entry) {
	send := func(id int64, event string, data any) bool {
		b, err := json.Marshal(data)
		if err != nil {
			a.log.Error("an event was not sent", "event", event, "error", err)
			return true
		}
		if id > 0 {
			fmt.Fprintf(w, "id: %d\n", id)
		}
		fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, b)
		return w.Flush() == nil // an error means that the listener has gone
	}
	seen := int64(0)
	change := func(e record.Entry) bool {
		if e.Seq <= seen {
			return true
		}
		seen = e.Seq
		switch class, _, _ := strings.Cut(e.Kind, "."); class {
		case "member", "person", "role", "token": // rights may have changed: the listener comes back with its new ones
			if !by.Sees(e) || e.Kind == "person.choices" {
				return e.Subject != by.Name || e.Kind == "person.choices"
			}
			return send(e.Seq, "change", e.Activity()) && e.Subject != by.Name && class != "role"
		}
		return !by.Sees(e) || send(e.Seq, "change", e.Activity())
	}
	if last != "" {
		number, err := strconv.ParseInt(last, 10, 64)
		if err != nil {
			number = math.MaxInt64 // nothing that we have sent
		}
		goesOn := true
		newest, anew, err := a.app.Record.Missed(ctx, by, number, func(e record.Entry) bool {
			goesOn = change(e)
			return goesOn
		})
		if err != nil {
			a.log.Error("what a listener has missed was not read", "error", err)
			return // it comes back
		}
		if anew {
			seen = newest
			goesOn = send(newest, "anew", map[string]string{"reason": "more has changed than can be told"})
		}
		if !goesOn {
			return
		}
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		now, err := a.now(ctx)
		now = slices.DeleteFunc(slices.Clone(now),
			func(n wire.EndpointNow) bool { return !by.Rights.May(access.Read, n.Project) })
		if err != nil {
			a.log.Error("the state of the endpoints was not read", "error", err)
		} else if !send(0, "now", now) {
			return
		}
		// A change is sent at once, the state once a second.
		for ticked := false; !ticked; {
			select {
			case e, open := <-changes:
				if !open || !change(e) {
					return
				}
			case <-tick.C:
				ticked = true
			case <-a.stopping:
				return
			}
		}
	}
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
