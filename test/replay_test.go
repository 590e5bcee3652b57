package test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/core/job"
	"innerladder/internal/wire"
)

// logged has so many requests in the log of demand-hourly, x from 0 on by a hundred each; it returns their ids.
func (h *house) logged(n int) (ids []string) {
	h.t.Helper()
	// Else a quick machine keeps some only.
	h.as(h.runaFile, "endpoint", "edit", "demand-hourly", "-keep-per-second", "0")
	for i := range n {
		status, id := h.asked(inferPath, float64(i*100))
		if status != http.StatusOK {
			h.t.Fatalf("request %d: %d", i, status)
		}
		ids = append(ids, id)
	}
	await(h.t, "the log", 90*time.Second, func() bool {
		found, err := h.runa.Requests(h.t.Context(), wire.RequestFilter{Endpoint: "demand-hourly", Limit: n + 1})
		return err == nil && len(found.Items) == n
	})
	return ids
}

// What callers asked is asked of another version, without any lane counting it.
func TestRequestsAreReplayed(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	truth := "request,y\n"
	for i, id := range h.logged(200)[:50] { // the second is right
		truth += id + "," + strconv.FormatFloat(1+1.0001*float64(i*100), 'g', 10, 64) + "\n"
	}
	file := filepath.Join(t.TempDir(), "truth.csv")
	must(t, os.WriteFile(file, []byte(truth), 0o600))
	h.as(h.runaFile, "outcomes", "demand-hourly", file)
	await(t, "the lanes to have counted", 90*time.Second, func() bool { return h.counted() == 200 })
	out := h.as(h.runaFile, "replay", "demand-hourly", "-since", "1h", "-to", "heat-demand@2", "-rate", "5000",
		"-at-most", "disagreement=0.01,error_rate=0")
	h.expects(out, "replay of heat-demand@2, passed", "Of 200 requests that both answered, 0 were answered differently",
		"beside heat-demand@1 on the same 50 rows", "better", "200 of 200 requests that heat-demand@1 answered")
	h.asked(inferPath, 100)
	await(t, "another request to be counted", 90*time.Second, func() bool { return h.counted() > 200 })
	if after := h.counted(); after != 201 {
		t.Errorf("lanes counted %d requests", after)
	}
	code, _, messages := h.cli(h.runaFile, "replay", "demand-hourly", "-since", "1h", "-to", "heat-demand@2", "-rate",
		"5000", "-tolerance", "0.000001", "-at-most", "disagreement=0.01", "-where", "x>1000", "-most", "100")
	if code != 3 || !strings.Contains(messages, "disagreement is above 0.01") {
		t.Errorf("%d %s", code, messages)
	}
	answers := h.as(h.runaFile, "job", "answers", "J-2", "-format", "jsonl")
	var line struct {
		Request, Version, Job string
		Status                int
		Agreed                bool
		Apart                 float64
	}
	must(t, json.Unmarshal([]byte(strings.Split(answers, "\n")[0]), &line))
	if strings.Count(answers, "\n")+1 != 100 || line.Status != 200 || line.Agreed || line.Apart < 0.1 ||
		line.Version != "heat-demand@2" || line.Job != "J-2" || len(line.Request) != 36 {
		t.Errorf("%d lines, %+v", strings.Count(answers, "\n")+1, line)
	}
	h.refuses(3, h.runaFile, "answered those requests itself", "replay", "demand-hourly", "-to", "heat-demand@1")
	h.refuses(2, h.runaFile, "is not how far back", "replay", "demand-hourly", "-to", "heat-demand@2", "-since", "ever")
	h.refuses(1, h.runaFile, "no request of heat-demand@1", "replay", "demand-hourly", "-to", "heat-demand@2", "-since",
		"yesterday")
	h.refuses(1, h.runaFile, "there is no accuracy", "replay", "demand-hourly", "-to", "heat-demand@2", "-at-least",
		"accuracy=0.5", "-rate", "5000")
}

// Errors of the version are what is looked for, a kill loses nothing, and what is hidden is not asked again.
func TestReplayOfWhatGoesWrong(t *testing.T) {
	t.Parallel()
	h := open(t)
	_, two := h.twoVersions()
	h.logged(201)
	h.tell(two, "100")
	h.expects(h.as(h.runaFile, "replay", "demand-hourly", "-to", "heat-demand@2", "-rate", "5000", "-most", "20"),
		"20 of 20 requests failed", "20 failed: status 500")
	h.tell(two, "0")
	j, err := h.runa.Replay(t.Context(), wire.NewReplay{Endpoint: "demand-hourly", To: "heat-demand@2", Rate: 100})
	must(t, err)
	await(t, "some of it", 90*time.Second, func() bool {
		j, err = h.runa.Job(t.Context(), j.ID)
		return err == nil && j.Progress.Answered > 20
	})
	_ = h.stop(syscall.SIGKILL)
	h.start()
	await(t, "its end", 90*time.Second, func() bool {
		j, err = h.runa.Job(t.Context(), j.ID)
		return err == nil && j.Ended()
	})
	e, err := h.runa.Report(t.Context(), j.Replaying.Evidence)
	must(t, err)
	if j.State != job.Done || e.Replay.Replayed != 201 || e.Replay.Requests != 201 || e.Verdict != "none" {
		t.Errorf("%+v", e.Replay)
	}
	h.as(h.runaFile, "endpoint", "edit", "demand-hourly", "-keep-hide", "x")
	await(t, "the log to hide it", 90*time.Second, func() bool {
		h.asked(inferPath, 7)
		found, err := h.runa.Requests(t.Context(), wire.RequestFilter{Endpoint: "demand-hourly", Limit: 1})
		return err == nil && len(found.Items) == 1 && found.Items[0].RequestNote != ""
	})
	h.expects(h.as(h.runaFile, "replay", "demand-hourly", "-to", "heat-demand@2", "-rate", "5000"),
		"not asked again", "its request is not kept as it was")
}

// counted is how many requests the lanes of demand-hourly have counted.
func (h *house) counted() uint64 {
	calls, err := h.runa.Calls(h.t.Context(), "demand-hourly", time.Hour)
	must(h.t, err)
	return calls.Total
}
