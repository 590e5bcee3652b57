package act

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Entry is what a change says about itself for the record.
type Entry struct {
	// Project is what the change was made in; whoever acts needs the change's permission
	// there. Empty, or all projects, is the service itself.
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
	// Involved says whom it concerns beyond what the entry says itself.
	Involved map[notice.Topic][]string
	// Needs is what whoever acts needs in the project for this entry; empty is the permission
	// of the whole change.
	Needs access.Permission
}

// Tx is what a change works with: the records inside of the transaction, who acts, when,
// and the entries it has noted so far.
type Tx struct {
	records.View
	By  Actor
	Now time.Time
	// Entries are those that were noted.
	Entries    []record.Entry
	permission access.Permission
	base       *Base
}

// Need checks the change's permission in a project, for changes that note nothing.
func (t *Tx) Need(project string) error { return t.By.Need(t.permission, project) }

// Permission is what the change needs.
func (t *Tx) Permission() access.Permission { return t.permission }

// Note adds an entry to the record, if whoever acts may make the change in its project.
// Every change notes something, so none can go without that check.
func (t *Tx) Note(ctx context.Context, e Entry) error {
	if e.Project == access.Everywhere { // what is about all projects is about the service
		e.Project = ""
	}
	if err := t.By.Need(cmp.Or(e.Needs, t.permission), e.Project); err != nil {
		return err
	}
	line := record.Entry{
		At: t.Now, Project: e.Project, Actor: t.By.Name, Kind: e.Kind, Subject: e.Subject,
		Sentence: e.Sentence, Reason: e.Reason, On: e.On,
		Address: t.By.Address, RequestID: t.By.RequestID,
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
	t.Entries = append(t.Entries, line)
	for _, tell := range t.base.noted {
		if err := tell(ctx, t, line, e.Involved); err != nil {
			return err
		}
	}
	return nil
}

// Change carries out fn in one transaction and publishes its entries when that is
// confirmed. A call that carries the key of an earlier one changes nothing and gets the
// earlier answer.
func Change[T any](ctx context.Context, b *Base, by Actor, p access.Permission, fn func(*Tx) (T, error)) (T, error) {
	var out, none T
	if err := by.May(p); err != nil {
		return none, err
	}
	var t *Tx
	err := b.DB.Write(ctx, by.Sight(), func(r records.View) (err error) {
		t = &Tx{View: r, By: by, permission: p, Now: b.Now(), base: b}
		if by.Repeat.Key == "" {
			out, err = fn(t)
			return err
		}
		if before, err := earlier(ctx, r, by); err != nil {
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
		return r.AddRepeat(ctx, by.Name, by.Repeat.Key,
			records.Repeat{RequestDigest: by.Repeat.Digest, Answer: answer}, t.Now)
	})
	if err != nil {
		return none, err
	}
	// Whoever asked may have gone by now; what is confirmed has its consequences anyway.
	ctx = context.WithoutCancel(ctx)
	for _, act := range b.confirmed {
		act(ctx, t.Entries)
	}
	b.changes.publish(t.Entries)
	return out, nil
}

// earlier finds the answer that an actor's call got when it came before, nil when it did
// not.
func earlier(ctx context.Context, r records.View, by Actor) (json.RawMessage, error) {
	before, err := r.Repeated(ctx, by.Name, by.Repeat.Key)
	switch {
	case errors.Is(err, records.ErrNone):
		return nil, nil
	case err != nil:
		return nil, err
	case !bytes.Equal(before.RequestDigest, by.Repeat.Digest):
		return nil, fault.New(fault.Refused, "idempotency.other_request",
			"the Idempotency-Key %q came with another request before", by.Repeat.Key).
			In("Idempotency-Key").Do("use a new key for a new request")
	}
	return before.Answer, nil
}

// EarlierAnswer is the answer to a call that carries the key of an earlier one, before
// anything is done or looked at again; nil when there is none.
func (b *Base) EarlierAnswer(ctx context.Context, by Actor) (json.RawMessage, error) {
	if err := by.Signed(); err != nil || by.Repeat.Key == "" {
		return nil, err
	}
	return earlier(ctx, b.DB.Read(records.Everything), by)
}

// List reads a part of a list for someone who may read.
func List[T any](b *Base, by Actor, read func(records.View) ([]T, string, error)) (wire.Listed[T], error) {
	if err := by.May(access.Read); err != nil {
		return wire.Listed[T]{}, err
	}
	items, next, err := read(b.Read(by))
	return wire.Listed[T]{Items: items, Next: next}, err
}
