package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// A model at the edge writes its answers as programs of other makers do: Python's logging to files that make place for
// one another, and Node's fetch to the agent. %d observations each.
const (
	pythonWriter = `
import json, logging, logging.handlers, sys, time
handler = logging.handlers.RotatingFileHandler(sys.argv[1], maxBytes=20000, backupCount=1000)
handler.setFormatter(logging.Formatter('%(message)s'))
log = logging.getLogger('answers'); log.addHandler(handler); log.setLevel(logging.INFO)
for i in range(int(sys.argv[2])):
    log.info(json.dumps({'at': time.time(), 'version': 'heat-demand@1', 'ms': 1 + i % 50,
        'inputs': {'x': i % 100}, 'outputs': {'y': float(i % 100)}}))
    time.sleep(0.002)
`
	nodeWriter = `
const [address, count] = [process.argv[1], +process.argv[2]];
(async () => {
  for (let i = 0; i < count; i += 10) {
    const lines = [];
    for (let j = i; j < i + 10; j++) lines.push(JSON.stringify({at: new Date().toISOString(), version: 2, ms: 3,
      status: j % 100 ? 200 : 500, inputs: {x: j % 100}, outputs: {y: j % 100}}));
    for (;;) { // until it is taken: an agent that is away has kept nothing
      try {
        const headers = {'Idempotency-Key': 'p' + i};
        const res = await fetch(address + '/observations', {method: 'POST', headers, body: lines.join('\n')});
        if (res.status === 202) break;
      } catch {}
      await new Promise(r => setTimeout(r, 50));
    }
    await new Promise(r => setTimeout(r, 10));
  }
})();
`
)

// edge sets up an endpoint whose versions answer elsewhere, all by the first.
func (h *house) edge() {
	t, ctx := h.t, h.t.Context()
	t.Helper()
	h.as(h.runaFile, "environment", "add", "substations")
	for i := range 2 {
		model, sample := h.files(float64(i + 1))
		h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y")
		h.as(h.runaFile, "place", fmt.Sprint("heat-demand@", i+1), "-env", "substations", "-elsewhere")
	}
	_, err := h.runa.AddEndpoint(ctx, wire.NewEndpoint{
		Name: "demand-edge", Model: "heat-demand", Environment: "substations", Rung: "draft",
	})
	must(t, err)
	_, err = h.runa.Split(ctx, "demand-edge", []traffic.Lane{
		{Kind: traffic.Main, Version: "heat-demand@1", Share: traffic.Whole},
	}, "start", -1)
	must(t, err)
}

// writes has two programs write so many observations each, into a file and to an address; it tells how they ended.
func writes(t *testing.T, file, address string, each int) <-chan error {
	t.Helper()
	ctx, stop := context.WithTimeout(t.Context(), 5*time.Minute)
	t.Cleanup(stop)
	var writers []*exec.Cmd
	for _, args := range [][]string{
		{"python3", "-c", pythonWriter, file, fmt.Sprint(each)}, {"node", "-e", nodeWriter, address, fmt.Sprint(each)},
	} {
		w := exec.CommandContext(ctx, args[0], args[1:]...)
		w.Stderr = os.Stderr
		must(t, w.Start())
		writers = append(writers, w)
	}
	written := make(chan error, 1)
	go func() {
		var err error
		for _, w := range writers {
			err = errors.Join(err, w.Wait())
		}
		written <- err
	}()
	return written
}

// requestsOf is how many requests of each version are in the series of demand-edge.
func (h *house) requestsOf() map[string]uint64 {
	h.t.Helper()
	series, err := h.runa.Series(h.t.Context(), "demand-edge", time.Hour)
	must(h.t, err)
	out := map[string]uint64{}
	for _, l := range series.Lanes {
		for _, p := range l.Points {
			out[l.Version] += p.Requests
		}
	}
	return out
}

// Whatever ends when, every observation counts, and once.
func TestNothingIsLostElsewhere(t *testing.T) {
	h := &house{t: t, data: filepath.Join(t.TempDir(), "data"), listen: freeAddress(t)}
	h.start()
	h.edge()
	const each = 3000
	dir, file, at := t.TempDir(), filepath.Join(t.TempDir(), "answers.jsonl"), freeAddress(t)
	starting := func() *process {
		return run(t, "agent", "demand-edge", file, "-state", dir, "-listen", at, "-name", "substation-7",
			"-server", h.server, "-token-file", h.runaFile)
	}
	agent := starting()
	written := writes(t, file, "http://"+at, each)
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	kills := 0
	for done := false; !done || kills < 5; { // also while the rest is told
		select {
		case err := <-written:
			must(t, err)
			written, done = nil, true
		case <-tick.C:
			switch rand.IntN(120) {
			case 0:
				_ = agent.stop(syscall.SIGKILL)
				agent = starting()
				kills++
			case 1:
				_ = h.stop(syscall.SIGKILL)
				h.start()
				kills++
			}
		}
	}
	var told elsewhere.Agent
	await(t, "all is known", time.Minute, func() bool {
		agents, err := h.runa.Agents(t.Context(), "demand-edge")
		if err == nil && len(agents.Items) == 1 {
			told = agents.Items[0]
		}
		return told.Requests >= 2*each
	})
	_ = agent.stop(syscall.SIGTERM)
	known := h.requestsOf()
	if known["heat-demand@1"] != each || known["heat-demand@2"] != each || told.Requests != 2*each {
		t.Errorf("%v are known and %d were told, of %d each, after %d kills", known, told.Requests, each, kills)
	}
	if told.Aside != 0 {
		t.Errorf("%d lines were put aside", told.Aside)
	}
	if out := h.as(h.runaFile, "agents", "demand-edge"); !strings.Contains(out, "substation-7") {
		t.Errorf("the agents are\n%s", out)
	}
	h.seesTheAgent()
	var again struct{ Requests uint64 }
	must(t, json.Unmarshal([]byte(h.as(h.runaFile, "agent", "demand-edge", "-once", "-state", dir, "-json")), &again))
	if again.Requests != 0 {
		t.Errorf("%d more were told", again.Requests)
	}
}

// seesTheAgent looks at what the console says of it.
func (h *house) seesTheAgent() {
	b := look(h.t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("who reports", b.open("/endpoints/demand-edge"), sees("Who reports what answers elsewhere"),
		browser.Visible(chromedp.CSS(`[data-agent="substation-7"]`)))
	b.do("where it is placed", b.open("/environments"),
		sees("where the gateway does not reach; agents report what it does"))
}
