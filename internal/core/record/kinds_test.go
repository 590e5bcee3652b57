package record

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Whatever the capabilities note is of a kind that is listed here.
func TestEveryKindThatIsNotedIsKnown(t *testing.T) {
	noted := regexp.MustCompile(`(?:Kind: +|kind, \w+ :?= |kind :?= )"([a-z_]+\.[a-z_]+)"`)
	found := 0
	err := filepath.WalkDir("../../app", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		for _, m := range noted.FindAllStringSubmatch(string(b), -1) {
			if found++; !IsKind(m[1]) {
				t.Errorf("%s notes %s, which is not listed", path, m[1])
			}
		}
		return err
	})
	if err != nil || found < 80 {
		t.Errorf("%d kinds were found, %v", found, err)
	}
	for kind, want := range map[string]bool{
		"split": true, "split.made": true, "split.eaten": false, "spilt": false, "": false, "split.": false,
	} {
		if IsKind(kind) != want {
			t.Errorf("%q: %v", kind, !want)
		}
	}
}
