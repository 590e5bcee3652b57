package naming

import (
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func TestTextIsText(t *testing.T) {
	for s, want := range map[string]string{
		"": "", "colder weather ahead": "", "åäö 漢字 العربية": "", "one\nline": "text.line", "a\tb": "text.line",
		"bell\a": "text.character", "\x1b[31mred": "text.character", "x\u202egpj.exe": "text.character",
		"\u2066hid\u2069": "text.character", "del\x7f": "text.character",
		"c1\u0085": "text.character", "\x00": "text.character",
		"\xff": "text.character", strings.Repeat("a", LongestLine+1): "text.long", "mark\u200f": "",
	} {
		if err := CheckLine("note", s); fault.Code(err) != want {
			t.Errorf("%.20q: %v, want %q", s, err, want)
		}
	}
	if err := CheckText("note", "two\nlines\tof it\r\n"); err != nil {
		t.Error(err)
	}
	if err := CheckText("note", strings.Repeat("a", LongestText+1)); fault.Code(err) != "text.long" {
		t.Error(err)
	}
	if got := Shown("a\u202eb\a"); got != "a⟨U+202E⟩b⟨U+0007⟩" || Shown("plain") != "plain" {
		t.Error(got)
	}
}

func TestNoCellStartsAFormula(t *testing.T) {
	for s, want := range map[string]string{
		"": "", "winter": "winter", "=1+2": "'=1+2", "@x": "'@x", "+49 40": "'+49 40", "-1.5": "-1.5",
		"+3": "+3", "-": "'-",
		"\tx": "'\tx", "-inf": "-inf", "＝1": "'＝1", "1-2": "1-2", "-1-2": "'-1-2",
	} {
		if got := Cell(s); got != want {
			t.Errorf("%q is written %q, want %q", s, got, want)
		}
	}
}
