// Package service is what Inner Ladder does, one file for each capability. Every change
// of state goes the same way: check the permission, decide in the core, and write the
// record and its audit entry in one transaction; the entry is published when the
// transaction is confirmed.
package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/blob"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/traffic"
	"innerladder/internal/fetch"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/store"
)

// Router takes the routes of all endpoints and puts them in force at once.
type Router interface {
	Swap(ctx context.Context, routes []traffic.Route) error
}

// Config is what a service is made of.
type Config struct {
	Store    *store.Store
	Signals  *store.Signals
	Blobs    *blob.Store
	Recorder *recorder.Recorder
	Router   Router
	Log      *slog.Logger
	// RequestIDs reads the ids that the gateway makes.
	RequestIDs *traffic.RequestIDs
	// Fetch opens the addresses that versions are registered from.
	Fetch *fetch.Fetcher
	// Spare is how old a file must be to be collected; 0 is an hour.
	Spare time.Duration
	// Now is the clock; nil is the real one.
	Now func() time.Time
}

// Service does the job. It is safe for use by several goroutines at once.
type Service struct {
	store    *store.Store
	signals  *store.Signals
	blobs    *blob.Store
	recorder *recorder.Recorder
	router   Router
	servers  *oip.Client
	ladder   ladder.Ladder
	log      *slog.Logger
	clock    func() time.Time
	changes  changes
	requests *traffic.RequestIDs
	fetcher  *fetch.Fetcher
	sparing  time.Duration

	// routing serialises reading the routes and putting them in force.
	routing sync.Mutex
	// unrouted is set while the gateway has not got the latest routes.
	unrouted atomic.Bool
}

// askServersFor is how long a model server may take to answer a question of ours.
const askServersFor = 2 * time.Second

// New makes a service.
func New(c Config) *Service {
	s := &Service{store: c.Store, signals: c.Signals, blobs: c.Blobs, recorder: c.Recorder, router: c.Router,
		servers: oip.NewClient(askServersFor), ladder: ladder.Default(), log: c.Log, clock: c.Now,
		requests: c.RequestIDs, fetcher: c.Fetch, sparing: c.Spare}
	if s.fetcher == nil {
		s.fetcher = &fetch.Fetcher{}
	}
	if s.clock == nil {
		s.clock = time.Now
	}
	return s
}

// now is the moment, as precise as it is stored.
func (s *Service) now() time.Time { return s.clock().UTC().Truncate(time.Millisecond) }

// spare is how old a file must be to be collected.
func (s *Service) spare() time.Duration {
	if s.sparing == 0 {
		return youngest
	}
	return s.sparing
}

// Ladder is the ladder that versions climb.
func (s *Service) Ladder() ladder.Ladder { return s.ladder }

// Ready says whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ready(ctx) }

// Itself is the actor of what the service does by itself.
const Itself = "inner-ladder"

// Actor is who does something.
type Actor struct {
	Name string
	Role string
	// RequestID is that of the call, for the record.
	RequestID string
	// Repeat identifies a call that may come twice; its zero value is none.
	Repeat RepeatKey
}

// RepeatKey is an Idempotency-Key with the digest of the request it came with.
type RepeatKey struct {
	Key    string
	Digest []byte
}

type actorKey struct{}

// As returns a context in which things are done by an actor.
func As(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, actorKey{}, a) }

// actor is who does things in ctx; nobody may do nothing.
func actor(ctx context.Context) (Actor, error) {
	a, ok := ctx.Value(actorKey{}).(Actor)
	if !ok || a.Name == "" {
		return a, fault.New(fault.Unsigned, "sign_in.needed", "nobody is signed in").Do("sign in with: innerladder login")
	}
	return a, nil
}

// Permission names what a call needs.
type Permission string

// The permissions.
const (
	// Read: see everything.
	Read Permission = "read"
	// Write: register, ask, sign, place, split, roll back.
	Write Permission = "write"
	// AddPeople: give others access.
	AddPeople Permission = "add_people"
)

// may checks that whoever acts in ctx has a permission.
func may(ctx context.Context, p Permission) (Actor, error) {
	a, err := actor(ctx)
	if err != nil {
		return a, err
	}
	if p == AddPeople && a.Role != Owner && a.Name != Itself {
		return a, fault.New(fault.Forbidden, "permission.missing", "%s may not add people", a.Name).Do("ask an owner to do it")
	}
	return a, nil
}

// entry is what a change says about itself for the record.
type entry struct {
	Kind     string
	Subject  string
	Sentence string
	Reason   string
	// Also lists what else it is about.
	Also   []string
	Before any
	After  any
}

// tx is what a change works with: the records inside of the transaction, who acts, when,
// and the entries it has noted so far.
type tx struct {
	store.Records
	actor   Actor
	now     time.Time
	entries []store.Entry
}

// note adds an entry to the record.
func (t *tx) note(ctx context.Context, e entry) error {
	line := store.Entry{At: t.now, Actor: t.actor.Name, Kind: e.Kind, Subject: e.Subject, Sentence: e.Sentence, Reason: e.Reason, Also: e.Also, RequestID: t.actor.RequestID}
	for _, side := range []struct {
		value any
		into  *json.RawMessage
	}{{e.Before, &line.Before}, {e.After, &line.After}} {
		if side.value == nil {
			continue
		}
		b, err := json.Marshal(side.value)
		if err != nil {
			return fmt.Errorf("noting %s: %w", e.Kind, err)
		}
		*side.into = b
	}
	if err := t.AddEntry(ctx, &line); err != nil {
		return fmt.Errorf("noting %s: %w", e.Kind, err)
	}
	t.entries = append(t.entries, line)
	return nil
}

// change carries out fn in one transaction and publishes its entries when that is
// confirmed. A call that carries the key of an earlier one changes nothing and gets the
// earlier answer.
func change[T any](ctx context.Context, s *Service, p Permission, fn func(*tx) (T, error)) (T, error) {
	var out, none T
	a, err := may(ctx, p)
	if err != nil {
		return none, err
	}
	var t *tx
	err = s.store.Write(ctx, func(r store.Records) error {
		t = &tx{Records: r, actor: a, now: s.now()}
		if a.Repeat.Key == "" {
			out, err = fn(t)
			return err
		}
		if before, err := earlier(ctx, r, a); err != nil {
			return err
		} else if before != nil {
			return json.Unmarshal(before, &out)
		}
		if out, err = fn(t); err != nil {
			return err
		}
		answer, err := json.Marshal(out)
		if err != nil {
			return err
		}
		return r.AddRepeat(ctx, a.Name, a.Repeat.Key, store.Repeat{RequestDigest: a.Repeat.Digest, Answer: answer}, t.now)
	})
	if err != nil {
		return none, err
	}
	s.changes.publish(t.entries)
	return out, nil
}

// earlier finds the answer that an actor's call got when it came before, nil when it did
// not.
func earlier(ctx context.Context, r store.Records, a Actor) (json.RawMessage, error) {
	before, err := r.Repeated(ctx, a.Name, a.Repeat.Key)
	switch {
	case errors.Is(err, store.ErrNone):
		return nil, nil
	case err != nil:
		return nil, err
	case !bytes.Equal(before.RequestDigest, a.Repeat.Digest):
		return nil, fault.New(fault.Refused, "idempotency.other_request", "the Idempotency-Key %q came with another request before", a.Repeat.Key).
			In("Idempotency-Key").Do("use a new key for a new request")
	}
	return before.Answer, nil
}

// EarlierAnswer is the answer to a call that carries the key of an earlier one, before
// anything is done or looked at again; nil when there is none.
func (s *Service) EarlierAnswer(ctx context.Context) (json.RawMessage, error) {
	a, err := actor(ctx)
	if err != nil || a.Repeat.Key == "" {
		return nil, err
	}
	return earlier(ctx, s.store.Read(), a)
}

// Listed is a part of a list.
type Listed[T any] struct {
	Items []T `json:"items"`
	// Next is the cursor for the rest; empty at the end.
	Next string `json:"next_cursor,omitempty"`
}

// subscribers of entries may lag this many behind before they are dropped.
const subscriberQueue = 256

// changes hands confirmed entries to whoever listens.
type changes struct {
	mu        sync.Mutex
	listeners map[chan store.Entry]struct{}
}

func (c *changes) publish(entries []store.Entry) {
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
func (s *Service) Changes() (entries <-chan store.Entry, stop func()) {
	l := make(chan store.Entry, subscriberQueue)
	s.changes.mu.Lock()
	defer s.changes.mu.Unlock()
	if s.changes.listeners == nil {
		s.changes.listeners = map[chan store.Entry]struct{}{}
	}
	s.changes.listeners[l] = struct{}{}
	return l, func() {
		s.changes.mu.Lock()
		defer s.changes.mu.Unlock()
		if _, there := s.changes.listeners[l]; there {
			delete(s.changes.listeners, l)
			close(l)
		}
	}
}

// EntriesSince lists what changed after a line of the record, oldest first, for
// listeners that take up again.
func (s *Service) EntriesSince(ctx context.Context, seq int64) ([]store.Entry, error) {
	if _, err := may(ctx, Read); err != nil {
		return nil, err
	}
	return s.store.Read().EntriesSince(ctx, seq, 1000)
}

// Audit lists the record, newest first, about one subject when one is given.
func (s *Service) Audit(ctx context.Context, subject string, p store.Page) (Listed[store.Entry], error) {
	return list(ctx, func(r store.Records) ([]store.Entry, string, error) { return r.Entries(ctx, subject, p) }, s)
}

// list reads a part of a list for someone who may read.
func list[T any](ctx context.Context, read func(store.Records) ([]T, string, error), s *Service) (Listed[T], error) {
	if _, err := may(ctx, Read); err != nil {
		return Listed[T]{}, err
	}
	items, next, err := read(s.store.Read())
	return Listed[T]{items, next}, err
}
