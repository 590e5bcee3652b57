package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"innerladder/test/browser"
	"innerladder/test/foreign"

	"github.com/chromedp/chromedp"
)

// Somebody says in the console what a signal of their own is; a program in another language reports it; a watch is set
// over it; and after the service was killed nothing is lost, and what is told again counts once.
func TestASignalOfOnesOwn(t *testing.T) {
	t.Parallel()
	node := foreign.Program(t, "node")
	h := open(t)
	h.twoVersions()
	b := look(t, h)
	b.do("signing in", browser.SignIn(h.server, "runa", password))
	field := func(n int) string { return fmt.Sprintf(`[role="dialog"] form > label:nth-of-type(%d) input`, n) }
	b.do("no signals yet", b.open("/endpoints/demand-hourly"), press("Custom signals"), sees("has no signals of its "+
		"own"))
	b.do("a name that cannot be", press("Add a signal"), overwrite(field(1), "Dispatch cost"),
		press("Add it"), sees("use up to 40 small letters"))
	b.do("saying what it is", overwrite(field(1), "dispatch_cost"), overwrite(field(2), "EUR"),
		press("Add it"), sees("EUR, lower is better"), sees("Nothing was reported of answers in that time"))

	out, err := exec.CommandContext(t.Context(), node, "clients/report.mjs", h.server, h.gateway, h.runaToken,
		"60").CombinedOutput()
	if err != nil || strings.TrimSpace(string(out)) != "60 taken, 5 again" {
		t.Fatalf("the other program: %v, %s", err, out)
	}
	b.do("what was reported", b.open("/endpoints/demand-hourly/custom"),
		browser.Visible(chromedp.CSS(`[data-version="heat-demand@1"]`)), sees("11.5"), sees("60 values"))
	b.do("beside the other signals", b.open("/endpoints/demand-hourly/signals?last=15+min"),
		sees("Mean of dispatch_cost, EUR"))
	must(t, func() error {
		_, said, messages := h.cli(h.runaFile, "watch", "set", "demand-hourly", "custom.dispatch_cost", "-limit", "20")
		if !strings.Contains(said, "Tell when custom.dispatch_cost is above 20.") {
			return fmt.Errorf("%s%s", said, messages)
		}
		return nil
	}())

	rows := "order,version,at,dispatch_cost\n"
	for i := range 40 {
		rows += fmt.Sprintf("order %d,heat-demand@1,%s,%d\n", i, "2026-11-20T06:00:00Z", 100+i)
	}
	file := filepath.Join(t.TempDir(), "orders.csv")
	must(t, os.WriteFile(file, []byte(rows), 0o600))
	report := []string{"report", "demand-hourly", file, "-version", "version", "-time", "at", "-id", "order"}
	if said := h.as(h.runaFile, report...); !strings.Contains(said, "40 values of demand-hourly taken") {
		t.Error(said)
	}
	if err := h.stop(syscall.SIGKILL); !killed(err) {
		t.Fatal(err)
	}
	h.start()
	if said := h.as(h.runaFile, report...); !strings.Contains(said, "0 values of demand-hourly taken") {
		t.Error(said)
	}
	said := strings.Join(strings.Fields(h.as(h.runaFile, "custom", "show", "demand-hourly", "-since", "720h")), " ")
	if !strings.Contains(said, "5470 EUR") || !strings.Contains(said, " 100 ") { // 60 values of 11.5, 40 of 119.5
		t.Error(said)
	}
}
