package naming

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"innerladder/internal/core/fault"
)

const (
	// LongestLine is the largest number of bytes in what is one line, such as a title or an address.
	LongestLine = 2000
	// LongestText is the largest number of bytes in what people write: a reason, a note, a description.
	LongestText = 10_000
)

// turnsAround are the characters that make what follows run the other way, so that a name reads as another.
var turnsAround = &unicode.RangeTable{R16: []unicode.Range16{{0x202a, 0x202e, 1}, {0x2066, 0x2069, 1}}}

// Odd is the first character of a text that no text needs and that shows as another: of control, but for new lines
// and tabs, or one that turns around what follows.
func Odd(s string) (odd rune, there bool) {
	for _, r := range s {
		if r == '\n' || r == '\t' || r == '\r' {
			continue
		}
		if unicode.IsControl(r) || unicode.Is(turnsAround, r) || r == unicode.ReplacementChar {
			return r, true
		}
	}
	return 0, false
}

// CheckLine refuses what is not one line of text; empty is fine.
func CheckLine(field, s string) error {
	if strings.ContainsAny(s, "\n\r\t") {
		return fault.New(fault.Invalid, "text.line", "%s goes over several lines, or has tabs in it", field).In(field).
			Do("write it in one line")
	}
	return checkText(field, s, LongestLine)
}

// CheckText refuses what is no text that people write; empty is fine.
func CheckText(field, s string) error { return checkText(field, s, LongestText) }

// CheckCharacters refuses characters that no text needs, whatever its length.
func CheckCharacters(field, s string) error { return checkText(field, s, len(s)) }

func checkText(field, s string, most int) error {
	if len(s) > most {
		return fault.New(fault.Invalid, "text.long", "%s has %d bytes, and %d are the most", field, len(s), most).
			In(field).Do("write something shorter")
	}
	if r, there := Odd(s); there {
		return fault.New(fault.Invalid, "text.character", "%s has the character U+%04X in it, which is not seen, or "+
			"shows what follows as something else", field, r).In(field).Do("leave it out")
	}
	return nil
}

// Shown is a text in which odd characters are written out, as in ⟨U+202E⟩.
func Shown(s string) string {
	if _, there := Odd(s); !there {
		return s
	}
	var out strings.Builder
	for _, r := range s {
		if _, odd := Odd(string(r)); odd {
			fmt.Fprintf(&out, "⟨U+%04X⟩", r)
			continue
		}
		out.WriteRune(r)
	}
	return out.String()
}

// Cell is a text as a cell of a CSV file: a program that opens it as a table takes what begins with certain characters
// for a formula, so an apostrophe stands before these. Numbers stay what they are.
func Cell(s string) string {
	if s == "" || !strings.ContainsRune("=+-@\t\r\uff1d\uff0b\uff0d\uff20", []rune(s)[0]) {
		return s
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return s
	}
	return "'" + s
}
