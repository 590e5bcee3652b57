package credential

import (
	"context"
	"slices"
	"sync"

	"innerladder/internal/core/fault"
)

// How many passwords are hashed at the same time, since each takes 64 MiB; how many of one
// address may wait for that, and how many in all.
const (
	hashedAtOnce      = 2
	waitingOfOne      = 50
	waitingAltogether = 1000
)

// Turns lets few hash passwords at the same time. Addresses take turns, however many attempts
// of each wait, so that a burst from one keeps nobody else out. The zero value is ready.
type Turns struct {
	mu    sync.Mutex
	going int
	// waiting are those of each address, in the order in which they came; next are the
	// addresses that have some, in the order of their turns.
	waiting map[string][]chan struct{}
	next    []string
	all     int
}

// Take waits for a turn of an address. done must be called when it is over. It refuses at once
// where too many wait already.
func (t *Turns) Take(ctx context.Context, address string) (done func(), err error) {
	t.mu.Lock()
	if t.going < hashedAtOnce {
		t.going++
		t.mu.Unlock()
		return t.done, nil
	}
	if len(t.waiting[address]) >= waitingOfOne || t.all >= waitingAltogether {
		t.mu.Unlock()
		return nil, fault.New(fault.TooOften, "sign_in.busy", "too many are signing in at this moment").
			Do("try again in a few seconds")
	}
	turn := make(chan struct{})
	if t.waiting == nil {
		t.waiting = map[string][]chan struct{}{}
	}
	if len(t.waiting[address]) == 0 {
		t.next = append(t.next, address)
	}
	t.waiting[address] = append(t.waiting[address], turn)
	t.all++
	t.mu.Unlock()
	select {
	case <-turn:
		return t.done, nil
	case <-ctx.Done():
		if t.leave(address, turn) {
			return nil, ctx.Err()
		}
		return t.done, nil // it came at the same moment
	}
}

// leave takes one out of those that wait, unless its turn has come.
func (t *Turns) leave(address string, turn chan struct{}) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	i := slices.Index(t.waiting[address], turn)
	if i < 0 {
		return false
	}
	t.waiting[address] = slices.Delete(t.waiting[address], i, i+1)
	t.all--
	if len(t.waiting[address]) == 0 {
		delete(t.waiting, address)
		t.next = slices.DeleteFunc(t.next, func(a string) bool { return a == address })
	}
	return true
}

// done hands the turn on: to the address that has waited longest since its last one.
func (t *Turns) done() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.next) == 0 {
		t.going--
		return
	}
	address := t.next[0]
	t.next = t.next[1:]
	turn := t.waiting[address][0]
	t.waiting[address] = t.waiting[address][1:]
	t.all--
	if len(t.waiting[address]) > 0 {
		t.next = append(t.next, address)
	} else {
		delete(t.waiting, address)
	}
	close(turn)
}
