package registry

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/signature"

	"github.com/aymanbagabas/go-udiff"
)

// MetricChange is one metric of either version, changed or not.
type MetricChange struct {
	Name string   `json:"name"`
	Unit string   `json:"unit,omitempty"`
	From *float64 `json:"from,omitempty"`
	To   *float64 `json:"to,omitempty"`
	// FromMeasured and ToMeasured are set where an attached report measured it.
	FromMeasured *metric.Measured `json:"from_measured,omitempty" description:"the report that measured it, if any"`
	ToMeasured   *metric.Measured `json:"to_measured,omitempty" description:"the report that measured it, if any"`
	// Difference is To less From; Verdict takes into account which way is better.
	Difference *float64 `json:"difference,omitempty"`
	Verdict    string   `json:"verdict" enum:"better,worse,same,changed,only in the first,only in the second"`
}

// Diff is how the version To differs from the version From.
type Diff struct {
	From         string             `json:"from"`
	To           string             `json:"to"`
	Metrics      []MetricChange     `json:"metrics"`
	Params       []signature.Change `json:"params"`
	Signature    []signature.Change `json:"signature"`
	Artifacts    []signature.Change `json:"artifacts"`
	Code         []signature.Change `json:"code"`
	Data         []signature.Change `json:"data"`
	Dependencies []signature.Change `json:"dependencies"`
	Importance   []MetricChange     `json:"importance"`
	// Card is the difference of the card texts as a unified diff; empty when they are
	// equal.
	Card          string                  `json:"card,omitempty"`
	Compatibility signature.Compatibility `json:"compatibility" enum:"compatible,widened,breaking,unknown"`
}

// DiffVersions compares two versions of one or of two models.
func DiffVersions(a, b *Version) Diff {
	d := Diff{
		From: a.Ref, To: b.Ref,
		Metrics: diffMetrics(a.Metrics, b.Metrics, b.Meanings),
		Params:  diffMaps(a.Params, b.Params),
		Artifacts: diffMaps(describe(a.Artifacts, func(x Artifact) (string, string) {
			return x.Name, fmt.Sprintf("%s, %d bytes", shortDigest(x.Digest), x.Size)
		}), describe(b.Artifacts, func(x Artifact) (string, string) {
			return x.Name, fmt.Sprintf("%s, %d bytes", shortDigest(x.Digest), x.Size)
		})),
		Code:         diffMaps(a.Code.Fields(), b.Code.Fields()),
		Data:         diffMaps(describe(a.Data, lineage.DataUse.Pair), describe(b.Data, lineage.DataUse.Pair)),
		Dependencies: diffMaps(describe(a.Dependencies, Dependency.pair), describe(b.Dependencies, Dependency.pair)),
		Importance:   diffMetrics(a.Importance, b.Importance, nil),
	}
	for i := range d.Importance { // more importance is neither better nor worse
		if m := &d.Importance[i]; m.Difference != nil && *m.Difference != 0 {
			m.Verdict = "changed"
		}
	}
	for i := range d.Metrics {
		m := &d.Metrics[i]
		m.Verdict = b.noPraise(m.Verdict)
		if by, measured := a.Measured[m.Name]; measured {
			m.FromMeasured = &by
		}
		if by, measured := b.Measured[m.Name]; measured {
			m.ToMeasured = &by
		}
	}
	if from, to := a.Card.text(), b.Card.text(); from != to {
		d.Card = udiff.Unified(a.Ref, b.Ref, from, to)
	}
	d.Signature, d.Compatibility = signature.Diff(a.Signature, b.Signature)
	return d
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

func describe[T any](items []T, pair func(T) (string, string)) map[string]string {
	m := make(map[string]string, len(items))
	for _, item := range items {
		k, v := pair(item)
		m[k] = v
	}
	return m
}

func diffMaps(a, b map[string]string) []signature.Change {
	out := []signature.Change{}
	for _, k := range bothKeys(a, b) {
		from, inA := a[k]
		to, inB := b[k]
		switch {
		case !inA:
			out = append(out, signature.Change{Name: k, To: to, Kind: "added"})
		case !inB:
			out = append(out, signature.Change{Name: k, From: from, Kind: "removed"})
		case from != to:
			out = append(out, signature.Change{Name: k, From: from, To: to, Kind: "changed"})
		}
	}
	return out
}

func bothKeys[V any](a, b map[string]V) []string {
	keys := append(slices.Sorted(maps.Keys(a)), slices.Sorted(maps.Keys(b))...)
	slices.Sort(keys)
	return slices.Compact(keys)
}

func diffMetrics(a, b map[string]float64, mean metric.Meanings) []MetricChange {
	out := []MetricChange{}
	for _, k := range bothKeys(a, b) {
		from, inA := a[k]
		to, inB := b[k]
		m := MetricChange{Name: k, Unit: mean[k].Unit}
		if inA {
			m.From = &from
		}
		if inB {
			m.To = &to
		}
		switch {
		case !inA:
			m.Verdict = "only in the second"
		case !inB:
			m.Verdict = "only in the first"
		default:
			d := to - from
			m.Difference = &d
			m.Verdict = mean[k].Judge(k, from, to)
		}
		out = append(out, m)
	}
	return out
}
