// Package intake reads what comes in from outside: model files, tables of rows, model
// cards, lists of requirements. It never runs what it reads, holds little of it in
// memory whatever the size, and says of bad input what is wrong, where, and what to do.
package intake

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
)

const (
	// listed is how many tensors or packed files are listed; all are counted.
	listed = 500
	// longestText bounds every text that is taken out of a file.
	longestText = 4096
)

// badFile is a fault of a file that claims a format and breaks it. at is the place in
// bytes, −1 when it is not one place.
func badFile(name, format string, at int64, detail string, args ...any) error {
	where := name
	if at >= 0 {
		where = fmt.Sprintf("%s, byte %d", name, at)
	}
	return fault.New(fault.Invalid, "artifact.broken", "%s: %s", where, fmt.Sprintf(detail, args...)).In("artifact").
		Do("the file looks like %s but cannot be one; export or send it again", format)
}

// Read finds out what a file is, from its bytes first and its name second, and what it
// says about itself. A file of no known format is no error; one that claims a format
// and breaks it is.
func Read(name string, r io.ReaderAt, size int64) (registry.Contents, error) {
	head := make([]byte, min(size, 512))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return registry.Contents{}, fmt.Errorf("reading %s: %w", name, err)
	}
	lower := strings.ToLower(name)
	ends := func(suffixes ...string) bool {
		for _, s := range suffixes {
			if strings.HasSuffix(lower, s) {
				return true
			}
		}
		return false
	}
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")), ends(".zip"):
		return readZip(name, r, size)
	case bytes.HasPrefix(head, []byte("\x1f\x8b")), ends(".tar.gz", ".tgz"):
		return readTarGz(name, r, size, ends(".tar.gz", ".tgz"))
	case len(head) >= 262 && string(head[257:262]) == "ustar", ends(".tar"):
		return readTar(name, io.NewSectionReader(r, 0, size), registry.FormatTar, size)
	case ends(".safetensors"), looksLikeSafetensors(head, size):
		return readSafetensors(name, r, size)
	case ends(".yaml", ".yml") && looksLikeEnsemble(head):
		return readEnsemble(r, size)
	case ends(".onnx"):
		return readONNX(name, r, size)
	case len(head) >= 2 && head[0] == 0x80 && head[1] >= 2 && head[1] <= 5, ends(".pkl", ".pickle", ".joblib"):
		return readPickle(name, r, size)
	case ends(".pmml"), bytes.HasPrefix(text, []byte("<")) && bytes.Contains(head, []byte("<PMML")):
		return readPMML(name, r, size)
	case ends(".json"):
		return readJSON(name, r, size)
	case len(text) > 0 && (text[0] == '{' || text[0] == '['):
		if c, err := readJSON(name, r, size); err == nil {
			return c, nil
		}
	case bytes.HasPrefix(text, []byte("<?xml")):
		if c, err := readPMML(name, r, size); err == nil {
			return c, nil
		}
	case len(head) > 0 && head[0] == 0x08: // how every ONNX file begins that was written in the usual order
		if c, err := readONNX(name, r, size); err == nil {
			return c, nil
		}
	}
	return registry.Contents{Format: registry.FormatUnknown}, nil
}

// cutText makes a text from a file fit to be shown.
func cutText(s string) string {
	s = strings.ToValidUTF8(s, "�")
	if len(s) > longestText {
		s = strings.ToValidUTF8(s[:longestText], "") + "…"
	}
	return s
}

// times multiplies sizes; it is negative when they cannot be.
func times(a, b int64) int64 {
	if a < 0 || b < 0 || (b > 0 && a > math.MaxInt64/b) {
		return -1
	}
	return a * b
}

// add adds sizes; the largest stands for all that cannot be.
func add(a, b int64) int64 {
	if a > math.MaxInt64-b {
		return math.MaxInt64
	}
	return a + b
}
