package test

import (
	"net/http"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/traffic"
	"innerladder/test/foreign"
)

// fragile is a model server that nobody here made the most of: Python's own, with the faults
// that such servers have. It says 1 + x, dies of what is missing, and takes no other batch than one row.
const fragile = `
import json, sys
import socket
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

class H(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    wbufsize = -1

    def say(self, status, what):
        body = json.dumps(what).encode()
        self.send_response(status)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_GET(self):
        if self.path.endswith("/ready"):
            return self.say(200, {})
        self.say(200, {"name": "heat-demand", "platform": "python", "versions": ["1"],
                       "inputs": [{"name": "x", "datatype": "FP64", "shape": [-1]}],
                       "outputs": [{"name": "y", "datatype": "FP64", "shape": [-1]}]})

    def do_POST(self):
        asked = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        rows = asked["inputs"][0]["data"]
        if len(rows) > 1:
            return self.say(400, {"error": "one row at a time"})
        if rows[0] is None:
            self.close_connection = True
            return self.connection.shutdown(socket.SHUT_RDWR)
        if rows[0] > 500:
            return self.say(500, {"error": "overflow"})
        self.say(200, {"model_name": "heat-demand", "outputs": [
            {"name": "y", "datatype": "FP64", "shape": [1], "data": [1 + rows[0]]},
            {"name": "scores", "datatype": "FP64", "shape": [1, 2], "data": [-rows[0], 2 * rows[0]]}]})

    def log_message(self, *a):
        pass

ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), H).serve_forever()
`

// pythonServer starts that server and says where it is.
func pythonServer(t *testing.T) string {
	t.Helper()
	python := foreign.Program(t, "python3")
	address := freeAddress(t)
	_, port, _ := strings.Cut(address, ":")
	cmd := exec.Command(python, "-c", fragile, port)
	must(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	await(t, "the server to answer", 20*time.Second, func() bool {
		res, err := http.Get("http://" + address + "/v2/models/heat-demand/ready")
		if err == nil {
			_ = res.Body.Close()
		}
		return err == nil
	})
	return "http://" + address
}

// healthy waits until a version is healthy where it is placed.
func (h *house) healthy(ref, environment string) {
	h.t.Helper()
	await(h.t, ref+" to be healthy", 60*time.Second, func() bool {
		p, err := h.runa.Placements(h.t.Context(), ref)
		must(h.t, err)
		return slices.ContainsFunc(p.Items, func(p traffic.Placement) bool {
			return p.Environment == environment && p.Healthy
		})
	})
}

// A version is tested for robustness where it is deployed: one that holds, and one whose server is somebody else's.
func TestVersionsAreTestedForRobustness(t *testing.T) {
	t.Parallel()
	h := open(t)
	_, two := h.twoVersionsOf(h.many(300))
	h.refuses(3, h.runaFile, "heat-demand@1 answers for demand-hourly in plant-north", "robustness", "heat-demand@1")
	h.refuses(2, h.runaFile, "there is no measure", "robustness", "heat-demand@2", "-at-most", "warmth=1")
	h.refuses(2, h.runaFile, "cannot be drawn", "robustness", "heat-demand@2", "-rows", "3")
	h.refuses(2, h.runaFile, "has no output", "robustness", "heat-demand@2", "-output", "z")
	printed := h.as(h.runaFile, "robustness", "heat-demand@2", "-rows", "30")
	h.expects(printed, "robustness of heat-demand@2, passed", "512 rows with one request: holds", "INPUT", "LEFT OUT",
		"30 rows like those of heat-demand@1, asked of heat-demand@2 in plant-north, in J-1")
	code, _, messages := h.cli(h.runaFile, "robustness", "heat-demand@2", "-rows", "20", "-at-most", "beyond=0.001")
	if code != 3 || !strings.Contains(messages, "beyond is above 0.001") {
		t.Errorf("%d %s", code, messages)
	}
	h.refuses(3, h.runaFile, "finds no rows, but makes a report", "job", "answers", "J-1")

	at := pythonServer(t)
	h.as(h.runaFile, "environment", "add", "workbench", "-allow", "127.0.0.0/8")
	h.as(h.runaFile, "place", "heat-demand@2", "-env", "workbench", "-at", at)
	h.healthy("heat-demand@2", "workbench")
	code, printed, _ = h.cli(h.runaFile, "robustness", "heat-demand@2", "-env", "workbench", "-rows", "20")
	h.expects(printed, "FAILED", "breaks  x missing: the connection broke", "8 rows with one request: refuses; 0 of 20",
		"the same rows again: holds", "other unit: status 500: overflow")
	if code != 3 {
		t.Errorf("exit %d", code)
	}
	h.tell(two, "100") // nothing usual is answered
	_, printed, _ = h.cli(h.runaFile, "robustness", "heat-demand@2", "-env", "plant-north", "-rows", "20", "-at-most",
		"beyond=3")
	h.expects(printed, "20 of 20 usual rows got no prediction: status 500", "breaks is above 0")
	h.tell(two, "0")
}

// A gate asks for it, so it is done where a version is placed that answers nobody, once for who answers.
func TestGateHasVersionsTestedForRobustness(t *testing.T) {
	t.Parallel()
	h := open(t)
	rows := h.many(300)
	h.twoVersionsOf(rows)
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=90", "heat-demand@2=10", "-why", "both answer")
	l, err := h.runa.Ladder(t.Context(), "default")
	must(t, err)
	gate := &l.Rungs[len(l.Rungs)-1].Gate
	*gate = append(*gate, rule.Requirement{Rule: rule.Robust{Environment: "plant-north"}})
	_, err = h.runa.SetLadder(t.Context(), "default", l.Ladder, "it must hold", -1)
	must(t, err)
	reports := func(version string) (n int) {
		found, err := h.runa.Evidence(t.Context(), version)
		must(t, err)
		for _, e := range found.Items {
			if e.OwnRobustness() != nil {
				n++
			}
		}
		return n
	}
	model, _ := h.files(1.001)
	_, at := h.standin(model)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", rows, "-target", "y")
	_, printed, _ := h.cli(h.runaFile, "gate", "heat-demand@3", "-for", "live")
	h.expects(printed, "not tested for robustness in plant-north yet")
	h.as(h.runaFile, "place", "heat-demand@3", "-env", "plant-north", "-at", at)
	await(t, "the third to be tested for robustness", 90*time.Second, func() bool {
		return reports("heat-demand@3") == 1
	})
	_, printed, _ = h.cli(h.runaFile, "gate", "heat-demand@3", "-for", "live")
	h.expects(printed, "passed", "disturbances with 60 rows")
	// With another incumbent the report is of the callers of the one before, so another is made.
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@2=100", "-why", "the better one")
	await(t, "it to be tested for robustness again", 90*time.Second, func() bool {
		return reports("heat-demand@3") == 2
	})
	_, printed, _ = h.cli(h.runaFile, "gate", "heat-demand@3", "-for", "live")
	h.expects(printed, "passed", "disturbances with 60 rows")
	if n := reports("heat-demand@2"); n != 0 {
		t.Errorf("who answers was tested for robustness %d times", n)
	}
	// Nobody attaches such a report by hand.
	found, err := h.runa.Evidence(t.Context(), "heat-demand@3")
	must(t, err)
	file := t.TempDir() + "/robustness.json"
	h.as(h.runaFile, "evidence", found.Items[0].ID, "-o", file)
	h.refuses(3, h.runaFile, "that the service made it", "attach", "heat-demand@3", "-kind", "robustness", file)
}
