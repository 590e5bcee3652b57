package signature

import (
	"cmp"
	"slices"
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

// Diff compares two signatures as a caller of the first would feel it.
func Diff(a, b *Signature) ([]Change, Compatibility) {
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
	names := append(Names(a), Names(b)...)
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
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
