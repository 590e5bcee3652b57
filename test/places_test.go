package test

import (
	"fmt"
	"testing"

	"innerladder/internal/core/guard"
	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

// fill types into the field with a label, over what is in it.
func fill(label, text string) browser.Action {
	return browser.Type(chromedp.Search(fmt.Sprintf(
		`//label[span[starts-with(normalize-space(.), %q)]]//*[self::input or self::textarea]`, label)), text)
}

// Everything about where versions run is done in the console: an environment is added and changed, a
// version placed after its server was asked, its addresses changed while it answers, an endpoint added
// and changed, and all of it taken away.
func TestTheConsoleKeepsPlaces(t *testing.T) {
	t.Parallel()
	h := open(t)
	model, sample := h.files(1)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y",
		"-metric", "rmse=0.2", "-report", h.measured(0.4), "-ask", "live")
	h.as(h.toveFile, "sign", "P-1", "-yes")
	_, one := h.standin(model)
	_, two := h.standin(model)
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	b.do("what was claimed is not what was measured", b.open("/models/heat-demand/versions/1"), sees("0.4"),
		sees("E-1"), sees("differs"), b.open("/models/heat-demand"), sees("claimed 0.2"))
	b.do("an environment", b.open("/environments"), sees("There are no environments yet"),
		press("Add an environment"), fill("Name", "plant-north"), fill("Model servers may be at", "10.0.0.0/8"),
		press("Add it"), sees("model servers may be at 10.0.0.0/8"))
	b.do("a place that no rule allows", press("Place a version"), fill("Version", "heat-demand@1"),
		fill("Addresses of its", one), press("Check and place"), sees("no model server of plant-north may be at"))
	closed := browser.Gone(chromedp.CSS(`[role="dialog"]`))
	closing := browser.Click(chromedp.CSS(`[role="dialog"] [aria-label="Close"]`))
	b.do("the rule", closing, press("Change it"), fill("Model servers may be at", "127.0.0.1 "), press("Save it"),
		sees("127.0.0.1, 10.0.0.0/8"))
	b.do("what does not run", press("Place a version"), fill("Version", "heat-demand@1"),
		fill("Addresses of its", "http://127.0.0.1:1"), press("Check and place"),
		sees("heat-demand at http://127.0.0.1:1:"))
	b.do("a version", closing, press("Place a version"), fill("Version", "heat-demand@1"),
		fill("Addresses of its", one), press("Check and place"), sees("answered as promised"), press("Good"),
		sees(one), sees("healthy"))
	b.do("an endpoint", press("Add an endpoint"), fill("Name that callers call", "demand-hourly"),
		fill("Or this many milliseconds more", "0"), press("Add the endpoint"), sees("Answers from here"))
	e, err := h.runa.Endpoint(t.Context(), "demand-hourly")
	must(t, err)
	if g, there := e.Terms.Of(guard.LatencyP99); !there || g.Margin != 50 || g.Ratio != 1.5 {
		t.Errorf("the guards of the form: %+v", e.Terms)
	}
	h.as(h.toveFile, "split", "demand-hourly", "heat-demand@1=100")
	b.do("another address", press("Addresses"), fill("More addresses", two),
		browser.Click(chromedp.Search(fmt.Sprintf(`//label[contains(., %q)]/input`, one))), sees("is asked no more"),
		fill("Why the addresses", "another machine"), press("Change them"), closed, sees(two))
	places, err := h.runa.Placements(t.Context(), "heat-demand@1")
	if err != nil || len(places.Items[0].Addresses) != 1 || places.Items[0].Addresses[0].URL != two {
		t.Errorf("%+v, %v", places, err)
	}
	b.do("what is in use stays", closed, press("unplace"), sees("answers for demand-hourly"))
	b.do("the endpoint", b.open("/endpoints/demand-hourly"), press("Change it"),
		fill("Who calls it", "the dispatch desk"), press("Save it"), sees("the dispatch desk"))
	b.do("an empty one", b.open("/environments"), press("Add an environment"), fill("Name", "a-workbench"),
		press("Add it"), sees("a-workbench"), press("Change it"), fill("Nothing runs there", "not needed"),
		press("Take a-workbench away"), browser.Gone(browser.Text("h2", "a-workbench")))
	all, err := h.runa.Environments(t.Context())
	if err != nil || len(all.Items) != 1 {
		t.Errorf("%+v, %v", all, err)
	}
}
