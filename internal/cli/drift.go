package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/wire"
)

func driftCommand() []command {
	return []command{{
		name: "drift", group: "Watch", arguments: "ENDPOINT", least: 1, most: 1,
		summary: "Show how far every column is from its reference, an earlier time or main, the furthest first",
		example: "innerladder drift demand-hourly -since 6h\n" +
			"innerladder drift demand-hourly -since 6h -against week -column outdoor_c\n" +
			"innerladder drift demand-hourly -version heat-demand@3 -first -since 2h",
		setup: showDrift,
	}}
}

func showDrift(c *call) func(context.Context) error {
	c.connect()
	since := c.flags.Duration("since", time.Hour, "`DURATION`: how far back, or with -first how long")
	against := c.flags.String("against", string(wire.AgainstReference),
		"`WHAT`: reference, before (the time just before), week (the same hours of the four weeks before), main")
	version := c.flags.String("version", "", "`VERSION` whose requests; all that callers are dealt to when not given")
	first := c.flags.Bool("first", false, "begin with its first request: how serving differs from training")
	column := c.flags.String("column", "", "`NAME` of the one that is drawn, back to back and over time")
	return func(ctx context.Context) error {
		d, err := c.api.Drift(ctx, c.args[0], *since, wire.Against(*against), *version, *first)
		if err != nil {
			return err
		}
		if *column == "" {
			return c.show(d, nil, func() { printDrift(c.Out, d) })
		}
		for _, i := range d.Items {
			if i.Column == *column {
				return c.show(i, nil, func() { drawDrift(c.Out, d, i) })
			}
		}
		return wrongUse("there is no column %q in it; see: innerladder drift %s", *column, c.args[0])
	}
}

func printDrift(w io.Writer, d wire.Drift) {
	fmt.Fprintf(w, "%s, %s to %s, against %s\n", d.Endpoint, d.From.UTC().Format("2006-01-02 15:04"),
		d.To.UTC().Format("15:04 UTC"), againstWhat(d))
	if d.Note != "" {
		fmt.Fprintln(w, d.Note)
	}
	fmt.Fprintln(w)
	t := newTable(w, "COLUMN", "", "VERDICT", "EFFECT", "NOISE", "MEAN THEN", "NOW", "INDEPENDENT", "OVER TIME")
	for _, i := range d.Items {
		m := i.Movement
		then, now := "", ""
		if i.IncumbentMean != nil {
			then, now = fmt.Sprintf("%.4g %s", *i.IncumbentMean, i.Unit), fmt.Sprintf("%.4g", *i.CandidateMean)
		}
		t.row(i.Column, i.Side, string(m.Verdict), fmt.Sprintf("%.3f", m.Effect()),
			fmt.Sprintf("%.3f", max(0, m.Noise99-m.NoiseExpected)), strings.TrimSpace(then), now,
			fmt.Sprintf("%.0f of %d", m.NowEffective, m.Now), sparks(i.Points))
	}
	t.done()
	if len(d.Left) > 0 {
		fmt.Fprintf(w, "left out, because one side lacks it or counts it otherwise: %s\n", strings.Join(d.Left, ", "))
	}
}

// againstWhat says what a drift is held against.
func againstWhat(d wire.Drift) string {
	switch d.Against {
	case wire.AgainstBefore:
		return "the time before, from " + d.AgainstFrom.UTC().Format("15:04 UTC")
	case wire.AgainstWeek:
		return "the same hours of the weeks before"
	case wire.AgainstMain:
		return "main at the same time"
	}
	return "its reference profile"
}

// sparks draws the effect over time in a line, of steps that tell enough.
func sparks(points []wire.DriftPoint) string {
	levels := []rune("▁▂▃▄▅▆▇█")
	var b strings.Builder
	for _, p := range points {
		if p.Says == drift.NotEnough {
			b.WriteRune('·')
			continue
		}
		// A PSI of half is as far as is drawn.
		b.WriteRune(levels[int(math.Min(1, math.Max(0, p.Effect)/0.5)*float64(len(levels)-1))])
	}
	return b.String()
}

func drawDrift(w io.Writer, d wire.Drift, i wire.ColumnDrift) {
	names := [2]string{againstWhat(d), "now"}
	printDistribution(w, i.Distribution, names[0], names[1])
	fmt.Fprintf(w, "\n%s\n\n", i.Movement.Sentence)
	for _, p := range i.Points {
		bar := int(math.Min(1, math.Max(0, p.Effect)) * barLength)
		fmt.Fprintf(w, "  %s  %-*s %.3f, noise %.3f, %s\n", p.At.UTC().Format("02 15:04"), barLength,
			strings.Repeat("▇", bar), max(0, p.Effect), p.Noise, p.Says)
	}
}
