package api

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/observe"
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
				"what is new of series that are followed as `series`, and `anew` to those who have missed so much " +
				"that they must read everything again",
			permission: access.Read, status: 200,
			in: new(eventsIn), produces: "text/event-stream", handle: (*API).events,
		},
	}
}

type eventsIn struct {
	LastEventID string   `header:"Last-Event-ID" description:"the last change seen; what came after is sent first"`
	Last        string   `query:"last" description:"the same, for who begins a stream anew"`
	Series      []string `query:"series" description:"ENDPOINT,WINDOW,AFTER: sends what is new of it"`
}

const (
	// mostFollowed is how many series a listener may follow.
	mostFollowed = 8
	// seriesEvery is every how many seconds what is new of them is sent.
	seriesEvery = 2
)

// news is what is new of a series that is followed.
type news struct {
	Endpoint string      `json:"endpoint"`
	Window   string      `json:"window"`
	Series   wire.Series `json:"series"`
}

// followed is a series that a listener follows.
type followed struct {
	observe.SeriesQuestion
	window string
}

// follows reads which series a listener follows.
func (in eventsIn) follows() (out []followed, err error) {
	wrong := func(given, why string) error {
		return fault.New(fault.Invalid, "events.series", "%.200q is no series that can be followed: %s", given, why).
			In("series").Do("write ENDPOINT,WINDOW,AFTER, such as demand-hourly,1h,2026-03-04T05:06:07Z")
	}
	if len(in.Series) > mostFollowed {
		return nil, wrong(strings.Join(in.Series, " "), fmt.Sprintf("there are more than %d", mostFollowed))
	}
	for _, given := range in.Series {
		parts := strings.Split(given, ",")
		if len(parts) != 3 {
			return nil, wrong(given, "it has no three parts")
		}
		f := followed{window: parts[1]}
		f.Endpoint = parts[0]
		if f.Window, err = time.ParseDuration(parts[1]); err != nil {
			return nil, wrong(given, "its window is no duration")
		}
		if f.After, err = time.Parse(time.RFC3339, parts[2]); err != nil {
			return nil, wrong(given, "its moment is none")
		}
		out = append(out, f)
	}
	return out, nil
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
	follows, err := in.follows()
	if err != nil {
		return err
	}
	for _, f := range follows { // what cannot be read is refused now, and not in the middle of a stream
		f.After = time.Now()
		if _, err := a.app.Observe.Series(ctx, by, f.SeriesQuestion); err != nil && !fault.Is(err, fault.Unavailable) {
			return err
		}
	}
	changes, stop := a.app.Changes()
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer stop()
		l := listener{API: a, by: by, again: again, w: w, follows: follows}
		l.listen(ctx, cmp.Or(in.LastEventID, in.Last), changes)
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
	// follows are the series that are followed.
	follows []followed
	// seen is the newest line of the record that was looked at, begins the one after which is told, until that is said.
	seen, begins int64
}

// listen writes events until the listener goes, may no longer listen, or the service stops.
func (l *listener) listen(ctx context.Context, last string, changes <-chan record.Entry) {
	if last == "" {
		// From where it is told is the id of the first event, so that a listener can take up before any change.
		var err error
		if l.begins, _, err = l.app.Record.Missed(ctx, l.by, math.MaxInt64, nil); err != nil {
			l.log.Error("where the record stands was not read", "error", err)
			return // it comes back
		}
		l.seen = l.begins
	} else if !l.takeUp(ctx, last) {
		return
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for turn := 0; ; turn++ {
		if _, err := l.again(ctx); fault.Is(err, fault.Unsigned) || !l.state(ctx) {
			return
		}
		if turn%seriesEvery == 0 && !l.tellNews(ctx) {
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
	id := l.begins
	l.begins = 0
	return l.send(id, "now", slices.DeleteFunc(slices.Clone(now),
		func(n wire.EndpointNow) bool { return !l.by.Rights.May(access.Read, n.Project) }))
}

// tellNews sends what is new of the series that are followed. What cannot be read now is told the next time.
func (l *listener) tellNews(ctx context.Context) bool {
	for i := range l.follows {
		f := &l.follows[i]
		s, err := l.app.Observe.Series(ctx, l.by, f.SeriesQuestion)
		if err != nil {
			l.log.Debug("what is new of a series was not read", "endpoint", f.Endpoint, "error", err)
			continue
		}
		// The last step was not over yet, nor may a late one have been.
		f.After = s.To.Add(-2 * time.Duration(s.StepMS) * time.Millisecond)
		if !l.send(0, "series", news{f.Endpoint, f.window, s}) {
			return false
		}
	}
	return true
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
