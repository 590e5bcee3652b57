package requestlog

import (
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"innerladder/internal/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// mostOpen is how many files stay open that nobody uses.
const mostOpen = 256

// place is where the requests of an endpoint that ended on a day are.
type place struct {
	day      string
	endpoint int64
}

// path is that of the file, below the directory of the log: everything of a day lies in one directory.
func (p place) path() string {
	return filepath.Join(p.day, "e"+strconv.FormatInt(p.endpoint, 10)+".db")
}

// file is one that is open.
type file struct {
	place
	*sqlite.DB
	// last is the last moment that was written; the file's lock guards it.
	last int64
	// users and used belong to the files' lock.
	users int
	used  time.Time
}

// files opens files, keeps some of them open, and drops them.
type files struct {
	dir string
	// keeps is how many stay open that nobody uses.
	keeps int
	mu    sync.Mutex
	open  map[place]*file
}

// get opens a file; nil when it is not there and is not to be made. It must be given back.
func (o *files) get(ctx context.Context, p place, makes bool) (*file, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	f := o.open[p]
	path := filepath.Join(o.dir, p.path())
	_, err := os.Stat(path)
	gone := errors.Is(err, os.ErrNotExist)
	if gone && f != nil { // somebody took it away
		delete(o.open, p)
		_ = f.Close()
		f = nil
	}
	if f == nil {
		if gone && !makes {
			return nil, nil
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, fmt.Errorf("making the directory of a day's requests: %w", err)
		}
		db, err := openFile(ctx, path)
		if err != nil {
			return nil, fmt.Errorf("opening the requests of %s: %w", p.day, err)
		}
		f = &file{place: p, DB: db}
		o.open[p] = f
	}
	f.users++
	f.used = time.Now()
	return f, nil
}

func openFile(ctx context.Context, path string) (*sqlite.DB, error) {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return sqlite.Open(ctx, path, sqlite.Options{Synchronous: "NORMAL", Patience: 2 * time.Second, Migrations: sub})
}

// giveBack says that a file is used no more, and closes those that were not for longest.
func (o *files) giveBack(f *file) {
	o.mu.Lock()
	defer o.mu.Unlock()
	f.users--
	for len(o.open) > o.keeps {
		var oldest *file
		for _, f := range o.open {
			if f.users == 0 && (oldest == nil || f.used.Before(oldest.used)) {
				oldest = f
			}
		}
		if oldest == nil {
			return
		}
		delete(o.open, oldest.place)
		_ = oldest.Close()
	}
}

func (o *files) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	for p, f := range o.open {
		delete(o.open, p)
		_ = f.Close()
	}
}

// days lists the days of which something is kept, the oldest first.
func (o *files) days() (out []string, err error) {
	entries, err := os.ReadDir(o.dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("listing the requests that are kept: %w", err)
	}
	for _, d := range entries { // in the order of their names
		if _, err := time.Parse(time.DateOnly, d.Name()); err == nil && d.IsDir() {
			out = append(out, d.Name())
		}
	}
	return out, nil
}

// of lists the files of an endpoint, the oldest first.
func (o *files) of(endpoint int64) (out []place, err error) {
	days, err := o.days()
	for _, d := range days {
		p := place{d, endpoint}
		if _, err := os.Stat(filepath.Join(o.dir, p.path())); err == nil {
			out = append(out, p)
		}
	}
	return out, err
}

// Oldest is the first day of which something of an endpoint is kept; the zero time where nothing is.
func (l *Log) Oldest(endpoint int64) (time.Time, error) {
	places, err := l.files.of(endpoint)
	if err != nil || len(places) == 0 {
		return time.Time{}, err
	}
	return time.Parse(time.DateOnly, places[0].day)
}

// stored is a file that there is.
type stored struct {
	place
	bytes int64
}

// list lists all files, the oldest first.
func (o *files) list() ([]stored, error) {
	var out []stored
	days, err := o.days()
	if err != nil {
		return nil, err
	}
	for _, d := range days {
		entries, err := os.ReadDir(filepath.Join(o.dir, d))
		if err != nil {
			return nil, fmt.Errorf("listing the requests of %s: %w", d, err)
		}
		sizes := map[int64]int64{}
		for _, e := range entries {
			number, kind, _ := strings.Cut(strings.TrimPrefix(e.Name(), "e"), ".")
			id, err := strconv.ParseInt(number, 10, 64)
			info, err2 := e.Info()
			if err != nil || err2 != nil || !strings.HasPrefix(kind, "db") {
				continue
			}
			sizes[id] += info.Size()
		}
		for id, bytes := range sizes {
			out = append(out, stored{place{d, id}, bytes})
		}
	}
	slices.SortFunc(out, func(a, b stored) int {
		return cmp.Or(strings.Compare(a.day, b.day), cmp.Compare(a.endpoint, b.endpoint))
	})
	return out, nil
}

// drop removes a file, whoever reads it.
func (o *files) drop(p place) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if f := o.open[p]; f != nil {
		delete(o.open, p)
		_ = f.Close() // who reads it gets an error, and asks again
	}
	path := filepath.Join(o.dir, p.path())
	var errs error
	for _, end := range []string{"-shm", "-wal", ""} {
		if err := os.Remove(path + end); err != nil && !errors.Is(err, os.ErrNotExist) {
			errs = errors.Join(errs, err)
		}
	}
	_ = os.Remove(filepath.Dir(path)) // when nothing is left of the day
	return errs
}

// Forget drops what is older than its endpoint keeps it: a file when all that is in it is. age says for how long
// the requests of an endpoint are kept; most is how many bytes all may have together: beyond it the oldest days
// go first, but never the one that is written; nothing is added to that then.
func (l *Log) Forget(now time.Time, age func(endpoint int64) time.Duration, most int64) error {
	all, err := l.files.list()
	if err != nil {
		return err
	}
	today := now.UTC().Format(time.DateOnly)
	var errs error
	total := int64(0)
	var left []stored
	for _, s := range all {
		day, _ := time.Parse(time.DateOnly, s.day) // it was listed because it is one
		if day.Add(24 * time.Hour).Add(age(s.endpoint)).Before(now) {
			errs = errors.Join(errs, l.files.drop(s.place))
			continue
		}
		total += s.bytes
		left = append(left, s)
	}
	for _, s := range left {
		if total <= most || s.day >= today {
			break
		}
		l.log.Warn("requests are dropped before their time, because all together have too many bytes", "day", s.day,
			"endpoint", s.endpoint, "bytes", s.bytes)
		errs = errors.Join(errs, l.files.drop(s.place))
		total -= s.bytes
	}
	l.room.Store(most - total)
	return errs
}

// Bytes is how many bytes all that is kept has.
func (l *Log) Bytes() int64 {
	all, _ := l.files.list() // what cannot be read has none
	total := int64(0)
	for _, s := range all {
		total += s.bytes
	}
	return total
}
