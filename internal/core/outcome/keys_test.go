package outcome

import (
	"reflect"
	"testing"
	"time"
)

// Truths find the rows that have their keys, around their time: numbers are the same however they are written, and
// texts are not numbers.
func TestFindingByKeys(t *testing.T) {
	d := NewKeyed(time.Minute)
	early := at.Add(-2 * time.Minute)
	for n, c := range []Truth{
		{Keys: map[string]string{"wind": "3.0", "mix": "harbour"}, At: &at},
		{Keys: map[string]string{"wind": "4e0"}, At: &at},
		{Keys: map[string]string{"mix": " 07 "}, At: &at},
		{Keys: map[string]string{"mix": "7"}, At: &at}, // the text 07 is another than the text 7
		{Keys: map[string]string{"wind": "3", "mix": "07"}, At: &at},
		{Keys: map[string]string{"wind": "3", "mix": "harbour"}, At: &early},
		{Keys: map[string]string{"rain": "3"}, At: &at},
		{Keys: map[string]string{"wind": "3"}, At: &at},
		{Keys: map[string]string{"mix": ""}, At: &at},
		{Keys: map[string]string{"mix": `harbour""4`}, At: &at},
	} {
		d.Put(n, &c)
	}
	got := d.Of(asked("3,4", `"harbour","07"`, output("demand", "1.5,2.5")))
	if want := []Wanted{{0, 0}, {7, 0}, {1, 1}, {2, 1}}; !reflect.DeepEqual(got, want) {
		t.Errorf("%+v", got)
	}
	if got := d.Of(asked("null", `null`, output("demand", "1.5"))); got != nil {
		t.Errorf("of what is missing: %+v", got)
	}
	if from, to := d.Span(); !from.Equal(early.Add(-time.Minute)) || !to.Equal(at.Add(time.Minute)) {
		t.Errorf("from %v to %v", from, to)
	}
	if text := d.Truths()[0].KeysInWords(); text != "mix harbour, wind 3.0" {
		t.Error(text)
	}
}

// Whatever the values are, a truth is found exactly where each of its keys is equal.
func TestFindingByKeysIsComparing(t *testing.T) {
	texts := []string{"3", "3.0", "0x3p0", "+3", "", " ", "NaN", "Inf", "-0", "0", "true", "1e400"}
	values := []any{3.0, 0.0, "3", "3.0", "", "NaN", "Inf", "true", true, "-0", "1e400"}
	for _, text := range texts {
		for _, v := range values {
			d := NewKeyed(0)
			d.Put(0, &Truth{Keys: map[string]string{"x": text}, At: &at})
			f := &d.forms[0]
			key, _ := f.key(func(string) (string, bool) { return class(v), true })
			if equal(v, text) && len(f.by[key]) != 1 {
				t.Errorf("%v (%T) is %q, and is not found", v, v, text)
			}
		}
	}
}
