package signature_test

import (
	"encoding/json"
	"strings"
	"testing"

	"innerladder/internal/core/signature"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// A validator that nobody here made takes what keeps a contract and refuses what breaks it.
func TestSchemasOfContracts(t *testing.T) {
	s := &signature.Signature{
		Inputs: []signature.Column{
			{Name: "temp_c", Type: signature.Number, Datatype: "FP32", Shape: []int64{-1, 2}},
			{Name: "mix", Type: signature.Text, Datatype: "BYTES", Shape: []int64{-1}, Levels: []string{"works"}},
			{Name: "wind", Type: signature.Number, Nullable: true},
		},
		Outputs: []signature.Column{{Name: "y", Type: signature.Number, Datatype: "FP64", Shape: []int64{-1}}},
	}
	requests, answers := compile(t, s.RequestSchema("demand-hourly, contract 1")), compile(t, s.AnswerSchema("answers"))
	const temp = `{"name":"temp_c","shape":[1,2],"datatype":"FP32","data":[1,2.5]}`
	const mix = `{"name":"mix","shape":[1],"datatype":"BYTES","data":["works"]}`
	for name, c := range map[string]struct {
		schema *jsonschema.Schema
		body   string
		good   bool
	}{
		"a request":        {requests, `{"inputs":[` + temp + `,` + mix + `]}`, true},
		"in another order": {requests, `{"id":"7","inputs":[` + mix + `,` + temp + `]}`, true},
		"our own sample":   {requests, string(s.SampleRequest(nil)), true},
		"nested": {
			requests,
			`{"inputs":[` + strings.Replace(temp, "[1,2.5]", "[[1,2.5]]", 1) + `,` + mix + `]}`, true,
		},
		"an input is missing": {requests, `{"inputs":[` + temp + `]}`, false},
		"an input is twice":   {requests, `{"inputs":[` + temp + `,` + temp + `,` + mix + `]}`, false},
		"an input too many": {
			requests,
			`{"inputs":[` + temp + `,` + mix + `,{"name":"z","shape":[1],"datatype":"FP32","data":[1]}]}`, false,
		},
		"another type": {
			requests, `{"inputs":[` + strings.Replace(temp, "FP32", "FP64", 1) + `,` + mix + `]}`,
			false,
		},
		"another shape": {
			requests,
			`{"inputs":[` + strings.Replace(temp, "[1,2]", "[1,3]", 1) + `,` + mix + `]}`, false,
		},
		"a level that is none": {
			requests,
			`{"inputs":[` + temp + `,` + strings.Replace(mix, `"works"`, `"port"`, 1) + `]}`, false,
		},
		"no inputs": {requests, `{}`, false},
		"an answer": {
			answers,
			`{"outputs":[{"name":"y","shape":[1],"datatype":"FP64","data":[3]},` +
				`{"name":"more","shape":[9],"datatype":"BYTES","data":["a"]}]}`, true,
		},
		"an answer of another type": {
			answers, `{"outputs":[{"name":"y","shape":[1],"datatype":"FP32","data":[3]}]}`,
			false,
		},
		"an answer without it": {answers, `{"outputs":[]}`, false},
	} {
		body, err := jsonschema.UnmarshalJSON(strings.NewReader(c.body))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := c.schema.Validate(body); (err == nil) != c.good {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func compile(t *testing.T, schema map[string]any) *jsonschema.Schema {
	t.Helper()
	b, err := json.Marshal(schema)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("contract.json", doc); err != nil {
		t.Fatal(err)
	}
	compiled, err := c.Compile("contract.json")
	if err != nil {
		t.Fatal(err)
	}
	return compiled
}
