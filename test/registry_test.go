package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/registry"
	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// put writes files into a new folder and returns its path.
func put(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "bundle")
	for name, content := range files {
		path := filepath.Join(dir, name)
		must(t, os.MkdirAll(filepath.Dir(path), 0o700))
		must(t, os.WriteFile(path, []byte(content), 0o600))
	}
	return dir
}

const rows = "outdoor_c,mix,demand_mw\n-3.5,works,1.5\n2,harbour,1.25\n"

// The registry by the command line: data, run, everything about a version, finding it
// again, and putting it away.
func TestTheRegistryFromTheCommandLine(t *testing.T) {
	h := open(t)
	dir := put(t, map[string]string{
		"rows.csv": rows, "model/weights.json": `{"w":[1]}`, "model/sub/readme": "hello",
		"card.md":          "---\nlicence: MIT\n---\n# Heat\n## Intended use\nDispatch.\n",
		"requirements.txt": "numpy==2.1\n", "picture.png": "\x89PNG\r\n\x1a\n0000",
		"signature.json": `{"inputs":[{"name":"outdoor_c","type":"number","unit":"°C"},{"name":"mix","type":"text"}],"outputs":[{"name":"demand_mw","type":"number"}]}`,
	})
	in := func(name string) string { return filepath.Join(dir, name) }
	run := func(args ...string) string { t.Helper(); return h.as(h.runaFile, args...) }
	says := func(out string, want ...string) {
		t.Helper()
		for _, w := range want {
			if !strings.Contains(out, w) {
				t.Errorf("%q is not in:\n%s", w, out)
			}
		}
	}
	refused := func(code int, want string, args ...string) {
		t.Helper()
		got, out, messages := h.cli(h.runaFile, args...)
		if got != code || !strings.Contains(messages, want) {
			t.Errorf("innerladder %s: exit %d, want %d with %q: %s%s", strings.Join(args, " "), got, code, want, out,
				messages)
		}
	}

	says(run("data", "add", "winters-2024", in("rows.csv"), "-description", "two winters"), "winters-2024#1")
	says(run("show", "winters-2024#1"), "outdoor_c", "harbour | works")
	if got := run("run", "start", "heat-demand", "-param", "depth=6", "-data", "winters-2024",
		"-no-code"); got != "run-1" {
		t.Fatalf("the run is %q", got)
	}
	run("run", "log", "run-1", "-step", "1", "-metric", "loss=0.5")
	run("run", "log", "run-1", "-step", "2", "-metric", "loss=0.25", "-metric", "rmse=0.4")
	run("run", "end", "run-1", "-note", "done")
	refused(3, "run-1 has finished", "run", "log", "run-1", "-metric", "loss=1")
	says(run("show", "run-1"), "finished", "loss", "winters-2024#1")

	register := []string{
		"register", "heat-demand", "-file", in("model"), "-run", "run-1", "-sample", in("rows.csv"),
		"-signature", in("signature.json"), "-card", in("card.md"), "-requirements", in("requirements.txt"),
		"-attach", in("picture.png"), "-tag", "winter", "-property", "season=2026", "-label", "beta", "-importance",
		"outdoor_c=0.8", "-note", "two winters",
	}
	for range 2 { // a folder packed again is the same
		if got := run(register...); got != "heat-demand@1" {
			t.Fatalf("registered as %q", got)
		}
	}
	says(run("show", "heat-demand@beta"), "heat-demand@1", "model.tar", "2 files", "°C", "licence MIT", "picture.png",
		"run-1", "loss=0.25", "trained on winters-2024#1")
	var v registry.Version
	must(t, json.Unmarshal([]byte(run("show", "heat-demand@1", "-json")), &v))
	if v.Signature.Inputs[0].Min == nil || *v.Signature.Inputs[0].Min != -3.5 || len(v.SampleRequest) == 0 {
		t.Errorf("the signature by hand was not filled in: %+v", v.Signature)
	}
	says(run("get", "heat-demand@1", "-to", in("out")), "model.tar")
	if info, err := os.Stat(in("out/model.tar")); err != nil || info.Size() != v.Artifacts[0].Size {
		t.Errorf("%v, %v", info, err)
	}

	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write([]byte("bytes"))
	}))
	defer server.Close()
	refused(2, `metric rmse is "0,38", which is no number`, "register", "heat-demand", "-file", in("model"), "-metric",
		"rmse=0,38", "-no-code")
	refused(2, "give a finite number", "register", "heat-demand", "-file", in("model"), "-metric", "rmse=NaN",
		"-no-code")
	refused(3, "private range", "register", "heat-demand", "-from", server.URL+"/m.bin", "-no-code")
	refused(3, "in no folder that may be read", "register", "heat-demand", "-from", "file:///etc/passwd", "-no-code")
	says(run("register", "heat-demand", "-file", in("rows.csv"), "-parent", "heat-demand@beta", "-relation",
		"fine-tuned", "-metric", "rmse=0.3", "-no-code"), "heat-demand@2")
	refused(2, "looks like ONNX but cannot be one", "register", "heat-demand", "-file",
		put(t, map[string]string{"m.onnx": "text"})+"/m.onnx")
	refused(1, "there is no data set", "register", "heat-demand", "-file", in("rows.csv"), "-data", "summers")

	putInOrder(run, says, refused)
}

// putInOrder finds, edits, labels and deletes the two versions of the registry's tour.
func putInOrder(run func(...string) string, says func(out string, want ...string),
	refused func(code int, want string, args ...string),
) {
	says(run("find", "dispatch", "-tag", "winter", "-metric", "rmse<0.5"), "heat-demand@1")
	says(run("find", "-data", "winters-2024", "-sort", "rmse"), "heat-demand@1", "rmse=0.4")
	says(run("lineup", "heat-demand"), "best", "parameter depth", "run-1")
	says(run("trace", "heat-demand@2"), "fine-tuned heat-demand@1", "made-by run-1", "trained-on winters-2024#1")
	says(run("trace", "-data", "winters-2024", "-down"), "went into", "heat-demand@1", "fine-tuned heat-demand@2")
	says(run("diff", "heat-demand@1", "heat-demand@2"), "-# Heat", "signature: unknown")

	run("edit", "heat-demand@2", "-note", "for the lab", "-tag", "lab", "-why", "tidying")
	says(run("audit", "-about", "heat-demand@2", "-values"), "for the lab", "tidying", "was registered")
	refused(3, "has the label beta", "retire", "heat-demand@1", "-why", "old")
	run("label", "heat-demand@2", "beta", "-why", "better")
	says(run("activity", "heat-demand@beta"), "no longer heat-demand@1")
	says(run("retire", "heat-demand@1", "-why", "old"), "retired")
	refused(2, "no reason is given", "delete", "heat-demand@1")
	run("delete", "heat-demand@1", "-why", "holds personal data")
	refused(1, "was deleted by runa", "show", "heat-demand@1")
	says(run("trace", "heat-demand@2"), "fine-tuned heat-demand@1  (deleted)")
	says(run("collect", "-dry-run"), "0 files") // too young to be collected
	refused(2, "say where to begin", "trace")
}

// Someone registers a version in the console: the files are read first.
func TestRegisteringInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	dir := put(t, map[string]string{
		"rows.csv": rows, "model.json": `{"w":[1]}`,
		"card.md": "---\nlicence: MIT\n---\n# Heat\n## Intended use\nDispatch.\n",
	})
	b := look(t, h)
	gone := browser.Gone(chromedp.CSS(`[role="dialog"]`))
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("choosing files", b.open("/models/register"),
		chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`),
			[]string{filepath.Join(dir, "model.json"), filepath.Join(dir, "rows.csv"), filepath.Join(dir, "card.md")}),
		sees("members w"), sees("licence MIT"), sees("2 rows"), sees("which columns are outputs"))
	b.do("saying what is an output", browser.Click(chromedp.CSS(`[aria-label="demand_mw is an output"]`)),
		browser.Visible(chromedp.CSS(`input[type="checkbox"]:checked`)), write("Unit of demand_mw", "MW"))
	b.do("filling in", overwrite(`input[placeholder="heat-demand"]`, "heat-demand"),
		overwrite(`input[placeholder="two winters, with the wind"]`, "by hand"),
		write("Metric 1: value", "0,31"), press("Register"), sees("0,31 has no name"),
		write("Metric 1: name", "rmse"), press("Register"), sees("rmse is “0,31”, which is no number"),
		overwrite(`textarea[placeholder="depth=6"]`, "depth 6"), write("Metric 1: value", "0.31"), press("Register"),
		sees("is not NAME=VALUE"), overwrite(`textarea[placeholder="depth=6"]`, "depth=6"),
		write("Metric 1: unit", "MW"))
	b.do("what the gates will say", sees("It would be heat-demand@1"), sees("no report measured any"))
	b.do("registering", press("Register"))
	b.do("the version", browser.Visible(browser.Text("h1", "heat-demand@1")), sees("by hand"), sees("0.31"))
	v, err := h.runa.Version(t.Context(), "heat-demand@1")
	must(t, err)
	if len(v.Artifacts) != 1 || v.Card.Licence != "MIT" || len(v.Signature.Outputs) != 1 ||
		v.Signature.Outputs[0].Name != "demand_mw" || v.Signature.Outputs[0].Unit != "MW" || v.CreatedBy != "runa" ||
		v.Meanings["rmse"].Unit != "MW" || v.Params["depth"] != "6" {
		t.Errorf("%+v", v)
	}
	b.do("its card", press("Card"), sees("Dispatch."))
	b.do("labelling it", press("Label"), browser.Type(chromedp.CSS(`[role="dialog"] input[required]`), "beta"),
		press("Put the label on"), gone, browser.Visible(browser.Text("span", "beta")))
	b.do("editing it", press("Edit"), overwrite(`[role="dialog"] textarea`, "noted"), press("Save"), gone,
		sees("noted"))
	b.do("its history", press("History"), sees("now means heat-demand@1"), sees("was registered"))
	b.do("finding it", b.open("/models/versions"), write("Words", "dispatch"), sees("heat-demand@1"),
		write("Bound of a metric", "rmse<0.3"), press("Add"), sees("No version is like that"))
	b.do("a broken file", b.open("/models/register"),
		chromedp.SetUploadFiles(chromedp.CSS(`input[type="file"]`),
			[]string{put(t, map[string]string{"broken.onnx": "text"}) + "/broken.onnx"}),
		sees("looks like ONNX but cannot be one"))
	b.do("its lineage", b.open("/models/trace?from=heat-demand@1"), sees("1 things"))
	b.do("taking its label away", b.open("/models/heat-demand/versions/1"), press("Label"),
		browser.Click(browser.Text("button", "beta")))
	await(t, "the label to be gone", 5*time.Second, func() bool {
		v, err := h.runa.Version(t.Context(), "heat-demand@1")
		must(t, err)
		return len(v.Labels) == 0
	})
	b.do("retiring it", b.open("/models/heat-demand/versions/1"), press("Retire"),
		browser.Type(chromedp.CSS(`[role="dialog"] textarea`), "a trial"),
		browser.Click(chromedp.CSS(`[role="dialog"] button[type="submit"]`)), sees("on retired"))
}

// Someone browses what there is: models, versions found by what they are, runs, a
// line-up, data, and puts things in order.
func TestBrowsingTheRegistryInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	dir := put(t, map[string]string{"rows.csv": rows, "a.bin": "a", "b.bin": "b"})
	run := func(args ...string) { t.Helper(); h.as(h.runaFile, args...) }
	run("data", "add", "winters-2024", dir+"/rows.csv")
	run("run", "start", "heat-demand", "-no-code", "-title", "a first try", "-data", "winters-2024")
	for step, loss := range []string{"0.9", "0.5", "0.3"} {
		run("run", "log", "run-1", "-step", []string{"1", "2", "3"}[step], "-metric", "loss="+loss)
	}
	run("run", "end", "run-1")
	run("register", "heat-demand", "-file", dir+"/a.bin", "-run", "run-1", "-metric", "rmse=0.4", "-note", "calm",
		"-tag", "winter")
	run("register", "heat-demand", "-file", dir+"/b.bin", "-metric", "rmse=0.3", "-note", "windy", "-parent",
		"heat-demand@1", "-relation", "refitted", "-no-code")
	b := look(t, h)
	gone := browser.Gone(chromedp.CSS(`[role="dialog"]`))
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("filters", b.open("/models/versions"), sees("calm"), sees("windy"), write("tag", "winter"),
		browser.Gone(chromedp.Search(`//*[text()="windy"]`)), sees("calm"))
	b.do("a search has an address", b.open("/models/versions?metric=rmse%3C0.35"), sees("windy"),
		browser.Gone(chromedp.Search(`//*[text()="calm"]`)))
	b.do("choosing for a line-up", b.open("/models/versions"),
		browser.Click(chromedp.CSS(`[aria-label="Choose heat-demand@1"]`)),
		browser.Click(chromedp.CSS(`[aria-label="Choose heat-demand@2"]`)), press("Line up 2"))
	b.do("the line-up", sees("rmse, less is better"), sees("best"),
		browser.Visible(chromedp.CSS(`.recharts-line path`)), sees("as a table"))
	b.do("runs", b.open("/models/runs"), sees("a first try"), sees("finished"), b.open("/models/runs/run-1"),
		browser.Visible(chromedp.CSS(`.recharts-line path`)), sees("winters-2024#1"))
	b.do("data", b.open("/models/data"), sees("winters-2024#1"),
		browser.Click(browser.Text("a", "what was made from it")), sees("heat-demand@2 refitted heat-demand@1"),
		browser.Visible(chromedp.CSS(`.react-flow__node`)))
	b.do("vetting", b.open("/models/heat-demand"), press("Vet"),
		browser.Type(chromedp.CSS(`[role="dialog"] textarea`), "checked"), press("Mark as vetted"), gone,
		browser.Visible(browser.Text("span", "vetted")))
	b.do("only vetted models", b.open("/models"), browser.Click(chromedp.CSS(`input[type="checkbox"]`)),
		sees("vetted"))
	b.do("deleting", b.open("/models/heat-demand/versions/2"), press("Retire"),
		browser.Type(chromedp.CSS(`[role="dialog"] textarea`), "a mistake"),
		browser.Click(chromedp.CSS(`[role="dialog"] button[type="submit"]`)), gone, sees("on retired"),
		press("Reinstate"), browser.Type(chromedp.CSS(`[role="dialog"] textarea`), "after all"),
		browser.Click(chromedp.CSS(`[role="dialog"] button[type="submit"]`)), gone, sees("on draft"))
	v, err := h.runa.Version(t.Context(), "heat-demand@2")
	must(t, err)
	if v.Rung != "draft" {
		t.Errorf("it stands on %s", v.Rung)
	}
}

// A page reads again what a change was about, and not what it was not.
func TestAPageReadsAgainWhatChanged(t *testing.T) {
	t.Parallel()
	h := open(t)
	dir := put(t, map[string]string{"a.bin": "a", "b.bin": "b"})
	h.as(h.runaFile, "register", "heat-demand", "-file", dir+"/a.bin", "-no-code")
	h.as(h.runaFile, "register", "return-temp", "-file", dir+"/b.bin", "-no-code")
	note := func(ref, text string) {
		t.Helper()
		_, err := h.runa.EditVersion(t.Context(), ref, registry.Edit{Note: &text})
		must(t, err)
	}
	b := look(t, h)
	reads := func() int {
		t.Helper()
		n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`performance.getEntriesByType("resource")
			.filter((e) => decodeURIComponent(e.name).endsWith("/api/v1/versions/heat-demand@1")).length`))
		must(t, err)
		return n
	}
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("the version", b.open("/models/heat-demand/versions/1"), sees("heat-demand@1"))
	// Once it shows a change, it is told of all.
	note("heat-demand@1", "calm")
	b.do("a change", sees("calm"))
	before := reads()
	for i := range 5 {
		note("return-temp@1", fmt.Sprint("windy ", i))
	}
	note("heat-demand@1", "frosty")
	b.do("another change", sees("frosty"))
	if n := reads() - before; n != 1 {
		t.Errorf("the version was read %d times after one change of it and five of another", n)
	}
}

// An answer that was on its way to a page when something changed is not the last word.
func TestAnAnswerFromBeforeAChange(t *testing.T) {
	t.Parallel()
	h := open(t)
	dir := put(t, map[string]string{"a.bin": "a"})
	h.as(h.runaFile, "register", "heat-demand", "-file", dir+"/a.bin", "-no-code")
	service, err := url.Parse(h.server)
	must(t, err)
	// The first answer about the version waits in a proxy while the version changes.
	read, told := make(chan struct{}), make(chan struct{})
	var first sync.Once
	proxy := &httputil.ReverseProxy{
		FlushInterval: -1,
		Rewrite:       func(r *httputil.ProxyRequest) { r.SetURL(service); r.Out.Host = r.In.Host },
		ModifyResponse: func(res *http.Response) error {
			if strings.HasSuffix(res.Request.URL.Path, "/api/v1/versions/heat-demand@1") {
				first.Do(func() { close(read); <-told })
			}
			return nil
		},
	}
	slow := httptest.NewServer(proxy)
	t.Cleanup(slow.Close)
	h.server = slow.URL // for the browser; clients that were made before go to the service
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("the page", b.open("/models/heat-demand/versions/1"))
	<-read
	// What the page shows of what happened tells that the event has come.
	note := "frosty"
	_, err = h.runa.EditVersion(t.Context(), "heat-demand@1", registry.Edit{Note: &note})
	must(t, err)
	await(t, "the event", 20*time.Second, func() bool {
		n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`performance.getEntriesByType("resource")
			.filter((e) => e.name.includes("/api/v1/session")).length`))
		must(t, err)
		return n > 1
	})
	close(told)
	b.do("what it has become", sees("frosty"))
}
