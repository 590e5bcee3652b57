package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"innerladder/internal/service"
	"innerladder/internal/store"

	"github.com/gofiber/fiber/v3"
)

// special lists the routes that are not plain JSON in, JSON out.
func special() []operation {
	return []operation{
		{method: "POST", path: "/session", id: "signIn", summary: "Sign in to the console with a token; sets a cookie", status: 200,
			in: new(signInIn), out: new(store.Person), handle: (*API).signIn},
		{method: "GET", path: "/session", id: "whoAmI", summary: "Who is signed in", permission: service.Read, status: 200,
			in: new(none), out: new(store.Person), handle: (*API).whoAmI},
		{method: "DELETE", path: "/session", id: "signOut", summary: "Sign out of the console", permission: service.Read, status: 204,
			in: new(none), handle: (*API).signOut},
		{method: "GET", path: "/events", id: "events", summary: "Server-sent events: every change as `change`, and every second what all endpoints do as `now`", permission: service.Read, status: 200,
			in: new(eventsIn), produces: "text/event-stream", handle: (*API).events},
	}
}

type signInIn struct {
	Token string `json:"token" required:"true"`
}

// sessionCookie holds the session of the console.
const sessionCookie = "innerladder_session"

func (a *API) signIn(c fiber.Ctx) error {
	var in signInIn
	if err := read(c, &in); err != nil {
		return err
	}
	if err := sameSite(c); err != nil {
		return err
	}
	session, person, err := a.service.SignIn(c.Context(), in.Token)
	if err != nil {
		return err
	}
	c.Cookie(&fiber.Cookie{Name: sessionCookie, Value: session, Path: "/", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode,
		Secure: c.Secure(), MaxAge: int(service.SessionLasts.Seconds())})
	return c.JSON(person)
}

func (a *API) whoAmI(c fiber.Ctx) error { return c.JSON(fiber.Locals[store.Person](c, personKey{})) }

func (a *API) signOut(c fiber.Ctx) error {
	if err := a.service.SignOut(c.Context(), c.Cookies(sessionCookie)); err != nil {
		return err
	}
	c.Cookie(&fiber.Cookie{Name: sessionCookie, Path: "/", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: c.Secure(), Expires: time.Unix(1, 0)})
	return c.SendStatus(fiber.StatusNoContent)
}

type eventsIn struct {
	LastEventID string `header:"Last-Event-ID" description:"the last change that was seen; what came after is sent first"`
}

// events streams changes and the state of all endpoints.
func (a *API) events(c fiber.Ctx) error {
	var in eventsIn
	if err := read(c, &in); err != nil {
		return err
	}
	ctx := context.WithoutCancel(c.Context()) // the stream outlives the handler
	changes, stop := a.service.Changes()
	var missed []store.Entry
	if last, err := strconv.ParseInt(in.LastEventID, 10, 64); err == nil {
		if missed, err = a.service.EntriesSince(ctx, last); err != nil {
			stop()
			return err
		}
	}
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer stop()
		a.stream(ctx, w, missed, changes)
	})
}

func (a *API) stream(ctx context.Context, w *bufio.Writer, missed []store.Entry, changes <-chan store.Entry) {
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
	change := func(e store.Entry) bool {
		if e.Seq <= seen {
			return true
		}
		seen = e.Seq
		return send(e.Seq, "change", e)
	}
	for _, e := range missed {
		if !change(e) {
			return
		}
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		now, err := a.now(ctx)
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
func (a *API) now(ctx context.Context) ([]service.EndpointNow, error) {
	a.nowMu.Lock()
	defer a.nowMu.Unlock()
	if time.Since(a.nowAt) < 900*time.Millisecond {
		return a.nowCache, nil
	}
	now, err := a.service.Now(ctx)
	if err == nil {
		a.nowCache, a.nowAt = now, time.Now()
	}
	return now, err
}
