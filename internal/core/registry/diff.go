package registry

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"
)

// Change is one thing that differs between two versions. An empty side means that it
// is not there.
type Change struct {
	Name   string `json:"name"`
	From   string `json:"from"`
	To     string `json:"to"`
	Kind   string `json:"kind" enum:"added,removed,changed"`
	Detail string `json:"detail,omitempty"`
	// Breaking is set when it breaks callers of the first version.
	Breaking bool `json:"breaking,omitempty" description:"it breaks callers of the first version"`
}

// MetricChange is one metric of either version, changed or not.
type MetricChange struct {
	Name string   `json:"name"`
	From *float64 `json:"from,omitempty"`
	To   *float64 `json:"to,omitempty"`
	// Difference is To less From; Verdict takes into account which way is better.
	Difference *float64 `json:"difference,omitempty"`
	Verdict    string   `json:"verdict" enum:"better,worse,same,changed,only in from,only in to"`
}

// Compatibility says what a new signature means for those who call the old one.
type Compatibility string

// The compatibilities.
const (
	// Compatible: every request made for the old signature works, and every answer is
	// understood.
	Compatible Compatibility = "compatible"
	// Widened: the same, and more is accepted or answered than before.
	Widened Compatibility = "widened"
	// Breaking: some request or reader made for the old signature fails.
	Breaking Compatibility = "breaking"
	// NotKnown: one of the versions has no signature.
	NotKnown Compatibility = "unknown"
)

// Diff is how the version To differs from the version From.
type Diff struct {
	From         string         `json:"from"`
	To           string         `json:"to"`
	Metrics      []MetricChange `json:"metrics"`
	Params       []Change       `json:"params"`
	Signature    []Change       `json:"signature"`
	Artifacts    []Change       `json:"artifacts"`
	Code         []Change       `json:"code"`
	Data         []Change       `json:"data"`
	Dependencies []Change       `json:"dependencies"`
	Importance   []MetricChange `json:"importance"`
	// Card is the difference of the card texts as a unified diff; empty when they are
	// equal.
	Card          string        `json:"card,omitempty"`
	Compatibility Compatibility `json:"compatibility" enum:"compatible,widened,breaking,unknown"`
}

// DiffVersions compares two versions of one or of two models.
func DiffVersions(a, b *Version) Diff {
	d := Diff{
		From: a.Ref, To: b.Ref,
		Metrics: diffMetrics(a.Metrics, b.Metrics),
		Params:  diffMaps(a.Params, b.Params),
		Artifacts: diffMaps(describe(a.Artifacts, func(x Artifact) (string, string) {
			return x.Name, fmt.Sprintf("%s, %d bytes", shortDigest(x.Digest), x.Size)
		}), describe(b.Artifacts, func(x Artifact) (string, string) {
			return x.Name, fmt.Sprintf("%s, %d bytes", shortDigest(x.Digest), x.Size)
		})),
		Code:         diffMaps(a.Code.fields(), b.Code.fields()),
		Data:         diffMaps(describe(a.Data, DataUse.pair), describe(b.Data, DataUse.pair)),
		Dependencies: diffMaps(describe(a.Dependencies, Dependency.pair), describe(b.Dependencies, Dependency.pair)),
		Importance:   diffMetrics(a.Importance, b.Importance),
	}
	for i := range d.Importance { // more importance is neither better nor worse
		if m := &d.Importance[i]; m.Difference != nil && *m.Difference != 0 {
			m.Verdict = "changed"
		}
	}
	if from, to := a.Card.text(), b.Card.text(); from != to {
		d.Card = udiff.Unified(a.Ref, b.Ref, from, to)
	}
	d.Signature, d.Compatibility = DiffSignatures(a.Signature, b.Signature)
	return d
}

func (u DataUse) pair() (string, string) { return u.Role + " " + dataName(u.Data), u.Data }

// dataName is the name of a data set without the number of its revision.
func dataName(ref string) string {
	name, _, _ := strings.Cut(ref, "#")
	return name
}

func (d Dependency) pair() (string, string) {
	want := strings.TrimSpace(d.Want + " " + d.Extra)
	if want == "" {
		want = "any"
	}
	return d.Name, want
}

// text is the card with a line end at its end, so that its last line compares equal.
func (c *Card) text() string {
	if c == nil || c.Text == "" {
		return ""
	}
	return strings.TrimRight(c.Text, "\n") + "\n"
}

func shortDigest(d string) string { return "sha256 " + d[:min(12, len(d))] }

func (c *Code) fields() map[string]string {
	if c == nil {
		return nil
	}
	m := map[string]string{"commit": c.Commit}
	if c.Branch != "" {
		m["branch"] = c.Branch
	}
	if c.Dirty {
		m["uncommitted changes"] = "yes"
	}
	return m
}

func describe[T any](items []T, pair func(T) (string, string)) map[string]string {
	m := make(map[string]string, len(items))
	for _, item := range items {
		k, v := pair(item)
		m[k] = v
	}
	return m
}

func diffMaps(a, b map[string]string) []Change {
	out := []Change{}
	for _, k := range bothKeys(a, b) {
		from, inA := a[k]
		to, inB := b[k]
		switch {
		case !inA:
			out = append(out, Change{Name: k, To: to, Kind: "added"})
		case !inB:
			out = append(out, Change{Name: k, From: from, Kind: "removed"})
		case from != to:
			out = append(out, Change{Name: k, From: from, To: to, Kind: "changed"})
		}
	}
	return out
}

func bothKeys[V any](a, b map[string]V) []string {
	keys := append(sortedKeys(a), sortedKeys(b)...)
	slices.Sort(keys)
	return slices.Compact(keys)
}

func diffMetrics(a, b map[string]float64) []MetricChange {
	out := []MetricChange{}
	for _, k := range bothKeys(a, b) {
		from, inA := a[k]
		to, inB := b[k]
		m := MetricChange{Name: k}
		if inA {
			m.From = &from
		}
		if inB {
			m.To = &to
		}
		switch {
		case !inA:
			m.Verdict = "only in to"
		case !inB:
			m.Verdict = "only in from"
		default:
			d := to - from
			m.Difference = &d
			m.Verdict = JudgeMetric(k, from, to)
		}
		out = append(out, m)
	}
	return out
}

// JudgeMetric says whether the value `to` of a metric is better, worse, or the same as
// `from`.
func JudgeMetric(metric string, from, to float64) string {
	switch w := Worsening(metric, from, to, LowerIsBetter(metric)); {
	case w < 0:
		return "better"
	case w > 0:
		return "worse"
	}
	return "same"
}

// Worsening is by how much the value `to` of a metric is worse than `from`, in the
// metric's own unit; below zero when it is better. A bias is better nearer to zero.
func Worsening(metric string, from, to float64, lowerIsBetter bool) float64 {
	switch {
	case strings.Contains(strings.ToLower(metric), "bias"):
		return math.Abs(to) - math.Abs(from)
	case lowerIsBetter:
		return to - from
	}
	return from - to
}

// DiffSignatures compares two signatures as a caller of the first would feel it.
func DiffSignatures(a, b *Signature) ([]Change, Compatibility) {
	if a == nil || b == nil {
		return []Change{}, NotKnown
	}
	verdict := Compatible
	worsen := func(c Compatibility) {
		if c == Breaking || verdict == Compatible {
			verdict = c
		}
	}
	changes := diffColumns("input", a.Inputs, b.Inputs, worsen)
	changes = append(changes, diffColumns("output", a.Outputs, b.Outputs, worsen)...)
	return changes, verdict
}

func diffColumns(kind string, a, b []Column, worsen func(Compatibility)) []Change {
	byName := func(cols []Column) map[string]Column {
		m := map[string]Column{}
		for _, c := range cols {
			m[c.Name] = c
		}
		return m
	}
	from, to := byName(a), byName(b)
	out := []Change{}
	for _, name := range bothKeys(from, to) {
		f, inA := from[name]
		t, inB := to[name]
		c := Change{Name: kind + " " + name}
		switch {
		case !inA:
			c.Kind, c.To = "added", t.describe()
			if kind == "output" || t.Nullable {
				worsen(Widened)
			} else {
				worsen(Breaking)
				c.Breaking, c.Detail = true, "requests made for the old version lack it"
			}
		case !inB:
			c.Kind, c.From = "removed", f.describe()
			worsen(Breaking)
			c.Breaking, c.Detail = true, map[string]string{
				"input":  "requests still send it",
				"output": "readers still expect it",
			}[kind]
		case f.describe() == t.describe():
			continue
		default:
			c.Kind, c.From, c.To = "changed", f.describe(), t.describe()
			became := f.becomes(t, kind)
			worsen(became)
			c.Breaking = became == Breaking
		}
		out = append(out, c)
	}
	slices.SortStableFunc(out, func(x, y Change) int { return cmp.Compare(x.Kind, y.Kind) })
	return out
}

// becomes judges a column that is in both signatures.
func (c Column) becomes(t Column, kind string) Compatibility {
	wider := c.Type == t.Type || (c.Type == Integer && t.Type == Number)
	switch {
	case !slices.Equal(c.Shape, t.Shape), c.Unit != t.Unit, !wider && kind == "input",
		c.Type != t.Type && kind == "output":
		return Breaking
	case kind == "input" && c.Nullable && !t.Nullable, kind == "output" && !c.Nullable && t.Nullable:
		return Breaking
	case len(t.Levels) > 0 && slices.ContainsFunc(c.Levels,
		func(l string) bool { return !slices.Contains(t.Levels, l) }) && kind == "input":
		return Breaking
	case c.Type != t.Type || c.Nullable != t.Nullable || !slices.Equal(c.Levels, t.Levels):
		return Widened
	}
	return Compatible // only the range seen differs
}

// describe is the column in words.
func (c Column) describe() string {
	parts := []string{string(c.Type)}
	if len(c.Shape) > 0 {
		parts = append(parts, fmt.Sprintf("shape %v", c.Shape))
	}
	if c.Unit != "" {
		parts = append(parts, "in "+c.Unit)
	}
	if len(c.Levels) > 0 {
		parts = append(parts, strings.Join(c.Levels, " | "))
	}
	if c.Min != nil && c.Max != nil {
		parts = append(parts, fmt.Sprintf("%.4g to %.4g", *c.Min, *c.Max))
	}
	if c.Nullable {
		parts = append(parts, "may be missing")
	}
	return strings.Join(parts, ", ")
}
