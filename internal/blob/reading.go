package blob

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Reading is what was found when all bytes of a file were read.
type Reading struct {
	// At is when they were read.
	At time.Time `json:"at"`
	// Digest is the SHA-256 that they had; empty when there was no file.
	Digest string `json:"digest"`
	// Modified and Size are the file's at that time: a file that has others is another.
	Modified time.Time `json:"modified"`
	Size     int64     `json:"size"`
}

// fits reports whether the reading is of a file as it is now.
func (r Reading) fits(info fs.FileInfo) bool {
	return r.Modified.Equal(info.ModTime()) && r.Size == info.Size()
}

// Read reads the file that was stored under a digest, to its end, and says which digest its
// bytes have now. What was damaged is remembered as that, also after a restart.
func (s *Store) Read(digest string, now time.Time) (Reading, error) {
	r := Reading{At: now}
	f, err := s.Open(digest)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err != nil {
		return r, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return r, fmt.Errorf("reading %s: %w", digest, err)
	}
	if r.Digest, err = digestOf(f); err != nil {
		return r, err
	}
	r.Modified, r.Size = info.ModTime(), info.Size()
	s.readings.Store(digest, r)
	if r.Digest == digest {
		return r, s.forgetDamage(digest)
	}
	// Where it cannot be written down, it is remembered until the next start, and found again then.
	_ = s.noteDamage(digest, r)
	return r, nil
}

// LastReading is what was found when the file was read last, if that was later than since and
// the file has not been written to meanwhile; else the file is read. A file that was found
// damaged is damaged until it is written anew.
func (s *Store) LastReading(digest string, since, now time.Time) (Reading, error) {
	info, err := s.stat(digest)
	if errors.Is(err, fs.ErrNotExist) {
		return Reading{At: now}, nil
	}
	if err != nil {
		return Reading{}, err
	}
	if known, ok := s.readings.Load(digest); ok {
		if r := known.(Reading); r.fits(info) && (r.At.After(since) || r.Digest != digest) {
			return r, nil
		}
	} else if r, ok := s.damage(digest); ok && r.fits(info) {
		s.readings.Store(digest, r)
		return r, nil
	}
	return s.Read(digest, now)
}

func (s *Store) stat(digest string) (fs.FileInfo, error) {
	if !digestForm.MatchString(digest) {
		return nil, fmt.Errorf("%q is no digest: %w", digest, fs.ErrNotExist)
	}
	return os.Stat(s.path(digest))
}

func digestOf(f *os.File) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", fmt.Errorf("reading %s: %w", f.Name(), err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// damaged is the directory of the readings of damaged files.
func (s *Store) damaged() string { return filepath.Join(s.dir, "damaged") }

func (s *Store) damageFile(digest string) string { return filepath.Join(s.damaged(), digest+".json") }

func (s *Store) damage(digest string) (r Reading, ok bool) {
	b, err := os.ReadFile(s.damageFile(digest))
	return r, err == nil && json.Unmarshal(b, &r) == nil
}

func (s *Store) noteDamage(digest string, r Reading) error {
	b, err := json.Marshal(r)
	if err == nil {
		err = os.WriteFile(s.damageFile(digest), b, 0o600)
	}
	if err != nil {
		return fmt.Errorf("noting that a file is damaged: %w", err)
	}
	return nil
}

func (s *Store) forgetDamage(digest string) error {
	if err := os.Remove(s.damageFile(digest)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("noting that a file is whole again: %w", err)
	}
	return nil
}
