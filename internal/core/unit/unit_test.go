package unit

import (
	"math"
	"testing"
)

func TestUnits(t *testing.T) {
	names := func(of string) (out []string) {
		for _, c := range Changes(of) {
			out = append(out, c.What)
		}
		return out
	}
	if n := len(names("")); n != len(changes) || len(names("MW")) != n {
		t.Errorf("%d of a unit that is not known", n)
	}
	got := names("°C")
	if len(got) != 6 || got[0] != "in degrees Fahrenheit and not Celsius" ||
		got[1] != "in kelvin and not degrees Celsius" {
		t.Errorf("%q", got)
	}
	for i := 0; i+1 < len(changes); i += 2 { // they stand in pairs, there and back; kelvin with its own
		there, back := changes[i], changes[i+1]
		if x := back.Of(there.Of(17)); math.Abs(x-17) > 1e-9 {
			t.Errorf("%s and back is %v", there.What, x)
		}
	}
}
