package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// A version is run from the console, looked at, and tried: one row, many, one input that moves, beside another version;
// and the code that the page shows works as pasted.
func TestTryInTheConsole(t *testing.T) {
	t.Parallel()
	h := runners(t)
	h.running(1)
	file, sample := h.regression(3)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", file, "-sample", sample, "-target", "y")
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("running a version", b.open("/environments"), press("Place a version"),
		browser.Type(chromedp.CSS(`input[list="placeable"]`), "heat-demand@2"),
		browser.Click(browser.Text("label", "On the service’s machine")), press("Run and place"),
		sees("answered as promised"), press("Good"), sees("heat-demand@2 in workbench, from its PMML file"))
	b.do("what runs", b.open("/endpoints/demand-hourly"), sees("What runs on this service’s machine"), press("log"),
		sees("serves heat-demand"))
	b.do("trying it", b.open("/endpoints/demand-hourly"), press("Try"), sees("no lane counts it"),
		browser.Click(browser.Text("label", "heat-demand@2")), overwrite(`input[name="x"]`, "4"), press("Ask"),
		sees("y is 13, and 5 by the first"))
	b.do("what is no number", overwrite(`input[name="x"]`, "warm"), sees("is no FP64"),
		overwrite(`input[name="x"]`, "2"))
	b.do("many rows", browser.Click(browser.Text("summary", "many rows at once")),
		overwrite(`textarea`, "depth\n4"), sees("which is no input; inputs are x"), overwrite(`textarea`, "x\n10\n20"),
		press("Ask"), sees("y of heat-demand@2"), sees("61"), overwrite(`textarea`, " "))
	b.do("moving an input", press("Move it"), sees("y as x moves"))
	dir := t.TempDir()
	for language, run := range map[string][]string{
		"curl": {"sh", "ask.sh"}, "Go": {"go", "run", "ask.go"}, "Python": {"python3", "ask.py"},
		"JavaScript": {"node", "ask.mjs"},
	} {
		b.do(language, choose("Language", language), browser.Visible(chromedp.CSS(`[data-code="`+language+`"]`)))
		code, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.querySelector('[data-code]').textContent`))
		must(t, err)
		must(t, os.WriteFile(filepath.Join(dir, run[len(run)-1]), []byte(code), 0o600))
		cmd := exec.CommandContext(t.Context(), run[0], run[1:]...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil || !strings.Contains(string(out), "heat-demand@1") || !strings.Contains(string(out), "[3]") {
			t.Errorf("%s: %v\n%s\n%s", language, err, out, code)
		}
	}
}
