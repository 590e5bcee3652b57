package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/test/plans"

	"innerladder/internal/client"
	"innerladder/internal/core/rollout"
	"innerladder/test/browser"

	"github.com/chromedp/chromedp"
)

const beside = `name: beside
kind: shadow
copies:
  share: 50 %
  time: 2s
  requests: 40
guards:
  - signal: error_rate
    ratio: 2
    margin: 0.2
beta: 0.2
capacity: 0
`

// Copies from the console, and then by a plan from the command line: the page shows what they show, callers get only
// main's answers, and the report stands with the version.
func TestCopiesInTheConsole(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	plan := filepath.Join(t.TempDir(), "plan.yaml")
	must(t, os.WriteFile(plan, []byte(beside), 0o600))
	h.as(h.runaFile, "plan", "put", plan)
	_, stop := h.steadily(100)
	defer stop()
	b := look(t, h)
	h.person("kari", "approver", "operator")
	b.do("signing in as kari", browser.SignIn(h.server, "kari", password))
	b.do("copies by hand", b.open("/endpoints/demand-hourly"), press("Change the split"),
		write("Copies for heat-demand@2 in per cent", "50"), sees("gets copies of 50"), press("Put in force"),
		browser.Visible(chromedp.CSS(`[data-lane="shadow"][data-version="heat-demand@2"]`)),
		browser.Visible(chromedp.CSS(`[data-copies]`)), sees("say the same as @1"))
	b.do("no more of them", press("Change the split"), write("Copies for heat-demand@2 in per cent", "0"),
		press("Put in force"), browser.Gone(chromedp.CSS(`[data-lane="shadow"]`)))
	cmd := exec.Command(binary, "roll", "demand-hourly", "-to", "heat-demand@2", "-plan", "beside", "-wait", "-timeout",
		"1m", "-server", h.server, "-token-file", h.runaFile)
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "R-1 tries heat-demand@2 on copies") ||
		!strings.Contains(string(out), "What they showed is E-") {
		t.Fatalf("%v:\n%s", err, out)
	}
	b.do("the rollout", b.open("/rollouts/R-1"), sees("on copies of what @1 answers"), sees("say the same as @1"),
		browser.Visible(chromedp.CSS(`[data-stage="passed"]`)))
	b.do("the report", b.open("/models/heat-demand/versions/2?show=evidence"), sees("answered differently"),
		sees("say the same as @1"))
	must(t, os.WriteFile(plan, []byte(plans.Which), 0o600))
	h.as(h.runaFile, "plan", "put", plan)
	h.as(h.runaFile, "roll", "demand-hourly", "-to", "heat-demand@2", "-plan", "which")
	b.do("a comparison", b.open("/rollouts/R-2"), sees("compared with @1"), sees("Does @2 do better in error rate?"),
		browser.Visible(chromedp.CSS(`[data-verdict="no_difference"]`)),
		sees("Both do as well as each other"), browser.Visible(chromedp.CSS(`[data-stage="passed"]`)))
	said := h.as(h.runaFile, "evidence", "heat-demand@2")
	if !strings.Contains(said, "shadow") || !strings.Contains(said, "passed") {
		t.Errorf("%s", said)
	}
}

// Killed at any moment while copies are sent, or two versions are compared, the service goes on: it ends as it should,
// with one report, and callers see no failure.
func TestSoakKillsDuringCopies(t *testing.T) {
	h := open(t)
	h.listen = strings.TrimPrefix(h.server, "http://") // so that clients find it again
	h.twoVersions()
	for _, text := range []string{beside, plans.Which} {
		_, err := h.runa.PutPlan(t.Context(), "", text, "for tests")
		must(t, err)
	}
	for round := range longer(2, 30) {
		h.killedDuringCopies(round, []string{"beside", "which"}[round%2])
	}
}

// killedDuringCopies follows a plan, kills the service in the middle, and sees how it goes on.
func (h *house) killedDuringCopies(round int, plan string) {
	t, ctx := h.t, h.t.Context()
	t.Helper()
	shown, failed := h.killedAmid(fmt.Sprintf("round %d (%s)", round, plan), "heat-demand@2", plan, 400,
		time.Minute, func() {})
	reports, err := h.runa.Evidence(ctx, "heat-demand@2")
	must(t, err)
	made := 0
	for _, e := range reports.Items {
		if e.Shadow != nil && e.Shadow.Rollout == shown.ID {
			made++
		}
	}
	all, err := h.runa.Splits(ctx, "demand-hourly", client.Part{Limit: 20})
	must(t, err)
	var lanes []int
	for _, s := range all.Items {
		if s.Rollout == shown.ID {
			lanes = append(lanes, len(s.Lanes))
		}
	}
	if shown.Phase != rollout.Finished || !slices.Equal(lanes, []int{1, 2}) || failed > 0 ||
		made != map[string]int{"beside": 1}[plan] {
		t.Errorf("round %d, %s: %s, splits with %v lanes, %d reports, %d failed\n%+v", round, plan, shown.Phase, lanes,
			made, failed, shown.Decisions)
	}
}
