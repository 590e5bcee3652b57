package request

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

const secretValue = "Kvartsgata 7"

var key = []byte("a key of an installation")

func body(t *testing.T, v any) []byte {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestPatternsFitNames(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{
		{"mix", "mix", true},
		{"mix", "mixed", false},
		{"*", "", true},
		{"*", "a/b", true},
		{"customer_*", "customer_id", true},
		{"customer_*", "a_customer_id", false},
		{"*_id", "customer_id", true},
		{"*name*", "surname2", true},
		{"a*a", "a", false},
		{"a*b*c", "axxbyyc", true},
		{"a*b*c", "axxcyyb", false},
		{"[mix]", "m", false},
	} {
		if got := fits(c.pattern, c.name); got != c.want {
			t.Errorf("%q fits %q: %v", c.pattern, c.name, got)
		}
	}
}

// However a body is written, nothing of a hidden column is kept, nor of what is not understood.
func TestNothingHiddenIsKept(t *testing.T) {
	k := UsualKeeping()
	k.Columns = []ColumnRule{{"address", Hide}, {"person*", Hash}}
	for name, text := range map[string]string{
		"plain":              `{"inputs":[{"name":"address","datatype":"BYTES","shape":[1],"data":["SECRET"]}]}`,
		"nested":             `{"inputs":[{"name":"address","shape":[1,1],"data":[["SECRET"]]}]}`,
		"hashed":             `{"inputs":[{"name":"person_id","shape":[1],"data":["SECRET"]}]}`,
		"hashed, nested":     `{"inputs":[{"name":"person_id","shape":[1],"data":[["SECRET"],"SECRET"]}]}`,
		"an object as value": `{"inputs":[{"name":"person_id","data":[{"SECRET":"SECRET"}]}]}`,
		"an output":          `{"outputs":[{"name":"address","data":["SECRET"]}]}`,
		"another member":     `{"inputs":[{"name":"x","data":[1]}],"note":"SECRET"}`,
		"parameters":         `{"parameters":{"a":"SECRET"},"inputs":[{"name":"x","parameters":{"a":"SECRET"}}]}`,
		"twice":              `{"inputs":[{"name":"address","data":["SECRET"],"data":["SECRET"]}]}`,
		"named twice":        `{"inputs":[{"name":"x","name":"address","data":["SECRET"]}]}`,
		"inputs twice": `{"inputs":[{"name":"address","data":["SECRET"]}],` +
			`"inputs":[{"name":"address","data":["SECRET"]}]}`,
		"in capitals":  `{"Inputs":[{"Name":"address","Data":["SECRET"]}],"inputs":[{"name":"x","data":[1]}]}`,
		"escaped":      `{"inputs":[{"name":"addr\u0065ss","data":["SECRET"]}]}`,
		"an error":     `{"error":"no such address: SECRET"}`,
		"a list":       `["SECRET"]`,
		"no JSON":      `address=SECRET`,
		"data as text": `{"inputs":[{"name":"person_id","data":"SECRET"}]}`,
		"cut off":      `{"inputs":[{"name":"address","data":["SECRET"`,
	} {
		kept, note := k.Kept([]byte(strings.ReplaceAll(text, "SECRET", secretValue)), key)
		if bytes.Contains(kept, []byte(secretValue)) {
			t.Errorf("%s: keeps %s", name, kept)
		}
		if note == "" && !strings.Contains(text, `"x"`) {
			t.Errorf("%s: does not say why it is not as it was: %s", name, kept)
		}
	}
}

func TestEqualValuesHaveEqualHashes(t *testing.T) {
	k := UsualKeeping()
	k.Columns = []ColumnRule{{"id", Hash}}
	hashed := func(data string, secret []byte) []any {
		kept, _ := k.Kept([]byte(`{"inputs":[{"name":"id","data":`+data+`},{"name":"x","data":[4]}]}`), secret)
		return ColumnsOf(&Kept{Request: kept})["id"]
	}
	one := hashed(`[7, 7.0, "7", null, 8]`, key)
	if len(one) != 5 || one[0] != one[1] || one[0] == one[2] || one[3] != nil || one[0] == one[4] {
		t.Errorf("%v", one)
	}
	if other := hashed(`[7]`, []byte("another installation")); other[0] == one[0] {
		t.Error("another key gives the same hash, so a list of all values would tell them")
	}
	if again := hashed(`[[8], [7]]`, key); !slices.Equal(again, []any{one[4], one[0]}) {
		t.Errorf("%v", again)
	}
}

func TestWhatIsKept(t *testing.T) {
	k := UsualKeeping()
	k.Bytes = 20
	for text, want := range map[string]string{
		`{"a": 1}`:                     "",
		`{"a": 1, "b": "much longer"}`: "larger than is kept",
		`nothing`:                      "no JSON",
		"":                             "",
	} {
		kept, note := k.Kept([]byte(text), key)
		if note != want || (note == "") != (string(kept) == text) {
			t.Errorf("%q: kept %q, %q", text, kept, note)
		}
	}
}

func TestKeepingIsChecked(t *testing.T) {
	for field, change := range map[string]func(*Keeping){
		"requests.share":      func(k *Keeping) { k.Share = 10_001 },
		"requests.per_second": func(k *Keeping) { k.PerSecond = -1 },
		"requests.bytes":      func(k *Keeping) { k.Bytes = LargestKept + 1 },
		"requests.for":        func(k *Keeping) { k.For = "7 days" },
		"requests.columns":    func(k *Keeping) { k.Columns = []ColumnRule{{"", Hide}} },
	} {
		k := UsualKeeping()
		if err := k.Check(); err != nil {
			t.Fatal(err)
		}
		change(&k)
		var f *fault.Fault
		if !errors.As(k.Check(), &f) || f.Field != field || f.Remedy == "" {
			t.Errorf("%s: %v", field, f)
		}
	}
	k := UsualKeeping()
	k.Columns = []ColumnRule{{"x", "forget"}}
	if k.Check() == nil {
		t.Error("a column may be kept in a way that does not exist")
	}
}

func TestConditions(t *testing.T) {
	columns := Columns{
		"wind": {2.5, 4.0}, "mix": {"harbour"}, "open": {true}, "gone": {nil}, "hour": {7.0},
	}
	for text, want := range map[string]bool{
		"wind<3": true, "wind>4": false, "wind>=4": true, "wind<=2": false, "wind=4": true, "wind=4.0": true,
		"wind != 2.5": true, "hour!=7": false, "mix=harbour": true, "mix!=harbour": false, "mix = works": false,
		"open=true": true, "open=false": false, "gone=null": true, "gone!=null": false, "gone=0": false,
		"gone<1":  false,
		"gone!=3": true, "wind=null": false, "nobody=1": false, "mix<3": false, "hour=seven": false,
	} {
		c, err := ParseCondition(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := (Filter{Where: []Condition{c}}).Holds(columns); got != want {
			t.Errorf("%s: %v", text, got)
		}
		if again, err := ParseCondition(c.String()); err != nil || again != c {
			t.Errorf("%s is read again as %v, %v", c, again, err)
		}
	}
	for _, bad := range []string{"", "wind", "<3", "=", "wind<", "wind<fast", "!", "wind!3", "null"} {
		if c, err := ParseCondition(bad); err == nil {
			t.Errorf("%q is read as %+v", bad, c)
		}
	}
}

func TestFiltersAreChecked(t *testing.T) {
	if err := (Filter{Outcome: "bad"}).Check(); err == nil || !strings.Contains(err.Error(), string(TimedOut)) {
		t.Errorf("%v", err)
	}
	for _, o := range Outcomes() {
		if err := (Filter{Outcome: o}).Check(); err != nil {
			t.Error(err)
		}
	}
}

func asking(t *testing.T, id string, outdoor any, mix string) Kept {
	t.Helper()
	return Kept{ID: id, Request: body(t, map[string]any{"inputs": []map[string]any{
		{"name": "outdoor", "data": []any{outdoor}},
		{"name": "mix", "data": []any{mix}},
	}}), Answer: body(t, map[string]any{"outputs": []map[string]any{{"name": "demand", "data": []any{len(id)}}}})}
}

func TestTheLikeOfARequest(t *testing.T) {
	all := []Kept{
		asking(t, "far", 20, "harbour"), asking(t, "same", -5.0, "works"), asking(t, "near", -4, "works"),
		asking(t, "missing", nil, "works"), asking(t, "me", -5, "works"),
		{ID: "without a body"},
	}
	var said []string
	for _, n := range Like(all[4], all, 10) {
		said = append(said, fmt.Sprintf("%s %.2f", n.ID, n.Distance))
	}
	// Of the two columns one spans 25 degrees, the other is the same or not.
	if want := []string{"same 0.00", "near 0.02", "missing 0.50", "far 1.00"}; !slices.Equal(said, want) {
		t.Errorf("%q", said)
	}
	if got := Like(all[4], all, 2); len(got) != 2 {
		t.Errorf("%d are given", len(got))
	}
	if got := Like(Kept{ID: "empty"}, all, 2); len(got) != 0 {
		t.Errorf("like nothing: %v", got)
	}
}

// A value that no tensor has must not stop a search.
func TestOddValuesAreLookedAt(t *testing.T) {
	odd := Kept{
		ID:      "odd",
		Request: json.RawMessage(`{"inputs":[{"name":"x","data":[{"a":1}]},{"name":"y","data":3}]}`),
	}
	c, _ := ParseCondition("x=null")
	if !(Filter{Where: []Condition{c}}).Holds(ColumnsOf(&odd)) {
		t.Errorf("%v", ColumnsOf(&odd))
	}
	if got := Like(odd, []Kept{{ID: "other", Request: odd.Request}}, 1); len(got) != 1 || got[0].Distance != 0 {
		t.Errorf("%v", got)
	}
}

func TestReasonsHaveCodesOfTheirOwn(t *testing.T) {
	seen := map[string]bool{}
	for r := range Reasons {
		if r.Code() == "" || r.What() == "" || seen[r.Code()] {
			t.Errorf("reason %d is %q: %s", r, r.Code(), r.What())
		}
		seen[r.Code()] = true
		if again, ok := ReasonOf(r.Code()); !ok || again != r {
			t.Errorf("%s is read as %d", r.Code(), again)
		}
	}
	if _, ok := ReasonOf("model_server.failed"); ok {
		t.Error("what a model server did is no refusal")
	}
	a := Refusals{NoKey: 2, Full: 1}
	if sum := a.Plus(Refusals{NoKey: 3}); sum.Total() != 6 || sum[NoKey] != 5 {
		t.Errorf("%v", sum)
	}
}
