package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/outcome"
	"innerladder/internal/wire"
)

// customCommands are the commands about signals of a team's own.
func customCommands() []command {
	return []command{
		{
			name: "custom show", group: "Watch", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Show the custom signals of an endpoint, and what was reported of each version",
			example: "innerladder custom show demand-hourly -since 168h",
			setup:   showCustom,
		},
		{
			name: "custom set", group: "Watch", arguments: "ENDPOINT SIGNAL", least: 2, most: 2,
			summary: "Say what a custom signal of an endpoint is, such as what a decision cost; values of it can be " +
				"reported from then on, and guards and watches can name it custom.SIGNAL",
			example: "innerladder custom set demand-hourly dispatch_cost -better lower -unit EUR -about \"gas and " +
				"power for the hour\"",
			setup: setCustom,
		},
		{
			name: "custom remove", group: "Watch", arguments: "ENDPOINT SIGNAL", least: 2, most: 2,
			summary: "Take a custom signal of an endpoint away",
			example: "innerladder custom remove demand-hourly dispatch_cost -why \"the plant no longer says\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					s, err := c.api.RemoveCustomSignal(ctx, c.args[0], c.args[1], *why)
					return c.show(s, err, func() {
						fmt.Fprintf(c.Out, "%s has no signal %s any more\n", c.args[0], s.Name)
					})
				}
			},
		},
		{
			name: "report", group: "Watch", arguments: "ENDPOINT FILE|SIGNAL=VALUE…", least: 2, most: 20,
			summary: "Report values of custom signals, from a file (CSV, JSON lines or Parquet) or one by one: of " +
				"requests by their ids, or of a version at a time; what is reported again counts once",
			example: "innerladder report demand-hourly costs.csv\n" +
				"innerladder report demand-hourly nights.csv -version version -time night -id night -value " +
				"dispatch_cost=eur\n" +
				"innerladder report demand-hourly dispatch_cost=41.5 -request ID-FROM-THE-HEADER",
			setup: reportCustom,
		},
	}
}

func setCustom(c *call) func(context.Context) error {
	c.connect()
	var e wire.EditCustom
	c.flags.StringVar(&e.Better, "better", "", "`WAY` that is better: lower or higher")
	c.flags.StringVar(&e.Unit, "unit", "", "`UNIT` of its values, such as EUR")
	c.flags.StringVar(&e.About, "about", "", "`TEXT`: what it is, and where it comes from")
	c.flags.StringVar(&e.Reason, "why", "", "`TEXT`: why")
	return func(ctx context.Context) error {
		if e.Better == "" {
			return wrongUse("say with -better which way is better: lower or higher")
		}
		s, err := c.api.SetCustomSignal(ctx, c.args[0], c.args[1], e)
		return c.show(s, err, func() {
			fmt.Fprintf(c.Out, "%s has the signal %s (%s); report it with: innerladder report %s FILE\n", c.args[0],
				s.Full(), inWords(s), c.args[0])
		})
	}
}

// inWords says what a custom signal is.
func inWords(s custom.Signal) string {
	way := "lower is better"
	if s.Better == metric.Higher {
		way = "higher is better"
	}
	if s.Unit == "" {
		return way
	}
	return s.Unit + ", " + way
}

func showCustom(c *call) func(context.Context) error {
	c.connect()
	since := c.flags.Duration("since", 24*time.Hour, "`DURATION`: how far back")
	return func(ctx context.Context) error {
		all, err := c.api.CustomSignals(ctx, c.args[0], *since)
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("%s has no signals of its own; make one with: innerladder custom set %s NAME -better lower",
					c.args[0], c.args[0])
				return
			}
			for i, s := range all.Items {
				if i > 0 {
					fmt.Fprintln(c.Out)
				}
				printCustom(c.Out, s, time.Duration(all.StepMS)*time.Millisecond)
			}
		})
	}
}

func printCustom(w io.Writer, s wire.CustomSignal, step time.Duration) {
	fmt.Fprintf(w, "%s: %s\n", s.Full(), inWords(s.Signal))
	if s.About != "" {
		fmt.Fprintln(w, s.About)
	}
	if len(s.Versions) == 0 {
		fmt.Fprintln(w, "nothing was reported of that time")
		return
	}
	fmt.Fprintln(w)
	t := newTable(w, "VERSION", "MEAN", "95 %", "SUM", "P10", "P50", "P90", "VALUES", "REQUESTS")
	for _, v := range s.Versions {
		within := ""
		if v.Low != nil {
			within = fmt.Sprintf("%.4g … %.4g", *v.Low, *v.High)
		}
		number := func(x float64) string { return strings.TrimSpace(fmt.Sprintf("%.4g %s", x, s.Unit)) }
		t.row(v.Version, number(v.Mean), within, number(v.Sum), fmt.Sprintf("%.4g", v.P10), fmt.Sprintf("%.4g", v.P50),
			fmt.Sprintf("%.4g", v.P90), strconv.FormatUint(v.N, 10), strconv.FormatUint(v.Answered, 10))
	}
	t.done()
	for _, v := range s.Versions {
		points := make([]curvePoint, len(v.Points))
		for i, p := range v.Points {
			points[i] = curvePoint{p.At, p.Mean, fmt.Sprintf("%.4g, %d values", p.Mean, p.N)}
		}
		if len(points) > 1 {
			fmt.Fprintf(w, "\n%s\n", v.Version)
		}
		drawCurve(w, points, step)
	}
}

// reported says in which columns of a file what stands.
type reported struct {
	request, version, time, id string
	values                     list
	replace                    bool
	left                       string
	// columns are those of the values, by signal.
	columns map[string]string
}

func reportCustom(c *call) func(context.Context) error {
	c.connect()
	var r reported
	c.flags.StringVar(&r.request, "request", "", "`COLUMN` with the ids of requests (else request), or, without a "+
		"file, the id of one")
	c.flags.StringVar(&r.version, "version", "", "`COLUMN` with the version that answered, where there are no ids of "+
		"requests, or, without a file, that version")
	c.flags.StringVar(&r.time, "time", "", "`COLUMN` with when it answered, with -version (else time), or that time; "+
		"now without a file")
	c.flags.StringVar(&r.id, "id", "", "`COLUMN` with a name by which a report counts once (else id), or that name; "+
		"needed with -version")
	c.flags.Var(&r.values, "value", "`SIGNAL[=COLUMN]` of a file; else all columns named as custom signals")
	c.flags.BoolVar(&r.replace, "replace", false, "put values in the place of others that were reported before")
	c.flags.StringVar(&r.left, "left", "", "`FILE` for what was not taken, with the reason, as CSV")
	return func(ctx context.Context) error {
		if strings.Contains(c.args[1], "=") {
			return c.reportOne(ctx, &r)
		}
		if len(c.args) > 2 {
			return wrongUse("give one file, or values such as dispatch_cost=41.5")
		}
		if err := c.valuesOf(ctx, &r); err != nil {
			return err
		}
		taken, err := c.reportFile(ctx, &r)
		if err == nil && r.left != "" {
			err = writeLeft(r.left, taken.Left)
		}
		if err := c.show(taken, err, func() { printReported(c.Out, taken, r.left) }); err != nil {
			return err
		}
		if len(taken.Left) > 0 && taken.Values+taken.Fates[outcome.Again] == 0 {
			return errors.New("not one value was taken")
		}
		return nil
	}
}

// reportOne reports the values that are arguments.
func (c *call) reportOne(ctx context.Context, r *reported) error {
	one := custom.Report{Request: r.request, Version: r.version, ID: r.id, Values: map[string]any{}}
	for _, a := range c.args[1:] {
		name, value, ok := strings.Cut(a, "=")
		if !ok {
			return wrongUse("%q is no value; write SIGNAL=VALUE", a)
		}
		one.Values[name] = value
	}
	if r.version != "" {
		at := time.Now().UTC()
		if r.time != "" {
			var err error
			if at, err = momentOf(r.time); err != nil {
				return wrongUse("%q is no time; write one such as 2026-01-31T06:00:00Z", r.time)
			}
		}
		one.At = &at
	}
	taken, err := c.api.ReportValues(ctx, c.args[0], wire.NewReports{Items: []custom.Report{one}, Replace: r.replace})
	if err == nil && len(taken.Left) > 0 {
		return refused("it was not taken: %s", taken.Left[0].Why)
	}
	return c.show(taken, err, func() {
		if taken.Values == 0 {
			fmt.Fprintln(c.Out, "it was reported before, and counts once")
			return
		}
		fmt.Fprintln(c.Out, numbered(taken.Values, "value")+" taken")
	})
}

// numbered is a number of things.
func numbered(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return strconv.Itoa(n) + " " + thing + "s"
}

// valuesOf finds out in which columns of a file the values stand.
func (c *call) valuesOf(ctx context.Context, r *reported) error {
	r.columns = renamed(r.values)
	if len(r.columns) > 0 {
		return nil
	}
	e, err := c.api.Endpoint(ctx, c.args[0])
	if err != nil {
		return err
	}
	if len(e.Custom) == 0 {
		return refused("%s has no signals of its own; make one with: innerladder custom set %s NAME -better lower",
			e.Name, e.Name)
	}
	for i := range e.Custom {
		r.columns[e.Custom[i].Name] = e.Custom[i].Name
	}
	return nil
}

// reportFile reports the values of a file, some at a time.
func (c *call) reportFile(ctx context.Context, r *reported) (all wire.ReportsTaken, err error) {
	all = wire.ReportsTaken{Endpoint: c.args[0]}
	r.request, r.time, r.id = cmp.Or(r.request, "request"), cmp.Or(r.time, "time"), cmp.Or(r.id, "id")
	texts := map[string]bool{r.request: true, r.time: true, r.id: true, r.version: true}
	never := func(_, _ *custom.Report) bool { return false }
	all.Account, err = tellRows(c.args[1], texts, r.report, never, func(some []custom.Report) (outcome.Account, error) {
		taken, err := c.api.ReportValues(ctx, c.args[0], wire.NewReports{Items: some, Replace: r.replace})
		all.Values += taken.Values
		return taken.Account, err
	})
	return all, err
}

// report reads a row of a file, or says why it is none.
func (r *reported) report(line int, values map[string]any) (out custom.Report, why string) {
	out = custom.Report{Line: line, Values: map[string]any{}}
	for signal, column := range r.columns {
		if v, there := values[column]; there && v != nil && v != "" {
			out.Values[signal] = v
		}
	}
	if len(out.Values) == 0 {
		return out, "No value stands in it: its columns are not named as custom signals, or are empty; say which " +
			"with -value."
	}
	out.ID, _ = values[r.id].(string)
	if r.version == "" {
		if out.Request, _ = values[r.request].(string); out.Request == "" {
			return out, fmt.Sprintf("No id of a request stands in its column %s.", r.request)
		}
		return out, ""
	}
	if out.Version, _ = values[r.version].(string); out.Version == "" {
		return out, fmt.Sprintf("No version stands in its column %s.", r.version)
	}
	if strings.TrimSpace(out.ID) == "" {
		return out, fmt.Sprintf("No name by which it counts once stands in its column %s.", r.id)
	}
	text, _ := values[r.time].(string)
	at, err := momentOf(text)
	if err != nil {
		return out, fmt.Sprintf("%q is no time; write one such as 2026-01-31T06:00:00Z.", text)
	}
	out.At = &at
	return out, ""
}

func printReported(w io.Writer, taken wire.ReportsTaken, file string) {
	printFates(w, "REPORTS", taken.Fates, custom.InWords)
	fmt.Fprintf(w, "%s of %s taken\n", numbered(taken.Values, "value"), taken.Endpoint)
	printLeft(w, taken.Left, file)
}
