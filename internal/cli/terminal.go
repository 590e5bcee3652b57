package cli

import (
	"fmt"
	"io"
	"os"
	"unicode"
	"unicode/utf8"

	"github.com/mattn/go-isatty"
)

// shown is what is written to a terminal of a person: text of others that would steer it (control characters, marks
// that turn the direction of writing) is shown as what it is. What goes to a file or another program is left alone.
func shown(w io.Writer) io.Writer {
	if f, is := w.(*os.File); is && isatty.IsTerminal(f.Fd()) {
		return &terminal{to: w}
	}
	return w
}

type terminal struct {
	to   io.Writer
	left []byte // the beginning of a character whose end has not come yet
}

// Write writes all but what steers.
func (t *terminal) Write(p []byte) (int, error) {
	in := append(t.left, p...)
	out := make([]byte, 0, len(in))
	for len(in) > 0 {
		if !utf8.FullRune(in) {
			break
		}
		r, n := utf8.DecodeRune(in)
		switch {
		case r == '\n' || r == '\t' || r == '\r' || !unicode.IsControl(r) && !unicode.Is(unicode.Bidi_Control, r):
			out = append(out, in[:n]...)
		default:
			out = fmt.Appendf(out, "\\u%04x", r)
		}
		in = in[n:]
	}
	t.left = append([]byte(nil), in...)
	if _, err := t.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}
