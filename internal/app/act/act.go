// Package act is how Inner Ladder does anything: somebody acts, has the permission, and what
// is decided is written together with its entry of the record in one transaction. Every
// capability beside this package stands on a [Base] and goes the same way: it takes the
// [Actor] as an argument, reads with what the actor may see, and changes by [Change].
package act

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
	"innerladder/internal/records"
)

// Base is what every capability stands on. It is safe for use by several goroutines at once,
// once everything that is to hear of changes has said so.
type Base struct {
	DB  *records.DB
	Log *slog.Logger
	// Clock is the moment, as precise as it comes.
	Clock func() time.Time

	noted     []func(context.Context, *Tx, record.Entry, map[notice.Topic][]string) error
	confirmed []func(context.Context, []record.Entry)
	changes   changes
}

// NewBase makes a base; a nil clock is the real one.
func NewBase(db *records.DB, log *slog.Logger, clock func() time.Time) *Base {
	if clock == nil {
		clock = time.Now
	}
	return &Base{DB: db, Log: log, Clock: clock}
}

// Now is the moment, as precise as it is stored.
func (b *Base) Now() time.Time { return b.Clock().UTC().Truncate(time.Millisecond) }

// Read gives the queries of somebody, who finds what they may see.
func (b *Base) Read(by Actor) records.View { return b.DB.Read(by.Sight()) }

// OnNote has fn called in the transaction of every change for each entry that it notes: what
// fn writes is confirmed with it, and an error of fn undoes the change. It is called before
// the first change.
func (b *Base) OnNote(fn func(ctx context.Context, t *Tx, e record.Entry, involved map[notice.Topic][]string) error) {
	b.noted = append(b.noted, fn)
}

// OnConfirm has fn called with the entries of every change as soon as it is confirmed and
// before whoever made it has an answer: for what follows from a change and is done outside of
// the records. It is called before the first change.
func (b *Base) OnConfirm(fn func(context.Context, []record.Entry)) {
	b.confirmed = append(b.confirmed, fn)
}

// subscribers of entries may lag this many behind before they are dropped.
const subscriberQueue = 256

// changes hands confirmed entries to whoever listens.
type changes struct {
	mu        sync.Mutex
	listeners map[chan record.Entry]struct{}
}

func (c *changes) publish(entries []record.Entry) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, e := range entries {
		for l := range c.listeners {
			select {
			case l <- e:
			default: // too slow: it is closed, and reads the record from where it was
				delete(c.listeners, l)
				close(l)
			}
		}
	}
}

// Changes returns a channel of all entries confirmed from now on, until stop is called.
// A listener that lags far behind finds its channel closed.
func (b *Base) Changes() (entries <-chan record.Entry, stop func()) {
	l := make(chan record.Entry, subscriberQueue)
	c := &b.changes
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.listeners == nil {
		c.listeners = map[chan record.Entry]struct{}{}
	}
	c.listeners[l] = struct{}{}
	return l, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if _, there := c.listeners[l]; there {
			delete(c.listeners, l)
			close(l)
		}
	}
}

// NameFree refuses a name that something has, also where whoever acts does not see it.
func NameFree(ctx context.Context, r records.View, table, name string) error {
	taken, err := r.Taken(ctx, table, name)
	if err == nil && taken {
		err = fault.New(fault.Refused, "name.taken", "the name %s is not free", name).In("name").
			Do("choose another name")
	}
	return err
}

// Exist is the advice for a name that is unknown: which there are.
func Exist(what string, names []string) string {
	if len(names) == 0 {
		return "there are no " + what + " yet"
	}
	return "the " + what + " are " + strings.Join(names, ", ")
}
