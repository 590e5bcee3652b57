package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/core/watch"
)

// smallDisk is a file system of so many MiB.
func smallDisk(t *testing.T, size int) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%dm", size)); err != nil {
		t.Skipf("a file system of its own cannot be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// fillUp takes all the room that a file system has left.
func fillUp(t *testing.T, file string) {
	t.Helper()
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	must(t, err)
	defer f.Close()
	for size := 1 << 20; size > 0; {
		if _, err := f.Write(make([]byte, size)); err != nil {
			size /= 2
		}
	}
}

// tried makes a change, and gives status, Retry-After and what was said.
func (h *house) tried(method, path, body string) (status int, retry, said string) {
	h.t.Helper()
	req, err := http.NewRequestWithContext(h.t.Context(), method, h.server+"/api/v1"+path, strings.NewReader(body))
	must(h.t, err)
	req.Header.Set("Authorization", "Bearer "+h.runaToken)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	must(h.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	must(h.t, err)
	return res.StatusCode, res.Header.Get("Retry-After"), string(text)
}

// A full disk costs nobody an answer: changes are refused with the reason, everything can be read, and when there is
// room again it goes on by itself, and says for how long it did not.
func TestADiskThatIsFull(t *testing.T) {
	t.Parallel()
	disk := smallDisk(t, 48)
	h := &house{t: t, data: filepath.Join(disk, "data")}
	h.start()
	h.tove, h.toveFile = h.person("tove", "author", "approver", "operator")
	h.twoVersions()
	failed, stop := h.steadily(100)
	filler := filepath.Join(disk, "filler")
	n := 0
	change := func() (int, string, string) {
		n++
		return h.tried("POST", "/projects", fmt.Sprintf(`{"name":"p-%d","description":%q}`, n, strings.Repeat("x", 500)))
	}
	await(t, "a refusal", 60*time.Second, func() bool {
		fillUp(t, filler) // what the service gives back meanwhile is taken, too
		status, retry, said := change()
		if status != 201 && (status != 503 || retry == "" || !strings.Contains(said, "records.not_written") ||
			!strings.Contains(said, "the disk is full")) {
			t.Fatalf("%d, after %q: %s", status, retry, said)
		}
		return status == 503
	})
	h.readsEverything()
	large := filepath.Join(t.TempDir(), "large.bin")
	must(t, os.WriteFile(large, make([]byte, 4<<20), 0o600))
	if code, out, messages := h.cli(h.runaFile, "attach", "heat-demand@1", "-kind", "document", large); code != 1 ||
		!strings.Contains(out+messages, "the disk is full") {
		t.Errorf("an upload: exit %d %s%s", code, out, messages)
	}
	if said := h.readyz(); !strings.Contains(said, "nothing can be recorded") {
		t.Errorf("/readyz: %s", said)
	}
	h.more(200)
	must(t, os.Remove(filler))
	await(t, "recording again", 60*time.Second, func() bool { return h.readyz() == "200 ready" })
	if status, _, said := change(); status != 201 {
		t.Errorf("afterwards: %d %s", status, said)
	}
	await(t, "the alert", 30*time.Second, func() bool { return h.alerted(watch.RecordsAway, "open") })
	stop()
	if n := failed.Load(); n > 0 {
		t.Errorf("%d callers got no answer", n)
	}
	h.says(0, h.runaFile, "intact", "audit", "verify")
}

// readsEverything asks for all that can be read of what there is.
func (h *house) readsEverything() {
	h.t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "docs", "openapi.json"))
	must(h.t, err)
	var document struct {
		Paths map[string]map[string]json.RawMessage
	}
	must(h.t, json.Unmarshal(text, &document))
	known := strings.NewReplacer("{endpoint}", "demand-hourly", "{model}", "heat-demand", "{number}", "1",
		"{environment}", "plant-north", "{project}", "default", "{promotion}", "P-1", "/api/v1", "")
	read := 0
	for path, does := range document.Paths {
		at := known.Replace(path)
		// Events come for ever, and who takes a backup is recorded.
		if does["get"] == nil || strings.Contains(at, "{") || at == "/events" || at == "/backup" {
			continue
		}
		read++
		if status, _, said := h.tried("GET", at, ""); status >= 500 {
			h.t.Errorf("reading %s: %d %s", at, status, said)
		}
	}
	if read < 40 {
		h.t.Errorf("only %d paths were read", read)
	}
}

// holds keeps the records locked, as a program that copies them might, until it is told to end.
const holds = `
import sqlite3, sys
c = sqlite3.connect(sys.argv[1], isolation_level=None)
c.execute("BEGIN IMMEDIATE")
print("held", flush=True)
sys.stdin.read()
`

// Records that somebody else holds are waited for, then refused, and go on when they are free.
func TestRecordsThatSomebodyHolds(t *testing.T) {
	t.Parallel()
	h := open(t)
	other := exec.Command("python3", "-c", holds, filepath.Join(h.data, "ladder.db"))
	hold, err := other.StdinPipe()
	must(t, err)
	said, err := other.StdoutPipe()
	must(t, err)
	must(t, other.Start())
	_, err = said.Read(make([]byte, 5))
	must(t, err)
	for range 2 {
		if status, retry, said := h.tried("POST", "/projects", `{"name":"harbour"}`); status != 503 || retry == "" ||
			!strings.Contains(said, "another program holds") {
			t.Errorf("%d, after %q: %s", status, retry, said)
		}
	}
	if status, _, said := h.tried("GET", "/projects", ""); status != 200 {
		t.Errorf("reading: %d %s", status, said)
	}
	must(t, hold.Close())
	must(t, other.Wait())
	if status, _, said := h.tried("POST", "/projects", `{"name":"harbour"}`); status != 201 {
		t.Errorf("afterwards: %d %s", status, said)
	}
	await(t, "the alert", 30*time.Second, func() bool { return h.alerted(watch.RecordsAway, "open") })
}
