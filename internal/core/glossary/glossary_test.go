package glossary

import (
	"os"
	"strings"
	"testing"
)

func TestTermsAreShortAndSaidOnce(t *testing.T) {
	seen := map[string]bool{}
	for _, term := range Terms() {
		if seen[term.Word] || len(term.Means) > 100 || strings.HasSuffix(term.Means, ".") {
			t.Errorf("%+v", term)
		}
		seen[term.Word] = true
	}
	if len(seen) < 15 || len(seen) > 20 {
		t.Errorf("%d terms", len(seen))
	}
}

// The README says what the words mean, as the program does.
func TestTheReadmeHasTheGlossary(t *testing.T) {
	b, err := os.ReadFile("../../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, term := range Terms() {
		if !strings.Contains(string(b), "| "+term.Word+" | "+term.Means+" |") {
			t.Errorf("the README says something else of %s", term.Word)
		}
	}
}
