package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/job"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/wire"
)

// steep is a table whose truth is what the second version of twoVersions gives.
func (h *house) steep(n int) string {
	file := filepath.Join(h.t.TempDir(), "steep.csv")
	var b strings.Builder
	b.WriteString("x,mix,y\n")
	for i := range n {
		fmt.Fprintf(&b, "%d,%s,%.10g\n", i, []string{"old-town", "harbour"}[i%2], 1+1.0001*float64(i))
	}
	must(h.t, os.WriteFile(file, []byte(b.String()), 0o600))
	return file
}

// Two versions are held beside each other on the same rows, also where the service is killed between the two.
func TestVersionsAreHeldAgainstEachOther(t *testing.T) {
	t.Parallel()
	h := open(t)
	one, two := h.twoVersions()
	file := h.steep(400)
	out := h.as(h.runaFile, "evaluate", "heat-demand@1", file, "-target", "y", "-against", "@2")
	h.expects(out, "beside heat-demand@2 on the same 400 rows", "0.01995", "worse",
		"x: 300 and above", "surely worse there", "WHERE IT LOSES MOST")
	h.expects(h.as(h.runaFile, "job", "answers", "J-1"), "row,x,table.y,y,y of heat-demand@2,version,job",
		"400,399,400.0399,400,400.0399,heat-demand@1,J-1")
	h.expects(h.as(h.runaFile, "evaluate", "heat-demand@2", file, "-target", "y", "-against", "demand-hourly",
		"-segments", "none"), "beside heat-demand@1 on the same 400 rows", "better")
	h.expects(h.as(h.runaFile, "evaluate", "heat-demand@2", file, "-target", "y", "-against", "incumbent"),
		"beside heat-demand@1")
	h.refuses(3, h.runaFile, "cannot be held against itself", "evaluate", "heat-demand@1", file, "-target", "y",
		"-against", "demand-hourly")
	h.refuses(1, h.runaFile, "heat-demand@9", "evaluate", "heat-demand@1", file, "-target", "y", "-against", "@9")

	h.tell(two, "100") // the second pass does not get on
	f, err := os.Open(file)
	must(t, err)
	defer f.Close()
	j, err := h.runa.Evaluate(t.Context(), wire.NewEvaluation{
		NewScoring: wire.NewScoring{Asked: "heat-demand@1", Name: "steep.csv"},
		Judging:    wire.Judging{Target: "y", Against: "@2"},
	}, f)
	must(t, err)
	await(t, "the second pass", 90*time.Second, func() bool {
		j, err = h.runa.Job(t.Context(), j.ID)
		return err == nil && j.Progress.Trouble != "" && j.Progress.Share == 0.5
	})
	_ = h.stop(syscall.SIGKILL)
	h.tell(two, "0")
	h.tell(one, "100") // the first is not asked again
	h.start()
	await(t, "the job to end", 90*time.Second, func() bool {
		j, err = h.runa.Job(t.Context(), j.ID)
		return err == nil && j.Ended()
	})
	h.tell(one, "0")
	if j.State != job.Done || j.Progress.Answered != 400 {
		t.Fatalf("%+v", j)
	}
	e, err := h.runa.Report(t.Context(), j.Evaluating.Evidence)
	must(t, err)
	if a := e.Evaluation.Against; a.Rows != 400 || a.Difference("mae").Verdict != evidence.Worse ||
		len(a.Worst) != 20 || a.Worst[0].Inputs["x"] != 399.0 || a.Worst[0].Other == nil {
		t.Errorf("%+v", e.Evaluation.Against)
	}
	h.expects(h.as(h.runaFile, "job", "log", j.ID, "-follow"), "begins", "asks heat-demand@1 in plant-north",
		"asks heat-demand@2 in plant-north", "does not get on just now", "goes on where it was",
		"done; its report of kind evaluation is attached")
	// What the service made cannot be made by somebody else.
	forged := filepath.Join(t.TempDir(), "forged.json")
	must(t, os.WriteFile(forged, fmt.Appendf(nil, `{"metrics":{"mae":0},"judged":{"job":%q,"version":"heat-demand@1",
		"table":"t","digest":"d","target":"y","output":"y","by":"x","left_out":0}}`, j.ID), 0o600))
	h.refuses(3, h.runaFile, "the service made it", "attach", "heat-demand@1", "-kind", "evaluation", forged)
}

// Quality and predictions are told by the groups of what is marked as sensitive.
func TestSensitiveColumns(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.as(h.runaFile, "environment", "add", "plant-north", "-allow", "127.0.0.0/8")
	dir := t.TempDir()
	model, sample := filepath.Join(dir, "model.json"), filepath.Join(dir, "rows.csv")
	must(t, os.WriteFile(model, []byte(`{"format":"innerladder-standin-model/1","name":"heat-demand",
		"inputs":[{"name":"x","type":"number"},{"name":"mix","type":"text"}],"output":{"name":"y","type":"number"},
		"terms":[{"of":["x"],"how":"value","centre":0,"scale":1}],"weights":[[1,1]],"fill":{"x":0}}`), 0o600))
	must(t, os.WriteFile(sample, []byte("x,mix,y\n1.5,harbour,2.5\n0.25,old-town,1.25\n"), 0o600))
	register := []string{
		"register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y", "-sensitive",
	}
	h.refuses(2, h.runaFile, `has no input "age"`, append(register, "age")...)
	ref := h.as(h.runaFile, append(register, "mix")...)
	_, at := h.standin(model)
	h.as(h.runaFile, "place", ref, "-env", "plant-north", "-at", at)
	h.expects(h.as(h.runaFile, "show", ref), "harbour | old-town, sensitive")
	h.expects(h.as(h.runaFile, "evaluate", ref, h.steep(400), "-target", "y", "-segments", "none"), "SENSITIVE",
		"mix: harbour", "mix: old-town", "bias -0.0", "mean 20")
}

// New versions are put to the standing evaluation of their model as soon as they can be asked, and a gate asks for it.
func TestStandingEvaluation(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	file := h.steep(400)
	h.refuses(1, h.runaFile, "has no standing evaluation", "standing", "heat-demand")
	h.refuses(3, h.toveFile, "may not manage", "standing", "heat-demand", file, "-target", "y")
	h.refuses(2, h.runaFile, "a file, a data set or an address", "standing", "heat-demand", "-target", "y")
	h.expects(h.as(h.runaFile, "standing", "heat-demand", file, "-target", "y", "-at-most", "mae=0.1", "-against",
		"incumbent", "-why", "the winter decides"),
		"heat-demand#1: new versions of heat-demand are evaluated on steep.csv")
	l, err := h.runa.Ladder(t.Context(), "default")
	must(t, err)
	gate := &l.Rungs[len(l.Rungs)-1].Gate
	*gate = append(*gate, rule.Requirement{Rule: rule.Standing{NoWorse: []string{"mae"}}})
	_, err = h.runa.SetLadder(t.Context(), "default", l.Ladder, "measured by us", -1)
	must(t, err)

	state := func(version, state string) func() bool {
		return func() bool {
			s, err := h.runa.Standing(t.Context(), "heat-demand")
			must(t, err)
			for _, r := range s.Runs {
				if r.Version == version && string(r.State) == state {
					return true
				}
			}
			return false
		}
	}
	model, sample := h.files(1.01)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y")
	await(t, "why it waits", 90*time.Second, func() bool {
		s, err := h.runa.Standing(t.Context(), "heat-demand")
		return err == nil && len(s.Runs) == 1 && strings.Contains(s.Runs[0].Why, "placed nowhere")
	})
	_, printed, _ := h.cli(h.runaFile, "gate", "heat-demand@3", "-for", "live")
	h.expects(printed, "not put to the standing evaluation heat-demand#1 yet")
	_, at := h.standin(model)
	h.as(h.runaFile, "place", "heat-demand@3", "-env", "plant-north", "-at", at)
	await(t, "the evaluation", 90*time.Second, state("heat-demand@3", "judged"))
	_, printed, _ = h.cli(h.runaFile, "gate", "heat-demand@3", "-for", "live")
	h.expects(printed, "FAILED", "by the standing evaluation heat-demand#1, failed", "mae is above 0.1")

	// What was there before is put to it when somebody says so; the file is kept whatever is collected.
	h.as(h.runaFile, "standing", "run", "heat-demand@2")
	h.expects(h.as(h.runaFile, "standing", "heat-demand"), "heat-demand@2", "heat-demand@3", "judged",
		"failed", "mae at most 0.1")
	h.as(h.runaFile, "standing", "heat-demand", file, "-target", "z")
	h.refuses(1, h.runaFile, "the table has no column z", "standing", "run", "heat-demand@2")
	inbox, err := h.runa.Inbox(t.Context(), false, client.Part{Limit: 5})
	must(t, err)
	if len(inbox.Items) == 0 || !strings.Contains(inbox.Items[0].Entry.Sentence, "no column z") {
		t.Errorf("%+v", inbox.Items)
	}
	h.as(h.runaFile, "standing", "remove", "heat-demand", "-why", "enough")
	h.refuses(1, h.runaFile, "has no standing evaluation", "standing", "run", "heat-demand@2")
	h.expects(h.as(h.runaFile, "standing", "heat-demand", file, "-target", "y"), "heat-demand#3")
}
