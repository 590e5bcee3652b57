package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/metric"
	"innerladder/internal/wire"
)

// table prints rows under a heading in aligned columns.
type table struct{ w *tabwriter.Writer }

func newTable(w io.Writer, heading ...string) *table {
	t := &table{tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)}
	fmt.Fprintln(t.w, strings.Join(heading, "\t"))
	return t
}

func (t *table) row(cells ...string) {
	for i, c := range cells {
		if c == "" {
			cells[i] = "-"
		}
	}
	fmt.Fprintln(t.w, strings.TrimRight(strings.Join(cells, "\t"), "\t"))
}

func (t *table) done() { _ = t.w.Flush() }

// facts prints named values, one a line.
func facts(w io.Writer, pairs ...string) {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			fmt.Fprintf(t, "%s\t%s\n", pairs[i], pairs[i+1])
		}
	}
	_ = t.Flush()
}

// number writes a number as short as it can be read.
func number(x float64) string { return strconv.FormatFloat(x, 'g', 5, 64) }

// metrics writes metrics as name=value, by name, and behind those that a report measured its id.
func metrics(m map[string]float64, measured map[string]metric.Measured) string {
	return strings.Join(eachMetric(m, measured), " ")
}

func eachMetric(m map[string]float64, measured map[string]metric.Measured) []string {
	parts := make([]string, 0, len(m))
	for _, k := range slices.Sorted(maps.Keys(m)) {
		s := k + "=" + number(m[k])
		if by, there := measured[k]; there {
			s += measuredBy(&by)
		}
		parts = append(parts, s)
	}
	return parts
}

// measuredBy names the report behind a metric; empty when it is only claimed.
func measuredBy(m *metric.Measured) string {
	switch {
	case m == nil:
		return ""
	case m.Differs:
		return " (" + m.Evidence + ", claimed " + number(*m.Claimed) + ")"
	}
	return " (" + m.Evidence + ")"
}

func params(m map[string]string) string {
	parts := make([]string, 0, len(m))
	for _, k := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, k+"="+m[k])
	}
	return strings.Join(parts, " ")
}

// moment writes a time with how long ago it was.
func moment(t time.Time) string {
	return t.UTC().Format("2006-01-02 15:04:05 UTC") + " (" + ago(time.Since(t)) + ")"
}

func ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", max(0, int(d.Seconds())))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}

// count writes a whole number with thin groups of three.
func count(n uint64) string {
	s := strconv.FormatUint(n, 10)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

func size(n int64) string {
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	unit := math.Min(4, math.Floor(math.Log(float64(n))/math.Log(1024)))
	return fmt.Sprintf("%.1f %s", float64(n)/math.Pow(1024, unit), []string{"B", "KiB", "MiB", "GiB", "TiB"}[int(unit)])
}

func percent(share float64) string { return fmt.Sprintf("%.2f %%", share*100) }
func millis(ms float64) string     { return fmt.Sprintf("%.1f ms", ms) }

// printPromotion shows a promotion with what its gate says.
func printPromotion(w io.Writer, p ladder.Promotion) {
	mark := ""
	if p.Emergency {
		mark = "EMERGENCY "
	}
	fmt.Fprintf(w, "%s%s: %s from %s to %s, %s\n", mark, p.ID, p.Version, p.From, p.To, p.State.Words())
	facts(w, "  asked by", p.AskedBy+", "+moment(p.OpenedAt), "  note", p.Note, "  against", p.Incumbent)
	printFindings(w, p.Findings)
	for _, s := range p.SignOffs {
		said := "said " + string(s.Answer)
		switch s.Answer {
		case rule.Later:
			said = "answers after " + s.Until.UTC().Format("2006-01-02 15:04 UTC")
		case rule.HandOver:
			said = "handed it to " + s.To
		}
		if s.Stale {
			said += " (stale: given for another pair, does not count)"
		}
		if s.Void != "" {
			said += " (void: " + s.Void + ")"
		}
		printLine(w, "  signed   %s %s %s", s.By, said, quote(s.Note))
	}
	for _, t := range p.Ticks {
		stale := ""
		if t.Stale {
			stale = " (stale)"
		}
		printLine(w, "  ticked   %s by %s%s %s %s", t.Item, t.By, stale, quote(t.Note), t.Link)
	}
	switch {
	case p.Ready:
		fmt.Fprintf(w, "  the gate is met; carry it out with: innerladder carry %s\n", p.ID)
	case p.State == ladder.ToReview:
		fmt.Fprintf(w, "  it was carried out past its gate; someone other than %s must say whether that was right: "+
			"innerladder sign %s -yes\n", p.AskedBy, p.ID)
	}
}

// printLine prints a line whose last parts may be empty.
func printLine(w io.Writer, format string, args ...any) {
	fmt.Fprintln(w, strings.TrimRight(fmt.Sprintf(format, args...), " "))
}

func printFindings(w io.Writer, findings []rule.Finding) {
	mark := map[rule.State]string{rule.Passed: "passed ", rule.Failed: "FAILED ", rule.Waiting: "waiting"}
	for _, f := range findings {
		fmt.Fprintf(w, "  %s  %-9s  %s\n", mark[f.State], f.Rung, f.Sentence)
	}
}

// printReview shows what someone reads who reviews a promotion.
func printReview(w io.Writer, r wire.Review) {
	printPromotion(w, r.Promotion)
	for _, l := range r.Checklist {
		mark := "[ ]"
		if l.Tick != nil && !l.Tick.Stale {
			mark = "[x]"
		}
		fmt.Fprintf(w, "  %s %s: %s\n", mark, l.Name, l.Text)
	}
	for _, e := range r.Evidence {
		fmt.Fprintf(w, "  %s  %s, %s: %s\n", e.ID, e.Kind, e.Verdict, e.Says)
	}
	printMoved(w, r)
	for _, c := range r.Measured {
		fmt.Fprintf(w, "  at %s, over the last day:\n", c.Endpoint)
		for _, row := range c.Rows {
			fmt.Fprintf(w, "    %s\n", row.Sentence)
		}
	}
	if r.Diff != nil {
		fmt.Fprintln(w)
		printDiff(w, *r.Diff)
	}
}

// printMoved says how the rows behind a candidate moved against those behind the incumbent.
func printMoved(w io.Writer, r wire.Review) {
	if r.Moved == nil {
		return
	}
	fmt.Fprintf(w, "  the rows behind it, against those behind %s:\n", r.Moved.From)
	steady := 0
	for _, c := range r.Moved.Columns {
		if c.Movement.Verdict == drift.Steady {
			steady++
			continue
		}
		fmt.Fprintf(w, "    %s: %s\n", c.Name, c.Movement.Sentence)
	}
	if steady > 0 && steady == len(r.Moved.Columns) {
		fmt.Fprintf(w, "    none of %d columns moved\n", steady)
	}
	only := func(ref string, columns []string) {
		if len(columns) > 0 {
			fmt.Fprintf(w, "    only behind %s: %s\n", ref, strings.Join(columns, ", "))
		}
	}
	only(r.Moved.From, r.Moved.OnlyFrom)
	only(r.Moved.To, r.Moved.OnlyTo)
}

// printLadder shows rungs with the highest on top, as one climbs.
func printLadder(w io.Writer, l ladder.Revision) {
	revision := fmt.Sprintf("revision %d, %s by %s: %s", l.Number, moment(l.MadeAt), l.Author, l.Reason)
	if l.Number == 0 {
		revision = "the default ladder"
	}
	fmt.Fprintf(w, "%s: %s\n", l.Project, revision)
	fmt.Fprintf(w, "  carried out %s; reminds after %s, expires after %s\n", strings.ReplaceAll(l.CarryOut, "_", " "),
		l.RemindAfter, l.ExpireAfter)
	for _, r := range slices.Backward(l.Rungs) {
		var more []string
		if r.HoldsOne {
			goes := "to the rung below"
			if r.Displaced == ladder.Retired {
				goes = "off the ladder"
			}
			more = append(more, "holds one version, the other steps down "+goes)
		}
		if r.Skip {
			more = append(more, "rungs below may be skipped")
		}
		if len(r.Ask) > 0 {
			more = append(more, "asked for by "+strings.Join(r.Ask, ", "))
		}
		if len(r.Sign) > 0 {
			more = append(more, "signed by "+strings.Join(r.Sign, ", "))
		}
		printLine(w, "\n  %s  %s", r.Name, r.Meaning)
		for _, m := range more {
			fmt.Fprintf(w, "      (%s)\n", m)
		}
		for _, q := range r.Gate {
			fmt.Fprintf(w, "    - %s\n", describeRequirement(q))
		}
	}
	for _, f := range l.Freezes {
		fmt.Fprintf(w, "\n  change freeze %s\n", f)
	}
}

// describeRequirement writes the kind and the settings of a requirement.
func describeRequirement(q rule.Requirement) string {
	b, err := json.Marshal(q)
	if err != nil {
		return q.Kind()
	}
	settings := map[string]any{}
	_ = json.Unmarshal(b, &settings)
	delete(settings, "kind")
	out := q.Kind()
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		switch x := settings[name].(type) {
		case []any:
			var parts []string
			for _, item := range x {
				if m, ok := item.(map[string]any); ok {
					item = m["name"]
				}
				parts = append(parts, fmt.Sprint(item))
			}
			out += fmt.Sprintf(" %s=%s", name, strings.Join(parts, ","))
		default:
			out += fmt.Sprintf(" %s=%v", name, x)
		}
	}
	return out
}

// printPreview shows what a ladder would let pass.
func printPreview(w io.Writer, p ladder.Preview) {
	t := newTable(w, "TO RUNG", "ASKED", "WOULD PASS", "WAIT FOR PEOPLE", "KEPT BACK", "BY")
	for _, r := range slices.Backward(p.Rungs) {
		var open []string
		for _, o := range r.Open {
			open = append(open, fmt.Sprintf("%s (%d)", o.Requirement, o.Versions))
		}
		t.row(r.Rung, strconv.Itoa(r.Asked), strconv.Itoa(r.Pass), strconv.Itoa(r.People), strconv.Itoa(r.Blocked),
			strings.Join(open, ", "))
	}
	t.done()
	for _, v := range p.Versions {
		if v.State == "pass" {
			continue
		}
		fmt.Fprintf(w, "\n%s to %s\n", v.Version, v.To)
		for _, f := range v.Findings {
			if f.State != rule.Passed {
				printFindings(w, []rule.Finding{f})
			}
		}
	}
}

func quote(s string) string {
	if s == "" {
		return ""
	}
	return "“" + s + "”"
}

// pairs is an option that may be given several times as NAME=VALUE.
type pairs map[string]string

func (p pairs) String() string { return "" }

func (p pairs) Set(s string) error {
	name, value, ok := strings.Cut(s, "=")
	if !ok || name == "" {
		return fmt.Errorf("write NAME=VALUE")
	}
	if before, twice := p[name]; twice {
		return fmt.Errorf("%s is given twice, as %s and %s", name, before, value)
	}
	p[name] = value
	return nil
}

// list is an option that may be given several times.
type list []string

func (l *list) String() string     { return "" }
func (l *list) Set(s string) error { *l = append(*l, s); return nil }
