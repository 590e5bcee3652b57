package agent

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/sqlite"

	"github.com/google/uuid"
)

//go:embed migrations/*.sql
var migrations embed.FS

// errFull says that as much waits as may: whoever brings lines waits too.
var errFull = errors.New("the agent's folder holds as much as it may; it goes on when the service has taken some")

// mostAside is how many lines are put aside at most; of more it is only counted how many.
const mostAside = 100_000

// spool is what waits on disk.
type spool struct {
	db     *sqlite.DB
	unlock func()
	// limit is how many bytes may wait.
	limit int64
	// name is the agent's id.
	name atomic.Pointer[string]
	// waiting are the bytes that do.
	waiting atomic.Int64
}

// openSpool opens or makes the folder of an agent. One that reports of another endpoint, or that another agent works
// on, is refused.
func openSpool(ctx context.Context, dir, endpoint string, limit int64) (*spool, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the agent's folder: %w", err)
	}
	unlock, err := lock(filepath.Join(dir, "lock"))
	if err != nil {
		return nil, err
	}
	s := &spool{unlock: unlock, limit: limit}
	if err := s.open(ctx, dir, endpoint); err != nil {
		unlock()
		return nil, err
	}
	return s, nil
}

func (s *spool) open(ctx context.Context, dir, endpoint string) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if s.db, err = sqlite.Open(ctx, filepath.Join(dir, "agent.db"),
		sqlite.Options{Synchronous: "FULL", Migrations: sub}); err != nil {
		return err
	}
	var id, of string
	err = s.db.Write.QueryRowContext(ctx, `SELECT id, endpoint FROM agent`).Scan(&id, &of)
	if errors.Is(err, sql.ErrNoRows) {
		id, of = uuid.NewString(), endpoint
		_, err = s.db.Write.ExecContext(ctx, `INSERT INTO agent (id, endpoint, number) VALUES (?, ?, 0)`, id, of)
	}
	s.setID(id)
	if err == nil && of != endpoint && endpoint != "" {
		err = fmt.Errorf("the folder %s is that of an agent of %s; give another with -state", dir, of)
	}
	if err == nil {
		err = s.measure(ctx)
	}
	if err != nil {
		return errors.Join(err, s.db.Close())
	}
	return nil
}

// lock makes sure that one agent only works on a folder.
func lock(path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the agent's folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("another agent works on %s; stop it, or give another folder with -state",
			filepath.Dir(path))
	}
	return func() { _ = f.Close() }, nil
}

// id is the agent's.
func (s *spool) id() string { return *s.name.Load() }

func (s *spool) setID(id string) { s.name.Store(&id) }

func (s *spool) close() error {
	defer s.unlock()
	return s.db.Close()
}

// measure finds how much waits.
func (s *spool) measure(ctx context.Context) error {
	var n int64
	err := s.db.Read.QueryRowContext(ctx, `SELECT coalesce((SELECT sum(length(lines)) FROM raw), 0)
		+ coalesce((SELECT sum(length(body)) FROM batches), 0)`).Scan(&n)
	s.waiting.Store(n)
	return err
}

// position says up to where a file was read.
type position struct {
	path          string
	device, inode uint64
	// begins is a hash of how the file begins: numbers of files are given again.
	begins string
	read   int64
	// since is since when a file is waited for, where none was there yet.
	since time.Time
}

// keyKept is for how long keys are known under which something was posted.
const keyKept = 24 * time.Hour

// post takes lines in that were posted, unless that was done under the same key before; there may be none.
func (s *spool) post(ctx context.Context, lines []byte, at time.Time, key string) (again bool, err error) {
	err = s.take(ctx, lines, at, func(tx *sql.Tx) error {
		if key == "" {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM posted WHERE at < ?`, at.Add(-keyKept).UnixMilli()); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, `INSERT INTO posted (key, at) VALUES (?, ?) ON CONFLICT DO NOTHING`, key,
			at.UnixMilli())
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		if err == nil && n == 0 {
			err = errAgain
		}
		return err
	})
	if errors.Is(err, errAgain) {
		return true, nil
	}
	return false, err
}

// errAgain says that something was posted before.
var errAgain = errors.New("it was posted before")

// put takes lines of a file in, with up to where it was read; nil for what is no file.
func (s *spool) put(ctx context.Context, lines []byte, at time.Time, p *position) error {
	return s.take(ctx, lines, at, func(tx *sql.Tx) error {
		if p == nil {
			return nil
		}
		_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO positions (path, device, inode, begins, read, since)
			VALUES (?, ?, ?, ?, ?, ?)`, p.path, int64(p.device), int64(p.inode), p.begins, p.read,
			max(0, p.since.UnixMilli()))
		return err
	})
}

// take takes lines in, and what goes with them.
func (s *spool) take(ctx context.Context, lines []byte, at time.Time, with func(*sql.Tx) error) error {
	if s.waiting.Load()+int64(len(lines)) > s.limit {
		return errFull
	}
	err := s.db.InOne(ctx, func(tx *sql.Tx) error {
		if len(lines) > 0 {
			if _, err := tx.ExecContext(ctx, `INSERT INTO raw (at, lines) VALUES (?, ?)`, at.UnixMilli(),
				lines); err != nil {
				return err
			}
		}
		return with(tx)
	})
	if err != nil {
		return fmt.Errorf("keeping lines: %w", err)
	}
	s.waiting.Add(int64(len(lines)))
	return nil
}

// positionOf says up to where a file was read; the zero position where it was not.
func (s *spool) positionOf(ctx context.Context, path string) (position, error) {
	p := position{path: path}
	var device, inode, since int64
	err := s.db.Read.QueryRowContext(ctx, `SELECT device, inode, begins, read, since FROM positions WHERE path = ?`,
		path).Scan(&device, &inode, &p.begins, &p.read, &since)
	if errors.Is(err, sql.ErrNoRows) {
		return p, nil
	}
	p.device, p.inode, p.since = uint64(device), uint64(inode), time.UnixMilli(since)
	return p, err
}

// chunk are lines as they came.
type chunk struct {
	id    int64
	at    time.Time
	lines []byte
}

// next reads lines that wait to be summed up, those that came first, up to some bytes but one chunk at least.
func (s *spool) next(ctx context.Context, most int) (out []chunk, err error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT id, at, lines FROM raw ORDER BY id LIMIT 1000`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for n := 0; n < most && rows.Next(); {
		var c chunk
		var at int64
		if err := rows.Scan(&c.id, &at, &c.lines); err != nil {
			return nil, err
		}
		c.at = time.UnixMilli(at).UTC()
		n += len(c.lines)
		out = append(out, c)
	}
	return out, rows.Err()
}

// odd is a line that could not be understood.
type odd struct {
	line []byte
	why  string
}

// sum puts batches in the place of the chunks that they were made of, and lines aside. The batches get their numbers.
func (s *spool) sum(ctx context.Context, of []chunk, batches []elsewhere.Batch, aside []odd, now time.Time) error {
	var less, more int64
	err := s.db.InOne(ctx, func(tx *sql.Tx) error {
		for _, c := range of {
			if _, err := tx.ExecContext(ctx, `DELETE FROM raw WHERE id = ?`, c.id); err != nil {
				return err
			}
			less += int64(len(c.lines))
		}
		for i := range batches {
			b := &batches[i]
			if err := tx.QueryRowContext(ctx, `UPDATE agent SET number = number + 1 RETURNING number`).
				Scan(&b.Number); err != nil {
				return err
			}
			body, err := json.Marshal(b)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO batches (number, body) VALUES (?, ?)`, b.Number,
				body); err != nil {
				return err
			}
			more += int64(len(body))
		}
		for _, o := range aside {
			if _, err := tx.ExecContext(ctx, `INSERT INTO aside (at, why, line) VALUES (?, ?, ?)`, now.UnixMilli(),
				o.why, o.line[:min(len(o.line), longestLine)]); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM aside WHERE id <= (SELECT coalesce(max(id), 0) FROM aside) - ?`,
			mostAside)
		return err
	})
	if err != nil {
		return fmt.Errorf("summing lines up: %w", err)
	}
	s.waiting.Add(more - less)
	return nil
}

// oldest is the batch to send next, and whether that was tried before; ok is false when none waits. It is noted that it
// is tried.
func (s *spool) oldest(ctx context.Context) (b elsewhere.Batch, tried, ok bool, err error) {
	var body []byte
	err = s.db.Read.QueryRowContext(ctx, `SELECT body, tried FROM batches WHERE refused = '' ORDER BY number LIMIT 1`).
		Scan(&body, &tried)
	if errors.Is(err, sql.ErrNoRows) {
		return b, false, false, nil
	}
	if err == nil {
		err = json.Unmarshal(body, &b)
	}
	if err == nil && !tried {
		_, err = s.db.Write.ExecContext(ctx, `UPDATE batches SET tried = 1 WHERE number = ?`, b.Number)
	}
	return b, tried, true, err
}

// rename gives the agent an id of its own, under which a batch was not tried yet: another reports under the one that it
// had.
func (s *spool) rename(ctx context.Context, number int64) error {
	id := uuid.NewString()
	err := s.db.InOne(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE agent SET id = ?`, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE batches SET tried = 0 WHERE number = ?`, number)
		return err
	})
	if err == nil {
		s.setID(id)
	}
	return err
}

// taken forgets a batch that the service has taken.
func (s *spool) taken(ctx context.Context, number int64) error {
	var size int64
	err := s.db.Write.QueryRowContext(ctx, `DELETE FROM batches WHERE number = ? RETURNING length(body)`, number).
		Scan(&size)
	if err == nil {
		s.waiting.Add(-size)
	}
	return err
}

// refused keeps a batch that the service will never take, and why.
func (s *spool) refused(ctx context.Context, number int64, why string) error {
	_, err := s.db.Write.ExecContext(ctx, `UPDATE batches SET refused = ? WHERE number = ?`, why, number)
	return err
}

// again takes lines that were put aside, and batches that were refused, up once more.
func (s *spool) again(ctx context.Context, now time.Time) (lines, batches int64, err error) {
	err = s.db.InOne(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, `INSERT INTO raw (at, lines) SELECT at, line FROM aside ORDER BY id`)
		if err != nil {
			return err
		}
		if lines, err = res.RowsAffected(); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM aside`); err != nil {
			return err
		}
		if res, err = tx.ExecContext(ctx, `UPDATE batches SET refused = '' WHERE refused <> ''`); err != nil {
			return err
		}
		batches, err = res.RowsAffected()
		return err
	})
	return lines, batches, errors.Join(err, s.measure(ctx))
}

// State is what there is in an agent's folder.
type State struct {
	ID       string `json:"id"`
	Endpoint string `json:"endpoint"`
	// Number is that of its last batch.
	Number int64 `json:"number"`
	// Raw are the bytes of lines that wait to be summed up, Batches how many wait to be taken.
	Raw     int64 `json:"raw_bytes"`
	Batches int64 `json:"batches"`
	// Refused are batches that the service will not take, Aside lines that could not be understood.
	Refused []Refusal `json:"refused"`
	Aside   int64     `json:"aside"`
	Lines   []Aside   `json:"lines"`
	// Files are those that were read, and up to where.
	Files []File `json:"files"`
}

// Refusal is a batch that the service will not take.
type Refusal struct {
	Number int64  `json:"number"`
	Why    string `json:"why"`
}

// Aside is a line that could not be understood.
type Aside struct {
	At   time.Time `json:"at"`
	Why  string    `json:"why"`
	Line string    `json:"line"`
}

// File is a file that was read.
type File struct {
	Path string `json:"path"`
	Read int64  `json:"read" description:"bytes"`
}

// shown is how many lines and batches State has at most.
const shown = 20

// ReadState reads what there is in an agent's folder, also while the agent works on it.
func ReadState(ctx context.Context, dir string) (State, error) {
	out := State{Refused: []Refusal{}, Lines: []Aside{}, Files: []File{}}
	if _, err := os.Stat(filepath.Join(dir, "agent.db")); err != nil {
		return out, fmt.Errorf("%s is no folder of an agent", dir)
	}
	db, err := sqlite.Look(filepath.Join(dir, "agent.db"))
	if err != nil {
		return out, err
	}
	defer db.Close()
	if err := db.QueryRowContext(ctx, `SELECT id, endpoint, number,
			coalesce((SELECT sum(length(lines)) FROM raw), 0), (SELECT count(*) FROM batches WHERE refused = ''),
			(SELECT count(*) FROM aside) FROM agent`).
		Scan(&out.ID, &out.Endpoint, &out.Number, &out.Raw, &out.Batches, &out.Aside); err != nil {
		return out, err
	}
	rows, err := db.QueryContext(ctx, `SELECT number, refused FROM batches WHERE refused <> '' ORDER BY number
		LIMIT ?`, shown)
	if out.Refused, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (r Refusal, err error) {
		return r, rows.Scan(&r.Number, &r.Why)
	}); err != nil {
		return out, err
	}
	rows, err = db.QueryContext(ctx, `SELECT at, why, line FROM aside ORDER BY id DESC LIMIT ?`, shown)
	if out.Lines, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (a Aside, err error) {
		var at int64
		var line []byte
		err = rows.Scan(&at, &a.Why, &line)
		a.At, a.Line = time.UnixMilli(at).UTC(), string(line)
		return a, err
	}); err != nil {
		return out, err
	}
	rows, err = db.QueryContext(ctx, `SELECT path, read FROM positions ORDER BY path`)
	out.Files, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (f File, err error) {
		return f, rows.Scan(&f.Path, &f.Read)
	})
	return out, err
}
