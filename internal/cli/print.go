package cli

import (
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"innerladder/internal/core/ladder"
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

// metrics writes metrics as name=value, by name.
func metrics(m map[string]float64) string {
	parts := make([]string, 0, len(m))
	for _, k := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, k+"="+number(m[k]))
	}
	return strings.Join(parts, " ")
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
	fmt.Fprintf(w, "%s: %s from %s to %s, %s\n", p.ID, p.Version, p.From, p.To, strings.ReplaceAll(string(p.State), "_", " "))
	facts(w, "  asked by", p.AskedBy+", "+moment(p.OpenedAt), "  note", p.Note, "  against", p.Incumbent)
	mark := map[ladder.State]string{ladder.Passed: "passed ", ladder.Failed: "FAILED ", ladder.Waiting: "waiting"}
	for _, f := range p.Findings {
		fmt.Fprintf(w, "  %s  %-9s  %s\n", mark[f.State], f.Rung, f.Sentence)
	}
	for _, s := range p.SignOffs {
		stale := ""
		if s.Stale {
			stale = " (stale: given for another pair, does not count)"
		}
		fmt.Fprintf(w, "  signed   %s said %s%s %s\n", s.By, s.Answer, stale, quote(s.Note))
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
