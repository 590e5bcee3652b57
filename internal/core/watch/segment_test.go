package watch

import (
	"math/rand/v2"
	"strings"
	"testing"

	"innerladder/internal/core/signature"
)

func TestOneSegment(t *testing.T) {
	columns := []signature.Column{
		{Name: "mix", Type: signature.Text, Levels: []string{"harbour", "old-town", "works"}},
		{Name: "outdoor", Type: signature.Number},
		{Name: "customer", Type: signature.Text},
	}
	r := rand.New(rand.NewPCG(1, 1))
	usual := func() map[string]any {
		return map[string]any{
			"mix": columns[0].Levels[r.IntN(3)], "outdoor": 10 * r.NormFloat64(), "customer": "c1",
		}
	}
	some := func(n int, change func(map[string]any)) (out []map[string]any) {
		for range n {
			one := usual()
			change(one)
			out = append(out, one)
		}
		return out
	}
	as := func(map[string]any) {}
	for name, c := range map[string]struct {
		troubled []map[string]any
		fine     []map[string]any
		says     string
	}{
		"a level": {
			some(40, func(m map[string]any) { m["mix"] = "harbour" }), some(100, as),
			"40 of 40 that failed have mix harbour",
		},
		"cold ones": {
			some(40, func(m map[string]any) { m["outdoor"] = -30 - r.Float64() }), some(100, as),
			"have outdoor below -",
		},
		"hot ones": {
			some(40, func(m map[string]any) { m["outdoor"] = 30 + r.Float64() }), some(100, as),
			"have outdoor above ",
		},
		"without a column": {
			some(40, func(m map[string]any) { m["outdoor"] = nil }), some(100, as), "lack outdoor, as 0 %",
		},
		"all alike":        {some(40, as), some(100, as), ""},
		"too little":       {some(5, func(m map[string]any) { m["mix"] = "harbour" }), some(100, as), ""},
		"hardly any other": {some(40, func(m map[string]any) { m["mix"] = "harbour" }), some(5, as), ""},
		"what all have":    {some(40, as), some(100, func(m map[string]any) { m["mix"] = "works" }), ""},
		"a name": { // no level of the contract: it is nobody's to read in an alert
			some(40, func(m map[string]any) { m["customer"] = "frost & sons" }), some(100, as), "",
		},
	} {
		says := OneSegment(columns, c.troubled, c.fine, "failed")
		if !strings.Contains(says, c.says) || (says == "") != (c.says == "") {
			t.Errorf("%s: %q, want %q", name, says, c.says)
		}
	}
}
