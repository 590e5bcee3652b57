package signature

import (
	"strings"
	"testing"
)

func TestWhatIsSentFits(t *testing.T) {
	s := &Signature{Inputs: []Column{
		{Name: "outdoor_c", Type: Number, Datatype: "FP64", Shape: []int64{-1}},
		{Name: "hour", Type: Integer, Datatype: "UINT8", Shape: []int64{-1}},
		{Name: "mix", Type: Text, Datatype: "BYTES", Shape: []int64{-1, 1}},
		{Name: "wind_ms", Type: Number, Nullable: true},
	}}
	sent := func(change func(map[string]*Sent)) []Sent {
		all := map[string]*Sent{
			"outdoor_c": {Tensor{"outdoor_c", "FP64", []int64{2}}, []any{-3.5, nil}},
			"hour":      {Tensor{"hour", "UINT8", []int64{2}}, []any{7.0, 8.0}},
			"mix":       {Tensor{"mix", "BYTES", []int64{2, 1}}, []any{"harbour", "works"}},
			"wind_ms":   {Tensor{"wind_ms", "FP32", []int64{2}}, []any{1.5, 2.5}},
		}
		change(all)
		var out []Sent
		for _, name := range []string{"mix", "hour", "outdoor_c", "wind_ms", "more", "hour again"} { // in any order
			if all[name] != nil {
				out = append(out, *all[name])
			}
		}
		return out
	}
	for want, change := range map[string]func(map[string]*Sent){
		"":                               func(map[string]*Sent) {},
		`input "hour" (UINT8`:            func(m map[string]*Sent) { delete(m, "hour") },
		`there is no input "more"`:       func(m map[string]*Sent) { m["more"] = &Sent{Tensor: Tensor{Name: "more"}} },
		`input "hour" is sent twice`:     func(m map[string]*Sent) { m["hour again"] = m["hour"] },
		`"outdoor_c" is sent as "FP3`:    func(m map[string]*Sent) { m["outdoor_c"].Datatype = "FP32" },
		`"mix" has the shape [2]`:        func(m map[string]*Sent) { m["mix"].Shape = []int64{2} },
		`"mix" has the shape [1 2]`:      func(m map[string]*Sent) { m["mix"].Shape = []int64{1, 2} },
		`"wind_ms" has 3 values in a`:    func(m map[string]*Sent) { m["wind_ms"].Shape = []int64{2, 3} },
		`value 2 of input "hour" is 8.5`: func(m map[string]*Sent) { m["hour"].Values[1] = 8.5 },
		`of input "hour" is 300`:         func(m map[string]*Sent) { m["hour"].Values[1] = 300.0 },
		`of input "hour" is -1`:          func(m map[string]*Sent) { m["hour"].Values[1] = -1.0 },
		`of input "outdoor_c" is cold`:   func(m map[string]*Sent) { m["outdoor_c"].Values[0] = "cold" },
		`of input "mix" is 4`:            func(m map[string]*Sent) { m["mix"].Values[0] = 4.0 },
		`of input "wind_ms" is true`:     func(m map[string]*Sent) { m["wind_ms"].Values[0] = true },
	} {
		got := s.Misfit(sent(change))
		if want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%q: %s", want, got)
		}
	}
	if why := s.Misfit(sent(func(m map[string]*Sent) { delete(m, "wind_ms") })); why != "" {
		t.Errorf("without what may be missing: %s", why)
	}
	one := &Signature{Inputs: []Column{{Name: "a", Type: Number}, {Name: "b", Type: Number}}}
	packed := []Sent{{Tensor{"rows", "FP32", []int64{2, 2}}, []any{1.0, 2.0, 3.0, nil}}}
	if why := one.Misfit(packed); why != "" {
		t.Errorf("all in one tensor: %s", why)
	}
	if packed[0].Values[1] = "x"; one.Misfit(packed) == "" {
		t.Error("a text among numbers fits")
	}
	if why := (&Signature{}).Misfit(packed); why != "" {
		t.Errorf("of what nothing is known: %s", why)
	}
}
