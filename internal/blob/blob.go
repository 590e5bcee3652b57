// Package blob keeps files by the SHA-256 of their bytes. A file is whole or absent:
// it is written beside its place, flushed to disk, and moved there at once.
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
)

// Store is a directory of files.
type Store struct{ dir string }

// Open opens or creates a store in dir and removes what unfinished uploads left.
func Open(dir string) (*Store, error) {
	s := &Store{dir}
	if err := os.RemoveAll(s.unfinished()); err != nil {
		return nil, fmt.Errorf("clearing unfinished uploads: %w", err)
	}
	if err := os.MkdirAll(s.unfinished(), 0o700); err != nil {
		return nil, fmt.Errorf("making the file store: %w", err)
	}
	return s, nil
}

func (s *Store) unfinished() string { return filepath.Join(s.dir, "unfinished") }

// path is where the file with a digest stands. Two levels keep directories small.
func (s *Store) path(digest string) string {
	return filepath.Join(s.dir, digest[:2], digest)
}

// Put reads r to its end and keeps the bytes. It returns their digest in hexadecimal
// and their number. When it fails, nothing is left behind.
func (s *Store) Put(r io.Reader) (digest string, size int64, err error) {
	f, err := os.CreateTemp(s.unfinished(), "upload-*")
	if err != nil {
		return "", 0, fmt.Errorf("keeping a file: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	h := sha256.New()
	if size, err = io.Copy(io.MultiWriter(f, h), r); err != nil {
		return "", 0, fmt.Errorf("keeping a file: %w", err)
	}
	if err = f.Sync(); err != nil {
		return "", 0, fmt.Errorf("keeping a file: %w", err)
	}
	if err = f.Close(); err != nil {
		return "", 0, fmt.Errorf("keeping a file: %w", err)
	}
	digest = hex.EncodeToString(h.Sum(nil))
	place := s.path(digest)
	if err = os.MkdirAll(filepath.Dir(place), 0o700); err != nil {
		return "", 0, fmt.Errorf("keeping a file: %w", err)
	}
	if err = os.Rename(f.Name(), place); err != nil {
		return "", 0, fmt.Errorf("keeping a file: %w", err)
	}
	return digest, size, syncDir(filepath.Dir(place))
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

// Verify reads the file with a digest and says whether its bytes still have it.
func (s *Store) Verify(digest string) (bool, error) {
	f, err := s.Open(digest)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return false, fmt.Errorf("reading %s: %w", digest, err)
	}
	return hex.EncodeToString(h.Sum(nil)) == digest, nil
}
