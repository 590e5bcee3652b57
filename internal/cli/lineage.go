package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"innerladder/internal/blob"
	"innerladder/internal/core/lineage"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

func lineageCommands() []command {
	return []command{
		{
			name: "trace", group: "Registry", arguments: "[REF | run-N | COMMIT | REQUEST]",
			summary: "What something was made from, and what was made from it", most: 1,
			example: "innerladder trace heat-demand@2\ninnerladder trace -data winters-2024", setup: trace,
		},
		{
			name: "data add", group: "Registry", arguments: "NAME [FILE]",
			summary: "Add a revision of a data set; FILE is read here for its digest, rows and columns", least: 1,
			most: 2,
			example: "innerladder data add winters-2024 winters.parquet -address " +
				"https://data.tarnholm.example/winters-2024", setup: dataAdd,
		},
		{
			name: "data", group: "Registry", arguments: "[NAME]", summary: "List data sets, or the revisions of one",
			most: 1, example: "innerladder data winters-2024", setup: dataList,
		},
		{
			name: "run start", group: "Registry", arguments: "MODEL", summary: "Open a run; prints its name", least: 1,
			most:    1,
			example: "innerladder run start heat-demand -param depth=6 -data winters-2024", setup: runStart,
		},
		{
			name: "run log", group: "Registry", arguments: "RUN",
			summary: "Add metrics and parameters to a run, step by step", least: 1, most: 1,
			example: "innerladder run log run-12 -step 3 -metric loss=0.21\ntrain | innerladder run log run-12 -lines",
			setup:   runLog,
		},
		{
			name: "run end", group: "Registry", arguments: "RUN", summary: "Close a run", least: 1, most: 1,
			example: "innerladder run end run-12 -note \"early stop\"", setup: runEnd,
		},
		{
			name: "runs", group: "Registry", arguments: "[MODEL]", summary: "List runs, newest first", most: 1,
			example: "innerladder runs heat-demand", setup: runList,
		},
	}
}

func trace(c *call) func(context.Context) error {
	c.connect()
	var from wire.TraceFrom
	data := c.flags.String("data", "", "`DATA` set to begin at, NAME or NAME#NUMBER")
	request := c.flags.String("request", "",
		"`ID` of a request to begin at: what answered it, and from what was that made?")
	up := c.flags.Bool("up", false, "only what it was made from")
	down := c.flags.Bool("down", false, "only what was made from it")
	c.flags.IntVar(&from.Depth, "depth", 0, "`N` links at most from where it begins; 10 when not given")
	c.flags.IntVar(&from.Most, "limit", 0, "`N` things at most; 200 when not given")
	c.flags.BoolVar(&from.Artifacts, "artifacts", false, "with the files of the versions")
	return func(ctx context.Context) error {
		var begin []string
		for _, s := range append(c.args, *data, *request) {
			if s != "" {
				begin = append(begin, s)
			}
		}
		if len(begin) != 1 {
			return wrongUse("say where to begin: one version, run, commit, data set or request")
		}
		from.From = begin[0]
		if *up != *down {
			from.Direction = map[bool]string{true: lineage.Up, false: lineage.Down}[*up]
		}
		t, err := c.api.Trace(ctx, from)
		return c.show(t, err, func() { c.printTrace(t) })
	}
}

func (c *call) printTrace(t lineage.Trace) {
	if a := t.Answer; a != nil {
		approval := "without a promotion"
		if a.Approval != "" {
			approval = a.Approval + ", signed by " + strings.Join(a.SignedBy, ", ")
		}
		facts(c.Out, "request", a.Request, "at", moment(a.At), "answered by", a.Version, "endpoint",
			fmt.Sprintf("%s#%d, lane %s", a.Endpoint, a.Split, a.Lane), "approved", approval)
		fmt.Fprintln(c.Out)
	}
	for _, line := range t.Tree() {
		fmt.Fprintln(c.Out, line)
	}
	if len(t.Nodes) == len(t.Roots) {
		fmt.Fprintln(c.Out, "  nothing is linked to it")
	}
	if t.Cut {
		c.say("there is more; see it with a higher -limit or -depth, or one direction with -up or -down")
	}
}

func dataAdd(c *call) func(context.Context) error {
	c.connect()
	var d wire.NewDataSet
	c.flags.StringVar(&d.Address, "address", "", "`ADDRESS` where it lies; the file's path when not given")
	c.flags.StringVar(&d.Project, "project", "",
		"`NAME` of the project of a new data set; the one where you may register when not given")
	c.flags.StringVar(&d.Digest, "digest", "", "`SHA-256` of its bytes, when there is no file to read")
	c.flags.Int64Var(&d.Rows, "rows", 0, "`N` rows it has, when there is no file to read")
	c.flags.StringVar(&d.Description, "description", "", "`TEXT` for people")
	return func(ctx context.Context) error {
		d.Name = c.args[0]
		if len(c.args) == 2 {
			if err := readDataSet(c.args[1], &d); err != nil {
				return err
			}
		}
		added, err := c.api.AddDataSet(ctx, d)
		return c.show(added, err, func() {
			if !added.Created {
				c.say("the same content was added before, by %s, %s", added.AddedBy, moment(added.AddedAt))
			}
			fmt.Fprintln(c.Out, added.Ref)
		})
	}
}

// readDataSet reads off a file what is known of a data set: its bytes stay here.
func readDataSet(path string, d *wire.NewDataSet) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("reading the data set: %w", err)
	}
	defer f.Close()
	if d.Digest, d.Size, err = blob.Digest(f); err != nil {
		return fmt.Errorf("reading the data set: %w", err)
	}
	if d.Address == "" {
		if d.Address, err = filepath.Abs(path); err != nil {
			return err
		}
		host, _ := os.Hostname()
		d.Address = "file://" + host + filepath.ToSlash(d.Address)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	p, err := intake.Profile(filepath.Base(path), f, d.Size, nil)
	if err != nil {
		return nil // a data set need not be a table; digest and size say enough
	}
	d.Rows = int64(p.Rows())
	if s, err := p.Signature(nil, nil); err == nil {
		d.Schema = s.Inputs
	}
	return nil
}

func dataList(c *call) func(context.Context) error {
	c.connect()
	part := c.part()
	return func(ctx context.Context) error {
		name := ""
		if len(c.args) == 1 {
			name = c.args[0]
		}
		all, err := c.api.DataSets(ctx, name, part())
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("there is no such data set; add one with: innerladder data add NAME FILE")
				return
			}
			t := newTable(c.Out, "DATA SET", "ROWS", "COLUMNS", "SIZE", "SHA-256", "ADDED", "BY", "WHERE")
			for _, d := range all.Items {
				t.row(d.Ref, counted(d.Rows), counted(int64(len(d.Schema))), size(d.Size),
					d.Digest[:min(12, len(d.Digest))], ago(sinceNow(d.AddedAt)), d.AddedBy, d.Address)
			}
			t.done()
			c.more(all.Next)
		})
	}
}

func counted(n int64) string {
	if n <= 0 {
		return ""
	}
	return count(uint64(n))
}

func printDataSet(w io.Writer, d lineage.DataSet) {
	facts(w, "data set", d.Ref, "about", d.Description, "rows", counted(d.Rows), "size", size(d.Size), "digest",
		d.Digest, "where", d.Address, "added", moment(d.AddedAt)+" by "+d.AddedBy)
	if len(d.Schema) > 0 {
		fmt.Fprintln(w)
		t := newTable(w, "COLUMN", "TYPE", "RANGE OR LEVELS")
		for _, c := range d.Schema {
			t.row(c.Name, typeOf(c), rangeOf(c))
		}
		t.done()
	}
}

func runStart(c *call) func(context.Context) error {
	c.connect()
	param := pairs{}
	var data, validated list
	c.flags.Var(param, "param", "`NAME=VALUE`; may be given several times")
	c.flags.Var(&data, "data", "`DATA` set it trains on, NAME or NAME#NUMBER; may be given several times")
	c.flags.Var(&validated, "validated-on", "`DATA` set; may be given several times")
	title := c.flags.String("title", "", "`TEXT` for people")
	project := c.flags.String("project", "", "`NAME` of the project, when the model is new")
	host, _ := os.Hostname()
	machine := c.flags.String("machine", host, "`NAME` of where it runs")
	noCode := c.flags.Bool("no-code", false, "do not record the git checkout")
	return func(ctx context.Context) error {
		r := wire.NewRun{Model: c.args[0], Project: *project, Title: *title, Machine: *machine, Params: param}
		if !*noCode {
			r.Code = checkout(ctx)
		}
		for _, d := range data {
			r.Data = append(r.Data, lineage.DataUse{Data: d, Role: lineage.TrainedOn})
		}
		for _, d := range validated {
			r.Data = append(r.Data, lineage.DataUse{Data: d, Role: lineage.ValidatedOn})
		}
		run, err := c.api.StartRun(ctx, r)
		return c.show(run, err, func() { fmt.Fprintln(c.Out, run.Ref) })
	}
}

func runLog(c *call) func(context.Context) error {
	c.connect()
	metric, param := pairs{}, pairs{}
	c.flags.Var(metric, "metric", "`NAME=VALUE` at the step; may be given several times")
	c.flags.Var(param, "param", "`NAME=VALUE`; may be given several times")
	step := c.flags.Int64("step", 0, "`N`, the step that the metrics belong to")
	lines := c.flags.Bool("lines", false,
		`read steps from standard input, one JSON object a line: {"step": 3, "loss": 0.21}`)
	return func(ctx context.Context) error {
		given, err := finite("metric", metric)
		if err != nil {
			return err
		}
		var points []lineage.Point
		for _, name := range sorted(given) {
			points = append(points, lineage.Point{Metric: name, Step: *step, Value: given[name]})
		}
		if len(points)+len(param) > 0 || !*lines {
			if len(points)+len(param) == 0 {
				return wrongUse("nothing is given to log; use -metric, -param or -lines")
			}
			logged, err := c.api.LogRun(ctx, c.args[0], param, points)
			if err != nil || !*lines {
				return c.show(logged, err, func() {})
			}
		}
		logged, err := c.logLines(ctx, c.In)
		return c.show(logged, err, func() { fmt.Fprintf(c.Out, "%d points\n", logged.Points) })
	}
}

// linesAtOnce is how many points are sent together.
const linesAtOnce = 500

// logLines logs the lines of a stream as they come.
func (c *call) logLines(ctx context.Context, in io.Reader) (wire.Logged, error) {
	total := wire.Logged{Run: c.args[0]}
	var waiting []lineage.Point
	send := func() error {
		if len(waiting) == 0 {
			return nil
		}
		_, err := c.api.LogRun(ctx, c.args[0], nil, waiting)
		total.Points += len(waiting)
		waiting = nil
		return err
	}
	scan := bufio.NewScanner(in)
	scan.Buffer(nil, 1<<20)
	for n := 1; scan.Scan(); n++ {
		if strings.TrimSpace(scan.Text()) == "" {
			continue
		}
		var object map[string]float64
		if err := json.Unmarshal(scan.Bytes(), &object); err != nil {
			return total, errors.Join(send(), wrongUse("line %d is no JSON object of numbers: %v", n, err))
		}
		step, there := object["step"]
		if !there {
			step = float64(n)
		}
		for _, name := range sorted(object) {
			if name != "step" {
				waiting = append(waiting, lineage.Point{Metric: name, Step: int64(step), Value: object[name]})
			}
		}
		if len(waiting) >= linesAtOnce {
			if err := send(); err != nil {
				return total, err
			}
		}
	}
	return total, errors.Join(send(), scan.Err())
}

func runEnd(c *call) func(context.Context) error {
	c.connect()
	failed := c.flags.Bool("failed", false, "it did not finish its work")
	note := c.flags.String("note", "", "`TEXT`: how it ended")
	return func(ctx context.Context) error {
		run, err := c.api.EndRun(ctx, c.args[0], *failed, *note)
		return c.show(run, err, func() { fmt.Fprintf(c.Out, "%s %s\n", run.Ref, run.State) })
	}
}

func runList(c *call) func(context.Context) error {
	c.connect()
	part := c.part()
	return func(ctx context.Context) error {
		model := ""
		if len(c.args) == 1 {
			model = c.args[0]
		}
		all, err := c.api.Runs(ctx, model, part())
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("there are no runs yet; open one with: innerladder run start MODEL")
				return
			}
			t := newTable(c.Out, "RUN", "MODEL", "STATE", "BY", "MACHINE", "STARTED", "METRICS", "VERSIONS", "TITLE")
			for _, r := range all.Items {
				t.row(r.Ref, r.Model, string(r.State), r.By, r.Machine, ago(sinceNow(r.Started)),
					metrics(r.Metrics, nil), strings.Join(r.Versions, " "), short(r.Title, 40))
			}
			t.done()
			c.more(all.Next)
		})
	}
}

func (c *call) showRun(ctx context.Context, ref string) error {
	run, err := c.api.Run(ctx, ref)
	if err != nil {
		return err
	}
	curves, err := c.api.Curves(ctx, ref)
	both := struct {
		lineage.Run
		Curves []lineage.Curve `json:"curves"`
	}{run, curves}
	return c.show(both, err, func() {
		ended := ""
		if run.Ended != nil {
			ended = moment(*run.Ended) + ", after " +
				strconv.FormatFloat(run.Ended.Sub(run.Started).Seconds(), 'f', 1, 64) + " s"
		}
		facts(c.Out, "run", run.Ref, "model", run.Model, "title", run.Title, "state", string(run.State), "by", run.By,
			"machine", run.Machine, "started", moment(run.Started), "ended", ended, "note", run.Note,
			"parameters", params(run.Params), "metrics", metrics(run.Metrics, nil), "data", dataUses(run.Data), "code",
			code(run.Code), "versions", strings.Join(run.Versions, " "))
		if len(curves) > 0 {
			fmt.Fprintln(c.Out)
			printCurves(c.Out, curves)
		}
	})
}
