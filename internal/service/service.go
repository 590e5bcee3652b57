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
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/blob"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/health"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
	"innerladder/internal/core/traffic"
	"innerladder/internal/fetch"
	"innerladder/internal/jobs"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// Config is what a service is made of.
type Config struct {
	Records  *records.DB
	Signals  *signals.Keeper
	Blobs    *blob.Store
	Recorder *recorder.Recorder
	Router   Router
	Log      *slog.Logger
	// RequestIDs reads the ids that the gateway makes.
	RequestIDs *traffic.RequestIDs
	// Fetch opens the addresses that versions are registered from.
	Fetch *fetch.Fetcher
	// Signer signs checkpoints of the record.
	Signer record.Signer
	// Address is how people reach the console, for links.
	Address string
	// Keys seal what must not lie open.
	Keys *seal.Ring
	// Spare is how old a file must be to be collected; 0 is an hour.
	Spare time.Duration
	// Now is the clock; nil is the real one.
	Now func() time.Time
}

// Service does the job. It is safe for use by several goroutines at once.
type Service struct {
	db       *records.DB
	signals  *signals.Keeper
	blobs    *blob.Store
	recorder *recorder.Recorder
	router   Router
	servers  *oip.Client
	log      *slog.Logger
	clock    func() time.Time
	changes  changes
	requests *traffic.RequestIDs
	fetcher  *fetch.Fetcher
	spareFor time.Duration
	attempts attempts
	// attention knows which promotions have to be looked at.
	attention attention
	address   string
	signer    record.Signer

	// keys seal secrets; they change when they are rotated.
	keysMu   sync.Mutex
	keys     *seal.Ring
	rotating sync.Mutex

	// routing serialises reading the routes and putting them in force; unrouted are the
	// endpoints for which that could not be done.
	routing  sync.Mutex
	unrouted map[string]bool

	// health is where the health watch of each address of each placement stands; checking
	// are the checks that go on.
	healthMu sync.Mutex
	health   map[address]health.State
	checking jobs.Busy

	// watched is where the watching of each endpoint's trials stands, trials which those are.
	watchMu sync.Mutex
	watched map[string]guard.State
	trials  map[string]splitTrials
	// said is what was said last of the signals.
	said atomic.Int32
}

// askServersFor is how long a model server may take to answer a question of ours.
const askServersFor = 2 * time.Second

// New makes a service.
func New(c Config) *Service {
	s := &Service{
		db: c.Records, signals: c.Signals, blobs: c.Blobs, recorder: c.Recorder, router: c.Router,
		servers: oip.NewClient(askServersFor), log: c.Log, clock: c.Now,
		requests: c.RequestIDs, unrouted: map[string]bool{}, health: map[address]health.State{},
		watched: map[string]guard.State{}, trials: map[string]splitTrials{}, fetcher: c.Fetch, spareFor: c.Spare,
		address: c.Address, keys: c.Keys, signer: c.Signer,
	}
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
	if s.spareFor == 0 {
		return youngest
	}
	return s.spareFor
}

// Ready says whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.db.Ready(ctx) }

// Itself is the actor of what the service does by itself.
const Itself = "inner-ladder"

// Actor is who does something.
type Actor struct {
	Name   string
	Rights access.Rights
	// Address is where the call came from, RequestID its id; both are for the record.
	Address, RequestID string
	// Repeat identifies a call that may come twice; its zero value is none.
	Repeat RepeatKey
	// person is the account, 0 for the service itself.
	person int64
	// session is the digest of the console's session; nil when a token was used.
	session []byte
	// narrowed is set when a token was used that may less than its owner.
	narrowed bool
}

// sight is what the actor may see.
func (a Actor) sight() records.Sight {
	projects, all := a.Rights.Where(access.Read)
	return records.Sight{All: all, Projects: projects}
}

// Acting is who acts in ctx.
func Acting(ctx context.Context) Actor {
	a, _ := ctx.Value(actorKey{}).(Actor)
	return a
}

// BySelf returns a context in which the service itself does things.
func BySelf(ctx context.Context) context.Context {
	return As(ctx, Actor{Name: Itself, Rights: access.All()})
}

// RepeatKey is an Idempotency-Key with the digest of the request it came with.
type RepeatKey struct {
	Key    string
	Digest []byte
}

type actorKey struct{}

// As returns a context in which things are done by an actor.
func As(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, actorKey{}, a) }

// actor is who does things in ctx. A caller without an identity is refused.
func actor(ctx context.Context) (Actor, error) {
	a, ok := ctx.Value(actorKey{}).(Actor)
	if !ok || a.Name == "" {
		return a, fault.New(fault.Unsigned, "sign_in.needed", "nobody is signed in").
			Do("sign in with: innerladder login")
	}
	return a, nil
}

// may checks that whoever acts in ctx has a permission in some project. Which one it is
// about is known when that is found; then need checks it.
func may(ctx context.Context, p access.Permission) (Actor, error) {
	a, err := actor(ctx)
	if err != nil {
		return a, err
	}
	if p == access.Administer {
		return a, a.need(p, "")
	}
	if !a.Rights.Somewhere(p) {
		return a, fault.New(fault.Forbidden, "permission.missing", "%s may not %s in any project", a.Name, p).
			Do("ask an owner for a role with the permission %q", p)
	}
	return a, nil
}

// May checks that whoever acts in ctx has a permission in some project.
func May(ctx context.Context, p access.Permission) error {
	_, err := may(ctx, p)
	return err
}

// need checks that the actor has a permission in a project; the empty project is the
// service itself.
func (a Actor) need(p access.Permission, project string) error {
	switch {
	case a.Rights.May(p, project):
		return nil
	case project == "" || project == access.Everywhere:
		return fault.New(fault.Forbidden, "permission.missing", "%s may not %s for the whole service", a.Name, p).
			Do("ask someone who has the permission %q for all projects", p)
	}
	return fault.New(fault.Forbidden, "permission.missing", "%s may not %s in the project %s", a.Name, p, project).
		Do("ask an owner of %s for a role with the permission %q", project, p)
}

// records are the queries with the sight of whoever acts in ctx; where nobody acts, they find
// nothing.
func (s *Service) records(ctx context.Context) records.View {
	a, _ := ctx.Value(actorKey{}).(Actor)
	return s.db.Read(a.sight())
}

// entry is what a change says about itself for the record.
type entry struct {
	// Project is what the change was made in; whoever acts needs the change's permission
	// there. Empty is the service itself.
	Project  string
	Kind     string
	Subject  string
	Sentence string
	Reason   string
	// Also lists what else it is about.
	Also   []string
	Before any
	After  any
	// On is the line that a comment answers.
	On int64
	// involved says whom it concerns beyond what the entry says itself.
	involved map[notice.Topic][]string
}

// tx is what a change works with: the records inside of the transaction, who acts, when,
// and the entries it has noted so far.
type tx struct {
	records.View
	actor      Actor
	permission access.Permission
	now        time.Time
	entries    []record.Entry
}

// need checks the change's permission in a project, for changes that note nothing.
func (t *tx) need(project string) error { return t.actor.need(t.permission, project) }

// note adds an entry to the record, if whoever acts may make the change in its project.
// Every change notes something, so none can go without that check.
func (t *tx) note(ctx context.Context, e entry) error {
	if err := t.need(e.Project); err != nil {
		return err
	}
	line := record.Entry{
		At: t.now, Project: e.Project, Actor: t.actor.Name, Kind: e.Kind, Subject: e.Subject,
		Sentence: e.Sentence, Reason: e.Reason, On: e.On,
		Address: t.actor.Address, RequestID: t.actor.RequestID,
	}
	for _, also := range e.Also {
		if also != "" && also != e.Subject && !slices.Contains(line.Also, also) {
			line.Also = append(line.Also, also)
		}
	}
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
	return t.tell(ctx, line, e.involved)
}

// change carries out fn in one transaction and publishes its entries when that is
// confirmed. A call that carries the key of an earlier one changes nothing and gets the
// earlier answer.
func change[T any](ctx context.Context, s *Service, p access.Permission, fn func(*tx) (T, error)) (T, error) {
	var out, none T
	a, err := may(ctx, p)
	if err != nil {
		return none, err
	}
	var t *tx
	err = s.db.Write(ctx, a.sight(), func(r records.View) error {
		t = &tx{View: r, actor: a, permission: p, now: s.now()}
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
		return r.AddRepeat(ctx, a.Name, a.Repeat.Key, records.Repeat{RequestDigest: a.Repeat.Digest, Answer: answer},
			t.now)
	})
	if err != nil {
		return none, err
	}
	s.attention.noted(t.entries)
	s.changes.publish(t.entries)
	return out, nil
}

// earlier finds the answer that an actor's call got when it came before, nil when it did
// not.
func earlier(ctx context.Context, r records.View, a Actor) (json.RawMessage, error) {
	before, err := r.Repeated(ctx, a.Name, a.Repeat.Key)
	switch {
	case errors.Is(err, records.ErrNone):
		return nil, nil
	case err != nil:
		return nil, err
	case !bytes.Equal(before.RequestDigest, a.Repeat.Digest):
		return nil, fault.New(fault.Refused, "idempotency.other_request",
			"the Idempotency-Key %q came with another request before", a.Repeat.Key).
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
	return earlier(ctx, s.db.Read(records.Everything), a)
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
func (s *Service) Changes() (entries <-chan record.Entry, stop func()) {
	l := make(chan record.Entry, subscriberQueue)
	s.changes.mu.Lock()
	defer s.changes.mu.Unlock()
	if s.changes.listeners == nil {
		s.changes.listeners = map[chan record.Entry]struct{}{}
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

// list reads a part of a list for someone who may read.
func list[T any](ctx context.Context, read func(records.View) ([]T, string, error), s *Service,
) (wire.Listed[T], error) {
	a, err := may(ctx, access.Read)
	if err != nil {
		return wire.Listed[T]{}, err
	}
	items, next, err := read(s.db.Read(a.sight()))
	return wire.Listed[T]{Items: items, Next: next}, err
}
