package blob

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

var then = time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)

// breaking gives its bytes and then fails.
type breaking struct{ io.Reader }

func (b breaking) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func TestAnUploadGoesOnWhereItBroke(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	content := bytes.Repeat([]byte("0123456789abcdef"), 200_000) // several chunks, and a rest
	content = content[:len(content)-5]
	p, err := s.Begin("runa", "model.bin", int64(len(content)), then)
	if err != nil {
		t.Fatal(err)
	}
	// The connection breaks after the first 1 500 000 bytes.
	p, err = s.Append(p.ID, 0, breaking{bytes.NewReader(content[:1_500_000])}, true, then)
	if !errors.Is(err, io.ErrUnexpectedEOF) || p.Offset != 1_500_000 || p.Digest != "" {
		t.Fatalf("%+v, %v", p, err)
	}
	if _, err := s.Use(p.ID); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("half an upload can be used: %v", err)
	}
	// The service is killed while the next piece is on its way: bytes that were not noted.
	f, err := os.OpenFile(filepath.Join(dir, "partial", p.ID+".bytes"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	_, _ = f.WriteString("garbage")
	_ = f.Close()
	if s, err = Open(dir); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Append(p.ID, 1_500_007, bytes.NewReader(content[1_500_007:]), true, then); !errors.Is(err,
		ErrOffset) {
		t.Errorf("a piece with a gap before it: %v", err)
	}
	p, err = s.Append(p.ID, p.Offset, bytes.NewReader(content[p.Offset:]), true, then)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(content)
	if p.Digest != hex.EncodeToString(sum[:]) || p.Size != int64(len(content)) {
		t.Errorf("%+v", p)
	}
	if _, err := s.Append(p.ID, p.Offset, strings.NewReader("more"), true, then); !errors.Is(err, ErrComplete) {
		t.Errorf("more after the end: %v", err)
	}
	u, err := s.Use(p.ID)
	if err != nil {
		t.Fatal(err)
	}
	u.Discard() // the registration failed: the bytes stay
	if u, err = s.Use(p.ID); err != nil || u.Keep() != nil {
		t.Fatal(err)
	}
	if again, err := s.Use(p.ID); err != nil || again.Keep() != nil { // kept, but its record was not written
		t.Errorf("an upload that was kept cannot be used again: %v", err)
	}
	if err := s.Forget(p.ID); err != nil {
		t.Fatal(err)
	}
	kept, err := s.Open(p.Digest)
	if err != nil {
		t.Fatal(err)
	}
	got, _ := io.ReadAll(kept)
	_ = kept.Close()
	if !bytes.Equal(got, content) {
		t.Error("the bytes differ")
	}
	if left, _ := os.ReadDir(filepath.Join(dir, "partial")); len(left) != 0 {
		t.Errorf("%d files are left", len(left))
	}
}

func TestUploadsThatGoWrong(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	p, err := s.Begin("runa", "m", 4, then)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Append(p.ID, 0, strings.NewReader("12345"), true, then); !errors.Is(err, ErrTooLong) {
		t.Errorf("too much: %v", err)
	}
	if _, err := s.Append(p.ID, 0, strings.NewReader("12"), true, then); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("too little: %v", err)
	}
	r, w := io.Pipe()
	began := make(chan error, 1)
	go func() {
		_, err := s.Append(p.ID, 2, r, true, then)
		began <- err
	}()
	_, _ = w.Write([]byte("3"))
	if _, err := s.Append(p.ID, 2, strings.NewReader("34"), true, then); !errors.Is(err, ErrBusy) {
		t.Errorf("two at once: %v", err)
	}
	if err := s.Forget(p.ID); !errors.Is(err, ErrBusy) {
		t.Errorf("forgetting what is being written: %v", err)
	}
	_ = w.CloseWithError(io.ErrUnexpectedEOF)
	<-began
	for _, id := range []string{"", "../../../etc/passwd", strings.Repeat("0", 32)} {
		if _, err := s.Partial(id); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%q: %v", id, err)
		}
		if err := s.Forget(id); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%q: %v", id, err)
		}
	}
	freed, err := s.ForgetOlder(then.Add(time.Hour))
	if _, gone := s.Partial(p.ID); err != nil || freed != 3 || !errors.Is(gone, fs.ErrNotExist) {
		t.Errorf("freed %d, %v, %v", freed, err, gone)
	}
}

func TestCollectingSparesWhatIsNeededOrYoung(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	keep := func(content string) string {
		u, err := s.Receive(strings.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		if err := u.Keep(); err != nil {
			t.Fatal(err)
		}
		return u.Digest
	}
	needed, old, young := keep("needed"), keep("old"), keep("young")
	for _, d := range []string{needed, old} {
		if err := os.Chtimes(s.path(d), then, then); err != nil {
			t.Fatal(err)
		}
	}
	ask := func() (map[string]bool, error) { return map[string]bool{needed: true}, nil }
	for _, dry := range []bool{true, false} {
		found, err := s.Collect(ask, then.Add(time.Hour), dry)
		if err != nil || len(found) != 1 || found[0] != (Kept{old, 3}) {
			t.Errorf("dry %v: %v, %v", dry, found, err)
		}
		_, err = s.Open(old)
		if gone := errors.Is(err, fs.ErrNotExist); gone == dry {
			t.Errorf("dry %v: gone is %v", dry, gone)
		}
	}
	for _, d := range []string{needed, young} {
		if r, err := s.Read(d, time.Now()); r.Digest != d || err != nil {
			t.Errorf("%s was collected: %v", d, err)
		}
	}
}
