package test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"innerladder/internal/client"
	"innerladder/internal/core/rollout"
	"innerladder/internal/wire"
	"innerladder/test/browser"
)

// hasty are plans that a test can wait for.
var hasty = map[rollout.Kind]string{
	rollout.Canary: "name: hasty\nkind: canary\nsteps:\n  - share: 20 %\n    time: 1s\n    requests: 20\n" +
		"  - share: 50 %\n    requests: 40\nbake:\n  time: 2s\n  requests: 40\nbeta: 0.2\nguards:\n" +
		"  - signal: error_rate\n    ratio: 2\n    margin: 0.1\nharm:\n  bad_answers: 500\npatience: 2m\n",
	rollout.BlueGreen: "name: hasty-twin\nkind: blue_green\nwarm: 20\nbake:\n  time: 3s\n  requests: 60\nguards:\n" +
		"  - signal: error_rate\n    ratio: 2\n    margin: 0.1\nharm:\n  bad_answers: 500\npatience: 2m\n",
}

// under keeps calling until stop is called; an answer that is no 200 counts as failed, a connection that breaks
// does not: the service is killed meanwhile.
func (h *house) under(perSecond int) (failed *atomic.Int64, stop func()) {
	return h.calls(perSecond, func(status int, err error) bool { return err == nil && status != 200 })
}

// Killed at any moment of a rollout, the service goes on or goes back rightly: no step is skipped or done twice, and
// callers see no failure that the models did not make.
func TestSoakKillsDuringRollouts(t *testing.T) {
	h := open(t)
	h.listen = strings.TrimPrefix(h.server, "http://") // so that clients find it again
	at := map[string]string{}
	at["heat-demand@1"], at["heat-demand@2"] = h.twoVersions()
	for _, text := range hasty {
		_, err := h.runa.PutPlan(t.Context(), "", text, "for tests")
		must(t, err)
	}
	for round := range longer(4, 100) {
		kind, bad := rollout.Canary, round%2 == 1
		if round%4 >= 2 {
			kind = rollout.BlueGreen
		}
		h.killedDuring(round, kind, bad, at)
	}
}

// killedDuring rolls out the version that does not answer now, kills the service in the middle, and sees how it goes
// on.
func (h *house) killedDuring(round int, kind rollout.Kind, bad bool, at map[string]string) {
	t, ctx := h.t, h.t.Context()
	t.Helper()
	e, err := h.runa.Endpoint(ctx, "demand-hourly")
	must(t, err)
	from, to := e.Split.Main().Version, "heat-demand@2"
	if from == to {
		to = "heat-demand@1"
	}
	h.tell(at[to], "0")
	if v, err := h.runa.Version(ctx, to); err != nil || v.Rung != "live" { // it was rolled back before
		must(t, err)
		p, err := h.runa.Promote(ctx, to, "live", "")
		must(t, err)
		_, err = h.tove.Sign(ctx, p.ID, "yes", "mended")
		must(t, err)
	}
	plan := map[rollout.Kind]string{rollout.Canary: "hasty", rollout.BlueGreen: "hasty-twin"}[kind]
	what := fmt.Sprintf("round %d (%s, bad %v)", round, kind, bad)
	shown, failed := h.killedAmid(what, to, plan, 700, 90*time.Second, func() {
		if bad {
			h.tell(at[to], "60")
		}
	})
	want := rollout.Finished
	if bad {
		want = rollout.RolledBack
	}
	if shown.Phase != want {
		t.Errorf("round %d (%s, bad %v): %s\n%+v", round, kind, bad, shown.Phase, shown.Decisions)
	}
	if !bad && failed > 0 {
		t.Errorf("round %d: %d requests failed, and no model did", round, failed)
	}
	h.inOrder(round, shown, from)
	h.tell(at[to], "0")
}

// killedAmid rolls out a version by a plan while callers call, kills the service when some requests of at most so
// many have ended, and lets it go on until the rollout is over, within a time. failed are requests that a service
// which ran did not answer well. begun is called when the rollout has begun.
func (h *house) killedAmid(what, to, plan string, most int64, within time.Duration,
	begun func(),
) (shown wire.ShownRollout, failed int64) {
	t, ctx := h.t, h.t.Context()
	t.Helper()
	before, stop := h.under(150)
	o, err := h.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: to, Plan: plan})
	must(t, err)
	begun()
	h.more(30 + rand.Int64N(most-30))
	err = h.stop(syscall.SIGKILL)
	stop()
	if !killed(err) {
		t.Fatalf("%s: ended with %v", what, err)
	}
	h.start()
	after, stop := h.under(150)
	await(t, what+": the end of "+o.ID, within, func() bool {
		shown, err = h.runa.Rollout(ctx, o.ID)
		must(t, err)
		return shown.Phase.Over()
	})
	stop()
	return shown, before.Load() + after.Load()
}

// tell has a stand-in fail so many of a hundred requests.
func (h *house) tell(address, fail string) {
	h.t.Helper()
	if out, err := exec.Command(binary, "standin", "tell", address, "-fail", fail).CombinedOutput(); err != nil {
		h.t.Fatalf("%v: %s", err, out)
	}
}

// inOrder sees that the splits of a rollout are those of its plan, each once, and then the way back if it went back.
func (h *house) inOrder(round int, o wire.ShownRollout, from string) {
	h.t.Helper()
	all, err := h.runa.Splits(h.t.Context(), o.Endpoint, client.Part{Limit: 20})
	must(h.t, err)
	var shares []int
	for _, s := range slices.Backward(all.Items) {
		if s.Rollout != o.ID {
			continue
		}
		share := 0
		for _, l := range s.Lanes {
			if l.Version == o.Candidate {
				share = l.Share
			}
		}
		shares = append(shares, share)
	}
	steps := []int{}
	for _, s := range o.Plan.Steps {
		steps = append(steps, s.Share)
	}
	steps = append(steps, 10_000)
	ok := slices.Equal(shares, steps)
	if o.Phase == rollout.RolledBack {
		n := len(shares) - 1
		ok = n >= 0 && shares[n] == 0 && n <= len(steps) && slices.Equal(shares[:n], steps[:n])
	}
	if !ok {
		h.t.Errorf("round %d, %s to %s: shares %v of a plan of %v", round, from, o.Candidate, shares, steps)
	}
	moves := 0
	for i, d := range o.Decisions {
		if d.Number != i+1 {
			h.t.Errorf("round %d: decision %d has the number %d", round, i+1, d.Number)
		}
		if d.Split > 0 {
			moves++
		}
	}
	if moves != len(shares) {
		h.t.Errorf("round %d: %d splits, and %d decisions that made one", round, len(shares), moves)
	}
}

// The line that a pipeline needs: it prints each step and ends with 0, or with 4 when it was rolled back.
func TestRollForAPipeline(t *testing.T) {
	t.Parallel()
	h := open(t)
	_, two := h.twoVersions()
	plan := filepath.Join(t.TempDir(), "plan.yaml")
	must(t, os.WriteFile(plan, []byte(hasty[rollout.Canary]), 0o600))
	h.as(h.runaFile, "plan", "put", plan)
	_, stop := h.steadily(150)
	defer stop()
	roll := func() (int, string) {
		cmd := exec.Command(binary, "roll", "demand-hourly", "-to", "heat-demand@2", "-plan", "hasty", "-wait",
			"-timeout", "1m", "-server", h.server, "-token-file", h.runaFile)
		out, _ := cmd.CombinedOutput()
		return cmd.ProcessState.ExitCode(), string(out)
	}
	h.tell(two, "50")
	code, out := roll()
	if code != 4 || !strings.Contains(out, "It begins with 20 %") || !strings.Contains(out, "R-1 is rolled back") {
		t.Errorf("exit %d:\n%s", code, out)
	}
	h.tell(two, "0")
	code, out = roll()
	if code != 3 || !strings.Contains(out, "demands live") {
		t.Errorf("it must be signed anew: exit %d:\n%s", code, out)
	}
	h.as(h.runaFile, "promote", "heat-demand@2", "-to", "live")
	h.as(h.toveFile, "sign", "P-3", "-yes")
	code, out = roll()
	if code != 0 || !strings.Contains(out, "from 20 % to 50 %") || !strings.Contains(out, "heat-demand@2 stays") {
		t.Errorf("exit %d:\n%s", code, out)
	}
	if code, out = roll(); code != 0 || !strings.Contains(out, "nothing needs doing") {
		t.Errorf("run again: exit %d:\n%s", code, out)
	}
}

// A rollout from the console: the form shows what it would do, the page follows it, and a button ends it.
func TestARolloutInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	plan := filepath.Join(t.TempDir(), "plan.yaml")
	must(t, os.WriteFile(plan, []byte(hasty[rollout.Canary]), 0o600))
	h.as(h.runaFile, "plan", "put", plan)
	_, stop := h.steadily(100)
	defer stop()
	b := look(t, h)
	h.person("kari", "approver", "operator")
	b.do("signing in as kari", browser.SignIn(h.server, "kari", password))
	b.do("the form", b.open("/endpoints/demand-hourly"), press("Roll out…"), sees("A version that fails more"),
		sees("must be shown good"))
	b.do("starting it", press("Start it"), sees("R-1: @1 → @2"), sees("step 1 of 4"),
		browser.Visible(chromedp.CSS(`[data-stage="now"]`)), sees("waits for"))
	b.do("it is on the front page", b.open("/"), sees("demand-hourly: @1 → @2"))
	b.do("going back", b.open("/rollouts/R-1"), press("Back to @1, 100"),
		browser.Type(chromedp.CSS(`[role="dialog"] input[required]`), "not today"),
		browser.Click(chromedp.CSS(`[role="dialog"] button[type="submit"]`)),
		sees("heat-demand@1 answers all of demand-hourly"))
	b.do("the page about it", sees("I-1: what happened"), press("I-1: what happened"),
		sees("heat-demand@2 was taken back by kari"), sees("Could it have been known?"))
	b.do("adding to it", press("write a note"),
		browser.Type(chromedp.CSS(`[role="dialog"] input[required]`), "only a try"),
		browser.Click(chromedp.CSS(`[role="dialog"] button[type="submit"]`)), sees("only a try"), press("Close it"),
		sees("Open it again"))
	b.do("the lists", b.open("/rollouts"), sees("ended"), b.open("/incidents"), sees("closed"))
	i, err := h.runa.Incident(t.Context(), "I-1")
	if err != nil || i.State != "closed" || len(i.Notes) != 1 {
		t.Errorf("%v, %+v", err, i.Incident)
	}
}

// The stories that are no part of the usual one play alone as told.
func TestStoriesOfTheDemo(t *testing.T) {
	if testing.Short() {
		t.Skip("each takes most of a minute")
	}
	for story, says := range map[string][]string{
		"slow-twin": {
			"It is warmed with 30 sample requests", "answers within", "valve-fault@1 answers all of valve-check again",
		},
		"repeated-rows": {
			"prediction_drift to be shown good", "not enough to tell: 2 of 50 distinct inputs",
		},
		"cold-snap": {
			"a cold snap: fourteen degrees less", "outdoor_c has moved from its reference, its mean",
			"demand-hourly is drifting", "heat-demand@1 answers all of it as before",
		},
		"caught-early": {
			"the gate of live asks for the cases heat-demand#1 now",
			"a warm noon needs next to nothing: demand_mw must", "by the cases heat-demand#1: 1 of",
			"asked again: ", "disagreement is above 0.05",
		},
		"quiet-draft": {
			"It gets copies of 50 % of what return-temp@1 answers, and answers nobody", "What they showed is E-",
			"return_c is", "runa asks for return-temp@2 to live",
		},
	} {
		t.Run(story, func(t *testing.T) {
			t.Parallel()
			said := play(t, "-story", story, "-data", filepath.Join(t.TempDir(), "demo"))
			for _, want := range says {
				if !strings.Contains(said, want) {
					t.Errorf("no %q in\n%s", want, said)
				}
			}
		})
	}
}
