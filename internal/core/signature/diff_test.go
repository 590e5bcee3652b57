package signature

import (
	"slices"
	"testing"
)

// What a change of one column means to whoever calls the old version. A gate lets a
// candidate through by this, so every rule stands here on its own.
func TestWhatAChangedColumnMeans(t *testing.T) {
	low, high, higher := 0.0, 1.0, 2.0
	number := Column{Name: "x", Type: Number}
	with := func(change func(*Column)) Column {
		c := number
		change(&c)
		return c
	}
	text := func(nullable bool, levels ...string) Column {
		return Column{Name: "x", Type: Text, Nullable: nullable, Levels: levels}
	}
	for name, c := range map[string]struct {
		from, to      Column
		input, output Compatibility
	}{
		"the same": {number, number, Compatible, Compatible},
		"another range": {
			with(func(c *Column) { c.Min, c.Max = &low, &high }),
			with(func(c *Column) { c.Min, c.Max = &low, &higher }), Compatible, Compatible,
		},
		"an integer becomes a number": {with(func(c *Column) { c.Type = Integer }), number, Widened, Breaking},
		"a number becomes an integer": {number, with(func(c *Column) { c.Type = Integer }), Breaking, Breaking},
		"a number becomes a text":     {number, with(func(c *Column) { c.Type = Text }), Breaking, Breaking},
		"another unit": {
			with(func(c *Column) { c.Unit = "°C" }),
			with(func(c *Column) { c.Unit = "°F" }), Breaking, Breaking,
		},
		"a unit is added": {number, with(func(c *Column) { c.Unit = "°F" }), Breaking, Breaking},
		"another shape": {
			with(func(c *Column) { c.Shape = []int64{2} }),
			with(func(c *Column) { c.Shape = []int64{3} }), Breaking, Breaking,
		},
		"may be missing now":          {number, with(func(c *Column) { c.Nullable = true }), Widened, Breaking},
		"may be missing no more":      {with(func(c *Column) { c.Nullable = true }), number, Breaking, Widened},
		"a level more":                {text(false, "a", "b"), text(false, "a", "b", "c"), Widened, Widened},
		"a level less":                {text(false, "a", "b"), text(false, "a"), Breaking, Widened},
		"any level":                   {text(false, "a", "b"), text(false), Widened, Widened},
		"levels that were any before": {text(false), text(false, "a"), Widened, Widened},
	} {
		_, got := Diff(&Signature{Inputs: []Column{c.from}}, &Signature{Inputs: []Column{c.to}})
		if got != c.input {
			t.Errorf("%s, an input: %s, want %s", name, got, c.input)
		}
		_, got = Diff(&Signature{Outputs: []Column{c.from}}, &Signature{Outputs: []Column{c.to}})
		if got != c.output {
			t.Errorf("%s, an output: %s, want %s", name, got, c.output)
		}
	}
}

// Columns that come and go.
func TestColumnsComeAndGo(t *testing.T) {
	x, y := Column{Name: "x", Type: Number}, Column{Name: "y", Type: Number}
	optional := Column{Name: "y", Type: Number, Nullable: true}
	for name, c := range map[string]struct {
		from, to Signature
		want     Compatibility
	}{
		"an input that must be there": {
			Signature{
				Inputs: []Column{x},
			}, Signature{Inputs: []Column{x, y}}, Breaking,
		},
		"an input that may be absent": {
			Signature{Inputs: []Column{x}},
			Signature{Inputs: []Column{x, optional}},
			Widened,
		},
		"an input goes": {
			Signature{
				Inputs: []Column{x, y},
			}, Signature{Inputs: []Column{x}}, Breaking,
		},
		"an output comes": {
			Signature{
				Outputs: []Column{x},
			}, Signature{Outputs: []Column{x, y}}, Widened,
		},
		"an output goes": {
			Signature{
				Outputs: []Column{x, y},
			}, Signature{Outputs: []Column{x}}, Breaking,
		},
		"another order": {
			Signature{Inputs: []Column{x, y}},
			Signature{Inputs: []Column{y, x}},
			Compatible,
		},
	} {
		changes, got := Diff(&c.from, &c.to)
		if got != c.want {
			t.Errorf("%s: %s, want %s: %+v", name, got, c.want, changes)
		}
		if breaks := slices.ContainsFunc(changes,
			func(c Change) bool { return c.Breaking }); breaks != (c.want == Breaking) {
			t.Errorf("%s: which change breaks is not said: %+v", name, changes)
		}
	}
}

func TestDiff(t *testing.T) {
	base := Signature{
		Inputs: []Column{
			{Name: "temp_c", Type: Number, Unit: "°C"}, {Name: "hour", Type: Integer},
		},
		Outputs: []Column{{Name: "demand_mw", Type: Number}},
	}
	cases := []struct {
		name   string
		change func(*Signature)
		want   Compatibility
	}{
		{"nothing", func(*Signature) {}, Compatible},
		{"another range", func(s *Signature) { low := 1.0; s.Inputs[1].Min, s.Inputs[1].Max = &low, &low }, Compatible},
		{"integer to number", func(s *Signature) { s.Inputs[1].Type = Number }, Widened},
		{"may now be missing", func(s *Signature) { s.Inputs[0].Nullable = true }, Widened},
		{
			"one more output", func(s *Signature) {
				s.Outputs = append(s.Outputs, Column{Name: "p90", Type: Number})
			},
			Widened,
		},
		{
			"one more input", func(s *Signature) {
				s.Inputs = append(s.Inputs, Column{Name: "wind_ms", Type: Number})
			},
			Breaking,
		},
		{"another unit", func(s *Signature) { s.Inputs[0].Unit = "°F" }, Breaking},
		{"an input less", func(s *Signature) { s.Inputs = s.Inputs[:1] }, Breaking},
		{"the output is text now", func(s *Signature) { s.Outputs[0].Type = Text }, Breaking},
	}
	for _, c := range cases {
		other := Signature{
			Inputs:  append([]Column(nil), base.Inputs...),
			Outputs: append([]Column(nil), base.Outputs...),
		}
		c.change(&other)
		changes, got := Diff(&base, &other)
		if slices.ContainsFunc(changes, func(ch Change) bool { return ch.Breaking }) != (got == Breaking) {
			t.Errorf("%s: %s, by %+v", c.name, got, changes)
		}
		if got != c.want {
			t.Errorf("%s: got %s, want %s (%v)", c.name, got, c.want, changes)
		}
		if (c.name == "nothing") != (len(changes) == 0) {
			t.Errorf("%s: %v", c.name, changes)
		}
	}
}
