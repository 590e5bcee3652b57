package seal

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestSealing(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	r, err := Open(file, false)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key file: %v %v", info.Mode(), err)
	}
	sealed := r.Seal("mail/password", []byte("heather honey"))
	if bytes.Contains(sealed, []byte("heather")) ||
		bytes.Equal(sealed, r.Seal("mail/password", []byte("heather honey"))) {
		t.Error("sealing hides, and never gives the same twice")
	}
	again, err := Open(file, true)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open("mail/password", sealed); err != nil || string(got) != "heather honey" {
		t.Errorf("%q %v", got, err)
	}
	if _, err := again.Open("webhook/1", sealed); err == nil {
		t.Error("a secret under another name must not open")
	}
	for i := range sealed {
		bent := bytes.Clone(sealed)
		bent[i] ^= 1
		if _, err := again.Open("mail/password", bent); err == nil {
			t.Errorf("byte %d changed, and it opened", i)
		}
		if _, err := again.Open("mail/password", sealed[:i]); err == nil {
			t.Errorf("cut to %d bytes, and it opened", i)
		}
	}
}

func TestRotation(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	old, err := Open(file, false)
	if err != nil {
		t.Fatal(err)
	}
	sealed := old.Seal("a", []byte("x"))
	both := old.With(NewKey())
	if err := both.Write(); err != nil {
		t.Fatal(err)
	}
	if got, err := both.Open("a", sealed); err != nil || string(got) != "x" || both.Current(sealed) {
		t.Errorf("%q %v", got, err)
	}
	anew := both.Seal("a", []byte("x"))
	present := both.Present()
	if err := present.Write(); err != nil {
		t.Fatal(err)
	}
	read, err := Open(file, true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := read.Open("a", sealed); !errors.Is(err, ErrKey) {
		t.Errorf("the old key is gone: %v", err)
	}
	if got, err := read.Open("a", anew); err != nil || string(got) != "x" || !read.Current(anew) {
		t.Errorf("%q %v", got, err)
	}
}

func TestBadKeyFiles(t *testing.T) {
	dir := t.TempDir()
	if _, err := Open(filepath.Join(dir, "none"), true); err == nil || !strings.Contains(err.Error(), "-key-file") {
		t.Errorf("a lost key: %v", err)
	}
	for name, text := range map[string]string{"empty": "", "short": "AAAA\n", "words": "not base64 at all"} {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(file, false); err == nil {
			t.Errorf("%s was taken", name)
		}
	}
	open := filepath.Join(dir, "open")
	if err := os.WriteFile(open, []byte(NewKey().String()), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(open, false); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a key that others can read: %v", err)
	}
	if r, err := ParseRing(NewKey().String() + "," + NewKey().String()); err != nil || len(r.keys) != 2 ||
		r.FromFile() {
		t.Errorf("from the environment: %v", err)
	}
}
