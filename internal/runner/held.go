package runner

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// State is what a replica says of itself in its folder.
type State struct {
	PID     int    `json:"pid"`
	Address string `json:"address,omitempty"`
	// Refused says why it cannot ever serve its file; starting it again is of no use.
	Refused string    `json:"refused,omitempty"`
	Begun   time.Time `json:"begun"`
}

// ErrHeld says that another process keeps a folder.
var ErrHeld = errors.New("another runner keeps this folder")

// Folder is the folder of one replica, held by it.
type Folder struct {
	dir   string
	lock  *os.File
	state State
}

// holdWithin is how long Hold tries: the service looks at the lock too, for a moment each second.
const holdWithin = 3 * time.Second

// Hold takes a folder for this process; ErrHeld when another has it. It is held until it is released.
func Hold(dir string) (*Folder, error) {
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("keeping %s: %w", dir, err)
	}
	until := time.Now().Add(holdWithin)
	for syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		if time.Now().After(until) {
			_ = lock.Close()
			return nil, fmt.Errorf("%w: %s", ErrHeld, dir)
		}
		time.Sleep(20 * time.Millisecond)
	}
	f := &Folder{dir: dir, lock: lock, state: State{PID: os.Getpid(), Begun: time.Now().UTC()}}
	return f, f.write()
}

// Release gives the folder back. Until then the lock must be referred to: a file that is not is closed when memory is
// tidied, and with it goes the lock.
func (f *Folder) Release() { _ = f.lock.Close() }

// Serving says at which address the replica answers.
func (f *Folder) Serving(address string) error {
	f.state.Address = address
	return f.write()
}

// Refuse says why the replica cannot ever serve its file.
func (f *Folder) Refuse(why string) error {
	f.state.Refused = why
	return f.write()
}

// write writes the state.
func (f *Folder) write() error {
	b, err := json.Marshal(f.state)
	if err != nil {
		return err
	}
	return replace(filepath.Join(f.dir, "state.json"), b)
}

// replace writes a file so that nobody reads half of it.
func replace(file string, text []byte) error {
	next := file + ".next"
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, file)
}

// readState reads what the replica of a folder said last; the zero value when it said nothing.
func readState(dir string) (s State) {
	b, err := os.ReadFile(filepath.Join(dir, "state.json"))
	if err != nil || json.Unmarshal(b, &s) != nil {
		return State{}
	}
	return s
}

// isHeld reports whether a process keeps a folder.
func isHeld(dir string) bool {
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR, 0o600)
	if err != nil {
		return false
	}
	defer lock.Close()
	return syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil
}

// Alone waits until no service has touched a file for some time, or until done is closed.
func Alone(file string, away time.Duration, done <-chan struct{}) bool {
	begun := time.Now()
	tick := time.NewTicker(min(time.Second, away/4+time.Millisecond))
	defer tick.Stop()
	for {
		select {
		case <-done:
			return false
		case now := <-tick.C:
			last := begun
			if info, err := os.Stat(file); err == nil && info.ModTime().After(last) {
				last = info.ModTime()
			}
			if now.Sub(last) > away {
				return true
			}
		}
	}
}
