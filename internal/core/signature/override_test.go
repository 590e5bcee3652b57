package signature

import (
	"encoding/json"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

func TestARequestWithOtherValues(t *testing.T) {
	s := &Signature{Inputs: []Column{
		{Name: "outdoor_c", Type: Number},
		{Name: "hour", Type: Integer, Datatype: "UINT8", Shape: []int64{-1}},
		{Name: "mix", Type: Text},
		{Name: "holiday", Type: Boolean},
		{Name: "last", Type: Number, Shape: []int64{2}},
	}}
	sample := s.SampleRequest(nil)
	for _, c := range []struct {
		values     map[string]any
		says, code string
	}{
		{nil, `"outdoor_c"`, ""},
		{map[string]any{"outdoor_c": -3.5, "mix": "harbour"}, `"data":[-3.5]`, ""},
		{map[string]any{"outdoor_c": "-3.5", "hour": "7", "holiday": "true"}, `"data":[7]`, ""},
		{map[string]any{"last": []any{1.0, "2"}}, `"data":[1,2]`, ""},
		{map[string]any{"outdoor_c": nil}, `"data":[null]`, ""},
		{map[string]any{"wind": 1.0}, "", "try.input"},
		{map[string]any{"outdoor_c": "cold"}, "", "try.value"},
		{map[string]any{"hour": 7.5}, "", "try.value"},
		{map[string]any{"hour": "300"}, "", "try.value"},
		{map[string]any{"holiday": "maybe"}, "", "try.value"},
		{map[string]any{"mix": 4.0}, "", "try.value"},
		{map[string]any{"last": []any{1.0}}, "", "try.values"},
	} {
		got, err := s.Override(sample, c.values)
		if fault.Code(err) != c.code || !strings.Contains(string(got), c.says) || err == nil && !json.Valid(got) {
			t.Errorf("%v: %s, %v", c.values, got, err)
		}
	}
	if _, err := s.Override(json.RawMessage(`{`), nil); fault.Code(err) != "try.request" {
		t.Errorf("of no request: %v", err)
	}
}
