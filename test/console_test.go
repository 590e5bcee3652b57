package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/test/browser"
	"innerladder/web"

	"github.com/chromedp/chromedp"
)

// tab is a browser that looks at the console of a house.
type tab struct {
	t   *testing.T
	ctx context.Context
	h   *house

	mu sync.Mutex
	// troubles are what the page complained about.
	troubles []string
}

func look(t *testing.T, h *house) *tab {
	t.Helper()
	lacking := t.Skipf
	if os.Getenv("CONSOLE") == "needed" { // make test has seen to it that nothing lacks
		lacking = t.Fatalf
	}
	if _, err := fs.Stat(web.Files(), "index.html"); err != nil {
		lacking("the console is not built; run make build, or make test, which does it")
	}
	chromium, err := chromium()
	if errors.Is(err, browser.ErrMissing) {
		lacking("%v; make test installs it", err)
	}
	must(t, err)
	ctx, stop, err := chromium.Tab(t.Context())
	must(t, err)
	t.Cleanup(stop)
	b := &tab{t: t, ctx: ctx, h: h}
	listening := make(chan struct{})
	go func() {
		messages := chromedp.Console(ctx)
		close(listening)
		for m, err := range messages {
			if err != nil {
				return
			}
			text := fmt.Sprintf("%+v", m)
			// The browser itself notes every answer that is a problem; those are meant.
			if (strings.HasPrefix(text, "exception") || strings.HasPrefix(text, "error")) &&
				!strings.Contains(text, "Failed to load resource") {
				b.mu.Lock()
				b.troubles = append(b.troubles, text)
				b.mu.Unlock()
			}
		}
	}()
	<-listening
	t.Cleanup(func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		for _, x := range b.troubles {
			t.Errorf("the page complained: %s", x)
		}
	})
	return b
}

// do does something within half a minute, or fails.
func (b *tab) do(what string, steps ...browser.Action) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		page, _ := chromedp.Run(b.ctx, chromedp.Text(chromedp.CSS("body")))
		b.t.Fatalf("%s: %v\nthe page says:\n%s", what, err, page)
	}
}

func (b *tab) open(path string) browser.Action { return chromedp.Navigate(b.h.server + path) }

// sees waits until the page shows a text.
func sees(text string) browser.Action {
	return browser.Visible(chromedp.Search(fmt.Sprintf(`//body//*[contains(normalize-space(.), %q)][not(*[contains(normalize-space(.), %q)])]`, text, text)))
}

func press(text string) browser.Action { return browser.Click(browser.Text("button", text)) }

// write types into a field, found by its label, over what is in it.
func write(label, text string) browser.Action {
	return overwrite(fmt.Sprintf(`[aria-label=%q]`, label), text)
}

// overwrite types into a field, found by a selector, over what is in it.
func overwrite(field, text string) browser.Action {
	all := chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := chromedp.Evaluate[any](fmt.Sprintf("document.querySelector(%q).select()", field))(ctx, t)
		return err
	})
	return chromedp.Steps(browser.Visible(chromedp.CSS(field)), all, browser.Type(chromedp.CSS(field), text))
}

// value is what stands in the field with a label.
func (b *tab) value(label string) string {
	b.t.Helper()
	field := fmt.Sprintf(`[aria-label=%q]`, label)
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](fmt.Sprintf("document.querySelector(%q).value", field)))
	must(b.t, err)
	return text
}

func TestSigningInToTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	b := look(t, h)
	name := chromedp.CSS(`input[name="name"]`)
	b.do("being sent to sign in", b.open("/models"), browser.Visible(name))
	b.do("a wrong password", browser.Type(name, "runa"), overwrite(`input[name="password"]`, "not the password"),
		press("Sign in"), sees("name or password is wrong"))
	b.do("the right one", overwrite(`input[name="password"]`, password), press("Sign in"),
		browser.Visible(browser.Text("h1", "Now")), sees("runa"))
	b.do("empty places say what to do", b.open("/models"), sees("innerladder register heat-demand"),
		b.open("/endpoints"), sees("innerladder endpoint add"),
		b.open("/reviews"), sees("Nothing waits"), b.open("/alerts"), sees("Nothing was ever wrong"))
	b.do("signing out", browser.Click(chromedp.CSS(`[aria-label="Sign out"]`)), browser.Visible(name))
	cookie, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.cookie`))
	must(t, err)
	if cookie != "" {
		t.Errorf("scripts can read the cookie %q", cookie)
	}
}

func TestTheConsoleDoesTheJob(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	model, sample := h.files(1.02)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y",
		"-report", h.measured(0.2), "-note", "a third winter")
	b := look(t, h)
	h.person("kari", "approver", "operator")
	b.do("signing in as kari", browser.SignIn(h.server, "kari", password))
	b.do("the ladder", b.open("/models/heat-demand"),
		browser.Visible(chromedp.CSS(`[data-rung="live"] [data-token="2"]`)),
		browser.Visible(chromedp.CSS(`[data-rung="draft"] [data-token="3"]`)))
	b.do("the version", b.open("/models/heat-demand/versions/3"), sees("a third winter"),
		b.open("/models/heat-demand/versions/3?show=differences"), sees("better"))

	// someone else asks; the page shows it without being loaded again
	b.do("reviews", b.open("/reviews"), sees("Nothing waits"))
	h.as(h.runaFile, "promote", "heat-demand@3", "-to", "live", "-why", "knows the cold")
	b.do("the new review appears", sees("knows the cold"))
	b.do("a no needs a reason", browser.Click(browser.Text("a", "P-3")), press("Say no"), sees("a no needs a reason"))
	b.do("signing", write("Note", "read it"), press("Sign yes"), sees("carried out"), b.open("/reviews"),
		sees("Nothing waits"))
	if v, err := h.runa.Version(t.Context(), "heat-demand@3"); err != nil || v.Rung != "live" {
		t.Errorf("after the signature: %+v, %v", v, err)
	}

	b.do("one lane", b.open("/endpoints/demand-hourly"),
		browser.Visible(chromedp.CSS(`[data-lane="main"][data-version="heat-demand@1"]`)))
	_, err := h.runa.Split(t.Context(), "demand-hourly",
		[]traffic.Lane{
			{Kind: traffic.Main, Version: "heat-demand@1", Share: 9000},
			{Kind: traffic.Trial, Version: "heat-demand@2", Share: 1000},
		}, "from elsewhere", -1)
	must(t, err)
	b.do("a lane that someone else made appears",
		browser.Visible(chromedp.CSS(`[data-lane="trial"][data-version="heat-demand@2"]`)), sees("from elsewhere"))
	c := h.caller(4)
	for i := range 300 {
		_, _, _, err := c.infer(float64(i) / 10)
		must(t, err)
	}
	b.do("numbers move", sees("no sign that it is worse"), browser.Visible(chromedp.CSS(`.recharts-line path`)))
	b.do("the chart has a table", press("show as a table"), sees("time, UTC"))

	b.do("changing the split", press("Change the split"), write("Share of heat-demand@1 in per cent", "70"),
		sees("must add up to 100 %"),
		write("Share of heat-demand@2 in per cent", "30"), press("Add a rule"), write("Value of rule 1", "beta-app"),
		press("Put in force"), sees("#3"), sees("key is beta-app"))
	await(t, "the split", 5*time.Second, func() bool {
		e, err := h.runa.Endpoint(t.Context(), "demand-hourly")
		must(t, err)
		return e.Split.Number == 3 && e.Split.Author == "kari" && e.Split.Lanes[1].Share == 3000 &&
			len(e.Split.Rules) == 1 && e.Split.Rules[0].String() == "key is beta-app → heat-demand@2"
	})
	b.do("where a request would go", browser.Type(chromedp.CSS(`input[name="named"]`), "X-Team"),
		browser.Type(chromedp.CSS(`input[name="value"]`), "desk"), press("Where would it go?"), sees("No rule is met."))
	b.do("side by side", press("Compare @1 and @2"), sees("heat-demand@2 answered"),
		browser.Visible(chromedp.CSS(`table`)))
	b.do("going back", b.open("/endpoints/demand-hourly"), press("Back to #1: @1 100"),
		browser.Type(chromedp.CSS(`[role="dialog"] input[required]`), "complaints from the harbour"),
		press("Go back to #1"), sees("✕ back to #1"))
	if e, err := h.runa.Endpoint(t.Context(), "demand-hourly"); err != nil || e.Split.Number != 4 ||
		e.Split.ReturnsTo != 1 {
		t.Errorf("%+v, %v", e.Split, err)
	}
	b.do("the record", b.open("/audit"), sees("demand-hourly#4: back to #1"), sees("complaints from the harbour"))
}

// Every page shows something, in both colours and on a narrow screen, without a
// complaint and without a bar to scroll sideways.
func TestEveryPageInEveryShape(t *testing.T) {
	h := open(t) // alone: axe keeps the browser's thread busy, which all tabs have in common
	h.twoVersions()
	_, err := h.runa.Split(t.Context(), "demand-hourly",
		[]traffic.Lane{
			{Kind: traffic.Main, Version: "heat-demand@1", Share: 9500},
			{Kind: traffic.Trial, Version: "heat-demand@2", Share: 500},
		}, "", -1)
	must(t, err)
	h.as(h.runaFile, "run", "start", "heat-demand", "-no-code", "-param", "depth=6")
	h.as(h.runaFile, "run", "log", "run-1", "-step", "1", "-metric", "loss=0.5")
	h.as(h.runaFile, "score", "heat-demand@1", h.rowsFile(20))
	c := h.caller(2)
	for i := range 100 {
		_, _, _, err := c.infer(float64(i))
		must(t, err)
	}
	b := look(t, h)
	source, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	must(t, err)
	axe := string(source)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	pages := map[string]string{
		"/": "Now", "/models": "Models", "/models/heat-demand": "heat-demand",
		"/models/heat-demand/versions/2": "heat-demand@2", "/models/heat-demand/versions/2?show=files": "heat-demand@2",
		"/models/heat-demand/versions/2?show=profile": "heat-demand@2",
		"/models/heat-demand/versions/2?show=lineage": "heat-demand@2", "/models/versions": "Find versions",
		"/models/register": "Register", "/models/runs": "Runs", "/models/runs/run-1": "run-1",
		"/models/jobs": "Jobs", "/models/jobs/J-1": "J-1", "/models/data": "Data sets",
		"/models/lineup?versions=heat-demand": "Line-up",
		"/models/trace?from=heat-demand@2":    "Lineage", "/endpoints": "Endpoints",
		"/endpoints/demand-hourly/custom": "Custom signals", "/endpoints/demand-hourly/accuracy": "How right",
		"/endpoints/demand-hourly/drift": "Has demand-hourly", "/endpoints/demand-hourly/signals": "Signals of",
		"/endpoints/demand-hourly": "demand-hourly", "/endpoints/demand-hourly/compare": "Side by side",
		"/endpoints/demand-hourly/compare?incumbent=heat-demand@1&candidate=heat-demand@2": "Side by side",
		"/reviews": "Reviews", "/reviews/P-2": "P-2",
		"/models/heat-demand/versions/1?show=evidence": "heat-demand@1", "/settings/ladders": "Settings",
		"/alerts": "Alerts", "/audit": "Audit", "/environments": "Environments", "/glossary": "Glossary",
		"/settings/me": "Settings", "/settings/people": "Settings", "/settings/connections": "Settings",
		"/settings/service": "Settings", "/rollouts": "Rollouts", "/incidents": "Incidents", "/inbox": "Inbox",
		"/activity": "Activity", "/requests": "Requests", "/endpoints/demand-hourly/requests": "Requests",
		"/try/plant-north/heat-demand@2?endpoint=demand-hourly": "Try heat-demand@2",
	}
	for _, width := range []int64{1280, 390} {
		for path, title := range pages {
			b.do(path, chromedp.EmulateViewport(width, 800), browser.Dark(width == 390), b.open(path),
				browser.Visible(browser.Text("h1", title)),
				browser.Gone(browser.Text("div", "Reading…")))
			over, err := chromedp.Run(b.ctx,
				chromedp.Evaluate[int](`document.documentElement.scrollWidth - document.documentElement.clientWidth`))
			must(t, err)
			if over > 0 {
				t.Errorf("%s is %d pixels too wide at %d", path, over, width)
			}
			b.forEveryone(axe, path)
		}
	}
	b.do("a page that is not there", b.open("/nowhere"), sees("There is no such page"))
}

// forEveryone has axe look at the page as it is, and at its title.
func (b *tab) forEveryone(axe, path string) {
	b.t.Helper()
	const run = `window.__axe = ''; axe.run(document, {resultTypes: ['violations']}).then((r) => {
		window.__axe = JSON.stringify(r.violations.map((v) => v.id + ': ' + v.help + ' ' +
			v.nodes.slice(0, 3).map((n) => n.target.join(' ') + ' ' + n.failureSummary).join(' | ')))
	}, (e) => { window.__axe = '["axe failed: ' + e + '"]' }); 0`
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[any](axe+";0"))
	must(b.t, err)
	_, err = chromedp.Run(b.ctx, chromedp.Evaluate[int](run))
	must(b.t, err)
	said := ""
	await(b.t, "axe at "+path, 30*time.Second, func() bool {
		said, err = chromedp.Run(b.ctx, chromedp.Evaluate[string](`window.__axe`))
		must(b.t, err)
		return said != ""
	})
	var found []string
	must(b.t, json.Unmarshal([]byte(said), &found))
	for _, v := range found {
		b.t.Errorf("%s: %s", path, v)
	}
	title, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.title`))
	must(b.t, err)
	if !strings.HasSuffix(title, " – Inner Ladder") {
		b.t.Errorf("%s is called %q", path, title)
	}
}

func TestThePageOfABinaryWithoutConsole(t *testing.T) {
	h := open(t)
	res, err := http.Get(h.server + "/")
	must(t, err)
	defer res.Body.Close()
	if res.StatusCode != 200 || !strings.HasPrefix(res.Header.Get("Content-Type"), "text/html") {
		t.Errorf("%d %s", res.StatusCode, res.Header.Get("Content-Type"))
	}
}

// The first view takes little: pages come packed, and those that are not looked at do not come.
func TestTheFirstViewIsSmall(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("the first view", b.open("/"), sees("demand-hourly"), sees("What happened"))
	const most = 250_000
	got, err := chromedp.Run(b.ctx, chromedp.Evaluate[float64](`performance.getEntriesByType('resource').
		filter((e) => e.name.includes('/assets/')).reduce((n, e) => n + e.encodedBodySize, 0)`))
	must(t, err)
	if got < 50_000 || got > most {
		t.Errorf("%.0f bytes", got)
	}
}
