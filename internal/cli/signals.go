package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/span"
	"innerladder/internal/wire"
)

// chartWidth is how many steps of time are drawn beside each other at most.
const chartWidth = 72

// drawn is one signal as it is drawn.
type drawn struct {
	name string
	// of reads it off a point, nil for how many requests came in a second; text writes a value of it.
	of   func(wire.Point) float64
	text func(float64) string
}

var drawnSignals = []drawn{
	{"rate", nil, func(x float64) string { return fmt.Sprintf("%.1f/s", x) }},
	{"errors", func(p wire.Point) float64 { return p.ErrorRate }, percent},
	{"p50", func(p wire.Point) float64 { return p.P50 }, millis},
	{"p95", func(p wire.Point) float64 { return p.P95 }, millis},
	{"p99", func(p wire.Point) float64 { return p.P99 }, millis},
}

func showSignals(c *call) func(context.Context) error {
	c.connect()
	since := c.flags.Duration("since", 15*time.Minute, "`DURATION`: how far back")
	return func(ctx context.Context) error {
		series, err := c.api.Series(ctx, c.args[0], *since)
		if err != nil {
			return err
		}
		refused, err := c.api.Refusals(ctx, c.args[0], *since)
		both := struct {
			wire.Series
			Refused wire.Refusals `json:"refused"`
		}{series, refused}
		return c.show(both, err, func() { drawSeries(c.Out, series, refused) })
	}
}

// grid lays steps of time out in columns.
type grid struct {
	from   time.Time
	column time.Duration
	width  int
}

func gridOf(from, to time.Time, step time.Duration) grid {
	steps := max(1, int(math.Ceil(float64(to.Sub(from))/float64(step))))
	each := (steps + chartWidth - 1) / chartWidth
	return grid{from, time.Duration(each) * step, (steps + each - 1) / each}
}

// at is the column of a moment.
func (g grid) at(t time.Time) int { return min(g.width-1, max(0, int(t.Sub(g.from)/g.column))) }

// drawSeries draws what an endpoint did over time, each signal of each lane in a line, the lanes of a signal on the
// same scale, with what happened beneath.
func drawSeries(w io.Writer, s wire.Series, refused wire.Refusals) {
	g := gridOf(s.From, s.To, time.Duration(s.StepMS)*time.Millisecond)
	fmt.Fprintf(w, "%s, the last %s; a column is %s\n\n", s.Endpoint, span.Rounded(s.To.Sub(s.From)),
		span.Rounded(g.column))
	name := 0
	for _, l := range s.Lanes {
		name = max(name, len(laneName(l)))
	}
	if len(s.Lanes) == 0 {
		fmt.Fprintln(w, "nobody called it")
	}
	for _, d := range drawnSignals {
		drawSignal(w, s, g, d, name)
	}
	drawRefused(w, refused, g, name)
	fmt.Fprintf(w, "%-7s %-*s  %s\n", "", name, "", clock(g, s.From, s.To))
	for _, e := range marks(s) {
		fmt.Fprintf(w, "%-7s %-*s  %s^ %s\n", "", name, "", strings.Repeat(" ", g.at(e.at)), e.text)
	}
}

// drawSignal draws one signal of all lanes, on one scale.
func drawSignal(w io.Writer, s wire.Series, g grid, d drawn, name int) {
	highest := 0.0
	rows := make([][]float64, len(s.Lanes))
	for i, l := range s.Lanes {
		rows[i] = columnsOf(g, l.Points, d.of)
		for _, x := range rows[i] {
			if !math.IsNaN(x) {
				highest = max(highest, x)
			}
		}
	}
	for i, l := range s.Lanes {
		fmt.Fprintf(w, "%-7s %-*s  %s  %s\n", d.name, name, laneName(l), bars(rows[i], 0, highest),
			scale(rows[i], d.text))
	}
}

// drawRefused draws what was turned away.
func drawRefused(w io.Writer, refused wire.Refusals, g grid, name int) {
	if refused.Total == 0 {
		return
	}
	row := make([]float64, g.width)
	for _, r := range refused.Items {
		for _, p := range r.Points {
			row[g.at(p.At)] += float64(p.Count)
		}
	}
	fmt.Fprintf(w, "%-7s %-*s  %s  %s in all\n", "refused", name, "", bars(row, 0, slices.Max(row)),
		count(refused.Total))
}

func laneName(l wire.LaneSeries) string {
	if l.Lane == "main" {
		return l.Version
	}
	return l.Version + " " + l.Lane
}

// columnsOf are the values of a signal in columns: of several steps the mean, weighed by their requests. What has none
// is no number.
func columnsOf(g grid, points []wire.Point, of func(wire.Point) float64) []float64 {
	out, requests := make([]float64, g.width), make([]float64, g.width)
	for _, p := range points {
		requests[g.at(p.At)] += float64(p.Requests)
		if of != nil {
			out[g.at(p.At)] += of(p) * float64(p.Requests)
		}
	}
	for i, n := range requests {
		switch {
		case n == 0:
			out[i] = math.NaN()
		case of == nil:
			out[i] = n / g.column.Seconds()
		default:
			out[i] /= n
		}
	}
	return out
}

// scale says how high the highest bar of a line is and what the last one says.
func scale(row []float64, text func(float64) string) string {
	highest, last := math.NaN(), math.NaN()
	for _, x := range row {
		if !math.IsNaN(x) {
			last = x
			if math.IsNaN(highest) || x > highest {
				highest = x
			}
		}
	}
	if math.IsNaN(last) {
		return ""
	}
	return "last " + text(last) + ", highest " + text(highest)
}

// clock is the line of times beneath the bars.
func clock(g grid, from, to time.Time) string {
	form := "15:04:05"
	if to.Sub(from) > 24*time.Hour {
		form = "01-02 15:04"
	}
	a, b := from.UTC().Format(form), to.UTC().Format(form)+" UTC"
	return a + strings.Repeat(" ", max(1, g.width-len(a)-len(b))) + b
}

// mark is something that happened.
type mark struct {
	at   time.Time
	text string
}

// marks are the splits and the alerts of a series.
func marks(s wire.Series) (out []mark) {
	for i := len(s.Splits) - 1; i >= 0; i-- {
		sp := s.Splits[i]
		out = append(out, mark{sp.MadeAt, fmt.Sprintf("#%d %s", sp.Number, sp.String())})
	}
	for i := len(s.Alerts) - 1; i >= 0; i-- {
		a := s.Alerts[i]
		kind := strings.ReplaceAll(string(a.Kind), "_", " ")
		out = append(out, mark{a.RaisedAt, a.ID + " " + kind + ", " + a.Subject})
	}
	return out
}
