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
	changes := diffColumns("input", a.Inputs, b.Inputs, false, worsen)
	changes = append(changes, diffColumns("output", a.Outputs, b.Outputs, opensRows(a, b), worsen)...)
	return changes, verdict
}

// opensRows reports whether b takes any number of rows where a took a set one: its answers have
// as many rows as the request then, so who asks for as many as before gets as many.
func opensRows(a, b *Signature) bool {
	return slices.ContainsFunc(b.Inputs, func(t Column) bool {
		return slices.ContainsFunc(a.Inputs, func(f Column) bool {
			return f.Name == t.Name && len(f.Shape) > 0 && len(t.Shape) > 0 && f.Datatype != "" &&
				t.Datatype != "" && f.Shape[0] >= 0 && t.Shape[0] < 0
		})
	})
}

// becomes judges a column that is in both signatures. rows is set when the first dimension of
// outputs follows the request.
func (c Column) becomes(t Column, kind string, rows bool) Compatibility {
	verdict := Compatible // when only the range seen differs
	for _, v := range []Compatibility{
		typeBecomes(c, t, kind), shapeBecomes(c, t, kind, rows), valuesBecome(c, t, kind),
	} {
		if v == Breaking || verdict == Compatible {
			verdict = v
		}
	}
	return verdict
}

// typeBecomes judges types and containers. Callers send exact types by name, so that another one
// is another tensor, however alike.
func typeBecomes(c, t Column, kind string) Compatibility {
	from, to := c.Within, t.Within
	was, is := len(from) > 0 && from[0].Kind == Optional, len(to) > 0 && to[0].Kind == Optional
	if was {
		from = from[1:]
	}
	if is {
		to = to[1:]
	}
	exact := c.Datatype != "" && t.Datatype != ""
	switch {
	case !slices.Equal(from, to), exact && c.Datatype != t.Datatype,
		(kind == "input" && was && !is) || (kind == "output" && !was && is):
		return Breaking
	case was != is:
		return Widened
	case c.Type == t.Type:
		return Compatible
	case kind == "input" && c.Type == Integer && t.Type == Number:
		return Widened
	}
	return Breaking
}

// shapeBecomes judges shapes. Where one of the two is known by its rows only, the rows must be
// as large.
func shapeBecomes(c, t Column, kind string, rows bool) Compatibility {
	switch {
	case (c.Datatype == "") != (t.Datatype == ""):
		if a, b := c.row(), t.row(); a >= 0 && b >= 0 && a != b {
			return Breaking
		}
		return Compatible
	case c.Datatype == "":
		if !slices.Equal(c.Shape, t.Shape) {
			return Breaking
		}
		return Compatible
	case c.AnyShape && t.AnyShape:
		return Compatible
	case c.AnyShape || t.AnyShape:
		if t.AnyShape == (kind == "input") {
			return Widened
		}
		return Breaking
	case len(c.Shape) != len(t.Shape):
		return Breaking
	}
	verdict := Compatible
	for i, from := range c.Shape {
		switch to := t.Shape[i]; {
		case from == to:
		case to < 0 && (kind == "input" || (i == 0 && rows)), from < 0 && kind == "output":
			verdict = Widened
		default:
			return Breaking
		}
	}
	return verdict
}

// valuesBecome judges what the values mean and which there are. A unit that is said where there was
// none is one that callers never agreed to; one that is said no more takes nothing from them.
func valuesBecome(c, t Column, kind string) Compatibility {
	lost := func(l string) bool { return !slices.Contains(t.Levels, l) }
	switch {
	case t.Unit != "" && c.Unit != t.Unit, !slices.Equal(c.Parts, t.Parts),
		kind == "input" && c.Nullable && !t.Nullable, kind == "output" && !c.Nullable && t.Nullable,
		kind == "input" && len(t.Levels) > 0 && slices.ContainsFunc(c.Levels, lost):
		return Breaking
	case c.Unit != t.Unit, c.Nullable != t.Nullable, !slices.Equal(c.Levels, t.Levels):
		return Widened
	}
	return Compatible
}

func diffColumns(kind string, a, b []Column, rows bool, worsen func(Compatibility)) []Change {
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
			if kind == "output" || t.optional() {
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
			became := f.becomes(t, kind, rows)
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

// Same reports whether two signatures say the same to callers, whatever ranges were seen.
func (s *Signature) Same(o *Signature) bool {
	changes, verdict := Diff(s, o)
	return verdict == Compatible && !slices.ContainsFunc(changes, func(c Change) bool { return c.Kind != "changed" })
}
