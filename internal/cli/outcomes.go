package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/naming"
	"innerladder/internal/core/outcome"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

// outcomeCommands are the commands about the truth of predictions.
func outcomeCommands() []command {
	return []command{
		{
			name: "outcomes", group: "Watch", arguments: "ENDPOINT FILE", least: 2, most: 2,
			summary: "Tell the truth of earlier predictions: CSV, JSON lines or Parquet, by the ids of requests, or " +
				"by keys and time; what cannot be joined is told",
			example: "innerladder outcomes demand-hourly truth.csv\n" +
				"innerladder outcomes demand-hourly meters.csv -key mix -time hour_begins -within 30m -output " +
				"demand_mw=metered_mw -left left.csv",
			setup: tellOutcomes,
		},
		{
			name: "outcome", group: "Watch", arguments: "ENDPOINT REQUEST OUTPUT=VALUE…", least: 3, most: 20,
			summary: "Tell the truth of one prediction",
			example: "innerladder outcome demand-hourly ID-FROM-THE-HEADER demand_mw=1.62",
			setup:   tellOutcome,
		},
		{
			name: "accuracy", group: "Watch", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Show how right each version was, as far as the truth is known: over time, the worst " +
				"predictions, the worst segments",
			example: "innerladder accuracy demand-hourly -since 168h -worst 5",
			setup:   showAccuracy,
		},
	}
}

// truths says in which columns of a file what stands.
type truths struct {
	request, row, time string
	keys, outputs      list
	within             time.Duration
	replace            bool
	left               string
	// columns are those of the truth, by output.
	columns map[string]string
}

const (
	// together is how many truths are told at once, across how long at most where they are found by keys.
	together   = 500
	acrossHour = time.Hour
)

func tellOutcomes(c *call) func(context.Context) error {
	c.connect()
	var t truths
	c.flags.StringVar(&t.request, "request", "request", "`COLUMN` with the ids of requests")
	c.flags.StringVar(&t.row, "row", "row", "`COLUMN` with which row of its request it is, from 0, where it is there")
	c.flags.Var(&t.keys, "key", "`COLUMN` with values of an input of the same name that say which request it was, "+
		"instead of ids; may be given several times")
	c.flags.StringVar(&t.time, "time", "time", "`COLUMN` with when it was asked, with -key")
	c.flags.DurationVar(&t.within, "within", 0, "`DURATION` around that time in which it was asked, with -key")
	c.flags.Var(&t.outputs, "output", "`OUTPUT[=COLUMN]` of the truth; else all columns named as outputs of main")
	c.flags.BoolVar(&t.replace, "replace", false, "put truths in the place of others that were told before")
	c.flags.StringVar(&t.left, "left", "", "`FILE` for what could not be joined, with the reason, as CSV")
	return func(ctx context.Context) error {
		if (len(t.keys) > 0) != (t.within > 0) {
			return wrongUse("give -key and -within together, or neither where there are ids of requests")
		}
		if err := c.outputsOf(ctx, &t); err != nil {
			return err
		}
		taken, err := c.tellFile(ctx, &t)
		if err == nil && t.left != "" {
			err = writeLeft(t.left, taken.Left)
		}
		if err := c.show(taken, err, func() { printTaken(c.Out, taken, t.left) }); err != nil {
			return err
		}
		if len(taken.Left) > 0 && taken.Pairs+taken.Fates[outcome.Again] == 0 {
			return errors.New("not one truth was joined")
		}
		return nil
	}
}

// outputsOf finds out in which columns the truth stands.
func (c *call) outputsOf(ctx context.Context, t *truths) error {
	t.columns = renamed(t.outputs)
	if len(t.columns) > 0 {
		return nil
	}
	e, err := c.api.Endpoint(ctx, c.args[0])
	if err != nil {
		return err
	}
	if e.Split == nil || len(e.Split.Lanes) == 0 {
		return fmt.Errorf("nothing answers for %s yet, so that it has no outputs; name them with -output", e.Name)
	}
	v, err := c.api.Version(ctx, e.Split.Main().Version)
	if err != nil {
		return err
	}
	if v.Signature != nil {
		for _, o := range v.Signature.Outputs {
			t.columns[o.Name] = o.Name
		}
	}
	return nil
}

// renamed reads names of what stands in a file under the same, or under another: NAME[=COLUMN].
func renamed(names list) map[string]string {
	out := map[string]string{}
	for _, o := range names {
		name, column, other := strings.Cut(o, "=")
		if !other {
			column = name
		}
		out[name] = column
	}
	return out
}

// tellFile tells the truths of a file, some at a time.
func (c *call) tellFile(ctx context.Context, t *truths) (all wire.OutcomesTaken, err error) {
	all = wire.OutcomesTaken{Endpoint: c.args[0], Account: outcome.NewAccount()}
	texts := map[string]bool{t.request: true, t.time: true}
	for _, k := range t.keys {
		texts[k] = true
	}
	apart := func(first, next *outcome.Truth) bool {
		return next.At != nil && next.At.Sub(*first.At).Abs() > acrossHour
	}
	all.Account, err = tellRows(c.args[1], texts, t.truth, apart, func(some []outcome.Truth) (outcome.Account, error) {
		n := wire.NewOutcomes{Items: some, Replace: t.replace}
		if t.within > 0 {
			n.Within = t.within.String()
		}
		taken, err := c.api.TellOutcomes(ctx, c.args[0], n)
		all.Pairs, all.Keeps = all.Pairs+taken.Pairs, taken.Keeps
		return taken.Account, err
	})
	return all, err
}

// tellRows reads the rows of a file and tells them some at a time; those that are apart from the first are told with
// others. A row that cannot be read is left.
func tellRows[T any](file string, texts map[string]bool, read func(line int, values map[string]any) (T, string),
	apart func(first, next *T) bool, tell func(some []T) (outcome.Account, error),
) (all outcome.Account, err error) {
	all = outcome.NewAccount()
	var some []T
	send := func() error {
		if len(some) == 0 {
			return nil
		}
		taken, err := tell(some)
		all.Add(taken)
		some = nil
		return err
	}
	err = intake.EachRowOf(file, texts, func(line int, values map[string]any) error {
		one, why := read(line, values)
		if why != "" {
			all.Leave(line, "", outcome.Wrong, "%s", why)
			return nil
		}
		if len(some) == together || len(some) > 0 && apart(&some[0], &one) {
			if err := send(); err != nil {
				return err
			}
		}
		some = append(some, one)
		return nil
	})
	return all, errors.Join(err, send())
}

// truth reads a row of a file, or says why it is none.
func (t *truths) truth(line int, values map[string]any) (out outcome.Truth, why string) {
	out = outcome.Truth{Line: line, Values: map[string]any{}}
	columns := t.columns
	if len(columns) == 0 { // nobody knows the outputs: all that says nothing else
		columns = map[string]string{}
		for name := range values {
			if name != t.request && name != t.row && name != t.time && !slices.Contains(t.keys, name) {
				columns[name] = name
			}
		}
	}
	for output, column := range columns {
		if v, there := values[column]; there {
			out.Values[output] = v
		}
	}
	if len(out.Values) == 0 {
		return out, "No truth stands in it: its columns are not named as outputs; say which with -output."
	}
	if len(t.keys) == 0 {
		out.Request, _ = values[t.request].(string)
		if out.Request == "" {
			return out, fmt.Sprintf("No id of a request stands in its column %s.", t.request)
		}
		if x, there := values[t.row]; there {
			n, is := x.(float64)
			if !is || n < 0 || n != math.Trunc(n) || n > 1e9 {
				return out, fmt.Sprintf("%v is no number of a row.", x)
			}
			row := int(n)
			out.Row = &row
		}
		return out, ""
	}
	out.Keys = map[string]string{}
	for _, k := range t.keys {
		text, is := values[k].(string)
		if !is {
			return out, fmt.Sprintf("Nothing stands in its column %s.", k)
		}
		out.Keys[k] = text
	}
	text, _ := values[t.time].(string)
	at, err := momentOf(text)
	if err != nil {
		return out, fmt.Sprintf("%q is no time; write one such as 2026-01-31T06:00:00Z.", text)
	}
	out.At = &at
	return out, ""
}

// momentOf reads a time as files have it: RFC 3339, a day and a time without a zone (UTC), or seconds since 1970.
func momentOf(text string) (time.Time, error) {
	if x, err := strconv.ParseFloat(text, 64); err == nil && x > 0 && x < 1e11 {
		return time.UnixMilli(int64(x * 1000)).UTC(), nil
	}
	for _, form := range []string{time.RFC3339Nano, "2006-01-02 15:04:05Z07:00", time.DateTime, "2006-01-02T15:04:05"} {
		if t, err := time.Parse(form, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, errors.New("no time")
}

func writeLeft(file string, left []outcome.Left) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	w := csv.NewWriter(f)
	lines := [][]string{{"line", "request", "fate", "why"}}
	for _, l := range left {
		lines = append(lines, []string{
			strconv.Itoa(l.Line), naming.Cell(l.Request), string(l.Fate), naming.Cell(l.Why),
		})
	}
	return errors.Join(w.WriteAll(lines), f.Close())
}

// mostLeft is how many truths that were not joined are printed.
const mostLeft = 10

func printTaken(w io.Writer, taken wire.OutcomesTaken, file string) {
	printFates(w, "TRUTHS", taken.Fates, outcome.Fate.InWords)
	fmt.Fprintf(w, "%d predictions of %s got their truth\n", taken.Pairs, taken.Endpoint)
	if taken.Fates[outcome.Unmatched] > 0 {
		fmt.Fprintf(w, "the log keeps %s; more with: innerladder endpoint edit %s -keep-per-second N\n", taken.Keeps,
			taken.Endpoint)
	}
	printLeft(w, taken.Left, file)
}

// printFates says what became of rows.
func printFates(w io.Writer, rows string, fates map[outcome.Fate]int, words func(outcome.Fate) string) {
	t := newTable(w, rows, "", "")
	for _, fate := range outcome.Fates() {
		if n := fates[fate]; n > 0 {
			t.row(strconv.Itoa(n), string(fate), words(fate))
		}
	}
	t.done()
}

// printLeft tells of the first rows that were not taken; file has all of them, if it is one.
func printLeft(w io.Writer, left []outcome.Left, file string) {
	for i, l := range left {
		if i == mostLeft {
			rest := "see them with -left FILE"
			if file != "" {
				rest = "they are in " + file
			}
			fmt.Fprintf(w, "and %d more; %s\n", len(left)-i, rest)
			break
		}
		fmt.Fprintf(w, "line %d: %s\n", l.Line, l.Why)
	}
}

func tellOutcome(c *call) func(context.Context) error {
	c.connect()
	row := c.flags.Int("row", -1, "`NUMBER` of the row of the request, from 0, where it has several")
	replace := c.flags.Bool("replace", false, "put it in the place of another that was told before")
	return func(ctx context.Context) error {
		t := outcome.Truth{Request: c.args[1], Values: map[string]any{}}
		if *row >= 0 {
			t.Row = row
		}
		for _, a := range c.args[2:] {
			name, value, ok := strings.Cut(a, "=")
			if !ok {
				return wrongUse("%q is no truth; write OUTPUT=VALUE", a)
			}
			t.Values[name] = value
		}
		taken, err := c.api.TellOutcomes(ctx, c.args[0], wire.NewOutcomes{Items: []outcome.Truth{t}, Replace: *replace})
		if err == nil && len(taken.Left) > 0 {
			return refused("it was not joined: %s", taken.Left[0].Why)
		}
		return c.show(taken, err, func() {
			fmt.Fprintf(c.Out, "request %s got its truth\n", t.Request)
		})
	}
}

func showAccuracy(c *call) func(context.Context) error {
	c.connect()
	since := c.flags.Duration("since", 24*time.Hour, "`DURATION`: how far back")
	worst := c.flags.Int("worst", 0, "`NUMBER` of the worst predictions to list, and the worst segments")
	version := c.flags.String("version", "", "`VERSION` of which, with -worst")
	return func(ctx context.Context) error {
		a, err := c.api.Accuracy(ctx, c.args[0], *since)
		if err != nil {
			return err
		}
		out := struct {
			wire.Accuracy
			Worst *wire.OutcomesShown `json:"worst,omitempty"`
		}{Accuracy: a}
		if *worst > 0 {
			shown, err := c.api.Outcomes(ctx, c.args[0], *version, "", *since, true, *worst)
			if err != nil {
				return err
			}
			out.Worst = &shown
		}
		return c.show(out, nil, func() {
			printAccuracy(c, a)
			if out.Worst != nil {
				printWorst(c.Out, *out.Worst)
			}
		})
	}
}

func printAccuracy(c *call, a wire.Accuracy) {
	if len(a.Items) == 0 {
		c.say("no truth is known of that time; tell it with: innerladder outcomes %s FILE", a.Endpoint)
		return
	}
	t := newTable(c.Out, "VERSION", "OUTPUT", "MEASURE", "", "95 %", "AT REGISTRATION", "", "ROWS", "COVERAGE")
	for _, v := range a.Items {
		for i, m := range v.Measures {
			within, was := "", ""
			if m.Low != nil {
				within = fmt.Sprintf("%.4g … %.4g", *m.Low, *m.High)
			}
			if m.Registered != nil {
				was = fmt.Sprintf("%.4g", *m.Registered)
			}
			version, output, rows, coverage := "", "", "", ""
			if i == 0 {
				version, output = v.Version, v.Output
				rows, coverage = strconv.FormatInt(v.Rows, 10), percent(v.Coverage)
			}
			t.row(version, output, m.Name, strings.TrimSpace(fmt.Sprintf("%.4g %s", m.Value, m.Unit)), within, was,
				m.Verdict, rows, coverage)
		}
	}
	t.done()
	for _, v := range a.Items {
		fmt.Fprintf(c.Out, "\n%s, %s: %s\n", v.Version, v.Output, v.Sentence)
		drawAccuracy(c.Out, v, time.Duration(a.StepMS)*time.Millisecond)
	}
}

// barLength is how long the longest bar of a curve is.
const barLength = 40

// drawAccuracy draws the first measure of a version over time.
func drawAccuracy(w io.Writer, v wire.VersionAccuracy, step time.Duration) {
	points := make([]curvePoint, len(v.Points))
	for i, p := range v.Points {
		points[i] = curvePoint{p.At, p.Value, fmt.Sprintf("%.4g, %d rows", p.Value, p.Rows)}
	}
	drawCurve(w, points, step)
}

// curvePoint is one step of a curve, with what is said of it.
type curvePoint struct {
	at    time.Time
	value float64
	says  string
}

// drawCurve draws the last steps of a curve as bars from 0, which are empty where it is below.
func drawCurve(w io.Writer, points []curvePoint, step time.Duration) {
	if len(points) < 2 {
		return
	}
	most := 0.0
	for _, p := range points {
		most = max(most, p.value)
	}
	form := "15:04"
	if step >= time.Hour {
		form = "02 Jan 15:04"
	}
	const last = 24
	for _, p := range points[max(0, len(points)-last):] {
		bar := 0
		if most > 0 && p.value > 0 {
			bar = int(p.value / most * barLength)
		}
		fmt.Fprintf(w, "  %s  %-*s %s\n", p.at.UTC().Format(form), barLength, strings.Repeat("▇", bar), p.says)
	}
}

func printWorst(w io.Writer, s wire.OutcomesShown) {
	fmt.Fprintln(w)
	t := newTable(w, "WORST", "VERSION", "OUTPUT", "PREDICTED", "TRUTH", "OFF BY", "INPUTS")
	for _, o := range s.Items {
		predicted, truth := o.PredictedClass, o.TruthClass
		off := ""
		if o.Number {
			predicted, truth = fmt.Sprintf("%.4g", o.Predicted), fmt.Sprintf("%.4g", o.Truth)
			off = fmt.Sprintf("%+.4g", o.Error)
		}
		t.row(o.Request, o.Version, o.Output, predicted, truth, off, inputsText(o.Inputs))
	}
	t.done()
	if len(s.Segments) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s by segment, of the newest %d predictions; %.4g on the whole\n\n", s.Measure, s.Looked, s.Whole)
	t = newTable(w, "COLUMN", "LEVEL", "ROWS", s.Measure, "")
	for i, g := range s.Segments {
		if i == mostLeft {
			break
		}
		worse := ""
		if g.Worse {
			worse = "surely worse"
		}
		t.row(g.Column, g.Level, strconv.Itoa(g.Rows), fmt.Sprintf("%.4g", g.Value), worse)
	}
	t.done()
}

func inputsText(inputs map[string]any) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(inputs)) {
		v := fmt.Sprint(inputs[name])
		if x, is := inputs[name].(float64); is {
			v = fmt.Sprintf("%.4g", x)
		}
		out = append(out, name+" "+v)
	}
	return strings.Join(out, ", ")
}
