package intake

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"

	"innerladder/internal/core/registry"
)

const (
	// mostPacked is how many files an archive may hold.
	mostPacked = 100_000
	// largestDirectory is the largest directory of a zip file, in bytes.
	largestDirectory = 64 << 20
	// largestExpanded is how large the files of an archive may be together.
	largestExpanded = 1 << 40
	// mostExpansion is how many times larger than packed an archive may become, once it
	// is larger than freeExpansion.
	mostExpansion, freeExpansion = 200, 64 << 20
)

// packing lists the files of an archive under the limits above. Nothing is unpacked.
type packing struct {
	registry.Contents
	name, format string
	packed       int64
	pickles      []string
}

func (p *packing) bad(detail string, args ...any) error {
	return badFile(p.name, p.format, -1, detail, args...)
}

// add takes in one file of the archive.
func (p *packing) add(name string, size int64) error {
	if err := p.checkPath(name); err != nil {
		return err
	}
	if p.FileCount++; p.FileCount > mostPacked {
		return p.bad("it holds more than %d files", mostPacked)
	}
	if p.Expanded = add(p.Expanded, max(0, size)); p.Expanded > largestExpanded ||
		(p.Expanded > freeExpansion && p.Expanded/mostExpansion > p.packed) {
		return p.bad("its files would expand to more than %d bytes from %d, at %.80q", p.Expanded, p.packed, name)
	}
	if len(p.Files) < listed {
		p.Files = append(p.Files, registry.PackedFile{Name: cutText(name), Size: size})
	}
	for _, suffix := range []string{".pkl", ".pickle", ".joblib", ".pt", ".pth"} {
		if strings.HasSuffix(strings.ToLower(name), suffix) && len(p.pickles) < 3 {
			p.pickles = append(p.pickles, cutText(name))
		}
	}
	return nil
}

// checkPath refuses names that would lead out of the folder they are unpacked in.
func (p *packing) checkPath(name string) error {
	clean := strings.ReplaceAll(name, `\`, "/")
	switch {
	case clean == "" || strings.ContainsRune(clean, 0):
		return p.bad("a file in it has no proper name: %.80q", name)
	case path.IsAbs(clean), len(clean) > 1 && clean[1] == ':', clean == "..",
		strings.HasPrefix(path.Clean(clean), "../"), path.Clean(clean) == "..":
		return p.bad("%.80q would be unpacked outside of its folder", name)
	}
	return nil
}

func (p *packing) done() registry.Contents {
	if len(p.pickles) > 0 {
		p.Unsafe = "holds " + strings.Join(p.pickles, ", ") + ", " + unsafePickle
	}
	return p.Contents
}

// readZip lists a zip file by its directory. How large that is, is looked up first: the
// reader would take it into memory whole.
func readZip(name string, r io.ReaderAt, size int64) (registry.Contents, error) {
	p := &packing{
		Contents: registry.Contents{Format: registry.FormatZip}, name: name, format: "a zip file",
		packed: size,
	}
	entries, directory, err := zipDirectory(r, size)
	if err != nil {
		return p.Contents, p.bad("%v", err)
	}
	if entries > mostPacked || directory > largestDirectory {
		return p.Contents, p.bad("its directory has %d files and %d bytes", entries, directory)
	}
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return p.Contents, p.bad("%v", err)
	}
	for _, f := range z.File {
		if f.Mode()&fs.ModeSymlink != 0 {
			return p.Contents, p.bad("%.80q is a link; pack the file itself", f.Name)
		}
		if strings.HasSuffix(f.Name, "/") {
			if err := p.checkPath(f.Name); err != nil {
				return p.Contents, err
			}
			continue
		}
		if f.UncompressedSize64 > largestExpanded {
			return p.Contents, p.bad("%.80q would expand to %d bytes", f.Name, f.UncompressedSize64)
		}
		if err := p.add(f.Name, int64(f.UncompressedSize64)); err != nil {
			return p.Contents, err
		}
	}
	p.Say("comment", cutText(z.Comment))
	return p.done(), nil
}

// zipDirectory finds the end record of a zip file and says how many entries its
// directory has and how many bytes.
func zipDirectory(r io.ReaderAt, size int64) (entries, directory uint64, err error) {
	const endLength, locatorLength = 22, 20
	tail := make([]byte, min(size, 1<<16+endLength+locatorLength))
	if _, err := r.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return 0, 0, err
	}
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || at+endLength > len(tail) {
		return 0, 0, errors.New("the directory at its end is missing, so it breaks off")
	}
	entries, directory = uint64(binary.LittleEndian.Uint16(tail[at+10:])),
		uint64(binary.LittleEndian.Uint32(tail[at+12:]))
	if at >= locatorLength && bytes.HasPrefix(tail[at-locatorLength:], []byte("PK\x06\x07")) {
		where := binary.LittleEndian.Uint64(tail[at-locatorLength+8:])
		var large [56]byte
		if where > uint64(size) {
			return 0, 0, errors.New("its directory lies beyond its end")
		}
		if _, err := r.ReadAt(large[:], int64(where)); err != nil {
			return 0, 0, errors.New("its directory lies beyond its end")
		}
		entries, directory = binary.LittleEndian.Uint64(large[32:]), binary.LittleEndian.Uint64(large[40:])
	}
	return entries, directory, nil
}

// readTarGz lists a packed tar file; a gzip file with something else in it is of no
// known format unless its name claims otherwise.
func readTarGz(name string, r io.ReaderAt, size int64, claims bool) (registry.Contents, error) {
	z, err := gzip.NewReader(io.NewSectionReader(r, 0, size))
	if err != nil {
		if claims {
			return registry.Contents{Format: registry.FormatTarGz}, badFile(name, "a tar.gz file", 0, "%v", err)
		}
		return registry.Contents{Format: registry.FormatUnknown}, nil
	}
	c, err := readTar(name, z, registry.FormatTarGz, size)
	if err != nil && c.FileCount == 0 && !claims {
		return registry.Contents{
			Format:  registry.FormatUnknown,
			Remarks: []string{"packed with gzip; what is in it is not known"},
		}, nil
	}
	return c, err
}

// bounded fails once more was read than an archive of its size may expand to.
type bounded struct {
	r    io.Reader
	left int64
}

var errExpands = errors.New("it expands far beyond its size")

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errExpands
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

func readTar(name string, r io.Reader, format string, size int64) (registry.Contents, error) {
	p := &packing{
		Contents: registry.Contents{Format: format}, name: name, format: "a " + format + " file",
		packed: size,
	}
	limit := max(freeExpansion, times(size, mostExpansion))
	t := tar.NewReader(&bounded{r, max(limit, size)})
	for {
		h, err := t.Next()
		if err == io.EOF {
			return p.done(), nil
		}
		if err != nil {
			return p.Contents, p.bad("after %d files: %v", p.FileCount, err)
		}
		switch h.Typeflag {
		case tar.TypeReg:
			if err := p.add(h.Name, h.Size); err != nil {
				return p.Contents, err
			}
		case tar.TypeSymlink, tar.TypeLink:
			return p.Contents, p.bad("%.80q is a link to %.80q; pack the file itself", h.Name, h.Linkname)
		case tar.TypeChar, tar.TypeBlock, tar.TypeFifo:
			return p.Contents, p.bad("%.80q is a device, no file", h.Name)
		default:
			if err := p.checkPath(h.Name); err != nil {
				return p.Contents, err
			}
		}
	}
}
