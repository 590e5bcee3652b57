// Package blob keeps files by the SHA-256 of their bytes. A file is whole or absent:
// it is received beside its place, flushed to disk, and moved there at once.
package blob

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Store is a directory of files.
type Store struct {
	dir string
	// keeping is held for reading while a file is moved to its place and named by a
	// record, and for writing while files that no record names are collected.
	keeping sync.RWMutex
	// held counts those who need every file to stay.
	held atomic.Int64
	// parts are the resumable uploads that are being written to.
	parts sync.Map // id → *sync.Mutex
	// readings are the last of each file that was read.
	readings sync.Map // digest → Reading
}

// Open opens or creates a store in dir and removes what unfinished uploads left.
func Open(dir string) (*Store, error) {
	s := &Store{dir: dir}
	if err := os.RemoveAll(s.unfinished()); err != nil {
		return nil, fmt.Errorf("clearing unfinished uploads: %w", err)
	}
	for _, dir := range []string{s.unfinished(), s.partial(), s.damaged()} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fmt.Errorf("making the file store: %w", err)
		}
	}
	return s, nil
}

// Beside is a directory on the same disk for what is not kept; it is emptied at the next
// start.
func (s *Store) Beside() string { return s.unfinished() }

func (s *Store) unfinished() string { return filepath.Join(s.dir, "unfinished") }

// path is where the file with a digest stands. Two levels keep directories small.
func (s *Store) path(digest string) string {
	return filepath.Join(s.dir, digest[:2], digest)
}

// Upload is a file that was received whole and is not kept yet.
type Upload struct {
	// Digest is the SHA-256 of the bytes in hexadecimal, Size their number.
	Digest string
	Size   int64
	store  *Store
	file   string
	// lasting uploads stay where they are when they are discarded: they came in pieces,
	// and whoever sent them may try again.
	lasting bool
}

// Open opens the received bytes to look into them.
func (u *Upload) Open() (*os.File, error) { return os.Open(u.file) }

// Receive reads r to its end. When it fails, nothing is left behind; otherwise the
// caller must Keep or Discard the upload.
func (s *Store) Receive(r io.Reader) (_ *Upload, err error) {
	f, err := os.CreateTemp(s.unfinished(), "upload-*")
	if err != nil {
		return nil, fmt.Errorf("receiving a file: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	h := sha256.New()
	size, err := receive(f, h, r)
	if err != nil {
		return nil, fmt.Errorf("receiving a file: %w", err)
	}
	if err = f.Sync(); err != nil {
		return nil, fmt.Errorf("receiving a file: %w", err)
	}
	if err = f.Close(); err != nil {
		return nil, fmt.Errorf("receiving a file: %w", err)
	}
	return &Upload{hex.EncodeToString(h.Sum(nil)), size, s, f.Name(), false}, nil
}

// Digest reads r to its end for its digest and size and keeps nothing of it.
func Digest(r io.Reader) (digest string, size int64, err error) {
	h := sha256.New()
	size, err = io.CopyBuffer(onlyWriter{h}, r, make([]byte, chunk))
	return hex.EncodeToString(h.Sum(nil)), size, err
}

// onlyWriter hides all but Write, so that io.CopyBuffer uses the buffer it is given.
type onlyWriter struct{ io.Writer }

// Keep moves the upload to its place, where it stays.
func (u *Upload) Keep() error {
	u.store.keeping.RLock()
	defer u.store.keeping.RUnlock()
	place := u.store.path(u.Digest)
	if err := os.MkdirAll(filepath.Dir(place), 0o700); err != nil {
		return fmt.Errorf("keeping a file: %w", err)
	}
	if u.file == place {
		return nil // it was kept before
	}
	// The moment of keeping, not of receiving, is what shields it from being collected.
	now := time.Now()
	if err := os.Chtimes(u.file, now, now); err != nil {
		return fmt.Errorf("keeping a file: %w", err)
	}
	if err := os.Rename(u.file, place); err != nil {
		return fmt.Errorf("keeping a file: %w", err)
	}
	u.store.readings.Delete(u.Digest)
	return errors.Join(syncDir(filepath.Dir(place)), u.store.forgetDamage(u.Digest))
}

// Discard removes the upload unless it was kept or is lasting.
func (u *Upload) Discard() {
	if !u.lasting {
		_ = os.Remove(u.file)
	}
}

// syncDir makes a rename in dir last.
func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

var digestForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Open opens the file with a digest; fs.ErrNotExist when there is none.
func (s *Store) Open(digest string) (*os.File, error) {
	if !digestForm.MatchString(digest) {
		return nil, fmt.Errorf("%q is no digest: %w", digest, fs.ErrNotExist)
	}
	return os.Open(s.path(digest))
}

// Present returns a function that says whether there is a file with a digest that was not found
// damaged. It looks at each directory once, so it is for many files at one moment; bytes are
// not read.
func (s *Store) Present() func(digest string) bool {
	seen := map[string]map[string]bool{}
	damaged := map[string]bool{}
	entries, _ := os.ReadDir(s.damaged()) // none where it cannot be read
	for _, e := range entries {
		damaged[strings.TrimSuffix(e.Name(), ".json")] = true
	}
	return func(digest string) bool {
		if len(digest) < 2 || damaged[digest] {
			return false
		}
		there, known := seen[digest[:2]]
		if !known {
			there = map[string]bool{}
			entries, _ := os.ReadDir(filepath.Dir(s.path(digest))) // none where it cannot be read
			for _, e := range entries {
				there[e.Name()] = true
			}
			seen[digest[:2]] = there
		}
		return there[digest]
	}
}
