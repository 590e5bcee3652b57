package client

import (
	"os/exec"
	"strings"
	"testing"
)

// A program that speaks to the service carries nothing of its server: of ours only the core,
// the shapes of the API and the reader of backups, no HTTP framework and no database.
func TestWhatAClientCarries(t *testing.T) {
	out, err := exec.CommandContext(t.Context(), "go", "list", "-deps", ".").Output()
	if err != nil {
		t.Fatal(err)
	}
	packages := strings.Fields(string(out))
	for _, p := range packages {
		for _, server := range []string{"github.com/gofiber/", "github.com/valyala/", "modernc.org/", "database/sql"} {
			if strings.HasPrefix(p, server) {
				t.Errorf("the client carries %s", p)
			}
		}
		rest, ours := strings.CutPrefix(p, "innerladder/internal/")
		if room, _, _ := strings.Cut(rest, "/"); ours && room != "core" && room != "wire" && room != "backup" &&
			room != "client" {
			t.Errorf("the client carries the room %s", room)
		}
	}
	// It is the standard library's HTTP client, most of all; that may grow, but not by a server.
	if len(packages) > 320 {
		t.Errorf("the client carries %d packages; 300 would do", len(packages))
	}
}
