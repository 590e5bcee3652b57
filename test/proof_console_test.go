package test

import (
	"os"
	"path/filepath"
	"testing"

	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// What versions are worth is seen in the console: beside another version, by the standing evaluation, by cases, by what
// callers asked, and why a prediction is what it is.
func TestProofInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	file := h.steep(300)
	h.as(h.runaFile, "standing", "heat-demand", file, "-target", "y", "-against", "incumbent", "-at-most", "mae=0.001")
	h.as(h.runaFile, "standing", "run", "heat-demand@2")
	cases := filepath.Join(t.TempDir(), "cases.yaml")
	must(t, os.WriteFile(cases, []byte("cases: [{name: three, inputs: {x: 3}, expect: {y: 5}}]\n"), 0o600))
	_, _, _ = h.cli(h.runaFile, "check", "heat-demand@2", cases)
	h.logged(120)
	h.as(h.runaFile, "replay", "demand-hourly", "-to", "heat-demand@2", "-rate", "5000", "-tolerance", "0.000001")
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("the standing evaluation", b.open("/models/heat-demand"), sees("heat-demand#1"), sees("rmse"),
		sees("against incumbent"), press("Set it"), sees("Column with the truth"))
	page := "/models/heat-demand/versions/2?show=evidence"
	b.do("beside another", b.open(page), sees("on the same 300 rows"), sees("better"))
	b.do("cases", sees("y must be 5 and is 4"), sees("by the cases cases.yaml"))
	b.do("what callers asked", sees("answers say the same as @1"), sees("where both differ"))
	b.do("the job behind it", b.open("/models/jobs/J-1"), sees("It is the standing evaluation heat-demand#1"))
	b.do("the requests behind it", b.open("/models/jobs"), browser.Click(browser.Text("a", "J-3")),
		sees("Asked again"), sees("answered_by"))
}

// Versions are proved from the console: tested for robustness, checked by the cases of the model, which are set there,
// asked what callers asked, and looked at for the inputs that they rely on.
func TestVersionsAreProvedInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersionsOf(h.many(300))
	h.logged(60)
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	page := "/models/heat-demand/versions/2?show=evidence"
	b.do("disturbances", b.open(page), press("Prove it"), sees("Missing, extreme and unknown values"), inSheet("Begin"),
		sees("Robustness"), sees("60 rows are drawn like those of"))
	b.do("the report of disturbances", browser.Click(browser.Text("a", "E-")), sees("how far predictions move"),
		sees("512 rows with one request"), sees("holds"))
	b.do("cases of the model", b.open("/models/heat-demand"), press("Set them"), overwrite(`textarea[name="cases"]`,
		"cases: [{name: three, inputs: {x: 3}, expects: {y: 4}}]"), inSheet("Set them"), sees("line 1, column"))
	b.do("cases that can be meant", overwrite(`textarea[name="cases"]`,
		"cases: [{name: three, inputs: {x: 3}, expect: {y: 5}}]"),
		inSheet("Set them"), sees("versions must answer 1 cases"))
	b.do("checks", b.open(page), press("Prove it"), choose("How", "Check what must come back"), inSheet("Begin"),
		sees("the cases heat-demand#1"))
	b.do("the report of checks", browser.Click(browser.Text("a", "E-")), sees("y must be 5 and is"))
	b.do("what callers asked", b.open(page), press("Prove it"), choose("How", "Ask it what callers asked"),
		overwrite(`input[value="24h"]`, "1h"), inSheet("Begin"), sees("Asked again"))
	b.do("the report of the replay", browser.Click(browser.Text("a", "E-")), sees("60 of 60 requests"))
	b.do("inputs", b.open(page), press("Prove it"), choose("How", "Find the inputs that it relies on"),
		chromedp.SetUploadFiles(chromedp.CSS(`[aria-label="File"]`), []string{h.many(300)}), inSheet("Begin"),
		sees("On which inputs it relies"))
	b.do("the report of inputs", browser.Click(browser.Text("a", "E-")), sees("mae rises by"),
		sees("s an input moves, all else stays"))
}
