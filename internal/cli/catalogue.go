package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
)

func catalogueCommands() []command {
	return []command{
		{
			name: "find", group: "Registry", arguments: "[WORDS…]",
			summary: "Search the versions of all models; all filters must hold", most: -1,
			example: "innerladder find winter -task regression -rung live -metric \"rmse<0.4\" -sort rmse",
			setup:   findVersions,
		},
		{
			name: "lineup", group: "Registry", arguments: "REF | MODEL …",
			summary: "Any number of versions in one table, the best of each metric marked", least: 1, most: -1,
			example: "innerladder lineup heat-demand@1 heat-demand@2 heat-demand@3", setup: lineup,
		},
		{
			name: "diff", group: "Registry", arguments: "REF REF",
			summary: "How the second version differs from the first", least: 2, most: 2,
			example: "innerladder diff heat-demand@1 heat-demand@2 -profiles", setup: diff,
		},
		{
			name: "profile", group: "Registry", arguments: "REF", summary: "Show the reference profile of a version",
			least: 1, most: 1,
			example: "innerladder profile heat-demand@2", setup: profile,
		},
	}
}

func findVersions(c *call) func(context.Context) error {
	c.connect()
	q := url.Values{}
	text := func(option, usage string) {
		c.flags.Func(option, usage, func(s string) error {
			q.Set(strings.ReplaceAll(option, "-", "_"), s)
			return nil
		})
	}
	text("project", "`PROJECT` of the model")
	text("model", "`MODEL`: only its versions")
	text("task", "`TASK`: regression, classification or other")
	text("owner", "`NAME` of the model's owner")
	text("rung", "`RUNG` it stands on")
	text("label", "`LABEL` it has")
	text("tag", "`TAG` that it or its model has")
	text("format", "`FORMAT` of an artifact, such as onnx")
	text("licence", "`LICENCE` of its card")
	text("placed-in", "`ENVIRONMENT` it is placed in")
	text("answering", "`ENDPOINT` it answers for now, or any")
	text("data", "`DATA` set it used, NAME or NAME#NUMBER")
	text("max-age", "`DURATION`: registered no longer ago, such as 720h")
	text("min-age", "`DURATION`: registered at least as long ago")
	text("sort", "`ORDER`: newest, oldest, a metric for the best first, or -METRIC for the worst first")
	c.flags.Func("metric", "`BOUND` such as rmse<0.4; may be given several times", func(s string) error {
		q.Add("metric", s)
		return nil
	})
	vetted := c.flags.Bool("vetted", false, "only of vetted models")
	part := c.part()
	return func(ctx context.Context) error {
		if len(c.args) > 0 {
			q.Set("text", strings.Join(c.args, " "))
		}
		if *vetted {
			q.Set("vetted", "true")
		}
		found, err := c.api.Find(ctx, q, part())
		return c.show(found, err, func() {
			if len(found.Items) == 0 {
				c.say("no version is like that; leave a filter out, or see all with: innerladder find")
				return
			}
			t := newTable(c.Out, "VERSION", "TASK", "RUNG", "LABELS", "METRICS", "FORMAT", "ANSWERS", "TAGS",
				"REGISTERED", "NOTE")
			for _, v := range found.Items {
				ref := v.Ref
				if v.Vetted {
					ref += " (vetted)"
				}
				if v.RolledBack != nil {
					ref += " (ROLLED BACK)"
				}
				t.row(ref, string(v.Task), v.Rung, strings.Join(v.Labels, " "), someMetrics(v, q),
					strings.Join(v.Formats, " "), strings.Join(v.Answering, " "),
					strings.Join(v.Tags, " "), ago(sinceNow(v.CreatedAt)), short(v.Note, 32))
			}
			t.done()
			c.more(found.Next)
		})
	}
}

// someMetrics shows the metrics that a search is about, else the first three.
func someMetrics(v registry.Found, q url.Values) string {
	asked := map[string]float64{}
	for name, x := range v.Metrics {
		about := strings.TrimPrefix(q.Get("sort"), "-") == name
		for _, b := range q["metric"] {
			about = about || strings.HasPrefix(b, name+"<") || strings.HasPrefix(b, name+">")
		}
		if about {
			asked[name] = x
		}
	}
	if len(asked) > 0 {
		return metrics(asked, v.Measured)
	}
	parts := eachMetric(v.Metrics, v.Measured)
	return strings.Join(parts[:min(3, len(parts))], " ")
}

func lineup(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		l, err := c.api.LineUp(ctx, c.args...)
		return c.show(l, err, func() { printLineup(c.Out, l) })
	}
}

func printLineup(w io.Writer, l registry.Lineup) {
	heading := []string{""}
	for _, v := range l.Versions {
		heading = append(heading, v.Ref)
	}
	t := newTable(w, heading...)
	row := func(name string, cell func(registry.LineupVersion) string) {
		cells := []string{name}
		for _, v := range l.Versions {
			cells = append(cells, cell(v))
		}
		t.row(cells...)
	}
	row("rung", func(v registry.LineupVersion) string {
		words := append([]string{v.Rung}, v.Labels...)
		if v.RolledBack != nil {
			words = append(words, "(ROLLED BACK)")
		}
		return strings.Join(words, " ")
	})
	for _, m := range l.Metrics {
		row(strings.TrimSpace(m.Name+" "+m.Unit), func(v registry.LineupVersion) string {
			x, there := m.Values[v.Ref]
			if !there {
				return ""
			}
			s := number(x)
			if by, measured := m.Measured[v.Ref]; measured {
				s += measuredBy(&by)
			}
			if slices.Contains(m.Best, v.Ref) {
				s += " best"
			}
			if d, there := m.Against[v.Ref]; there && d != 0 {
				s += fmt.Sprintf(" (%+.3g)", d)
			}
			return s
		})
	}
	for _, p := range l.Params {
		row("parameter "+p.Name, func(v registry.LineupVersion) string { return short(p.Values[v.Ref], 24) })
	}
	for _, role := range []string{lineage.TrainedOn, lineage.ValidatedOn, lineage.EvaluatedOn} {
		used := func(v registry.LineupVersion) string {
			var names []string
			for _, d := range v.Data {
				if d.Role == role {
					names = append(names, d.Data)
				}
			}
			return short(strings.Join(names, " "), 32)
		}
		if slices.ContainsFunc(l.Versions, func(v registry.LineupVersion) bool { return used(v) != "" }) {
			row(strings.ReplaceAll(role, "-", " "), used)
		}
	}
	row("code", func(v registry.LineupVersion) string {
		if v.Code == nil {
			return ""
		}
		return v.Code.Commit[:min(10, len(v.Code.Commit))]
	})
	row("run", func(v registry.LineupVersion) string { return v.Run })
	row("size", func(v registry.LineupVersion) string { return size(v.Size) })
	row("format", func(v registry.LineupVersion) string { return strings.Join(v.Formats, " ") })
	row("registered", func(v registry.LineupVersion) string { return ago(sinceNow(v.CreatedAt)) })
	t.done()
	if l.Base != "" {
		fmt.Fprintf(w, "\nin brackets: the difference to %s, which is live\n", l.Base)
	}
	if l.SameParams > 0 {
		fmt.Fprintf(w, "%d parameters are equal in all\n", l.SameParams)
	}
	if len(l.Curves) > 0 {
		fmt.Fprintln(w)
		printCurves(w, l.Curves)
	}
}

// printCurves draws each curve in a line.
func printCurves(w io.Writer, curves []lineage.Curve) {
	t := newTable(w, "RUN", "METRIC", "FROM", "TO", "LAST STEP", "")
	for _, c := range curves {
		if len(c.Points) == 0 {
			continue
		}
		last := c.Points[len(c.Points)-1]
		t.row(c.Run, c.Metric, number(c.Points[0].Value), number(last.Value), strconv.FormatInt(last.Step, 10),
			spark(c.Points, 40))
	}
	t.done()
}

// spark draws points as a row of blocks, from the least to the greatest.
func spark(points []lineage.Point, width int) string {
	low, high := points[0].Value, points[0].Value
	for _, p := range points {
		low, high = min(low, p.Value), max(high, p.Value)
	}
	return blocks(points, width, low, high)
}

func blocks(points []lineage.Point, width int, low, high float64) string {
	row := make([]float64, min(width, len(points)))
	for i := range row {
		row[i] = points[i*(len(points)-1)/max(1, len(row)-1)].Value
	}
	return bars(row, low, high)
}

// bars draws values as a row of blocks between two values; what is no number is left empty.
func bars(row []float64, low, high float64) string {
	heights := []rune("▁▂▃▄▅▆▇█")
	out := make([]rune, len(row))
	for i, x := range row {
		switch {
		case math.IsNaN(x):
			out[i] = ' '
		case high > low:
			out[i] = heights[int((x-low)/(high-low)*float64(len(heights)-1)+1e-9)]
		default:
			out[i] = heights[0]
		}
	}
	return string(out)
}

func profile(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		p, err := c.api.Profile(ctx, c.args[0])
		return c.show(p, err, func() {
			fmt.Fprintf(c.Out, "%s rows\n\n", count(uint64(p.Rows)))
			t := newTable(c.Out, "COLUMN", "SIDE", "MISSING", "DISTINCT", "MIN", "MEAN", "MAX",
				"LEVELS OR DISTRIBUTION")
			for _, name := range sorted(p.Columns) {
				col := p.Columns[name]
				side := "input"
				if slices.Contains(p.Targets, name) {
					side = "output"
				}
				row := []string{
					name, side, percent(float64(col.Missing) / float64(max(1, col.Total()))),
					count(p.Distinct[name]),
				}
				if col.Bins.Numeric() {
					row = append(row, number(col.Min), number(col.Mean()), number(col.Max),
						density(col.Bins.Edges, col.Counts))
				} else {
					row = append(row, "", "", "", short(strings.Join(col.Bins.Levels, " "), 50))
				}
				t.row(row...)
			}
			t.done()
			if len(p.Correlations) > 0 {
				fmt.Fprintln(c.Out)
				t := newTable(c.Out, "STRONGEST CORRELATIONS", "", "R")
				for _, r := range p.Correlations[:min(8, len(p.Correlations))] {
					t.row(r.A, r.B, fmt.Sprintf("%+.3f", r.R))
				}
				t.done()
			}
		})
	}
}

// density draws how densely numbers lie over their range, which bins of equal frequency
// do not show by their counts.
func density(edges []float64, counts []uint64) string {
	const width = 30
	whole := !slices.ContainsFunc(edges, func(e float64) bool { return e != math.Trunc(e) })
	if whole { // whole numbers stand on their values: the last cell reaches to the next
		edges = slices.Clone(edges)
		edges[len(edges)-1]++
	}
	low, high := edges[0], edges[len(edges)-1]
	if high <= low {
		return "█"
	}
	points := make([]lineage.Point, width)
	for i := range points {
		from, to := low+(high-low)*float64(i)/width, low+(high-low)*float64(i+1)/width
		for j, n := range counts {
			a, b := edges[j], edges[j+1]
			if b <= a {
				if i == min(width-1, int((a-low)/(high-low)*width)) {
					points[i].Value += float64(n)
				}
				continue
			}
			points[i].Value += float64(n) * max(0, min(b, to)-max(a, from)) / (b - a)
		}
	}
	most := 0.0
	for _, p := range points {
		most = max(most, p.Value)
	}
	return blocks(points, width, 0, most)
}

func diff(c *call) func(context.Context) error {
	c.connect()
	profiles := c.flags.Bool("profiles", false, "also compare the rows behind both, column by column")
	return func(ctx context.Context) error {
		d, err := c.api.Diff(ctx, c.args[0], c.args[1])
		if err != nil {
			return err
		}
		if *profiles {
			return c.diffWithProfiles(ctx, d)
		}
		return c.show(d, nil, func() { printDiff(c.Out, d) })
	}
}

// diffWithProfiles shows the difference with that of the rows behind both versions.
func (c *call) diffWithProfiles(ctx context.Context, d registry.Diff) error {
	p, err := c.api.CompareProfiles(ctx, c.args[0], c.args[1])
	both := struct {
		registry.Diff
		Profiles compare.Profiles `json:"profiles"`
	}{d, p}
	return c.show(both, err, func() {
		printDiff(c.Out, d)
		fmt.Fprintf(c.Out, "\nrows behind them: %s and %s\n", count(uint64(p.FromRows)), count(uint64(p.ToRows)))
		t := newTable(c.Out, "COLUMN", "PSI", "99 % NOISE", "MOVED BY", "VERDICT", "")
		for _, col := range p.Columns {
			by := ""
			if col.Movement.Numeric {
				by = fmt.Sprintf("%+.4g", col.Movement.MeanShift)
			}
			t.row(col.Name, fmt.Sprintf("%.3f", col.Movement.PSI), fmt.Sprintf("%.3f", col.Movement.Noise99), by,
				string(col.Movement.Verdict), short(col.Movement.Sentence, 70))
		}
		t.done()
		if len(p.OnlyFrom)+len(p.OnlyTo) > 0 {
			fmt.Fprintf(c.Out, "only in %s: %s; only in %s: %s\n", p.From, strings.Join(p.OnlyFrom, " "), p.To,
				strings.Join(p.OnlyTo, " "))
		}
	})
}

func printDiff(w io.Writer, d registry.Diff) {
	optional := func(x *float64) string {
		if x == nil {
			return ""
		}
		return number(*x)
	}
	t := newTable(w, "", d.From, d.To, "DIFFERENCE")
	for _, m := range d.Metrics {
		how := m.Verdict
		if m.Difference != nil && m.Verdict != "same" {
			how += fmt.Sprintf(" %+.5g", *m.Difference)
		}
		t.row(strings.TrimSpace("metric "+m.Name+" "+m.Unit), optional(m.From)+measuredBy(m.FromMeasured),
			optional(m.To)+measuredBy(m.ToMeasured), how)
	}
	for _, group := range []struct {
		name    string
		changes []signature.Change
	}{
		{"parameter ", d.Params},
		{"", d.Signature},
		{"artifact ", d.Artifacts},
		{"code ", d.Code},
		{"", d.Data},
		{"package ", d.Dependencies},
	} {
		for _, ch := range group.changes {
			t.row(group.name+ch.Name, ch.From, ch.To, strings.TrimSpace(ch.Kind+" "+ch.Detail))
		}
	}
	for _, m := range d.Importance {
		if m.Verdict != "same" {
			t.row("importance "+m.Name, optional(m.From), optional(m.To), m.Verdict)
		}
	}
	t.done()
	fmt.Fprintf(w, "\nsignature: %s\n", d.Compatibility)
	if d.Card != "" {
		fmt.Fprintf(w, "\nmodel card:\n%s", d.Card)
	}
}
