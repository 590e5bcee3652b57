package scoring

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"innerladder/internal/core/job"
)

// The files of a job, in its folder. Answers and rows that were put aside are lines of JSON lists that begin with the
// number of the row, from 1.
const (
	tableFile   = "table"
	answersFile = "answers.jsonl"
	asideFile   = "put-aside.jsonl"
	reachedFile = "reached.json"
)

// TableIn is where the table of a job stands.
func TableIn(dir string) string { return filepath.Join(dir, tableFile) }

// reached is how far a job is for sure: what the files have beyond it does not count.
type reached struct {
	Rows     int64   `json:"rows"`
	Answered int64   `json:"answered"`
	PutAside int64   `json:"put_aside"`
	Share    float64 `json:"share"`
	// Answers and Aside are the bytes of both files.
	Answers int64 `json:"answers"`
	Aside   int64 `json:"aside"`
	// Kept and Outputs are the columns of the answers after the number of the row.
	Kept    []string `json:"kept"`
	Outputs []string `json:"outputs"`
	Alone   bool     `json:"alone,omitempty"`
}

// sheet keeps what was answered.
type sheet struct {
	dir            string
	answers, aside *os.File
	at             reached
	// waiting is what is not in the files yet; added says that something is not safe yet.
	waitingAnswers, waitingAside []byte
	added                        bool
}

func readReached(dir string) (at reached, err error) {
	raw, err := os.ReadFile(filepath.Join(dir, reachedFile))
	if errors.Is(err, fs.ErrNotExist) {
		return at, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &at)
	}
	return at, err
}

// openSheet goes on where the files are safe; what was written beyond that is cut off.
func openSheet(dir string) (*sheet, error) {
	at, err := readReached(dir)
	if err != nil {
		return nil, fmt.Errorf("reading how far the job is: %w", err)
	}
	s := &sheet{dir: dir, at: at}
	for _, f := range []struct {
		name string
		size int64
		into **os.File
	}{{answersFile, at.Answers, &s.answers}, {asideFile, at.Aside, &s.aside}} {
		file, err := os.OpenFile(filepath.Join(dir, f.name), os.O_RDWR|os.O_CREATE, 0o600)
		if err != nil {
			s.Close()
			return nil, err
		}
		*f.into = file
		info, err := file.Stat()
		if err == nil && info.Size() < f.size {
			err = fmt.Errorf("%s has %d bytes, and %d were written", f.name, info.Size(), f.size)
		}
		if err == nil {
			err = file.Truncate(f.size)
		}
		if err == nil {
			_, err = file.Seek(f.size, 0)
		}
		if err != nil {
			s.Close()
			return nil, err
		}
	}
	return s, nil
}

// keeps settles which columns stand beside the answers.
func (s *sheet) keeps(kept []string) error {
	if s.at.Kept == nil {
		s.at.Kept = kept
	}
	if !slices.Equal(s.at.Kept, kept) {
		return fmt.Errorf("the columns beside the answers were %v, and are %v now; name them with keep", s.at.Kept,
			kept)
	}
	return nil
}

// add takes in what became of the rows up to one.
func (s *sheet) add(r result, to int64, share float64) {
	if to == 0 {
		return
	}
	s.waitingAnswers = append(s.waitingAnswers, r.answers...)
	for _, a := range r.aside {
		s.waitingAside = append(s.waitingAside, a.line...)
		s.at.Aside += int64(len(a.line))
	}
	s.at.Rows, s.at.Share = to, share
	s.at.Answered, s.at.PutAside = s.at.Answered+r.answered, s.at.PutAside+int64(len(r.aside))
	s.at.Answers += int64(len(r.answers))
	s.added = true
}

// safe makes what was added survive a loss of power.
func (s *sheet) safe() error {
	if !s.added {
		return nil
	}
	for _, f := range []struct {
		file    *os.File
		waiting *[]byte
	}{{s.answers, &s.waitingAnswers}, {s.aside, &s.waitingAside}} {
		if len(*f.waiting) == 0 {
			continue
		}
		if _, err := f.file.Write(*f.waiting); err != nil {
			return err
		}
		if err := f.file.Sync(); err != nil {
			return err
		}
		*f.waiting = (*f.waiting)[:0]
	}
	raw, err := json.Marshal(s.at)
	if err != nil {
		return err
	}
	if err := replace(filepath.Join(s.dir, reachedFile), raw); err != nil {
		return err
	}
	s.added = false
	return nil
}

// replace puts a file in the place of another, whole or not at all.
func replace(file string, text []byte) error {
	f, err := os.Create(file + ".new")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func (s *sheet) progress() job.Progress { return s.at.progress() }

func (r reached) progress() job.Progress {
	p := job.Progress{Rows: r.Rows, Answered: r.Answered, PutAside: r.PutAside, Share: r.Share}
	if r.Alone {
		p.Remarks = append(p.Remarks, "the version takes one row at a time")
	}
	return p
}

// Close closes the files.
func (s *sheet) Close() {
	for _, f := range []*os.File{s.answers, s.aside} {
		if f != nil {
			_ = f.Close()
		}
	}
}
