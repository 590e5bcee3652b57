package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// archive writes one with both databases and a file, and returns it with the file's name.
func archive(t *testing.T) ([]byte, string) {
	t.Helper()
	sum := sha256.Sum256([]byte("weights"))
	blob := BlobName(hex.EncodeToString(sum[:]))
	var b bytes.Buffer
	a := New(&b, time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC))
	for _, m := range [][2]string{{Records, "records"}, {Signals, "signals"}, {blob, "weights"}} {
		file := filepath.Join(t.TempDir(), "x")
		if err := os.WriteFile(file, []byte(m[1]), 0o600); err != nil {
			t.Fatal(err)
		}
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		if err := a.Add(t.Context(), m[0], f); err != nil {
			t.Fatal(err)
		}
		_ = f.Close()
	}
	if err := a.Close(7, "abc"); err != nil {
		t.Fatal(err)
	}
	return b.Bytes(), blob
}

func TestAnArchiveComesBackWhole(t *testing.T) {
	b, blob := archive(t)
	s, err := Check(bytes.NewReader(b))
	if err != nil || s.Files != 1 || s.LastLine != 7 || s.Bytes != int64(len("recordssignalsweights")) {
		t.Fatalf("%+v %v", s, err)
	}
	dir := filepath.Join(t.TempDir(), "a", "data")
	if _, err := Restore(bytes.NewReader(b), dir, nil); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{Records: "records", Signals: "signals", blob: "weights"} {
		if got, err := os.ReadFile(filepath.Join(dir, name)); err != nil || string(got) != want {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	if _, err := Restore(bytes.NewReader(b), dir, nil); err == nil || !strings.Contains(err.Error(), "not empty") {
		t.Errorf("over something that is there: %v", err)
	}
}

// tarOf makes an archive of our form by hand.
func tarOf(t *testing.T, members ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, m := range members {
		h := &tar.Header{Name: m[0], Mode: 0o600, Size: int64(len(m[1])), Typeflag: tar.TypeReg}
		if strings.HasPrefix(m[1], "->") {
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, m[1][2:], 0
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Size > 0 {
			_, _ = w.Write([]byte(m[1]))
		}
	}
	_ = w.Close()
	return b.Bytes()
}

func TestWhatIsNotWholeOrNotOursIsRefused(t *testing.T) {
	good, blob := archive(t)
	empty := `{"format":"` + Format + `","members":{}}`
	cases := map[string][]byte{
		"nothing":          nil,
		"text":             []byte("hello"),
		"no manifest":      tarOf(t, [2]string{Records, "x"}, [2]string{Signals, "y"}),
		"an empty one":     tarOf(t, [2]string{manifest, empty}),
		"another format":   tarOf(t, [2]string{manifest, `{"format":"other/1"}`}),
		"a way out":        tarOf(t, [2]string{"../../etc/passwd", "x"}, [2]string{manifest, empty}),
		"a file of theirs": tarOf(t, [2]string{"key", "x"}, [2]string{manifest, empty}),
		"a link":           tarOf(t, [2]string{Records, "->/etc/passwd"}, [2]string{manifest, empty}),
		"twice":            tarOf(t, [2]string{Records, "x"}, [2]string{Records, "x"}, [2]string{manifest, empty}),
		"after the end":    tarOf(t, [2]string{manifest, empty}, [2]string{Records, "x"}),
		"a wrong digest":   tarOf(t, [2]string{blob, "other"}, [2]string{manifest, empty}),
	}
	// Zeros alone follow the manifest.
	for i := 0; i < len(bytes.TrimRight(good, "\x00")); i += 97 {
		cases["cut at "+time.Duration(i).String()] = good[:i]
	}
	for name, b := range cases {
		dir := filepath.Join(t.TempDir(), "data")
		if _, err := Restore(bytes.NewReader(b), dir, nil); err == nil {
			t.Errorf("%s was taken", name)
		}
		if left, _ := os.ReadDir(filepath.Dir(dir)); len(left) > 0 {
			t.Errorf("%s left %v", name, left)
		}
	}
	for _, part := range []string{"records", "signals", "weights", `"` + Records + `": "`, `"` + blob + `": "`} {
		i := bytes.LastIndex(good, []byte(part)) + len(part)
		if !strings.HasPrefix(part, `"`) {
			i = bytes.Index(good, []byte(part)) // the member, not the manifest
		}
		bent := bytes.Clone(good)
		bent[i] ^= 1
		if _, err := Check(bytes.NewReader(bent)); err == nil {
			t.Errorf("a byte of %s was changed, and it passed", part)
		}
	}
	turned := errors.New("turned down")
	dir := filepath.Join(t.TempDir(), "data")
	if _, err := Restore(bytes.NewReader(good), dir, func(string) error { return turned }); !errors.Is(err, turned) {
		t.Errorf("%v", err)
	}
	if _, err := os.Stat(dir); err == nil {
		t.Error("what was turned down is there")
	}
}

func TestNobodyWaitsForALostReader(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	file := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(file, []byte("records"), 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := New(&bytes.Buffer{}, time.Now()).Add(ctx, Records, f); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}
