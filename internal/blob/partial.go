package blob

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Partial is an upload that may come in several pieces, over several connections and
// also across a restart of the service.
type Partial struct {
	ID string `json:"id"`
	// By is who began it.
	By string `json:"by"`
	// Name is that of the file, as whoever began it called it.
	Name string `json:"name"`
	// Size is how many bytes are expected, −1 when that was not said.
	Size int64 `json:"size"`
	// Offset is how many bytes have come.
	Offset  int64     `json:"offset"`
	Begun   time.Time `json:"begun"`
	Touched time.Time `json:"touched"`
	// Digest is the SHA-256 of the whole once it is complete; empty before.
	Digest string `json:"digest,omitempty"`
	// Hash is the state of the hash after Offset bytes.
	Hash []byte `json:"hash,omitempty"`
}

// The errors of partial uploads; one that does not exist is fs.ErrNotExist.
var (
	// ErrOffset: the piece does not begin where the upload ends.
	ErrOffset = errors.New("the piece does not begin where the upload ends")
	// ErrBusy: another connection is writing to the upload.
	ErrBusy = errors.New("another connection is writing to the upload")
	// ErrTooLong: more bytes came than were announced.
	ErrTooLong = errors.New("more bytes came than were announced")
	// ErrComplete: nothing can be added any more.
	ErrComplete = errors.New("the upload is complete")
)

func (s *Store) partial() string { return filepath.Join(s.dir, "partial") }

var idForm = regexp.MustCompile(`^[0-9a-f]{32}$`)

func (s *Store) partialFile(id, suffix string) string { return filepath.Join(s.partial(), id+suffix) }

// Begin begins an upload in pieces.
func (s *Store) Begin(by, name string, size int64, now time.Time) (Partial, error) {
	var id [16]byte
	_, _ = rand.Read(id[:]) // never fails
	p := Partial{ID: hex.EncodeToString(id[:]), By: by, Name: name, Size: size, Begun: now, Touched: now}
	f, err := os.OpenFile(s.partialFile(p.ID, ".bytes"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return p, fmt.Errorf("beginning an upload: %w", err)
	}
	if err := f.Close(); err != nil {
		return p, fmt.Errorf("beginning an upload: %w", err)
	}
	return p, s.putPartial(p)
}

// putPartial writes the state of an upload beside its bytes, whole or not at all.
func (s *Store) putPartial(p Partial) error {
	b, err := json.Marshal(p)
	if err != nil {
		return err
	}
	temporary := s.partialFile(p.ID, ".new")
	if err := os.WriteFile(temporary, b, 0o600); err != nil {
		return fmt.Errorf("noting an upload: %w", err)
	}
	if err := os.Rename(temporary, s.partialFile(p.ID, ".json")); err != nil {
		return fmt.Errorf("noting an upload: %w", err)
	}
	return nil
}

// Partial finds an upload; fs.ErrNotExist when there is none.
func (s *Store) Partial(id string) (Partial, error) {
	var p Partial
	if !idForm.MatchString(id) {
		return p, fs.ErrNotExist
	}
	b, err := os.ReadFile(s.partialFile(id, ".json"))
	if err != nil {
		return p, err
	}
	return p, json.Unmarshal(b, &p)
}

// claim makes sure that one connection at a time writes to an upload.
func (s *Store) claim(id string) (release func(), err error) {
	m, _ := s.parts.LoadOrStore(id, &sync.Mutex{})
	if !m.(*sync.Mutex).TryLock() {
		return nil, ErrBusy
	}
	return m.(*sync.Mutex).Unlock, nil
}

// Append adds a piece that begins at offset. What has come stays when the connection
// breaks: the upload then goes on from there. When complete is true the upload is
// finished after the piece.
func (s *Store) Append(id string, offset int64, r io.Reader, complete bool, now time.Time) (Partial, error) {
	release, err := s.claim(id)
	if err != nil {
		return Partial{}, err
	}
	defer release()
	p, err := s.Partial(id)
	if err != nil {
		return p, err
	}
	if p.Digest != "" {
		return p, ErrComplete
	}
	if offset != p.Offset {
		return p, ErrOffset
	}
	h := sha256.New()
	if len(p.Hash) > 0 {
		if err := h.(encoding.BinaryUnmarshaler).UnmarshalBinary(p.Hash); err != nil {
			return p, fmt.Errorf("taking up an upload: %w", err)
		}
	}
	f, err := os.OpenFile(s.partialFile(id, ".bytes"), os.O_RDWR, 0o600)
	if err != nil {
		return p, fmt.Errorf("taking up an upload: %w", err)
	}
	defer f.Close()
	// What a crash left behind the last state that was noted does not count.
	if err := f.Truncate(offset); err != nil {
		return p, fmt.Errorf("taking up an upload: %w", err)
	}
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return p, fmt.Errorf("taking up an upload: %w", err)
	}
	limited := r
	if p.Size >= 0 {
		limited = io.LimitReader(r, p.Size-offset+1)
	}
	n, readErr := receive(f, h, limited)
	if p.Size >= 0 && offset+n > p.Size {
		return p, ErrTooLong // the state that was noted still holds: the piece is forgotten
	}
	if p.Hash, err = h.(encoding.BinaryMarshaler).MarshalBinary(); err != nil {
		return p, err
	}
	p.Offset, p.Touched = offset+n, now
	if err := f.Sync(); err != nil {
		return p, fmt.Errorf("keeping a piece: %w", err)
	}
	if readErr == nil && complete {
		if p.Size >= 0 && p.Offset != p.Size {
			readErr = io.ErrUnexpectedEOF
		} else {
			p.Size, p.Digest = p.Offset, hex.EncodeToString(h.Sum(nil))
		}
	}
	if err := s.putPartial(p); err != nil {
		return p, err
	}
	return p, readErr
}

// Use gives a complete upload to be kept. It stays until it is forgotten, so that a
// registration that fails can be tried again without sending the bytes again.
func (s *Store) Use(id string) (*Upload, error) {
	release, err := s.claim(id)
	if err != nil {
		return nil, err
	}
	defer release()
	p, err := s.Partial(id)
	if err != nil {
		return nil, err
	}
	if p.Digest == "" {
		return nil, io.ErrUnexpectedEOF
	}
	file := s.partialFile(id, ".bytes")
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		file = s.path(p.Digest) // kept by a registration that failed afterwards
	}
	return &Upload{p.Digest, p.Size, s, file, true}, nil
}

// OpenPartial opens the bytes of a complete upload to look into them.
func (s *Store) OpenPartial(id string) (*os.File, error) {
	p, err := s.Partial(id)
	if err != nil {
		return nil, err
	}
	if p.Digest == "" {
		return nil, io.ErrUnexpectedEOF
	}
	f, err := os.Open(s.partialFile(id, ".bytes"))
	if errors.Is(err, fs.ErrNotExist) {
		return s.Open(p.Digest)
	}
	return f, err
}

// Forget removes an upload, whatever its state.
func (s *Store) Forget(id string) error {
	if !idForm.MatchString(id) {
		return fs.ErrNotExist
	}
	release, err := s.claim(id)
	if err != nil {
		return err
	}
	defer release()
	defer s.parts.Delete(id)
	err = os.Remove(s.partialFile(id, ".json"))
	_ = os.Remove(s.partialFile(id, ".bytes")) // is gone when it was kept
	return err
}

// ForgetOlder removes uploads that nobody has touched since a moment, and says how many
// bytes that freed.
func (s *Store) ForgetOlder(than time.Time) (freed int64, err error) {
	entries, err := os.ReadDir(s.partial())
	if err != nil {
		return 0, fmt.Errorf("looking at uploads: %w", err)
	}
	for _, e := range entries {
		id, isState := strings.CutSuffix(e.Name(), ".json")
		if !isState {
			continue
		}
		if p, err := s.Partial(id); err == nil && p.Touched.Before(than) && s.Forget(id) == nil {
			freed += p.Offset
		}
	}
	return freed, nil
}

// Kept is one file of the store.
type Kept struct {
	Digest string
	Size   int64
}

// ErrHeld is returned by Collect while the files are held.
var ErrHeld = errors.New("the files are being backed up")

// Hold keeps every file that is there until release is called, whoever collects. New
// files can be kept meanwhile.
func (s *Store) Hold() (release func()) {
	s.keeping.RLock() // a collection that has begun is waited for
	defer s.keeping.RUnlock()
	s.held.Add(1)
	return sync.OnceFunc(func() { s.held.Add(-1) })
}

// Collect finds the files that needed does not name, and removes them unless it is a
// dry run. No file is kept meanwhile, so none can be missed that is about to be named;
// needed is asked after that is certain. spare keeps files younger than it: their
// record may still be on its way.
func (s *Store) Collect(needed func() (map[string]bool, error), spare time.Time, dry bool) ([]Kept, error) {
	s.keeping.Lock()
	defer s.keeping.Unlock()
	if s.held.Load() > 0 {
		return nil, ErrHeld
	}
	names, err := needed()
	if err != nil {
		return nil, err
	}
	found := []Kept{}
	err = filepath.WalkDir(s.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !digestForm.MatchString(d.Name()) || names[d.Name()] {
			return err
		}
		info, err := d.Info()
		if err != nil || info.ModTime().After(spare) {
			return err
		}
		found = append(found, Kept{d.Name(), info.Size()})
		if dry {
			return nil
		}
		s.readings.Delete(d.Name())
		return errors.Join(os.Remove(path), s.forgetDamage(d.Name()))
	})
	if err != nil {
		return found, fmt.Errorf("collecting files: %w", err)
	}
	return found, nil
}
