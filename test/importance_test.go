package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// On which inputs a version relies is found out over a table, with the truth and without.
func TestInputsThatMatter(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersionsOf(h.many(300))
	var b strings.Builder
	b.WriteString("x,mix,y\n")
	for i := range 400 {
		fmt.Fprintf(&b, "%d,%s,%d\n", i%100, []string{"old-town", "harbour"}[i%2], 1+i%100)
	}
	b.WriteString("3,harbour,\nwarm,harbour,4\n") // one without truth, one that does not fit
	dir := t.TempDir()
	file := textFile(t, filepath.Join(dir, "rows.csv"), b.String())
	printed := h.as(h.runaFile, "importance", "heat-demand@1", file, "-target", "y", "-rows", "1000")
	// It gives 1 + x, and rows with the x of another are a third of 100 off.
	h.expects(printed, "importance of heat-demand@1, no verdict", "mae is 0 for the rows as they are", "x      33",
		"▁", "█", "0 … 99", "402 rows of rows.csv", "2 of them left out", "in J-1")
	h.refuses(2, h.runaFile, "has no column z", "importance", "heat-demand@1", file, "-target", "z")
	h.refuses(2, h.runaFile, "cannot be drawn", "importance", "heat-demand@1", file, "-rows", "7")
	h.refuses(2, h.runaFile, "cannot be shuffled", "importance", "heat-demand@1", file, "-rounds", "500")
	h.refuses(2, h.runaFile, "no column x", "importance", "heat-demand@1",
		textFile(t, filepath.Join(dir, "other.csv"), "wind\n1\n"))
	h.refuses(1, h.runaFile, "only 1 rows of the table can be asked", "importance", "heat-demand@1",
		textFile(t, filepath.Join(dir, "short.csv"), "x\n1\n"))
	h.expects(h.as(h.runaFile, "importance", "heat-demand@1", file, "-rounds", "1", "-parallel", "1", "-batch", "7"),
		"PREDICTIONS MOVE BY", "shuffled 1 times")
	found, err := h.runa.Evidence(t.Context(), "heat-demand@1")
	must(t, err)
	out := filepath.Join(dir, "importance.json")
	h.as(h.runaFile, "evidence", found.Items[0].ID, "-o", out)
	h.refuses(3, h.runaFile, "that the service made it", "attach", "heat-demand@1", "-kind", "importance", out)
	text, err := os.ReadFile(out)
	must(t, err)
	h.expects(string(text), `"importances": [`)
}

// A server that answers one row at a time is asked row by row.
func TestInputsThatMatterToAForeignServer(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.as(h.runaFile, "environment", "add", "workbench", "-allow", "127.0.0.0/8")
	model, _ := h.files(1)
	rows := h.many(300)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", rows, "-target", "y")
	h.as(h.runaFile, "place", "heat-demand@1", "-env", "workbench", "-at", pythonServer(t))
	h.healthy("heat-demand@1", "workbench")
	h.expects(h.as(h.runaFile, "importance", "heat-demand@1", rows, "-target", "y", "-rows", "60", "-rounds", "2"),
		"mae is 0 for the rows as they are", "60 rows of many.csv")
	// Of a list of numbers the largest is explained: twice what is asked.
	h.expects(h.as(h.runaFile, "importance", "heat-demand@1", rows, "-output", "scores", "-rows", "60", "-rounds", "2"),
		"SCORES[1]", "predictions move most with x")
	h.refuses(1, h.runaFile, "of which none is the truth", "importance", "heat-demand@1", rows, "-output", "scores",
		"-target", "y", "-rows", "60")
}
