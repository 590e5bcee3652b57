// Package foreign finds programs that nobody here made.
package foreign

import (
	"os"
	"os/exec"
	"testing"
)

// Program finds a program. A test is skipped where it is not installed, but not in CI, which has them all.
func Program(t testing.TB, name string) string {
	t.Helper()
	for _, at := range []string{name, "/usr/sbin/" + name} {
		if path, err := exec.LookPath(at); err == nil {
			return path
		}
	}
	if os.Getenv("FOREIGN") == "needed" {
		t.Fatalf("%s is not installed; make test installs it", name)
	}
	t.Skipf("%s is not installed; make test installs it", name)
	return ""
}
