package test

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/job"
	"innerladder/internal/wire"
)

// rowsFile writes a table whose x is the number of the row by a thousand.
func (h *house) rowsFile(n int) string {
	h.t.Helper()
	name := filepath.Join(h.t.TempDir(), "rows.csv")
	f, err := os.Create(name)
	must(h.t, err)
	w := bufio.NewWriter(f)
	fmt.Fprintln(w, "id,x")
	for i := 1; i <= n; i++ {
		fmt.Fprintf(w, "r%d,%d.%03d\n", i, i/1000, i%1000)
	}
	must(h.t, errors.Join(w.Flush(), f.Close()))
	return name
}

// answered checks that a table of answers has every row once, in order, as the slope says.
func (h *house) answered(file string, n int, slope float64) {
	h.t.Helper()
	f, err := os.Open(file)
	must(h.t, err)
	defer f.Close()
	in := csv.NewReader(bufio.NewReaderSize(f, 1<<20))
	in.ReuseRecord = true
	heading, err := in.Read()
	must(h.t, err)
	if got := strings.Join(heading, ","); got != "row,id,y,version,job" {
		h.t.Fatalf("the columns are %s", got)
	}
	for i := 1; ; i++ {
		r, err := in.Read()
		if errors.Is(err, io.EOF) {
			if i != n+1 {
				h.t.Fatalf("%d rows were answered, of %d", i-1, n)
			}
			return
		}
		must(h.t, err)
		y, err := strconv.ParseFloat(r[2], 64)
		if want := 1 + slope*float64(i)/1000; err != nil || r[0] != strconv.Itoa(i) || r[1] != "r"+r[0] ||
			math.Abs(y-want) > 1e-6*want {
			h.t.Fatalf("row %d is %v, and y should be %v", i, r, want)
		}
	}
}

// A version is asked about a table where it is placed, by its endpoint, and in a process of its own; what is wrong is
// said, and bad rows are put aside.
func TestTablesAreScored(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	rows, out := h.rowsFile(2500), filepath.Join(t.TempDir(), "answers.csv")
	h.as(h.runaFile, "score", "heat-demand@2", rows, "-o", out)
	h.answered(out, 2500, 1.0001)
	h.as(h.runaFile, "score", "demand-hourly", rows, "-o", out, "-batch", "1", "-parallel", "16")
	h.answered(out, 2500, 1)

	file, sample := h.regression(3)
	ref := h.as(h.runaFile, "register", "tides", "-no-code", "-file", file, "-sample", sample, "-target", "y")
	h.as(h.runaFile, "score", ref, rows, "-o", out)
	h.answered(out, 2500, 3)
	await(t, "its process to end", 20*time.Second, func() bool { return len(h.replicaPIDs()) == 0 })

	h.expects(h.as(h.runaFile, "job", "log", "J-3"), "begins", "asks "+ref+" in a process of its own", "done")

	bad := filepath.Join(t.TempDir(), "bad.csv")
	must(t, os.WriteFile(bad, []byte("id,x\n0042,1\nb,warm\nc\nd,4\n"), 0o600))
	code, answers, messages := h.cli(h.runaFile, "score", "heat-demand@1", bad)
	if code != 0 || !strings.HasPrefix(answers, "row,id,y,version,job\n1,0042,2,heat-demand@1,J-4\n4,d,5,") ||
		!strings.Contains(messages, "2 rows answered, 2 put aside") {
		t.Errorf("%d\n%s\n%s", code, answers, messages)
	}
	h.expects(h.as(h.runaFile, "job", "put-aside", "J-4"), `2,"x is ""warm"", not a number",b,warm`,
		`3,"the line has 1 values, and the header 2",c,`)
	h.expects(h.as(h.runaFile, "jobs", "-version", "heat-demand@1"), "J-4", "J-2", "done")

	other := filepath.Join(t.TempDir(), "other.csv")
	must(t, os.WriteFile(other, []byte("u,v\n1,2\n"), 0o600))
	h.refuses(2, h.runaFile, "the table has no column x; its columns are u, v", "score", "heat-demand@1", other)
	h.refuses(2, h.runaFile, "name a FILE", "score", "heat-demand@1")
	h.refuses(2, h.runaFile, "cannot be asked at once", "score", "heat-demand@1", rows, "-batch", "5000")
	h.refuses(3, h.runaFile, "J-4 is done", "job", "resume", "J-4")
	_, reader := h.person("odd", "reader")
	h.refuses(3, reader, "inspect", "score", "heat-demand@1", rows)
	h.refuses(3, reader, "inspect", "job", "answers", "J-1")
	h.refuses(3, reader, "inspect", "job", "log", "J-1")
	h.expects(h.as(reader, "job", "J-1"), "J-1 asks heat-demand@2 about rows.csv: done, 2500 rows answered")
}

// Answers are held against the truth, and what comes out is evidence, with a verdict where limits are set.
func TestTablesAreEvaluated(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	file := filepath.Join(t.TempDir(), "winter.csv")
	var b strings.Builder
	b.WriteString("x,mix,y\n")
	for i := range 400 { // the version gives 1 + x: it is right in the old town, and 0.5 too low in the harbour
		mix, y := "old-town", 1+float64(i)
		if i%4 == 0 {
			mix, y = "harbour", 1.5+float64(i)
		}
		fmt.Fprintf(&b, "%d,%s,%g\n", i, mix, y)
	}
	b.WriteString("7,old-town,\nwarm,old-town,3\n")
	must(t, os.WriteFile(file, []byte(b.String()), 0o600))
	out := h.as(h.runaFile, "evaluate", "heat-demand@1", file, "-target", "y", "-segments", "mix", "-at-most",
		"mae=0.2")
	h.expects(out, "evaluation of heat-demand@1, passed", "mae           0.125", "bias          -0.125", "mix: harbour",
		"surely worse than all", "1 rows without truth were left out", "in J-1")
	code, _, messages := h.cli(h.runaFile, "evaluate", "heat-demand@1", file, "-target", "y", "-at-most", "mae=0.1",
		"-segments", "mix")
	if code != 3 || !strings.Contains(messages, "mae is above 0.1") {
		t.Errorf("%d %s", code, messages)
	}
	found, err := h.runa.Evidence(t.Context(), "heat-demand@1")
	must(t, err)
	e := found.Items[0].Evaluation
	if found.Items[0].Verdict != "failed" || e.Rows != 400 || e.Judged.Job != "J-2" || len(e.Judged.Digest) != 64 ||
		len(e.Worst) != 20 || e.Worst[0].Inputs["mix"] != "harbour" || e.Worst[1].Inputs["x"] != 4.0 ||
		e.Bounds["mae"][0] > 0.125 {
		t.Errorf("%+v", e)
	}
	h.expects(h.as(h.runaFile, "job", "J-2"),
		"J-2 evaluates heat-demand@1 on winter.csv: done, 401 rows answered, 1 put", "x, y, mix")
	h.refuses(2, h.runaFile, "the table has no column z", "evaluate", "heat-demand@1", file, "-target", "z")
	h.refuses(2, h.runaFile, "say with -target", "evaluate", "heat-demand@1", file)
	h.refuses(2, h.runaFile, "is no limit", "evaluate", "heat-demand@1", file, "-target", "y", "-at-most", "rmse")
	h.refuses(1, h.runaFile, "there is no accuracy among the measures", "evaluate", "heat-demand@1", file, "-target",
		"y", "-at-least", "accuracy=0.5")
	h.refuses(1, h.runaFile, "no row that was answered has a truth in mix", "evaluate", "heat-demand@1", file,
		"-target", "mix")
}

// Whatever ends when, and however often, every row is answered once; what is stopped goes on when it is taken up.
func TestSoakKillsWhileScoring(t *testing.T) {
	t.Parallel()
	h := &house{t: t, data: filepath.Join(t.TempDir(), "data"), listen: freeAddress(t)}
	h.start()
	h.tove, h.toveFile = h.person("tove", "author", "approver", "operator")
	one, _ := h.twoVersions()
	n, kills := longer(300_000, 10_000_000), longer(4, 10)
	f, err := os.Open(h.rowsFile(n))
	must(t, err)
	defer f.Close()
	j, err := h.runa.Score(t.Context(), wire.NewScoring{
		Asked: "heat-demand@1", Name: "rows.csv", Batch: longer(8, 512), Parallel: 2,
	}, f)
	must(t, err)
	for i := range kills {
		// In even parts of the way, so that all of them fall into it.
		h.scored(j.ID, int64(n)*int64(i+1)/int64(kills+2))
		for range rand.IntN(50) { // some moment after what was reached was told
			_, err := h.runa.Job(t.Context(), j.ID)
			must(t, err)
		}
		switch i % 4 {
		case 0, 2:
			_ = h.stop(syscall.SIGKILL)
			h.start()
		case 1:
			must(t, h.stop(syscall.SIGTERM))
			h.start()
		case 3:
			h.tell(one, "50") // half of all requests fail for a while
			if _, err := h.runa.StopJob(t.Context(), j.ID, "to see"); err != nil {
				t.Logf("kill %d came late: %v", i, err)
				continue
			}
			await(t, "it to be taken up", time.Minute, func() bool {
				_, err := h.runa.ResumeJob(t.Context(), j.ID, "")
				return err == nil
			})
			h.tell(one, "0")
		}
	}
	h.scored(j.ID, int64(n))
	await(t, "it to end", time.Minute, func() bool {
		j, err = h.runa.Job(t.Context(), j.ID)
		return err == nil && j.Ended()
	})
	if j.State != job.Done || j.Progress.Rows != int64(n) {
		t.Fatalf("%+v", j)
	}
	out := filepath.Join(t.TempDir(), "answers.csv")
	h.as(h.runaFile, "job", "answers", j.ID, "-o", out)
	aside := h.as(h.runaFile, "job", "put-aside", j.ID, "-format", "jsonl")
	if aside == "" {
		h.answered(out, n, 1)
		return
	}
	h.eachRowOnce(out, aside, n)
}

// scored waits until so many rows of a job have ended.
func (h *house) scored(id string, rows int64) {
	h.t.Helper()
	await(h.t, fmt.Sprintf("%d rows", rows), 30*time.Minute, func() bool {
		j, err := h.runa.Job(h.t.Context(), id)
		var p *client.Problem
		if errors.As(err, &p) {
			h.t.Fatal(err)
		}
		return err == nil && j.Progress.Rows >= rows
	})
}

// eachRowOnce checks that every row is among the answers or what was put aside, once.
func (h *house) eachRowOnce(answers, aside string, n int) {
	h.t.Helper()
	seen := make([]byte, n+1)
	f, err := os.Open(answers)
	must(h.t, err)
	defer f.Close()
	all := csv.NewReader(f)
	all.ReuseRecord = true
	_, err = all.Read()
	must(h.t, err)
	for {
		r, err := all.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		must(h.t, err)
		row, err := strconv.Atoi(r[0])
		must(h.t, err)
		seen[row]++
	}
	for line := range strings.Lines(aside) {
		var r struct{ Row int }
		must(h.t, json.Unmarshal([]byte(line), &r))
		seen[r.Row]++
	}
	for i := 1; i <= n; i++ {
		if seen[i] != 1 {
			h.t.Fatalf("row %d is there %d times", i, seen[i])
		}
	}
}
