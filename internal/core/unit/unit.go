// Package unit is about numbers that come in another unit than they should.
package unit

import "slices"

// Change is a way in which a number comes in another unit: what comes is Scale times what should, and Offset more.
type Change struct {
	What          string
	Scale, Offset float64
	// of are the units that it is about; any where there are none.
	of []string
}

// Of is a number in the other unit.
func (c Change) Of(x float64) float64 { return c.Scale*x + c.Offset }

var changes = []Change{
	{"in degrees Fahrenheit and not Celsius", 1.8, 32, []string{"°C", "C", "degC", "celsius"}},
	{"in degrees Celsius and not Fahrenheit", 1 / 1.8, -32 / 1.8, []string{"°F", "F", "degF", "fahrenheit"}},
	{"in kelvin and not degrees Celsius", 1, 273.15, []string{"°C", "C", "degC", "celsius"}},
	{"in degrees Celsius and not kelvin", 1, -273.15, []string{"K", "kelvin"}},
	{"a thousand times too large, as from kilo to the unit itself", 1000, 0, nil},
	{"a thousandth of what it should be, as from the unit itself to kilo", 0.001, 0, nil},
	{"a hundred times too large, as per cent and not a share", 100, 0, nil},
	{"a hundredth of what it should be, as a share and not per cent", 0.01, 0, nil},
	{"3.6 times too large, as km/h and not m/s", 3.6, 0, []string{"m/s"}},
	{"1/3.6 of what it should be, as m/s and not km/h", 1 / 3.6, 0, []string{"km/h"}},
	{"60 times too large, as from hours or minutes to the next smaller", 60, 0, []string{"h", "min"}},
	{"a 60th of what it should be, as from seconds or minutes to the next larger", 1.0 / 60, 0, []string{"s", "min"}},
}

// Changes lists the ways in which a number in a unit comes in another; all of them where it is not known in which unit
// it should be, or nothing is known of that.
func Changes(of string) []Change {
	known := func(c Change) bool { return slices.Contains(c.of, of) }
	if !slices.ContainsFunc(changes, known) {
		return changes
	}
	return slices.DeleteFunc(slices.Clone(changes), func(c Change) bool { return c.of != nil && !known(c) })
}
