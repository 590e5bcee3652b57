package signature

import (
	"encoding/json"
	"fmt"
	"testing"
)

// A sample request holds a value that every column can take, and survives its JSON.
func TestSampleRequestsOfDeclaredColumns(t *testing.T) {
	low, high, huge := 2.0, 6.0, 1e300
	s := &Signature{Inputs: []Column{
		{Name: "between", Type: Number, Min: &low, Max: &high},
		{Name: "from", Type: Number, Min: &high},
		{Name: "to", Type: Number, Max: &low},
		{Name: "any", Type: Number},
		{Name: "count", Type: Integer, Min: &huge},
		{Name: "flag", Type: Boolean},
		{Name: "mix", Type: Text, Levels: []string{"harbour", "works"}},
		{Name: "free", Type: Text},
		{Name: "three", Type: Number, Shape: []int64{3}, Min: &low},
	}}
	var request struct {
		Inputs []struct {
			Name  string
			Shape []int64
			Data  []any
		}
	}
	if err := json.Unmarshal(s.SampleRequest(nil), &request); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, in := range request.Inputs {
		got[in.Name] = fmt.Sprint(in.Data)
	}
	for name, want := range map[string]string{
		"between": "[4]", "from": "[6]", "to": "[2]", "any": "[0]",
		"flag": "[false]", "mix": "[harbour]", "free": "[]", "three": "[2 2 2]",
	} {
		if got[name] != want {
			t.Errorf("%s: %s, want %s", name, got[name], want)
		}
	}
	if wide := (&Signature{Inputs: []Column{{Name: "picture", Type: Number, Shape: []int64{3, 2000, 2000}}}}).
		SampleRequest(nil); wide != nil {
		t.Errorf("a sample of %d bytes", len(wide))
	}
	if none := (&Signature{}).SampleRequest(nil); none != nil {
		t.Errorf("of nothing: %s", none)
	}
}
