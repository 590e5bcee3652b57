package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// servePy is a model server in another language: the protocol on Python's standard library. It starts a helper, as many
// servers do, that would outlive it.
const servePy = `import argparse, json, os, subprocess, sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

a = argparse.ArgumentParser()
for option in ("--port", "--model", "--folder", "--requirements"):
    a.add_argument(option)
a = a.parse_args()
about = json.load(open(a.folder + "/version.json"))
slope = json.load(open(a.folder + "/weights.json"))["slope"]
subprocess.Popen(["/bin/sleep", "1000"])
print("serving", about["ref"], "needs", open(a.requirements).read().split(), "stage", os.environ["STAGE"],
      "secrets", [k for k in os.environ if "SECRET" in k or "TOKEN" in k], flush=True)

class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def log_message(self, *args): pass
    def say(self, what, status=200):
        body = json.dumps(what).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def do_GET(self):
        tensor = lambda name: {"name": name, "datatype": "FP64", "shape": [-1]}
        if self.path.endswith("/ready") or self.path.endswith("/live"): return self.say({"ready": True})
        if self.path == "/v2/models/" + a.model:
            return self.say({"name": a.model, "platform": "python", "inputs": [tensor("x")], "outputs": [tensor("y")]})
        self.say({"error": "not here"}, 404)
    def do_POST(self):
        x = json.loads(self.rfile.read(int(self.headers["Content-Length"])))["inputs"][0]["data"]
        self.say({"model_name": a.model, "outputs": [
            {"name": "y", "datatype": "FP64", "shape": [len(x)], "data": [1 + slope * v for v in x]}]})

ThreadingHTTPServer(("127.0.0.1", int(a.port)), Handler).serve_forever()
`

// family are the processes that belong to the runners of a house, by their environment.
func (h *house) family() (pids []int) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		b, err := os.ReadFile(filepath.Join("/proc", e.Name(), "environ"))
		if pid, is := strconv.Atoi(e.Name()); err == nil && is == nil &&
			strings.Contains(string(b), "INNERLADDER_RUNNER="+h.data) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// A command line that was allowed serves a version in another language; it is looked after as ours is, and nothing that
// it started is left, however it ends.
func TestRunnerTemplates(t *testing.T) {
	t.Parallel()
	python, err := exec.Command("python3", "-c", "import sys; print(sys.executable)").Output()
	if err != nil {
		t.Skip("python3 is not installed")
	}
	dir := t.TempDir()
	serve, weights := filepath.Join(dir, "serve.py"), filepath.Join(dir, "weights.json")
	must(t, os.WriteFile(serve, []byte(servePy), 0o600))
	must(t, os.WriteFile(weights, []byte(`{"slope": 2}`), 0o600))
	needs := filepath.Join(dir, "requirements.txt")
	must(t, os.WriteFile(needs, []byte("numpy==2.1.0\n"), 0o600))
	put := []string{
		"runner", "put", "python", "-why", "our own servers", "-set", "STAGE=rehearsal {version}", "--",
		strings.TrimSpace(string(python)), "{folder}/serve.py", "--port", "{port}", "--model", "{model}", "--folder",
		"{folder}", "--requirements", "{requirements}",
	}
	shut := open(t)
	code, _, said := shut.withOptions(put...)
	if code != 3 || !strings.Contains(said, "serve -run-commands") {
		t.Errorf("where it is not allowed: %d %s", code, said)
	}
	h := &house{
		t: t, data: filepath.Join(t.TempDir(), "data"), options: []string{"-runners-away", "3s", "-run-commands"},
	}
	h.start()
	h.tove, h.toveFile = h.person("tove", "author", "approver", "operator")
	t.Cleanup(func() {
		_ = h.cmd.Process.Kill()
		await(t, "all of it to end", 20*time.Second, func() bool { return len(h.family()) == 0 })
	})
	if code, _, said := h.withOptionsAs(h.toveFile, put...); code != 3 {
		t.Errorf("an operator allowed it: %d %s", code, said)
	}
	if code, _, said := h.withOptions(put...); code != 0 {
		t.Fatal(said)
	}
	h.as(h.runaFile, "environment", "add", "workbench")
	_, sample := h.files(1)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", serve, "-file", weights, "-sample", sample,
		"-target", "y", "-requirements", needs)
	h.says(1, h.runaFile, "no runner template \"perl\"", "place", "heat-demand@1", "-env", "workbench", "-run",
		"-template", "perl")
	h.says(2, h.runaFile, "give one number", "place", "heat-demand@1", "-env", "workbench", "-run", "-template",
		"python", "-replicas", "1..3")
	h.as(h.runaFile, "place", "heat-demand@1", "-env", "workbench", "-run", "-template", "python")
	h.as(h.runaFile, "endpoint", "add", "demand-hourly", "-model", "heat-demand", "-env", "workbench", "-rung", "draft")
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=100")
	c := h.caller(1)
	answers := func() bool {
		status, _, body, err := c.infer(3)
		return err == nil && status == 200 && strings.Contains(string(body), "[7")
	}
	await(t, "an answer", 10*time.Second, answers)
	log := h.as(h.runaFile, "running", "log", "heat-demand@1", "-env", "workbench")
	if !strings.Contains(log, "serving heat-demand@1 needs ['numpy==2.1.0'] stage rehearsal heat-demand@1 secrets []") {
		t.Errorf("the log says %s", log)
	}
	for round := range 3 {
		all := h.family() // the one that holds the folder, Python, and its helper
		if len(all) != 3 {
			t.Fatalf("%d processes", len(all))
		}
		must(t, syscall.Kill(all[round], syscall.SIGKILL))
		await(t, "three others", 30*time.Second, func() bool { return len(h.family()) == 3 && h.family()[0] != all[0] })
		await(t, "an answer", 10*time.Second, answers)
		if round == 1 {
			break // the helper's end ends nothing
		}
	}
	h.says(3, h.runaFile, "is run by python", "runner", "remove", "python", "-why", "trying")
	if out := h.as(h.runaFile, "audit", "-kind", "template"); !strings.Contains(out, "our own servers") {
		t.Errorf("the record says %s", out)
	}
}

// withOptions runs a command as the owner whose arguments end its options.
func (h *house) withOptions(args ...string) (int, string, string) {
	return h.withOptionsAs(h.runaFile, args...)
}

func (h *house) withOptionsAs(tokenFile string, args ...string) (int, string, string) {
	h.t.Helper()
	cmd := exec.CommandContext(h.t.Context(), binary, append([]string{
		args[0], args[1], "-server", h.server, "-token-file",
		tokenFile,
	}, args[2:]...)...)
	cmd.Env = append(os.Environ(), "HOME="+h.t.TempDir(), "XDG_CONFIG_HOME=")
	var o, e strings.Builder
	cmd.Stdout, cmd.Stderr = &o, &e
	_ = cmd.Run()
	return cmd.ProcessState.ExitCode(), o.String(), e.String()
}
