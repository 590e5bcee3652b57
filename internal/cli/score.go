package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/job"
	"innerladder/internal/scoring"
	"innerladder/internal/wire"
)

// scoreCommands ask versions about whole tables, and look after the jobs that do.
func scoreCommands() []command {
	return []command{
		{
			name: "score", group: "Prove", arguments: "REF|ENDPOINT [FILE]", least: 1, most: 2,
			summary: "Ask a version for predictions of all rows of a table (CSV, JSON lines, Parquet), in a job that " +
				"the service carries out where the version is placed, or in a process that it starts for it; no lane " +
				"counts it",
			example: "innerladder score heat-demand@2 winter.csv -o answers.parquet\n" +
				"innerladder score demand-hourly winter.csv -o answers.csv -keep substation,hour\n" +
				"innerladder score heat-demand@2 -data winters-2024#2 -detach\n" +
				"cat winter.csv | innerladder score heat-demand@2 - > answers.csv",
			setup: scoreTable,
		},
		{
			name: "evaluate", group: "Prove", arguments: "REF|ENDPOINT [FILE]", least: 1, most: 2,
			summary: "Ask a version about all rows of a table, hold the answers against a column with the truth, " +
				"and attach what comes out to it as evidence: measures with intervals, by parts of the rows, the " +
				"worst rows",
			example: "innerladder evaluate heat-demand@2 winter-2026.csv -target demand_mw\n" +
				"innerladder evaluate heat-demand@2 winter-2026.csv -target demand_mw -at-most rmse=0.2 -segments " +
				"mix,hour\n" +
				"innerladder evaluate heat-demand@2 winter-2026.csv -target demand_mw -against @1\n" +
				"innerladder evaluate valve-fault@1 valves-2026.csv -target fault -at-least accuracy=0.9",
			setup: evaluateTable,
		},
		{
			name: "jobs", group: "Prove", summary: "List jobs, newest first", most: 0,
			example: "innerladder jobs -version heat-demand@2", setup: listJobs,
		},
		{
			name: "job", group: "Prove", arguments: "J-NUMBER", least: 1, most: 1,
			summary: "Show a job, and how far it is",
			example: "innerladder job J-1 -wait", setup: showJob,
		},
		{
			name: "job stop", group: "Prove", arguments: "J-NUMBER", least: 1, most: 1,
			summary: "Stop a job; it can be taken up again",
			example: "innerladder job stop J-1 -why \"the wrong file\"",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (job.Job, error) {
				return c.api.StopJob(ctx, c.args[0], why)
			}, printSays),
		},
		{
			name: "job resume", group: "Prove", arguments: "J-NUMBER", least: 1, most: 1,
			summary: "Take a job up again that was stopped or failed, where it was",
			example: "innerladder job resume J-1",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (job.Job, error) {
				return c.api.ResumeJob(ctx, c.args[0], why)
			}, printSays),
		},
		{
			name: "job log", group: "Prove", arguments: "J-NUMBER", least: 1, most: 1,
			summary: "Show what a job did and met, line by line",
			example: "innerladder job log J-1 -follow",
			setup:   jobLog,
		},
		{
			name: "job answers", group: "Prove", arguments: "J-NUMBER", least: 1, most: 1,
			summary: "Get what a job has found so far: one row for each that was answered, naming version and job",
			example: "innerladder job answers J-1 -o answers.parquet",
			setup:   func(c *call) func(context.Context) error { return jobFound(c, false) },
		},
		{
			name: "job put-aside", group: "Prove", arguments: "J-NUMBER", least: 1, most: 1,
			summary: "Get the rows that a job has put aside so far, each with its reason",
			example: "innerladder job put-aside J-1 -o bad-rows.csv",
			setup:   func(c *call) func(context.Context) error { return jobFound(c, true) },
		},
	}
}

func printSays(w io.Writer, j job.Job) { fmt.Fprintln(w, j.Says()) }

// formatOf is the form of a table that the name of a file asks for.
func formatOf(given, file string) (string, error) {
	format := given
	if format == "" && file != "" {
		format = strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), ".")
		if format == "ndjson" || format == "json" {
			format = "jsonl"
		}
	}
	if format = cmp.Or(format, "csv"); !slices.Contains(scoring.Formats, format) {
		return "", wrongUse("answers cannot be written as %q; use one of %s, by -format or the end of the file's name",
			format, strings.Join(scoring.Formats, ", "))
	}
	return format, nil
}

func scoreTable(c *call) func(context.Context) error {
	c.connect()
	var in wire.NewScoring
	c.scoringFlags(&in)
	c.flags.StringVar(&in.Keep, "keep", "", "`COLUMNS` of the table that stand beside the answers, with commas "+
		"between them; all, none; those that are no inputs when not given")
	out := c.flags.String("o", "", "`FILE` that the answers are written to; its end says how: .csv, .jsonl, .parquet; "+
		"standard output when not given")
	given := c.flags.String("format", "", "`FORM` of the answers where no file says it: csv, jsonl, parquet")
	detach := c.flags.Bool("detach", false, "begin the job and do not wait for it")
	return func(ctx context.Context) error {
		format, err := formatOf(*given, *out)
		if err != nil {
			return err
		}
		j, ended, err := c.runJob(ctx, &in, *detach, func(table io.Reader) (job.Job, error) {
			return c.api.Score(ctx, in, table)
		})
		if err != nil || !ended {
			return err
		}
		return c.finish(ctx, j, *out, format)
	}
}

// runJob begins a job about a table and waits until it has ended, unless it is to go on by itself.
func (c *call) runJob(ctx context.Context, in *wire.NewScoring, detach bool, begin func(io.Reader) (job.Job, error),
) (j job.Job, ended bool, err error) {
	table, done, err := c.table(in)
	if err != nil {
		return j, false, err
	}
	defer done()
	j, err = begin(table)
	return c.begun(ctx, j, err, detach)
}

// begun waits until a job that was begun has ended, unless it is to go on by itself.
func (c *call) begun(ctx context.Context, j job.Job, err error, detach bool) (job.Job, bool, error) {
	if err != nil {
		return j, false, err
	}
	if detach {
		return j, false, c.show(j, nil, func() {
			fmt.Fprintln(c.Out, j.ID)
			c.say("%s; see how far it is with: innerladder job %s", j.Says(), j.ID)
		})
	}
	j, err = c.awaitJob(ctx, j)
	return j, err == nil, err
}

// scoringFlags are the options of all that ask a version about a table.
func (c *call) scoringFlags(in *wire.NewScoring) {
	c.flags.StringVar(&in.Environment, "env", "", "`ENVIRONMENT` where the version is placed; the only one when not "+
		"given")
	c.flags.StringVar(&in.Data, "data", "", "`DATA` set whose address is known, in place of a file")
	c.flags.StringVar(&in.From, "from", "", "`ADDRESS` that the service fetches, in place of a file")
	c.flags.IntVar(&in.Batch, "batch", 0, "`N` rows of one request; 256 when not given")
	c.flags.IntVar(&in.Parallel, "parallel", 0, "`N` requests under way at a time; 4 when not given")
}

// table opens the table that a version is asked about; whoever gets it calls done.
func (c *call) table(in *wire.NewScoring) (table io.Reader, done func(), err error) {
	in.Asked = c.args[0]
	elsewhere := in.Data != "" || in.From != ""
	switch {
	case (len(c.args) == 2) == elsewhere:
		return nil, nil, wrongUse("name a FILE with the rows, - for standard input, a data set with -data, or an " +
			"address with -from")
	case elsewhere:
		return strings.NewReader(""), func() {}, nil
	case c.args[1] == "-":
		in.Name = "standard-input"
		return c.In, func() {}, nil
	}
	f, err := os.Open(c.args[1])
	if err != nil {
		return nil, nil, err
	}
	in.Name = filepath.Base(c.args[1])
	return f, func() { _ = f.Close() }, nil
}

// judgingFlags are the options of all that judges answers.
func (c *call) judgingFlags(in *wire.Judging) {
	c.flags.StringVar(&in.Target, "target", "", "`COLUMN` of the table with the truth")
	c.flags.StringVar(&in.Output, "output", "", "`OUTPUT` whose truth it is; that of the same name, or the only one, "+
		"when not given")
	c.flags.StringVar(&in.Weight, "weight", "", "`COLUMN` with how much each row counts")
	c.flags.StringVar(&in.Segments, "segments", "", "`COLUMNS` whose levels and quarters are looked at, with commas "+
		"between them; none; all inputs when not given")
	c.flags.StringVar(&in.AtMost, "at-most", "", "`LIMITS` of measures, such as rmse=0.2,mae=0.1, which make the "+
		"verdict")
	c.flags.StringVar(&in.AtLeast, "at-least", "", "`LIMITS` of measures, such as accuracy=0.9")
	c.flags.StringVar(&in.Against, "against", "", "`WHO` is asked about the same rows and held beside: a ref, @REF of "+
		"the same model such as @live, an endpoint, or incumbent")
}

func evaluateTable(c *call) func(context.Context) error {
	c.connect()
	var in wire.NewEvaluation
	c.scoringFlags(&in.NewScoring)
	c.judgingFlags(&in.Judging)
	detach := c.flags.Bool("detach", false, "begin the job and do not wait for it")
	return func(ctx context.Context) error {
		if in.Target == "" {
			return wrongUse("say with -target which column has the truth")
		}
		j, ended, err := c.runJob(ctx, &in.NewScoring, *detach, func(table io.Reader) (job.Job, error) {
			return c.api.Evaluate(ctx, in, table)
		})
		if err != nil || !ended {
			return err
		}
		return c.reported(ctx, j)
	}
}

// awaitJob waits for a job to end, and tells how far it is. When ctx ends, the job goes on.
func (c *call) awaitJob(ctx context.Context, j job.Job) (job.Job, error) {
	told := time.Now()
	for !j.Ended() {
		select {
		case <-time.After(300 * time.Millisecond):
		case <-ctx.Done():
			c.say("%s goes on; see how far it is with: innerladder job %s; stop it with: innerladder job stop %s", j.ID,
				j.ID, j.ID)
			return j, ctx.Err()
		}
		now, err := c.api.Job(ctx, j.ID)
		if err != nil {
			if ctx.Err() == nil && time.Since(told) < time.Minute { // the service may be starting again
				continue
			}
			return j, fmt.Errorf("%w; %s may go on: innerladder job %s -wait", err, j.ID, j.ID)
		}
		if j = now; time.Since(told) >= 2*time.Second && !*c.json {
			told = time.Now()
			c.say("%s%s", j.Says(), pace(j.Progress))
		}
	}
	return j, nil
}

// pace says how quickly a job gets on.
func pace(p job.Progress) (out string) {
	if p.Rate > 0 {
		out = fmt.Sprintf("; %s rows a second, %v left", count(uint64(p.Rate)),
			(time.Duration(p.Left) * time.Second).Round(time.Second))
	}
	if p.Trouble != "" {
		out += "; " + p.Trouble + ", trying again"
	}
	return out
}

// finish fetches the answers of a job that has ended.
func (c *call) finish(ctx context.Context, j job.Job, out, format string) error {
	if j.State != job.Done {
		return notDone(j)
	}
	if out != "" || !*c.json { // with -json, what is on standard output is the job
		if err := c.fetchFound(ctx, j.ID, false, out, format); err != nil {
			return err
		}
	}
	if *c.json {
		if err := c.printJSON(j); err != nil {
			return err
		}
	}
	where := ""
	if out != "" {
		where = "; the answers are in " + out
	}
	c.say("%s%s", j.Says(), where)
	for _, r := range j.Progress.Remarks {
		c.say("%s", r)
	}
	if j.Progress.PutAside > 0 {
		c.say("see why with: innerladder job put-aside %s", j.ID)
	}
	if j.Progress.Answered == 0 {
		return errors.New("no row was answered")
	}
	return nil
}

// fetchFound writes what a job found to a file, whole or not at all, or to standard output.
func (c *call) fetchFound(ctx context.Context, id string, aside bool, out, format string) (err error) {
	if out == "" {
		w := bufio.NewWriter(c.Out)
		return errors.Join(c.api.JobFound(ctx, id, aside, format, w), w.Flush())
	}
	f, err := os.CreateTemp(filepath.Dir(out), "."+filepath.Base(out)+"-")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name())
		}
	}()
	if err := errors.Join(c.api.JobFound(ctx, id, aside, format, f), f.Chmod(0o644), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), out)
}

func jobFound(c *call, aside bool) func(context.Context) error {
	c.connect()
	out := c.flags.String("o", "", "`FILE` to write to; its end says how: .csv, .jsonl, .parquet; standard output "+
		"when not given")
	given := c.flags.String("format", "", "`FORM` where no file says it: csv, jsonl, parquet")
	return func(ctx context.Context) error {
		format, err := formatOf(*given, *out)
		if err != nil {
			return err
		}
		return c.fetchFound(ctx, c.args[0], aside, *out, format)
	}
}

func listJobs(c *call) func(context.Context) error {
	c.connect()
	part, version := c.part(), c.flags.String("version", "", "`REF`: only jobs about this version")
	return func(ctx context.Context) error {
		found, err := c.api.Jobs(ctx, *version, part())
		return c.show(found, err, func() {
			if len(found.Items) == 0 {
				c.say("there are no jobs yet; begin one with: innerladder score REF FILE")
				return
			}
			t := newTable(c.Out, "ID", "KIND", "ABOUT", "TABLE", "STATE", "ROWS", "ASIDE", "BY", "BEGUN")
			for _, j := range found.Items {
				state := string(j.State)
				if j.State == job.Running {
					state += fmt.Sprintf(" %.0f %%", 100*j.Progress.Share)
				}
				t.row(j.ID, j.Kind, j.Scoring.Version, cmp.Or(j.Scoring.Data, j.Scoring.Table), state,
					count(uint64(j.Progress.Rows)), count(uint64(j.Progress.PutAside)), j.By, moment(j.BegunAt))
			}
			t.done()
			if found.Next != "" {
				c.say("more with -cursor %s", found.Next)
			}
		})
	}
}

func showJob(c *call) func(context.Context) error {
	c.connect()
	wait := c.flags.Bool("wait", false, "wait until it has ended")
	return func(ctx context.Context) error {
		j, err := c.api.Job(ctx, c.args[0])
		if err == nil && *wait {
			j, err = c.awaitJob(ctx, j)
		}
		if err := c.show(j, err, func() { printJob(c.Out, j) }); err != nil || !*wait || j.State == job.Done {
			return err
		}
		return fmt.Errorf("%s is %s", j.ID, j.State)
	}
}

func jobLog(c *call) func(context.Context) error {
	c.connect()
	follow := c.flags.Bool("follow", false, "go on until it has ended")
	return func(ctx context.Context) error {
		for shown := 0; ; {
			j, err := c.api.Job(ctx, c.args[0]) // before its log, so that nothing is missed when it has ended
			if err != nil {
				return err
			}
			log, err := c.api.JobLog(ctx, j.ID)
			if err != nil || !*follow {
				return c.show(log, err, func() { printLines(c.Out, log.Items) })
			}
			printLines(c.Out, log.Items[min(shown, len(log.Items)):])
			if shown = len(log.Items); j.Ended() {
				return nil
			}
			select {
			case <-time.After(time.Second):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
}

func printLines(w io.Writer, lines []job.Line) {
	for _, l := range lines {
		fmt.Fprintf(w, "%s  %s\n", l.At.Format("2006-01-02 15:04:05.000"), l.Says)
	}
}

func printJob(w io.Writer, j job.Job) {
	fmt.Fprintf(w, "%s%s\n", j.Says(), pace(j.Progress))
	ended := ""
	if j.EndedAt != nil {
		ended = moment(*j.EndedAt) + ", after " + j.EndedAt.Sub(j.BegunAt).Round(100*time.Millisecond).String()
	}
	s := j.Scoring
	facts(w, "  version", s.Version, "  asked for as", s.Asked, "  in", cmp.Or(s.Environment, "a process of its own"),
		"  table", s.Table+", "+size(s.Size), "  data set", s.Data, "  sha256", s.Digest, "  beside the answers",
		strings.Join(s.Keep, ", "), "  by", j.By, "  begun", moment(j.BegunAt), "  ended", ended)
	for _, r := range j.Progress.Remarks {
		fmt.Fprintf(w, "  %s\n", r)
	}
}
