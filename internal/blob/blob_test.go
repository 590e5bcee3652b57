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

func TestPutAndOpen(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	digest, size, err := s.Put(strings.NewReader("abc"))
	if err != nil || size != 3 || digest != "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad" {
		t.Fatalf("got %s, %d, %v", digest, size, err)
	}
	if again, _, err := s.Put(strings.NewReader("abc")); again != digest || err != nil || files(t, dir) != 1 {
		t.Errorf("the same bytes twice: %s, %v, %d files", again, err, files(t, dir))
	}
	f, err := s.Open(digest)
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
	if _, _, err := s.Put(broken); err == nil {
		t.Error("a cut upload was kept")
	}
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
	digest, _, _ := s.Put(strings.NewReader("weights"))
	if ok, err := s.Verify(digest); !ok || err != nil {
		t.Errorf("untouched: %v, %v", ok, err)
	}
	if err := os.WriteFile(s.path(digest), []byte("Weights"), 0o600); err != nil {
		t.Fatal(err)
	}
	if ok, _ := s.Verify(digest); ok {
		t.Error("altered bytes were verified")
	}
}
