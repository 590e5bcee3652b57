package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/gateway"
	"innerladder/internal/wire"
	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// asked calls demand-hourly once and returns the id that the caller got.
func (h *house) asked(path string, x float64) (status int, id string) {
	h.t.Helper()
	body := fmt.Sprintf(`{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[%v]}]}`, x)
	res, err := http.Post(h.gateway+path, "application/json", strings.NewReader(body))
	must(h.t, err)
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	return res.StatusCode, res.Header.Get(gateway.RequestHeader)
}

const inferPath = "/v2/models/demand-hourly/infer"

// What was asked is looked up and tried again in the console; what was turned away is a lane of its own.
func TestRequestsInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	for x := range 20 {
		h.asked(inferPath, float64(x))
	}
	_, id := h.asked(inferPath, 7.25)
	h.asked("/v2/models/demand-hourly/versions/9/infer", 1)
	b := look(t, h)
	h.person("kari", "operator")
	b.do("signing in as kari", browser.SignIn(h.server, "kari", password))
	b.do("how it is, and what is watched", b.open("/endpoints/demand-hourly"),
		browser.Visible(chromedp.CSS(`[data-state="well"]`)), sees("one false alarm in 90 days"),
		press("show all of them"), browser.Visible(chromedp.CSS(`[data-watch]`)), sees("error_rate"))
	b.do("a watch as a sentence", press("Watch a signal"), write("Limit", "250ms"), press("Watch it so"),
		sees("is no limit of error_rate"), sees("give per cent, such as 1 %"), write("Limit", "3 %"),
		press("Watch it so"),
		sees("Tell when error_rate is above 3 %."))
	b.do("the same as a file", press("As a file"), write("Watches, as YAML", "watches: [{signal: wrath}]"),
		press("Watch it so"), sees("line 1, column 20"),
		write("Watches, as YAML", "owner: the desk\nwatches: [{signal: error_rate, off: true}]"), press("Watch it so"),
		sees("error_rate is not watched."), sees("owner the desk"))
	b.do("muting", press("Mute"), overwrite(`input[name="why"]`, "it is being moved"), press("4h"),
		press("Raise none of them"), sees("Everything is muted until"), press("end it"),
		browser.Gone(browser.Text("span", "Everything is muted until")),
		press("as usual"), browser.Gone(browser.Text("span", "error_rate is not watched.")))
	b.do("a lane of its own", b.open("/endpoints/demand-hourly"),
		browser.Visible(chromedp.CSS(`[data-lane="refused"]`)), sees("1 named a version that has no lane"))
	b.do("the log", press("Requests"), sees("x 7.25"), sees("y 8.25"), sees("refused 404"),
		sees("Turned away in the last day: 1"))
	b.do("narrowed down", overwrite(`input[name="where"]`, "x>7, x<7.5"), press("Look"), sees("x 7.25"),
		browser.Gone(browser.Text("td", "x 3")))
	b.do("one of them", browser.Click(chromedp.CSS(`table[aria-label="Requests"] a`)), sees(id), sees("Asked"),
		sees("7.25"), sees("8.25"))
	b.do("again", press("Try it again"), sees("the same as then"))
	b.do("the like of it", press("The like of it"), sees("Distance 0 is the same inputs"), sees("x 7"))
	b.do("where it came from", press("Where it came from"), sees("heat-demand@1"))
	b.do("what is kept", b.open("/endpoints/demand-hourly/requests"), press("What is kept"),
		browser.Visible(browser.Text("button", "Keep it so")))
	e, err := h.runa.Endpoint(t.Context(), "demand-hourly")
	must(t, err)
	if e.Requests.Share != 10_000 {
		t.Errorf("%+v", e.Requests)
	}
	b.do("hiding x", browser.Type(chromedp.Search(`//label[contains(., "left out")]//input`), "x"), press("Keep it so"),
		browser.Gone(browser.Text("button", "Keep it so")))
	_, hidden := h.asked(inferPath, 9)
	b.do("it is hidden", b.open("/requests/"+hidden), sees("hidden: x"), browser.Gone(browser.Text("button",
		"Try it again")))
}

// A command follows what is asked until it is interrupted, and loses nothing in between.
func TestFollowingRequests(t *testing.T) {
	h := open(t)
	h.twoVersions()
	h.asked(inferPath, 1)
	cmd := []string{"requests", "demand-hourly", "-follow", "-json", "-server", h.server, "-token-file", h.toveFile}
	p := run(t, cmd...)
	seen := map[string]bool{}
	var wanted []string
	next := func() (r request.Kept) {
		t.Helper()
		if err := json.Unmarshal([]byte(p.line()), &r); err != nil || seen[r.ID] {
			t.Fatalf("%v: %s, which came before: %v", err, r.ID, seen[r.ID])
		}
		seen[r.ID] = true
		return r
	}
	for range 3 {
		for x := range 30 { // more than come at once
			_, id := h.asked(inferPath, float64(x))
			wanted = append(wanted, id)
		}
		for !seen[wanted[len(wanted)-1]] {
			next()
		}
	}
	for _, id := range wanted {
		if !seen[id] {
			t.Errorf("%s was left out", id)
		}
	}
	if err := p.stop(os.Interrupt); err != nil {
		t.Errorf("interrupted, it ended with %v", err)
	}
}

// A kill loses the last moment of the log at most, and what is there is whole.
func TestTheLogAfterAKill(t *testing.T) {
	h := open(t)
	h.twoVersions()
	_, first := h.asked(inferPath, 1)
	_, stop := h.steadily(100)
	h.more(200)
	shown := func(id string) (wire.RequestShown, error) { return h.runa.Request(t.Context(), id) }
	there := func(id string) {
		t.Helper()
		await(t, "a request in the log", 5*time.Second, func() bool { _, err := shown(id); return err == nil })
	}
	there(first)
	if err := h.stop(syscall.SIGKILL); !killed(err) {
		t.Fatal(err)
	}
	stop()
	h.start()
	if r, err := shown(first); err != nil || r.Version != "heat-demand@1" ||
		!strings.Contains(string(r.Request), "[1]") {
		t.Errorf("%+v, %v", r, err)
	}
	_, after := h.asked(inferPath, 2)
	there(after)
	out := h.as(h.toveFile, "requests", "demand-hourly", "-limit", "500")
	if n := strings.Count(out, "answered"); n < 100 {
		t.Errorf("%d of some 200 are there", n)
	}
	// From a request to what answered it, by its id alone, and what was turned away is said to be.
	if said := h.as(h.toveFile, "trace", first); !strings.Contains(said, "heat-demand@1") {
		t.Errorf("%s", said)
	}
	status, refused := h.asked("/v2/models/demand-hourly/versions/9/infer", 1)
	there(refused)
	if code, _, said := h.cli(h.toveFile, "trace", refused); status != 404 || code == 0 ||
		!strings.Contains(said, "innerladder request "+refused) {
		t.Errorf("%d, %s", code, said)
	}
	await(t, "the second in which it was turned away", 5*time.Second, func() bool {
		return strings.Contains(h.as(h.toveFile, "refusals", "demand-hourly"), "endpoint.no_such_lane")
	})
}

// From the ids of answers in a file to how right the version is, by command line and console.
func TestTheTruthIsTold(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	rows := "request,y\n"
	for x := range 100 {
		_, id := h.asked(inferPath, float64(x))
		rows += fmt.Sprintf("%s,%d\n", id, x+2) // the version answers x+1
	}
	file := filepath.Join(t.TempDir(), "truth.csv")
	must(t, os.WriteFile(file, []byte(rows+"nobody,3\n"), 0o600))
	token := h.tokenFile("runa", h.runaToken)
	await(t, "the requests are in the log", 10*time.Second, func() bool {
		_, said, _ := h.cli(token, "outcomes", "demand-hourly", file) // it fails while nothing is in the log yet
		out := strings.Join(strings.Fields(said), " ")
		return strings.Contains(out, "100 again") || strings.Contains(out, "100 joined")
	})
	out := h.as(token, "accuracy", "demand-hourly", "-since", "1h", "-worst", "3")
	if !strings.Contains(out, "heat-demand@1") || !strings.Contains(out, "mae by segment") {
		t.Error(out)
	}
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("how right it is", b.open("/endpoints/demand-hourly"), press("Accuracy"), sees("How right is demand-hourly?"),
		browser.Visible(chromedp.CSS(`[data-measure="mae"]`)), sees("heat-demand@1"), sees("Where it is worse"),
		sees("The worst predictions"), sees("what lies on the line was right"))
	b.do("all signals", b.open("/endpoints/demand-hourly/signals?last=15+min"),
		browser.Visible(chromedp.CSS(`[data-chart="rate"]`)), sees("Turned away a second"), press("log"),
		press("table"), sees("time, UTC"))
	const from = "2026-01-01T00:00:00"
	b.do("typing a span", write("From, UTC", from))
	to := b.value("To, UTC")
	await(t, "the series goes on", 15*time.Second, func() bool { return b.value("To, UTC") != to })
	asked, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](
		`performance.getEntriesByType('resource').filter((e) => e.name.includes('/series')).length`))
	must(t, err)
	if asked > 3 { // whole, and once more when the stream began; what is new comes by the stream
		t.Errorf("the series was asked for %d times", asked)
	}
	if typed := b.value("From, UTC"); typed != from {
		t.Errorf("%q was typed, and %q stands there after a while", from, typed)
	}
	b.do("a span that nobody called in", write("To, UTC", "2026-01-01T01:00:00"), press("Look"),
		sees("Nobody has called in this time"), press("Back to the last 15 min"),
		browser.Visible(chromedp.CSS(`[data-chart="rate"]`)))
	b.do("what has moved", b.open("/endpoints/demand-hourly/drift?against=before"), sees("Has demand-hourly drifted?"),
		sees("Nothing is known of the time that it is held against"))
}
