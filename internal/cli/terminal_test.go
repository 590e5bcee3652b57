package cli

import (
	"bytes"
	"io"
	"testing"
)

// What others wrote does not steer the terminal of who reads it.
func TestTextOfOthersSteersNoTerminal(t *testing.T) {
	for given, want := range map[string]string{
		"an hour\n\tlater": "an hour\n\tlater", "−8 °C ▁▃█": "−8 °C ▁▃█",
		"\x1b[2Jgone": `\u001b[2Jgone`, "bell\a": `bell\u0007`, "\u202eelif": `\u202eelif`,
		"c1\u009b31m": `c1\u009b31m`,
	} {
		for _, step := range []int{1, 2, 100} { // characters may come in pieces
			var b bytes.Buffer
			w := &terminal{to: &b}
			for p := []byte(given); len(p) > 0; {
				n := min(step, len(p))
				if m, err := w.Write(p[:n]); m != n || err != nil {
					t.Fatal(m, err)
				}
				p = p[n:]
			}
			if b.String() != want {
				t.Errorf("%q in steps of %d is shown as %q", given, step, b.String())
			}
		}
	}
	var b bytes.Buffer
	if shown(&b) != io.Writer(&b) {
		t.Error("what goes to a file is changed")
	}
}
