package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/compare"
	"innerladder/internal/core/watch"
)

func watchCommands() []command {
	return []command{
		{
			name: "compare", group: "Watch", arguments: "ENDPOINT [INCUMBENT CANDIDATE…]",
			summary: "Put versions beside their incumbent: those of the last trial, or those named", least: 1, most: 12,
			example: "innerladder compare demand-hourly\n" +
				"innerladder compare demand-hourly heat-demand@1 heat-demand@2 -window 10m",
			setup: compareVersions,
		},
		{
			name: "alerts", group: "Watch", summary: "List alerts, newest first", most: 0,
			example: "innerladder alerts -state open",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				state := c.flags.String("state", "", "`STATE`: only open, acknowledged, resolved, or unresolved")
				endpoint := c.flags.String("endpoint", "", "`ENDPOINT`: only of this one")
				return func(ctx context.Context) error {
					all, err := c.api.Alerts(ctx, *state, *endpoint, client.Part{})
					return c.show(all, err, func() {
						if len(all.Items) == 0 {
							c.say("there are no alerts")
						}
						for i, a := range all.Items {
							if i > 0 {
								fmt.Fprintln(c.Out)
							}
							printAlert(c.Out, a)
						}
					})
				}
			},
		},
		{
			name: "alert", group: "Watch", arguments: "A-NUMBER", summary: "Acknowledge or resolve an alert", least: 1,
			most:    1,
			example: "innerladder alert A-1 -resolve -why \"the version was withdrawn\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				acknowledge := c.flags.Bool("acknowledge", false, "say that you have seen it")
				resolve := c.flags.Bool("resolve", false, "say that it is dealt with")
				note := c.flags.String("why", "", "`TEXT` for the record")
				return func(ctx context.Context) error {
					if *acknowledge == *resolve {
						return wrongUse("say either -acknowledge or -resolve")
					}
					state := "acknowledged"
					if *resolve {
						state = "resolved"
					}
					a, err := c.api.HandleAlert(ctx, c.args[0], state, *note)
					return c.show(a, err, func() { printAlert(c.Out, a) })
				}
			},
		},
	}
}

func compareVersions(c *call) func(context.Context) error {
	c.connect()
	var over client.Over
	c.flags.DurationVar(&over.Window, "window", 0, "`DURATION`: how far back, instead of their last trial")
	c.flags.IntVar(&over.Split, "split", 0, "`NUMBER`: only this split")
	trial := c.flags.String("trial", "", "`VERSION` whose last trial it is, beside whoever it was tried against")
	ends := c.flags.String("until", "",
		"`TIME` when the window ends, such as 2026-11-26T14:03:00Z; now when not given")
	return func(ctx context.Context) error {
		var wrong error
		c.flags.Visit(func(f *flag.Flag) {
			switch {
			case f.Name == "window" && over.Window <= 0:
				wrong = wrongUse("a window of %s cannot be looked at; give one such as 10m", over.Window)
			case f.Name == "split" && over.Split <= 0:
				wrong = wrongUse("there is no split #%d; they are numbered from 1", over.Split)
			}
		})
		if wrong != nil {
			return wrong
		}
		var err error
		if over.Until, err = instant("until", *ends); err != nil {
			return err
		}
		incumbent, candidates := "", []string(nil)
		switch {
		case *trial != "" && len(c.args) > 1:
			return wrongUse("give either -trial or the versions")
		case *trial != "":
			candidates = []string{*trial}
		case len(c.args) == 2:
			return wrongUse("give an incumbent and a candidate, or neither")
		case len(c.args) > 2:
			incumbent, candidates = c.args[1], c.args[2:]
		}
		r, err := c.api.Compare(ctx, c.args[0], incumbent, candidates, over)
		return c.show(r, err, func() {
			for i, one := range r.Items {
				if i > 0 {
					fmt.Fprintln(c.Out)
				}
				printComparison(c.Out, one)
			}
		})
	}
}

func printAlert(w io.Writer, a watch.Alert) {
	fmt.Fprintf(w, "%s  %s, %s\n", a.ID, strings.ReplaceAll(string(a.Kind), "_", " "), a.State)
	handled := ""
	if a.HandledAt != nil {
		handled = a.HandledBy + ", " + moment(*a.HandledAt) + " " + quote(a.Note)
	}
	facts(w, "  endpoint", a.Endpoint, "  about", a.Subject, "  signal", a.Signal, "  raised", moment(a.RaisedAt),
		"  "+a.State+" by", handled, "  owner", a.Owner, "  runbook", a.Runbook)
	fmt.Fprintf(w, "  %s\n", a.Sentence)
}

func printComparison(w io.Writer, r compare.Comparison) {
	to := r.To.Format("15:04:05 UTC")
	if r.To.Sub(r.From) > 12*time.Hour {
		to = r.To.Format("2006-01-02 15:04:05 UTC")
	}
	fmt.Fprintf(w, "%s, %s: %s to %s\n\n", r.Endpoint, r.Of, r.From.Format("2006-01-02 15:04:05"), to)
	if r.Mismatch != "" {
		fmt.Fprintf(w, "MISMATCH: %s\n\n", r.Mismatch)
	}
	level := fmt.Sprintf("%.3g %%", 100*r.Confidence)
	t := newTable(w, "", r.Incumbent, level, r.Candidate, level, "DIFFERENCE", level, "VERDICT")
	t.row("requests", count(r.IncumbentRequests), "", count(r.CandidateRequests), "", "", "", "")
	for _, row := range r.Rows {
		one, ends, difference, relation := writersOf(row)
		of := func(low, high *float64, write func(float64) string) string {
			if low == nil && high == nil {
				return ""
			}
			return end(low, write) + " … " + end(high, write)
		}
		apart := ""
		if row.Low != nil || row.High != nil {
			apart = difference(row.Difference)
		}
		t.row(row.Signal, seen(row.Incumbent, one), of(row.IncumbentLow, row.IncumbentHigh, ends),
			seen(row.Candidate, one), of(row.CandidateLow, row.CandidateHigh, ends),
			apart, of(row.Low, row.High, relation), string(row.Verdict))
	}
	t.done()
	for _, d := range r.Predictions {
		printDistribution(w, d, r.Incumbent, r.Candidate)
	}
	fmt.Fprintf(w, "\n%s\n", r.Sentence)
	for _, n := range r.Notes {
		if !strings.Contains(r.Sentence, n) { // what is left out is said there already
			fmt.Fprintf(w, "%s\n", n)
		}
	}
}

// writersOf are how a row's sides are written, the ends of their intervals, the difference and the ends of its
// interval.
func writersOf(row compare.Row) (one, ends, difference, relation func(float64) string) {
	with := func(format string, by float64) func(float64) string {
		return func(x float64) string { return strings.TrimSpace(fmt.Sprintf(format, x*by)) }
	}
	switch {
	case row.Relation == "ratio":
		return millis, with("%.1f", 1), with("× %.2f", 1), with("%.2f", 1)
	case row.Unit == "share":
		return percent, with("%.2f", 100), with("%+.2f points", 100), with("%.2f", 100)
	}
	unit := strings.ReplaceAll(row.Unit, "%", "%%")
	return with("%.4g "+unit, 1), with("%.4g", 1), with("%+.4g "+unit, 1), with("%.4g", 1)
}

// seen writes what was seen, a dash for nothing.
func seen(x *float64, write func(float64) string) string {
	if x == nil {
		return "–"
	}
	return write(*x)
}

func end(x *float64, write func(float64) string) string {
	if x == nil {
		return "?"
	}
	return write(*x)
}

// widest is the length of the longest bar.
const widest = 28

// printDistribution draws an output back to back: the incumbent to the left of the
// axis, the candidate to the right.
func printDistribution(w io.Writer, d compare.Distribution, incumbent, candidate string) {
	m := d.Movement
	unit := d.Unit
	if unit != "" {
		unit = " " + unit
	}
	fmt.Fprintf(w, "\n%s: %s", d.Column, m.Verdict)
	if m.Numeric {
		fmt.Fprintf(w, "; mean shift %+.3g%s, Wasserstein %.3g%s, Jensen–Shannon %.3f", m.MeanShift, unit,
			m.Wasserstein, unit, m.JensenShannon)
	} else {
		fmt.Fprintf(w, "; Jensen–Shannon %.3f, G %.1f (p %.2g)", m.JensenShannon, m.G, m.GP)
	}
	fmt.Fprintf(w, "\n\n%*s | %s\n", widest, incumbent, candidate)
	labels := cellNames(d)
	share := func(counts []float64, i int) float64 {
		n := 0.0
		for _, k := range counts {
			n += k
		}
		if n == 0 {
			return 0
		}
		return counts[i] / n
	}
	most := 0.0
	for i := range labels {
		most = max(most, share(d.Incumbent, i), share(d.Candidate, i))
	}
	for i, label := range labels {
		a, b := share(d.Incumbent, i), share(d.Candidate, i)
		if a == 0 && b == 0 {
			continue
		}
		left, right := int(a/most*widest+0.5), int(b/most*widest+0.5)
		fmt.Fprintf(w, "%s%s | %-*s %s%s\n", strings.Repeat(" ", widest-left), strings.Repeat("█", left), widest,
			strings.Repeat("▒", right), label, unit)
	}
}

// cellNames names the cells of a distribution.
func cellNames(d compare.Distribution) []string {
	if len(d.Edges) == 0 {
		return append(append([]string{}, d.Levels...), "other")
	}
	names := []string{"below " + number(d.Edges[0])}
	for i := range len(d.Edges) - 1 {
		low, high := d.Edges[i], d.Edges[i+1]
		if d.Whole && i < len(d.Edges)-2 {
			high-- // of whole numbers the upper edge begins the next bin
		}
		if low == high {
			names = append(names, number(low))
			continue
		}
		names = append(names, fmt.Sprintf("%.4g to %.4g", low, high))
	}
	return append(names, "above "+number(d.Edges[len(d.Edges)-1]))
}
