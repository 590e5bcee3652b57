package request

import (
	"strings"
	"testing"
)

func TestCallerNames(t *testing.T) {
	for given, want := range map[string]string{
		"planning-tool": "planning-tool", "": Unnamed, "  ": Unnamed, "a\x00b\u202ec\n": "abc", Others: Unnamed,
		strings.Repeat("x", 200): strings.Repeat("x", 80), "Wärmedesk": "Wärmedesk", "\xff\xfe": Unnamed,
		strings.Repeat("x", 79) + "ä": strings.Repeat("x", 79),
	} {
		if got := CallerName(given); got != want {
			t.Errorf("%q is counted as %q, want %q", given, got, want)
		}
	}
}
