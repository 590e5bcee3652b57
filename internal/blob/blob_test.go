package blob

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"
)

func files(t *testing.T, dir string) (n int) {
	t.Helper()
	err := filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			n++
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// put receives and keeps.
func (s *Store) put(t *testing.T, content string) *Upload {
	t.Helper()
	u, err := s.Receive(strings.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	if err := u.Keep(); err != nil {
		t.Fatal(err)
	}
	return u
}

func TestKeepAndOpen(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	u := s.put(t, "abc")
	if u.Size != 3 || u.Digest != "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad" {
		t.Fatalf("got %+v", u)
	}
	if again := s.put(t, "abc"); again.Digest != u.Digest || files(t, dir) != 1 {
		t.Errorf("the same bytes twice: %s, %d files", again.Digest, files(t, dir))
	}
	f, err := s.Open(u.Digest)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if b, _ := io.ReadAll(f); string(b) != "abc" {
		t.Errorf("got %q", b)
	}
}

func TestABrokenUploadLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	broken := io.MultiReader(strings.NewReader(strings.Repeat("x", 1<<16)), iotest.ErrReader(errors.New("cut")))
	if _, err := s.Receive(broken); err == nil {
		t.Error("a cut upload was kept")
	}
	u, err := s.Receive(strings.NewReader("not wanted after all"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Open(u.Digest); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("an upload that nobody kept can be opened: %v", err)
	}
	u.Discard()
	if n := files(t, dir); n != 0 {
		t.Errorf("%d files are left", n)
	}
	if err := os.WriteFile(filepath.Join(s.unfinished(), "upload-1"), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err != nil || files(t, dir) != 0 {
		t.Errorf("what a crash left is still there: %v", err)
	}
}

func TestNothingOutsideIsOpened(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"", "x", "../../etc/passwd", strings.Repeat("a", 63) + "/", strings.Repeat("A", 64)} {
		if _, err := s.Open(bad); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

func TestVerifyFindsAlteredBytes(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	digest := s.put(t, "weights").Digest
	at := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	look := func(s *Store, now time.Time) Reading {
		t.Helper()
		r, err := s.LastReading(digest, now.Add(-day), now)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	if r := look(s, at); r.Digest != digest || !r.At.Equal(at) {
		t.Errorf("untouched: %+v", r)
	}
	// What was read is not read again for a day, and it is said when that was.
	if r := look(s, at.Add(day-1)); !r.At.Equal(at) {
		t.Errorf("within a day: %+v", r)
	}
	if r := look(s, at.Add(day)); !r.At.Equal(at.Add(day)) {
		t.Errorf("after a day: %+v", r)
	}
	info, err := os.Stat(s.path(digest))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(s.path(digest), []byte("Weights"), 0o600); err != nil {
		t.Fatal(err)
	}
	// A disk that changes bytes does not change the time of the file: only reading finds it.
	if err := os.Chtimes(s.path(digest), info.ModTime(), info.ModTime()); err != nil {
		t.Fatal(err)
	}
	if r := look(s, at.Add(day+1)); r.Digest != digest || !r.At.Equal(at.Add(day)) {
		t.Errorf("the last reading: %+v", r)
	}
	if !s.Present()(digest) {
		t.Error("a file that nobody found damaged is not there")
	}
	if r, err := s.Read(digest, at.Add(day+2)); err != nil || r.Digest == digest {
		t.Errorf("altered bytes: %+v, %v", r, err)
	}
	// It stays damaged, also after a restart, until the bytes come again.
	again, err := Open(s.dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []*Store{s, again} {
		if r := look(s, at.Add(3*day)); r.Digest == digest || !r.At.Equal(at.Add(day+2)) || s.Present()(digest) {
			t.Errorf("a damaged file is forgotten: %+v", r)
		}
	}
	again.put(t, "weights")
	if r := look(again, at.Add(3*day)); r.Digest != digest || !again.Present()(digest) {
		t.Errorf("a file that came again is still damaged: %+v", r)
	}
}
