// Package backup writes everything that is kept into one tar archive and puts it back. An
// archive holds both databases, the files by their digests, and at its end a manifest with
// the SHA-256 of every member: an archive that was cut short or changed is refused.
package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// The members of an archive, besides the files.
const (
	Records  = "ladder.db"
	Signals  = "signals.db"
	manifest = "manifest.json"
	// Format names the form of an archive.
	Format = "inner-ladder-backup/1"
)

// Manifest is the last member of an archive.
type Manifest struct {
	Format string    `json:"format"`
	At     time.Time `json:"at"`
	// Members are the SHA-256 of all other members, by name.
	Members map[string]string `json:"members"`
	// LastLine is the number of the record's last line, and its hash.
	LastLine int64  `json:"last_line"`
	Head     string `json:"head"`
}

// Summary says what an archive holds.
type Summary struct {
	At       time.Time `json:"at"`
	Files    int       `json:"files"`
	Bytes    int64     `json:"bytes"`
	LastLine int64     `json:"last_line" description:"the number of the record's last line"`
}

// Archive writes an archive. Its zero value is not usable; see New.
type Archive struct {
	w *tar.Writer
	m Manifest
}

// New begins an archive.
func New(w io.Writer, at time.Time) *Archive {
	return &Archive{tar.NewWriter(w), Manifest{Format: Format, At: at, Members: map[string]string{}}}
}

// BlobName is what the file with a digest is called in an archive.
func BlobName(digest string) string { return path.Join("blobs", digest[:2], digest) }

// Add adds an open file under a name.
func (a *Archive) Add(ctx context.Context, name string, f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := a.w.WriteHeader(&tar.Header{
		Name: name, Mode: 0o600, Size: info.Size(), ModTime: a.m.At,
		Typeflag: tar.TypeReg,
	}); err != nil {
		return err
	}
	h := sha256.New()
	// Exactly as many bytes as were announced, whatever happens to the file.
	if _, err := io.CopyN(io.MultiWriter(a.w, h), &untilDone{ctx, f}, info.Size()); err != nil {
		return fmt.Errorf("adding %s to the backup: %w", name, err)
	}
	a.m.Members[name] = hex.EncodeToString(h.Sum(nil))
	return nil
}

// untilDone stops reading when nobody wants it any more.
type untilDone struct {
	ctx context.Context
	r   io.Reader
}

func (u *untilDone) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}

// Close writes the manifest and ends the archive.
func (a *Archive) Close(lastLine int64, head string) error {
	a.m.LastLine, a.m.Head = lastLine, head
	b, err := json.MarshalIndent(a.m, "", "  ")
	if err != nil {
		return err
	}
	if err := a.w.WriteHeader(&tar.Header{
		Name: manifest, Mode: 0o600, Size: int64(len(b)), ModTime: a.m.At,
		Typeflag: tar.TypeReg,
	}); err != nil {
		return err
	}
	if _, err := a.w.Write(b); err != nil {
		return err
	}
	return a.w.Close()
}

var memberForm = regexp.MustCompile(`^(ladder\.db|signals\.db|blobs/[0-9a-f]{2}/[0-9a-f]{64})$`)

// read goes through an archive, hands every member to take, and checks all of it.
func read(r io.Reader, take func(name string, r io.Reader) error) (Summary, error) {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("the backup cannot be used: "+format, args...)
	}
	var m *Manifest
	var out Summary
	seen := map[string]string{}
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return out, bad("it breaks off or is no backup: %w", err)
		}
		switch {
		case m != nil:
			return out, bad("there is %s after its end", h.Name)
		case h.Name == manifest:
			m = &Manifest{}
			if err := json.NewDecoder(io.LimitReader(t, 1<<30)).Decode(m); err != nil {
				return out, bad("its manifest cannot be read: %w", err)
			}
			continue
		case h.Typeflag != tar.TypeReg || !memberForm.MatchString(h.Name):
			return out, bad("%q is no part of one", h.Name)
		case seen[h.Name] != "":
			return out, bad("%s is in it twice", h.Name)
		}
		sum := sha256.New()
		if err := take(h.Name, io.TeeReader(t, sum)); err != nil {
			return out, err
		}
		seen[h.Name] = hex.EncodeToString(sum.Sum(nil))
		if digest, blob := strings.CutPrefix(h.Name, "blobs/"); blob {
			out.Files++
			if digest[3:] != seen[h.Name] {
				return out, bad("the file %s has another digest", digest[3:])
			}
		}
		out.Bytes += h.Size
	}
	if m == nil {
		return out, bad("it breaks off before its end")
	}
	if m.Format != Format {
		return out, bad("it has the form %q, not %q", m.Format, Format)
	}
	for name, digest := range m.Members {
		if seen[name] != digest {
			return out, bad("%s is missing or was changed", name)
		}
	}
	if len(seen) != len(m.Members) || seen[Records] == "" || seen[Signals] == "" {
		return out, bad("its parts are not those that its manifest lists")
	}
	out.At, out.LastLine = m.At, m.LastLine
	return out, nil
}

// Check reads an archive to its end and refuses one that is not whole.
func Check(r io.Reader) (Summary, error) {
	return read(r, func(_ string, r io.Reader) error {
		_, err := io.Copy(io.Discard, r)
		return err
	})
}

// Restore puts an archive into a data directory that is new or empty. Until everything
// was read and checked the directory is not touched.
func Restore(r io.Reader, dir string, check func(dir string) error) (Summary, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Summary{}, err
	}
	if len(entries) > 0 {
		return Summary{}, fmt.Errorf("%s is not empty; restore into a new directory with -data", dir)
	}
	parent := filepath.Dir(filepath.Clean(dir))
	if err := os.MkdirAll(parent, 0o700); err != nil {
		return Summary{}, err
	}
	beside, err := os.MkdirTemp(parent, ".restoring-*")
	if err != nil {
		return Summary{}, err
	}
	defer os.RemoveAll(beside)
	out, err := read(r, func(name string,
		r io.Reader,
	) error {
		return put(filepath.Join(beside, filepath.FromSlash(name)), r)
	})
	if err != nil {
		return out, err
	}
	if check != nil {
		if err := check(beside); err != nil {
			return out, err
		}
	}
	if len(entries) == 0 {
		_ = os.Remove(dir) // it is empty, or not there
	}
	return out, os.Rename(beside, dir)
}

func put(file string, r io.Reader) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	return errors.Join(err, f.Sync(), f.Close())
}
