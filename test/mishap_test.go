package test

import (
	"bytes"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// steadily calls demand-hourly so many times a second until stop is called, and counts
// what failed.
func (h *house) steadily(perSecond int) (failed *atomic.Int64, stop func()) {
	return h.calls(perSecond, func(status int, err error) bool { return err != nil || status != 200 })
}

// calls calls at a steady rate until stop is called, and counts the answers that are bad.
func (h *house) calls(perSecond int, bad func(status int, err error) bool) (failed *atomic.Int64, stop func()) {
	c := h.caller(64)
	failed = &atomic.Int64{}
	done := make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() {
		tick := time.NewTicker(time.Second / time.Duration(perSecond))
		defer tick.Stop()
		for i := 0; ; i++ {
			select {
			case <-done:
				return
			case <-tick.C:
				wait.Go(func() {
					if status, _, body, err := c.infer(float64(i%300) / 100); bad(status, err) {
						if failed.Add(1) <= 5 {
							h.t.Logf("a request failed: %d %s %v", status, body, err)
						}
					}
				})
			}
		}
	})
	return failed, func() { close(done); wait.Wait() }
}

// A model server that dies in the middle of a trial costs nobody an answer: another lane
// answers, an alert says so, and when it is back it is used again.
func TestAModelServerThatDies(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.as(h.runaFile, "environment", "add", "plant-north")
	var servers [2]*process
	var models, at [2]string
	for i := range at {
		var sample string
		models[i], sample = h.files(1 + 0.0001*float64(i))
		ref := h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", models[i], "-sample", sample,
			"-target", "y", "-report", h.measured(1))
		h.as(h.runaFile, "promote", ref, "-to", "live")
		h.as(h.toveFile, "sign", "P-"+ref[len(ref)-1:], "-yes")
		servers[i], at[i] = h.standin(models[i])
		h.as(h.runaFile, "place", ref, "-env", "plant-north", "-at", at[i])
	}
	h.as(h.runaFile, "endpoint", "add", "demand-hourly", "-model", "heat-demand", "-env", "plant-north")
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=50", "heat-demand@2=50")
	failed, stop := h.steadily(200)
	h.more(200) // both lanes have answered: what dies now is no reason for a guard
	if err := servers[1].stop(syscall.SIGKILL); !killed(err) {
		t.Fatalf("ended with %v", err)
	}
	alert := func(state string) bool {
		all, err := h.runa.Alerts(t.Context(), state, "demand-hourly", client.Part{})
		must(t, err)
		return len(all.Items) == 1 && all.Items[0].Subject == "heat-demand@2" &&
			strings.Contains(all.Items[0].Sentence, "connection refused")
	}
	await(t, "the alert", 10*time.Second, func() bool { return alert("open") })
	h.more(200)
	stop()
	// Requests that it was answering when it died cannot be saved; no others may fail.
	if n := failed.Load(); n > 5 {
		t.Errorf("%d requests failed", n)
	}
	run(t, "standin", "-listen", strings.TrimPrefix(at[1], "http://"), "-model", models[1]).line()
	await(t, "the recovery", 10*time.Second, func() bool { return alert("resolved") })
	c := h.caller(1)
	await(t, "an answer by heat-demand@2", 5*time.Second, func() bool {
		_, version, _, err := c.infer(1)
		return err == nil && version == "heat-demand@2"
	})
}

// written is how many requests stand in the file of signals, as it is found after a kill.
func (h *house) written() (n int64) {
	h.t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(h.data, "signals.db")+"?mode=ro&_pragma=busy_timeout(10000)")
	must(h.t, err)
	defer db.Close()
	sum := db.QueryRowContext(h.t.Context(), `SELECT coalesce(sum(requests), 0) FROM traffic WHERE level = 0`)
	must(h.t, sum.Scan(&n))
	return n
}

// The watching of a trial goes on after the service was killed: what it knew is kept,
// and it still rolls back.
func TestWatchingGoesOnAfterAKill(t *testing.T) {
	t.Parallel()
	h := open(t)
	_, two := h.twoVersions()
	_, err := h.runa.Split(t.Context(), "demand-hourly",
		[]traffic.Lane{
			{Kind: traffic.Main, Version: "heat-demand@1", Share: 5000},
			{Kind: traffic.Trial, Version: "heat-demand@2", Share: 5000},
		}, "", -1)
	must(t, err)
	_, stop := h.steadily(100)
	h.more(300)
	stop()
	// On a busy machine a second's worth takes longer than a second to come and to be written. All but the last fifty
	// are written here.
	await(t, "what was asked to be written", 10*time.Second, func() bool { return h.written() == h.ended.Load() })
	_, stop = h.steadily(100)
	h.more(50)
	stop()
	before, err := h.runa.EndpointNow(t.Context(), "demand-hourly")
	must(t, err)
	if err := h.stop(syscall.SIGKILL); !killed(err) {
		t.Fatalf("ended with %v", err)
	}
	h.start()
	var after wire.EndpointNow
	await(t, "what is known of the trial to be read", 5*time.Second, func() bool {
		after, err = h.runa.EndpointNow(t.Context(), "demand-hourly")
		must(t, err)
		return after.Lanes[0].Requests > 0 && len(after.Guards) == len(guard.DefaultTerms().For(guard.TrialPair{}))
	})
	for i, l := range after.Lanes {
		// a second's worth may be lost, no more
		if lost := int(before.Lanes[i].Requests) - int(l.Requests); lost < 0 || lost > 60 {
			t.Errorf("%s: %d requests before the kill, %d after", l.Version, before.Lanes[i].Requests, l.Requests)
		}
	}
	if len(after.Guards) != len(guard.DefaultTerms().For(guard.TrialPair{})) ||
		!strings.Contains(after.Guards[0].Sentence, "no sign that it is worse") {
		t.Errorf("guards after the kill: %+v", after.Guards)
	}
	if out, err := exec.Command(binary, "standin", "tell", two, "-fail", "30").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	_, stop = h.steadily(100)
	defer stop()
	await(t, "the rollback", 15*time.Second, func() bool {
		e, err := h.runa.Endpoint(t.Context(), "demand-hourly")
		must(t, err)
		return e.Split.Number == 3 && e.Split.ReturnsTo == 1
	})
}

// An upload goes on after the service was killed in the middle of it.
func TestAnUploadOutlivesAKill(t *testing.T) {
	t.Parallel()
	h := open(t)
	content := bytes.Repeat([]byte("0123456789abcdef"), 1<<20) // 16 MiB
	send := func(method, path string, body []byte, header ...string) (wire.Uploading, int) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, h.server+"/api/v1"+path, bytes.NewReader(body))
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+h.runaToken)
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := http.DefaultClient.Do(req)
		must(t, err)
		defer res.Body.Close()
		var up wire.Uploading
		must(t, json.NewDecoder(res.Body).Decode(&up))
		return up, res.StatusCode
	}
	up, _ := send("POST", "/uploads?name=m.bin", nil, "Upload-Length", strconv.Itoa(len(content)), "Upload-Complete",
		"?0")
	half := len(content) / 2
	if up, _ = send("PATCH", "/uploads/"+up.ID, content[:half], "Upload-Offset", "0", "Upload-Complete",
		"?0"); up.Offset != int64(half) {
		t.Fatalf("%+v", up)
	}
	if err := h.stop(syscall.SIGKILL); !killed(err) {
		t.Fatalf("ended with %v", err)
	}
	h.start()
	up, status := send("GET", "/uploads/"+up.ID, nil)
	if status != 200 || up.Offset != int64(half) || up.Complete {
		t.Fatalf("after the kill: %d %+v", status, up)
	}
	up, _ = send("PATCH", "/uploads/"+up.ID, content[half:], "Upload-Offset", strconv.Itoa(half), "Upload-Complete",
		"?1")
	sum := sha256.Sum256(content)
	if !up.Complete || up.Digest != hex.EncodeToString(sum[:]) {
		t.Fatalf("%+v", up)
	}
	v, err := h.runa.Register(t.Context(),
		wire.Registration{Model: "large", Uploads: []wire.UploadUse{{ID: up.ID, Part: "artifact"}}}, nil)
	if err != nil || v.Artifacts[0].Size != int64(len(content)) {
		t.Errorf("%+v, %v", v.Artifacts, err)
	}
}
