package test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/schedule"
)

// A table is scored at its times, out of turn, and once more where that failed; never two at once, and what fails for
// good is told.
func TestSchedules(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	rows := h.rowsFile(300)
	must(t, h.stop(syscall.SIGTERM))
	h.options = []string{"-fetch-folder", filepath.Dir(rows)}
	h.start()
	h.as(h.runaFile, "schedule", "minutely", "* * * * *", "score", "demand-hourly", "-from", "file://"+rows, "-zone",
		"Europe/Oslo", "-keep", "id")
	done := func(name, state string) func() bool {
		return func() bool {
			s, err := h.runa.Schedule(t.Context(), name)
			return err == nil && len(s.Turns) > 0 && s.Turns[0].State == state
		}
	}
	await(t, "the first turn", 90*time.Second, done("minutely", "done"))
	out := filepath.Join(t.TempDir(), "answers.csv")
	h.as(h.runaFile, "job", "answers", "J-1", "-o", out)
	h.answered(out, 300, 1)
	h.expects(h.as(h.runaFile, "schedules"), "minutely", "* * * * *", "demand-hourly", "done J-1")
	h.as(h.runaFile, "schedule", "pause", "minutely", "-why", "enough")
	h.as(h.runaFile, "schedule", "now", "minutely")
	await(t, "the turn out of turn", 30*time.Second, done("minutely", "done"))
	h.expects(h.as(h.runaFile, "schedule", "minutely"), "rests", "done", "J-2", `"* * * * *" in Europe/Oslo`)

	gone := filepath.Join(filepath.Dir(rows), "gone.csv")
	h.as(h.runaFile, "schedule", "broken", "0 0 1 1 *", "score", "heat-demand@2", "-from", "file://"+gone, "-retries",
		"0")
	h.expects(h.as(h.runaFile, "schedule", "now", "broken"), "begun J-3")
	await(t, "the table that is not there", 30*time.Second, done("broken", "failed"))
	h.expects(h.as(h.runaFile, "schedule", "broken"), "gone.csv")
	inbox, err := h.runa.Inbox(t.Context(), false, client.Part{Limit: 5})
	must(t, err)
	if len(inbox.Items) == 0 || !strings.Contains(inbox.Items[0].Entry.Sentence, "The turn of broken") {
		t.Errorf("%+v", inbox.Items)
	}
	must(t, os.WriteFile(gone, []byte("id,x\na,1\n"), 0o600))
	h.as(h.runaFile, "schedule", "now", "broken")
	await(t, "the table that is there", 30*time.Second, done("broken", "done"))

	h.refuses(2, h.runaFile, "is no time zone", "schedule", "x", "* * * * *", "score", "demand-hourly", "-from",
		"file://"+rows, "-zone", "Middle/Earth")
	h.refuses(2, h.runaFile, "is never", "schedule", "x", "61 * * * *", "score", "demand-hourly", "-from",
		"file://"+rows)
	h.refuses(2, h.runaFile, "address or a data set", "schedule", "x", "* * * * *", "score", "demand-hourly")
	h.refuses(2, h.runaFile, "cannot be the name", "schedule", "Nightly", "* * * * *", "score", "demand-hourly",
		"-from", "file://"+rows)
	h.as(h.runaFile, "schedule", "remove", "broken")
	h.refuses(1, h.runaFile, "there is no schedule", "schedule", "broken")
	all, err := h.runa.Schedules(t.Context())
	if err != nil || len(all.Items) != 1 || all.Items[0].Missed != schedule.Once {
		t.Errorf("%+v, %v", all, err)
	}
}
