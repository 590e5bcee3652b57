package signals

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"
)

// Keeper opens the signals, notices when something is wrong with their file, and begins
// anew when it is lost. Nothing waits for it: while there is no store, what is measured is
// kept in memory as far as it goes.
type Keeper struct {
	path string
	log  *slog.Logger
	// attach is told of every store that is opened, and nil when one is taken away.
	attach func(context.Context, *Store) error
	store  atomic.Pointer[Store]

	mu      sync.Mutex
	trouble string
	since   time.Time
	losses  []Loss
}

// Loss is a file of signals that was lost.
type Loss struct {
	At time.Time
	// Sentence says what happened and where the file is now.
	Sentence string
}

// NewKeeper makes a keeper that has opened nothing yet.
func NewKeeper(path string, log *slog.Logger, attach func(context.Context, *Store) error) *Keeper {
	return &Keeper{path: path, log: log, attach: attach}
}

// Store is the store that is open, nil when there is none.
func (k *Keeper) Store() *Store { return k.store.Load() }

// Trouble says what is wrong with the signals and since when; the text is empty when
// nothing is.
func (k *Keeper) Trouble() (text string, since time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.trouble, k.since
}

// Losses takes the losses that nobody has been told of yet.
func (k *Keeper) Losses() []Loss {
	k.mu.Lock()
	defer k.mu.Unlock()
	taken := k.losses
	k.losses = nil
	return taken
}

// Returned gives back losses that could not be told.
func (k *Keeper) Returned(l []Loss) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.losses = append(l, k.losses...)
}

// Look opens the signals when they are not open, and looks whether they are well when they
// are. wrote is how the last attempt to write to them ended.
func (k *Keeper) Look(ctx context.Context, now time.Time, wrote error) error {
	err := k.look(ctx, now, wrote)
	k.mu.Lock()
	defer k.mu.Unlock()
	switch {
	case err == nil:
		k.trouble, k.since = "", time.Time{}
	case k.trouble == "":
		k.since = now
		fallthrough
	default:
		k.trouble = err.Error()
	}
	return err
}

func (k *Keeper) look(ctx context.Context, now time.Time, wrote error) error {
	s := k.Store()
	if s == nil {
		return k.open(ctx, now)
	}
	err := errors.Join(s.Check(ctx), wrote)
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return ctx.Err()
	case Damaged(err):
		return errors.Join(k.close(ctx), k.setAside(now, err), k.open(ctx, now))
	case k.replaced(s):
		k.lost(
			now,
			"signals.db was taken away while the service ran. A new one was begun; what was measured before is in it "+
				"only as far as it was still in memory.",
		)
		return errors.Join(k.close(ctx), k.open(ctx, now))
	}
	return err
}

// replaced reports whether the file is gone or another.
func (k *Keeper) replaced(s *Store) bool {
	now, err := os.Stat(k.path)
	return errors.Is(err, os.ErrNotExist) || (err == nil && !os.SameFile(now, s.file))
}

func (k *Keeper) open(ctx context.Context, now time.Time) error {
	s, err := Open(ctx, k.path)
	if Damaged(err) {
		if err := k.setAside(now, err); err != nil {
			return err
		}
		s, err = Open(ctx, k.path)
	}
	if err != nil {
		return fmt.Errorf("the signals cannot be opened: %w", err)
	}
	if err := k.attach(ctx, s); err != nil {
		return errors.Join(fmt.Errorf("the signals cannot be read: %w", err), s.Close())
	}
	k.store.Store(s)
	return nil
}

// setAside moves a damaged file away, so that somebody can look at it.
func (k *Keeper) setAside(now time.Time, why error) error {
	name := k.path + ".damaged-" + now.UTC().Format("20060102T150405")
	if err := os.Rename(k.path, name); err != nil {
		return fmt.Errorf("the signals are damaged and cannot be moved away: %w", err)
	}
	for _, end := range []string{"-wal", "-shm"} {
		_ = os.Rename(k.path+end, name+end) // they need not be there
	}
	k.log.Error("the signals are damaged and were moved away", "to", name, "error", why)
	k.lost(
		now,
		"signals.db was damaged. It was moved to "+name+
			", and a new one was begun; what was measured before is not in it.",
	)
	return nil
}

func (k *Keeper) lost(now time.Time, sentence string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.losses = append(k.losses, Loss{now, sentence})
}

func (k *Keeper) close(ctx context.Context) error {
	s := k.store.Swap(nil)
	if s == nil {
		return nil
	}
	_ = s.Close() // its file is gone or broken
	return k.attach(ctx, nil)
}

// Close closes the store that is open.
func (k *Keeper) Close() error {
	if s := k.store.Swap(nil); s != nil {
		return s.Close()
	}
	return nil
}
