package test

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
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
	"innerladder/internal/core/watch"

	_ "modernc.org/sqlite" // to lock a file
)

// soak is whether there is time for what takes long.
var soak = os.Getenv("SOAK") != ""

// longer is n, and more of it where there is time.
func longer(n, whenSoaking int) int {
	if soak {
		return whenSoaking
	}
	return n
}

// served counts the requests of an endpoint as the metrics say.
func (h *house) served(endpoint string) (n int) {
	h.t.Helper()
	req, err := http.NewRequestWithContext(h.t.Context(), "GET", h.server+"/metrics", nil)
	must(h.t, err)
	req.Header.Set("Authorization", "Bearer "+h.runaToken)
	res, err := http.DefaultClient.Do(req)
	must(h.t, err)
	defer res.Body.Close()
	for s := bufio.NewScanner(res.Body); s.Scan(); {
		line := s.Text()
		if strings.HasPrefix(line, "innerladder_requests_total{") && strings.Contains(line, `endpoint="`+endpoint+`"`) {
			value, err := strconv.ParseFloat(line[strings.LastIndex(line, " ")+1:], 64)
			must(h.t, err)
			n += int(value)
		}
	}
	return n
}

// While requests flow, the split changes again and again: none of them fails, is lost, or
// is answered by another version than it says.
func TestSoakSplitsChangeUnderLoad(t *testing.T) {
	h := open(t)
	h.twoVersions()
	n, changes := longer(20_000, 200_000), longer(40, 200)
	const workers = 16
	c := h.caller(workers)
	var asked, wrong atomic.Int64
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for asked.Add(1) <= int64(n) {
				status, version, body, err := c.infer(100)
				var a struct {
					Version string `json:"model_version"`
					Outputs []struct{ Data []float64 }
				}
				if err != nil || status != 200 || json.Unmarshal(body, &a) != nil || a.Version != version ||
					a.Outputs[0].Data[0] != map[string]float64{"heat-demand@1": 101, "heat-demand@2": 101.01}[version] {
					if wrong.Add(1) < 5 {
						t.Errorf("%d %q %s %v", status, version, body, err)
					}
				}
			}
		})
	}
	for i := range changes {
		share := 500 + 100*(i%90)
		_, err := h.runa.Split(t.Context(), "demand-hourly",
			[]traffic.Lane{
				{Kind: traffic.Main, Version: "heat-demand@1", Share: 10_000 - share},
				{Kind: traffic.Trial, Version: "heat-demand@2", Share: share},
			}, "", -1)
		must(t, err)
	}
	all.Wait()
	if wrong.Load() > 0 {
		t.Errorf("%d of %d requests went wrong", wrong.Load(), n)
	}
	await(t, "all requests to be counted", 5*time.Second, func() bool { return h.served("demand-hourly") == n })
	now, err := h.runa.EndpointNow(t.Context(), "demand-hourly")
	must(t, err)
	if len(now.Guards) == 0 {
		t.Error("the trial is not watched")
	}
}

// Killed at any moment of a trial, the service answers as soon as it is there again, and
// what it knew of the trial goes back by a second at most.
func TestSoakKillsDuringATrial(t *testing.T) {
	h := open(t)
	h.twoVersions()
	_, err := h.runa.Split(t.Context(), "demand-hourly",
		[]traffic.Lane{
			{Kind: traffic.Main, Version: "heat-demand@1", Share: 5000},
			{Kind: traffic.Trial, Version: "heat-demand@2", Share: 5000},
		}, "", -1)
	must(t, err)
	const rate = 200
	sent := 0
	for round := range longer(3, 100) {
		c := h.caller(16)
		end := time.Now().Add(time.Duration(1500+rand.IntN(1500)) * time.Millisecond)
		tick := time.NewTicker(time.Second / rate)
		for time.Now().Before(end) {
			<-tick.C
			if status, _, body, err := c.infer(1); err != nil || status != 200 {
				t.Fatalf("round %d: %d %s %v", round, status, body, err)
			}
			sent++
		}
		tick.Stop()
		if err := h.stop(syscall.SIGKILL); !killed(err) {
			t.Fatalf("ended with %v", err)
		}
		h.start()
		if status, _, body, err := h.caller(1).infer(1); err != nil || status != 200 {
			t.Fatalf("round %d: the first answer after a kill: %d %s %v", round, status, body, err)
		}
		sent++
		known := 0
		await(t, "what was known before the kill", 10*time.Second, func() bool {
			now, err := h.runa.EndpointNow(t.Context(), "demand-hourly")
			must(t, err)
			known = int(now.Lanes[0].Requests + now.Lanes[1].Requests)
			return len(now.Guards) == len(guard.DefaultTerms().For(guard.TrialPair{})) && known > 0 &&
				known >= sent-2*rate
		})
		sent = known // what was lost is lost; the next round may lose no more than a second either
	}
}

// readyz is what the service says of itself.
func (h *house) readyz() string {
	res, err := http.Get(h.server + "/readyz")
	if err != nil {
		return err.Error()
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	return fmt.Sprint(res.StatusCode, " ", strings.TrimSpace(string(b)))
}

// alerted reports whether there is an alert of a kind in a state.
func (h *house) alerted(kind watch.AlertKind, state string) bool {
	all, err := h.runa.Alerts(h.t.Context(), state, "", client.Part{})
	must(h.t, err)
	for _, a := range all.Items {
		if a.Kind == kind {
			return true
		}
	}
	return false
}

// Whatever happens to signals.db, requests are answered; it is noticed, said, and healed.
func TestSignalsThatAreLost(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=90", "heat-demand@2=10")
	failed, stop := h.steadily(100)
	file := filepath.Join(h.data, "signals.db")
	await(t, "the signals to be open", 5*time.Second, func() bool { return h.readyz() == "200 ready" })
	for _, name := range []string{file, file + "-wal", file + "-shm"} {
		must(t, os.Remove(name))
	}
	await(t, "the loss to be said", 10*time.Second, func() bool { return h.alerted(watch.SignalsLost, "open") })
	await(t, "new signals", 10*time.Second,
		func() bool { _, err := os.Stat(file); return err == nil && h.readyz() == "200 ready" })

	// Somebody else holds the file.
	db, err := sql.Open("sqlite", file+"?_txlock=exclusive&_pragma=busy_timeout(10000)")
	must(t, err)
	defer db.Close()
	tx, err := db.BeginTx(context.Background(), nil)
	must(t, err)
	await(t, "what is degraded", 15*time.Second, func() bool {
		return strings.Contains(h.readyz(), "degraded") && strings.Contains(h.readyz(), "requests are answered")
	})
	await(t, "the alert", 20*time.Second, func() bool { return h.alerted(watch.SignalsAway, "open") })
	// Changes of splits go on, and so do guards.
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=80", "heat-demand@2=20")
	must(t, tx.Rollback())
	await(t, "the end of the trouble", 15*time.Second,
		func() bool { return h.readyz() == "200 ready" && h.alerted(watch.SignalsAway, "resolved") })
	stop()
	if n := failed.Load(); n > 0 {
		t.Errorf("%d requests failed meanwhile", n)
	}
}

// resident is how much memory a process holds, in MiB.
func resident(t *testing.T, pid int) int {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	must(t, err)
	pages, err := strconv.Atoi(strings.Fields(string(b))[1])
	must(t, err)
	return pages * os.Getpagesize() >> 20
}

// A crowd of strangers who send large bodies and then wait, with and without a key, fills
// no memory, and keeps nobody else from being answered.
func TestSoakACrowdOfStrangers(t *testing.T) {
	h := open(t)
	h.twoVersions()
	h.as(h.runaFile, "endpoint", "add", "locked", "-model", "heat-demand", "-env", "plant-north")
	h.as(h.runaFile, "split", "locked", "heat-demand@1=100")
	h.as(h.runaFile, "callers", "locked", "-keyed", "-why", "a test")
	failed, stop := h.steadily(50)
	crowd, sent := longer(40, 400), longer(9, 59)<<20
	before := resident(t, h.cmd.Process.Pid)
	piece := []byte(strings.Repeat(" ", 1<<20))
	var all sync.WaitGroup
	var strangers []net.Conn
	for i := range crowd {
		c, err := net.Dial("tcp", strings.TrimPrefix(h.gateway, "http://"))
		must(t, err)
		strangers = append(strangers, c)
		all.Go(func() {
			_ = c.SetWriteDeadline(time.Now().Add(time.Minute))
			endpoint, framing := "demand-hourly", fmt.Sprintf("Content-Length: %d", sent+1<<20)
			switch i % 4 {
			case 1:
				endpoint = "locked"
			case 2:
				framing = "Transfer-Encoding: chunked"
			}
			_, _ = fmt.Fprintf(c, "POST /v2/models/%s/infer HTTP/1.1\r\nHost: a\r\n%s\r\n\r\n", endpoint, framing)
			for done := 0; done < sent; done += len(piece) {
				if i%4 == 2 {
					_, _ = fmt.Fprintf(c, "%x\r\n", len(piece))
				}
				if _, err := c.Write(piece); err != nil {
					return // it was turned away
				}
				if i%4 == 2 {
					_, _ = io.WriteString(c, "\r\n")
				}
			}
		})
	}
	most := before
	watching, stopWatching := context.WithCancel(t.Context())
	var watcher sync.WaitGroup
	watcher.Go(func() {
		tick := time.NewTicker(50 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				most = max(most, resident(t, h.cmd.Process.Pid))
			case <-watching.Done():
				return
			}
		}
	})
	all.Wait()
	stopWatching()
	watcher.Wait()
	if most-before > 600 {
		t.Errorf("memory grew from %d to %d MiB", before, most)
	}
	await(t, "the memory to be given back", 40*time.Second,
		func() bool { return resident(t, h.cmd.Process.Pid) < before+100 })
	for _, c := range strangers {
		_ = c.Close()
	}
	stop()
	if n := failed.Load(); n > 0 {
		t.Errorf("%d requests of others failed", n)
	}
	t.Logf("memory: %d MiB before, %d at most, %d after", before, most, resident(t, h.cmd.Process.Pid))
}

// Who says nothing, or not enough, is not waited for by the API either.
func TestSilentConnectionsToTheAPIEnd(t *testing.T) {
	t.Parallel()
	h := open(t)
	var silent []net.Conn
	for _, said := range []string{"", "GET /readyz HTTP/1.1\r\nHost: a\r\nX: "} {
		c, err := net.Dial("tcp", strings.TrimPrefix(h.server, "http://"))
		must(t, err)
		defer c.Close()
		_, err = io.WriteString(c, said)
		must(t, err)
		must(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
		silent = append(silent, c)
	}
	for i, c := range silent {
		if _, err := io.Copy(io.Discard, c); err != nil {
			t.Errorf("connection %d: %v", i, err)
		}
	}
}
