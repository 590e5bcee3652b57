package test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/wire"
	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

const (
	passingTests = `<testsuite name="heat"><testcase name="cold" time="0.2"/><testcase name="wind" time="0.1"/></testsuite>`
	failingTests = `<testsuite name="heat"><testcase name="cold"><failure message="off by 2 MW"/></testcase></testsuite>`
)

// reports are files with passing and with failing tests.
func (h *house) reports() (pass, fail string) {
	h.t.Helper()
	dir := h.t.TempDir()
	pass, fail = filepath.Join(dir, "pass.xml"), filepath.Join(dir, "fail.xml")
	must(h.t, errors.Join(os.WriteFile(pass, []byte(passingTests), 0o600),
		os.WriteFile(fail, []byte(failingTests), 0o600)))
	return pass, fail
}

// says runs a command as a person, and fails unless it ends with a code and says something.
func (h *house) says(code int, tokenFile, text string, args ...string) {
	h.t.Helper()
	got, out, messages := h.cli(tokenFile, args...)
	if got != code || !strings.Contains(out+messages, text) {
		h.t.Fatalf("innerladder %s: exit %d, want %d with %q: %s%s", strings.Join(args, " "), got, code, text, out,
			messages)
	}
}

func (h *house) registered(slope, rmse float64) string {
	h.t.Helper()
	model, sample := h.files(slope)
	return h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y",
		"-report", h.measured(rmse))
}

// From draft to live by the command line alone, with a refusal, a deferral, a stale
// sign-off, a signature with one's own key, and an emergency on the way.
func TestTheClimbFromTheCommandLine(t *testing.T) {
	h := open(t)
	_, kari := h.person("kari", "approver")
	pass, fail := h.reports()
	example := filepath.Join("..", "docs", "examples", "ladder.yaml")
	h.says(0, h.runaFile, "the default ladder", "ladder", "default")
	h.says(2, h.runaFile, "no reason is given", "ladder", "set", "default", "-file", example)
	h.says(3, h.toveFile, "may not manage", "ladder", "set", "default", "-file", example, "-why", "mine")
	h.says(0, h.runaFile, "revision 1", "ladder", "set", "default", "-file", example, "-why", "tests first")
	h.says(0, h.runaFile, "tests first", "ladder", "revisions", "default")
	// what it prints as a file can be set again
	text := h.as(h.runaFile, "ladder", "default", "-yaml")
	again := filepath.Join(t.TempDir(), "again.yaml")
	must(t, os.WriteFile(again, []byte(strings.Replace(text, "at_most: 0.5", "at_most: 0.45", 1)), 0o600))
	one := h.registered(1, 0.4)
	h.says(0, h.runaFile, "evidence (1)", "ladder", "try", "default", "-file", again)
	h.says(3, h.runaFile, "not 7", "ladder", "set", "default", "-file", again, "-why", "stricter", "-based-on", "7")

	h.says(3, h.runaFile, "does not let versions skip a rung", "promote", one, "-to", "live")
	h.says(3, h.runaFile, "1 of 3 requirements are not met", "gate", one, "-for", "proven")
	h.says(0, h.runaFile, "FAILED", "attach", one, "-kind", "tests", fail)
	h.says(1, h.runaFile, "there is no E-99", "evidence", "E-99")
	h.says(0, h.runaFile, "off by 2 MW", "evidence", "E-2")
	h.says(3, h.runaFile, "1 of 1 test ", "gate", one)
	h.says(0, h.runaFile, "passed", "attach", one, "-kind", "tests", pass)
	h.says(0, h.runaFile, "2 tests", "gate", one, "-for", "proven")
	h.says(0, h.runaFile, "P-1: heat-demand@1 from draft to proven, carried out", "promote", one, "-to", "proven")
	h.says(0, h.runaFile, "carried out", "promote", one, "-to", "rehearsal")
	h.says(0, h.runaFile, "rmse is 0.4; nobody stands on live", "gate", one, "-for", "live", "-machines-only")
	h.says(0, h.runaFile, "P-3", "promote", one, "-to", "live", "-why", "the first")

	// a refusal
	h.says(2, h.toveFile, "needs a reason", "sign", "P-3", "-no")
	h.says(0, h.toveFile, "P-3: heat-demand@1 from rehearsal to live, refused", "sign", "P-3", "-no", "-why",
		"say more about the harbour")
	h.says(0, h.runaFile, "P-4", "promote", one, "-to", "live", "-why", "said more")
	// a deferral, and a hand-over
	h.says(0, h.toveFile, "answers after", "sign", "P-4", "-later", "48h", "-why", "back on Thursday")
	if out := h.as(h.toveFile, "reviews", "-for-me"); strings.Contains(out, "P-4") {
		t.Errorf("put off, and still asked: %s", out)
	}
	h.says(0, h.toveFile, "handed it to kari", "sign", "P-4", "-to", "kari")
	h.says(0, kari, "P-4", "reviews", "-for-me")
	h.says(0, kari, "[ ] cold-hours", "review", "P-4")
	h.says(2, kari, "says nothing", "tick", "P-4", "cold-hours")
	h.says(0, kari, "ticked   cold-hours by kari", "tick", "P-4", "cold-hours", "-note", "twelve of them")
	// signed with her own key
	key := filepath.Join(t.TempDir(), "kari.pem")
	h.says(0, kari, "SHA256:", "signing-key", "make", key, "-title", "laptop")
	h.says(2, kari, "is there already", "signing-key", "make", key)
	h.says(2, h.toveFile, "holds no private key", "sign", "P-4", "-yes", "-key", pass)
	h.says(3, h.toveFile, "does not open with a key of tove", "sign", "P-4", "-yes", "-key", key)
	h.says(0, kari, "carried out", "sign", "P-4", "-yes", "-why", "read it", "-key", key)
	exported := filepath.Join(t.TempDir(), "signed.jsonl")
	h.says(0, h.runaFile, "own key", "verify", one, "-export", exported)
	if b, err := os.ReadFile(exported); err != nil || bytes.Count(b, []byte("\n")) != 4 ||
		!bytes.Contains(b, []byte("application/vnd.in-toto+json")) {
		t.Errorf("exported %s, %v", b, err)
	}
	staleSignOff(t, h, kari, pass)
	emergencyByCommand(h)
	h.says(0, h.runaFile, "intact", "audit", "verify")
}

// staleSignOff: while two waits for its list, three goes live.
func staleSignOff(t *testing.T, h *house, kari, pass string) {
	t.Helper()
	two, three := h.registered(1.01, 0.39), h.registered(1.02, 0.38)
	up := func(ref string) string {
		t.Helper()
		h.as(h.runaFile, "attach", ref, "-kind", "tests", pass)
		h.as(h.runaFile, "promote", ref, "-to", "proven")
		h.as(h.runaFile, "promote", ref, "-to", "rehearsal")
		id, _, _ := strings.Cut(h.as(h.runaFile, "promote", ref, "-to", "live"), ":")
		return id
	}
	waits := up(two)
	h.says(0, h.toveFile, "waiting", "sign", waits, "-yes", "-why", "better than the first")
	quick := up(three)
	h.as(h.toveFile, "tick", quick, "cold-hours", "-note", "fine")
	h.says(0, h.toveFile, "carried out", "sign", quick, "-yes")
	h.says(0, h.runaFile, "@2 @1", "show", "heat-demand") // @1 stepped down: live holds one
	h.says(0, h.runaFile, "stale: given for another pair", "show", waits)
	h.as(kari, "tick", waits, "cold-hours", "-note", "fine")
	h.says(0, h.runaFile, "Waits for 1 sign-off by approver other than runa; tove's is stale", "show", waits)
}

func emergencyByCommand(h *house) {
	worse := h.registered(1.03, 2)
	h.says(3, h.toveFile, "may not override", "promote", worse, "-to", "live", "-emergency", "-why", "now")
	h.says(0, h.runaFile, "EMERGENCY", "promote", worse, "-to", "live", "-emergency", "-why", "the plant stands still")
	h.says(0, h.runaFile, "not reviewed yet", "show", worse)
	id := strings.Fields(h.as(h.toveFile, "reviews", "-for-me"))[1]
	h.says(3, h.runaFile, "cannot sign it", "sign", strings.TrimSuffix(id, ":"), "-yes")
	h.says(0, h.toveFile, "carried out", "sign", strings.TrimSuffix(id, ":"), "-yes", "-why", "it was right")
	h.says(0, h.runaFile, "emergency by", "show", worse)
}

// A script that acts as a pipeline: its exit codes say what came of it.
func TestTheClimbFromAPipeline(t *testing.T) {
	h := open(t)
	pass, fail := h.reports()
	h.as(h.runaFile, "ladder", "set", "default", "-file", filepath.Join("..", "docs", "examples", "ladder.yaml"),
		"-why", "tests first")
	pipeline := func(slope, rmse float64, report, wait string) (int, string) {
		model, _ := h.files(slope)
		cmd := exec.Command("bash", filepath.Join("..", "docs", "examples", "pipeline.sh"), "heat-demand", model,
			h.measured(rmse), report)
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"),
			"INNERLADDER_SERVER="+h.server, "INNERLADDER_TOKEN_FILE="+h.runaFile, "HOME="+t.TempDir(),
			"XDG_CONFIG_HOME=", "WAIT_FOR="+wait)
		var out, messages bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &messages
		_ = cmd.Run()
		return cmd.ProcessState.ExitCode(), out.String() + messages.String()
	}
	if code, out := pipeline(1, 0.4, fail, "1m"); code != 3 || !strings.Contains(out, "1 of 1 test ") {
		t.Errorf("failing tests: exit %d: %s", code, out)
	}
	if code, out := pipeline(1.1, 0.9, pass, "1m"); code != 3 || !strings.Contains(out, "must be at most 0.5") {
		t.Errorf("a poor metric: exit %d: %s", code, out)
	}
	for range 2 { // again, it goes on waiting for the same promotion
		if code, out := pipeline(1.2, 0.4, pass, "1500ms"); code != 5 ||
			!strings.Contains(out, "P-3 was not decided within 1.5s") {
			t.Errorf("nobody answers: exit %d: %s", code, out)
		}
	}
	for _, c := range []struct {
		slope  float64
		answer rule.Answer
		code   int
	}{{1.3, rule.No, 3}, {1.4, rule.Yes, 0}} {
		var wait sync.WaitGroup
		wait.Go(func() {
			await(t, "the promotion", 30*time.Second, func() bool {
				found, err := h.tove.Promotions(t.Context(), client.PromotionSearch{ForMe: true}, client.Part{})
				must(t, err)
				if len(found.Items) < 2 { // one is that which nobody answered
					return false
				}
				id := found.Items[0].ID
				_, err = h.tove.Tick(t.Context(), id, wire.NewTick{Item: "cold-hours", Note: "looked"})
				must(t, err)
				_, err = h.tove.Sign(t.Context(), id, c.answer, "looked at it")
				must(t, err)
				return true
			})
		})
		code, out := pipeline(c.slope, 0.4, pass, "1m")
		wait.Wait()
		if code != c.code {
			t.Errorf("%s: exit %d, want %d: %s", c.answer, code, c.code, out)
		}
	}
	if code, out := pipeline(1.4, 0.4, pass, "1s"); code != 0 ||
		!strings.Contains(out, "heat-demand@5 stands on live already") {
		t.Errorf("when it is live: exit %d: %s", code, out)
	}
	if m, err := h.runa.Model(t.Context(), "heat-demand"); err != nil || len(m.Standing["live"]) != 1 ||
		m.Standing["live"][0] != 5 {
		t.Errorf("%+v, %v", m.Standing, err)
	}
}

// choose picks an option of a list, found by its label.
func choose(label, option string) browser.Action {
	return chromedp.Steps(browser.Click(chromedp.CSS(fmt.Sprintf(`[aria-label=%q]`, label))),
		browser.Click(chromedp.Search(fmt.Sprintf(`//*[@role="option"][contains(normalize-space(.), %q)]`, option))))
}

// inSheet presses a button of the sheet that is open.
func inSheet(text string) browser.Action {
	return browser.Click(chromedp.Search(fmt.Sprintf(`//*[@role="dialog"]//button[contains(normalize-space(.), %q)]`,
		text)))
}

// From draft to live by the console alone, with the same on the way.
func TestTheClimbInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	pass, _ := h.reports()
	h.person("kari", "approver")
	h.registered(1, 0.4)
	h.registered(1.01, 0.39)
	b := look(t, h)
	as := func(name string) {
		t.Helper()
		b.do("signing in as "+name, browser.SignIn(h.server, name, password))
	}
	as("runa")
	ladderOfOnesOwn(b)

	climb := func(n int) {
		t.Helper()
		page := fmt.Sprintf("/models/heat-demand/versions/%d", n)
		b.do("asking", b.open(page), press("Ask for a higher rung"), inSheet("Ask"), sees("waits for review"))
		b.do("attaching tests", b.open(page+"?show=evidence"), press("Attach a report"),
			chromedp.SetUploadFiles(chromedp.CSS(`[role="dialog"] input[type="file"]`), []string{pass}),
			inSheet("Attach it"), sees("2 tests in 300ms, all passed"))
		b.do("carried out by itself", b.open(page), sees("on proven"))
		b.do("rehearsal", press("Ask for a higher rung"), inSheet("Ask"), sees("on rehearsal"))
		b.do("live", press("Ask for a higher rung"), inSheet("Ask"), sees("waits for review"))
	}
	climb(1)
	as("tove")
	b.do("a refusal", b.open("/reviews"), browser.Click(browser.Text("a", "P-3")), sees("The gate"), press("Say no"),
		sees("a no needs a reason"), write("Note", "say more about the harbour"), press("Say no"), sees("refused"))
	as("runa")
	b.do("asking again", b.open("/models/heat-demand/versions/1"), press("Ask for a higher rung"), inSheet("Ask"),
		sees("P-4 waits for review"))
	as("tove")
	b.do("a deferral", b.open("/reviews/P-4"), sees("Your answer"), press("Later"), sees("answers after"),
		b.open("/reviews"), sees("Nothing waits for you"))
	b.do("a hand-over", b.open("/reviews/P-4"), choose("Or", "hand it over"), choose("To whom", "kari"),
		press("Hand over"), sees("handed it to kari"))
	b.do("a word in Markdown", browser.Type(chromedp.CSS(`[aria-label="Say something about P-4"]`),
		"@kari the **harbour** is yours"), press("Comment"),
		browser.Visible(chromedp.Search(`//strong[.="harbour"]`)))
	as("kari")
	b.do("being told", b.open("/inbox"), sees("tove handed the review of heat-demand@1 to kari"))
	b.do("ticking, on a phone", chromedp.EmulateViewport(390, 800), b.open("/reviews/P-4"), press("Tick"),
		browser.Type(chromedp.CSS(`[role="dialog"] textarea`), "twelve of them"), inSheet("I looked at it"),
		sees("kari: twelve of them"))
	b.do("signing, on a phone", write("Note", "read it"), press("Sign yes"), sees("carried out"),
		chromedp.EmulateViewport(1280, 800))
	b.do("the ladder", b.open("/models/heat-demand"),
		browser.Visible(chromedp.CSS(`[data-rung="live"] [data-token="1"]`)))

	// a stale sign-off
	as("runa")
	climb(2)
	as("tove")
	b.do("signing, with the list open", b.open("/reviews/P-7"), write("Note", "better"), press("Sign yes"),
		sees("tove said yes"))
	third := h.registered(1.02, 0.38)
	as("runa")
	b.do("an emergency", b.open("/models/heat-demand/versions/3"), press("Ask for a higher rung"),
		browser.Click(chromedp.CSS(`[role="dialog"] input[type="checkbox"]`)),
		browser.Type(chromedp.CSS(`[role="dialog"] textarea`), "the plant stands still"),
		inSheet("Carry it out now"), sees("emergency"))
	as("tove")
	b.do("stale by now", b.open("/reviews/P-7"), sees("said yes (stale)"))
	b.do("the review afterwards", b.open("/reviews"), browser.Click(browser.Text("a", "P-8")), sees("Was it right?"),
		write("Note", "it was"), press("Sign yes"), sees("emergency, reviewed"))
	if v, err := h.runa.Version(t.Context(), third); err != nil || v.Rung != "live" || v.Emergency != "reviewed" {
		t.Errorf("%+v, %v", v, err)
	}
	b.do("who vouched", b.open("/models/heat-demand/versions/1?show=evidence"), press("Verify"),
		sees("Everything is genuine and fits"), sees("key of the service"))
}

// ladderOfOnesOwn makes a ladder in the console, with what would pass beside it.
func ladderOfOnesOwn(b *tab) {
	b.do("the ladder", b.open("/settings/ladders?project=default"), sees("the default ladder"),
		sees("2 versions, each for the rung above"))
	for _, rung := range []string{"rehearsal", "live"} {
		b.do("no skipping to "+rung, browser.Click(chromedp.Search(
			fmt.Sprintf(`//*[@data-rung=%q]//label[contains(., "may be skipped")]/input`, rung))))
	}
	b.do("tests", choose("Add a requirement to proven", "evidence"), choose("evidence: evidence", "tests"),
		sees("Nothing of kind tests is attached"))
	b.do("a list", choose("Add a requirement to live", "checklist"), press("Add an item"),
		browser.Click(chromedp.Search(`//*[@data-rung="live"]//label[contains(., "holds one version")]/input`)))
	b.do("setting it", write("Why it changes", "tests first"), press("Set as revision 1"), sees("revision 1, runa"))
}

// Killed at any moment while versions climb, all of a promotion is there or none: never
// two on a rung that holds one, and the record is whole.
func TestKilledWhileVersionsClimb(t *testing.T) {
	t.Parallel()
	h := open(t)
	l := ladder.Default()
	l.Rungs[3].HoldsOne, l.Rungs[3].Displaced = true, ladder.Retired
	l.Rungs[1].Gate, l.Rungs[2].Gate = nil, nil
	l.Rungs[3].Gate = []rule.Requirement{{Rule: rule.SignOffs{Count: 1}}}
	_, err := h.runa.SetLadder(t.Context(), "default", l, "one live", -1)
	must(t, err)
	file := filepath.Join(t.TempDir(), "model.bin")
	var carried atomic.Int64
	for round := range 4 {
		done := make(chan struct{})
		go func() {
			defer close(done)
			for i := 0; ; i++ {
				if os.WriteFile(file, fmt.Appendf(nil, "weights %d %d", round, i), 0o600) != nil {
					return
				}
				v, err := h.runa.Register(t.Context(), wire.Registration{Model: "heat-demand"},
					client.Artifacts(file))
				if err != nil {
					return
				}
				p, err := h.runa.Promote(t.Context(), v.Ref, "live", "")
				if err != nil {
					return
				}
				if p, err = h.tove.Sign(t.Context(), p.ID, rule.Yes, ""); err != nil || p.State != ladder.CarriedOut {
					return
				}
				carried.Add(1)
			}
		}()
		before := carried.Load()
		await(t, "versions that climb", 20*time.Second, func() bool { return carried.Load() > before+int64(round) })
		if err := h.stop(syscall.SIGKILL); !killed(err) {
			t.Fatalf("ended with %v", err)
		}
		<-done
		h.start()
		h.tove, h.toveFile = h.person(fmt.Sprint("tove-", round), "author", "approver")
		m, err := h.runa.Model(t.Context(), "heat-demand")
		must(t, err)
		if len(m.Standing["live"]) > 1 {
			t.Fatalf("round %d: %v stand on live", round, m.Standing["live"])
		}
		all, err := h.runa.Promotions(t.Context(), client.PromotionSearch{State: "carried_out"},
			client.Part{Limit: 200})
		must(t, err)
		if got, confirmed := len(all.Items), int(carried.Load()); got < confirmed || got > confirmed+1 {
			t.Fatalf("round %d: %d were carried out, %d confirmed", round, got, confirmed)
		}
		carried.Store(int64(len(all.Items)))
		if newest := all.Items; len(newest) > 0 &&
			fmt.Sprint("heat-demand@", m.Standing["live"][0]) != newest[0].Version {
			t.Errorf("round %d: %v on live, %s was carried out last", round, m.Standing["live"], newest[0].Version)
		}
		h.says(0, h.runaFile, "intact", "audit", "verify")
	}
	if n := carried.Load(); n < 5 {
		t.Errorf("only %d were carried out in all rounds", n)
	}
}
