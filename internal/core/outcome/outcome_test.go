package outcome

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/request"
)

var at = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// asked is a request of two inputs that was answered with some outputs, each row after row.
func asked(wind, mix, outputs string) *request.Kept {
	rows := strings.Count(wind, ",") + 1
	return &request.Kept{
		ID: "r", Version: "heat-demand@2", Lane: "main", Ended: at, Outcome: request.Answered,
		Request: json.RawMessage(fmt.Sprintf(`{"inputs":[{"name":"wind","shape":[%d],"data":[%s]},
			{"name":"mix","shape":[%d],"data":[%s]}]}`, rows, wind, rows, mix)),
		Answer: json.RawMessage(`{"outputs":[` + outputs + `]}`),
	}
}

func output(name, data string) string {
	return fmt.Sprintf(`{"name":%q,"shape":[%d],"data":[%s]}`, name, strings.Count(data, ",")+1, data)
}

// joining is a truth of a request, and what is to become of it.
type joining struct {
	name    string
	of      *request.Kept
	truth   Truth
	classes bool
	fate    Fate
	pairs   int
	why     string
}

func (c *joining) check(t *testing.T) {
	t.Helper()
	pairs, fate, why := Join(&c.truth, c.of, c.classes)
	if fate != c.fate || len(pairs) != c.pairs || !strings.Contains(why, c.why) || (why == "") != (c.why == "") {
		t.Errorf("%s: %s, %q, %+v", c.name, fate, why, pairs)
	}
}

func is(values ...any) Truth {
	t := Truth{Values: map[string]any{}}
	for i := 0; i < len(values); i += 2 {
		t.Values[values[i].(string)] = values[i+1]
	}
	return t
}

func (t Truth) ofRow(n int) Truth {
	t.Row = &n
	return t
}

func oneRow() *request.Kept {
	return asked("3", `"harbour"`, output("demand", "1.5")+","+output("state", `"ok"`))
}

func twoRows() *request.Kept { return asked("3,4", `"harbour","works"`, output("demand", "1.5,2.5")) }

// What a truth is joined to.
func TestJoining(t *testing.T) {
	one, two := oneRow(), twoRows()
	for _, c := range []joining{
		{"a number", one, is("demand", 1.25), false, Joined, 1, ""},
		{"a number as text", one, is("demand", " 1.25 "), false, Joined, 1, ""},
		{"two outputs", one, is("demand", 1.0, "state", "ok"), false, Joined, 2, ""},
		{"a class of numbers", one, is("demand", 1.5), true, Joined, 1, ""},
		{"the second row", two, is("demand", 2.0).ofRow(1), false, Joined, 1, ""},
	} {
		c.check(t)
	}
}

// What is joined to nothing, and why.
func TestLeft(t *testing.T) {
	one, two := oneRow(), twoRows()
	failed := asked("3", `"harbour"`, "")
	failed.Outcome = request.ServerError
	away := asked("3", `"harbour"`, "")
	away.Answer, away.AnswerNote = nil, "larger than is kept"
	hashed := asked("3", `"harbour"`, output("state", `"h:0123456789abcdef"`))
	for _, c := range []joining{
		{"of which row", two, is("demand", 2.0), false, Unclear, 0, "has 2 rows"},
		{"a row too many", two, is("demand", 2.0).ofRow(2), false, Wrong, 0, "none 2"},
		{"another output", one, is("heat", 2.0), false, Wrong, 0, "it has demand, state"},
		{"no number", one, is("demand", "much"), false, Wrong, 0, "is no number"},
		{"beyond all bounds", one, is("demand", "1e70"), false, Wrong, 0, "too large"},
		{"not finite", one, is("demand", math.Inf(1)), false, Wrong, 0, "not finite"},
		{"missing", one, is("demand", nil), false, Wrong, 0, "is missing"},
		{"a request in error", failed, is("demand", 2.0), false, Wrong, 0, "was not answered"},
		{"an answer not kept", away, is("demand", 2.0), false, NotKept, 0, "larger than"},
		{"a class that cannot", one, is("state", []any{}), false, Wrong, 0, "is no class"},
		{"a hash", hashed, is("state", "ok"), false, Wrong, 0, "hash"},
	} {
		c.check(t)
	}
}

// drawn are pairs of numbers, or of classes.
func drawn(r *rand.Rand, n int, classes bool) (out []Pair) {
	for i := range n {
		p := Pair{Request: fmt.Sprint(i), Output: "y", Number: !classes}
		if classes {
			p.TruthClass = []string{"ok", "sticking", "leaking"}[r.IntN(3)]
			p.PredictedClass = p.TruthClass
			if r.IntN(4) == 0 {
				p.PredictedClass = "ok"
			}
		} else {
			p.Truth = 10 + 3*r.NormFloat64()
			p.Predicted = p.Truth + 0.2 + r.NormFloat64()
		}
		out = append(out, p)
	}
	return out
}

func summed(pairs []Pair) *Sums {
	s := &Sums{}
	for i := range pairs {
		s.Add(&pairs[i], true)
	}
	return s
}

// What was added up in parts is what one pass over all says, and so is what was replaced.
func TestSumsMerge(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, classes := range []bool{false, true} {
		for range 20 {
			pairs := drawn(r, 50+r.IntN(200), classes)
			cut := r.IntN(len(pairs))
			parts := summed(pairs[:cut])
			parts.Merge(summed(pairs[cut:]))
			wrong := drawn(r, 1, classes)[0]
			parts.Add(&wrong, false)
			parts.Remove(&wrong)
			near(t, parts.Measures(0.95), summed(pairs).Measures(0.95))
			if parts.Rows != int64(len(pairs)) || parts.Requests != int64(len(pairs)) {
				t.Errorf("%+v", parts)
			}
		}
	}
}

func near(t *testing.T, got, want []Measure) {
	t.Helper()
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || got[i].Name != want[i].Name ||
			math.Abs(got[i].Value-want[i].Value) > 1e-9 {
			t.Fatalf("%+v\nwant %+v", got, want)
		}
	}
}

// The measures are those of the rows themselves, and their intervals hold what is true about as often as they say.
func TestMeasures(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	pairs := drawn(r, 500, false)
	var truth, predicted []float64
	for _, p := range pairs {
		truth, predicted = append(truth, p.Truth), append(predicted, p.Predicted)
	}
	want, err := evaluate.OfRegression(truth, predicted, nil)
	if err != nil {
		t.Fatal(err)
	}
	near(t, summed(pairs).Measures(0.95), []Measure{
		{Name: "mae", Value: want.MAE},
		{Name: "rmse", Value: want.RMSE},
		{Name: "bias", Value: want.Bias},
		{Name: "r2", Value: want.R2},
	})
	held := 0
	for range 400 {
		m := summed(drawn(r, 200, false)).Measures(0.95)[2]
		if *m.Low <= 0.2 && 0.2 <= *m.High {
			held++
		}
	}
	if held < 365 || held > 395 {
		t.Errorf("%d of 400 intervals hold the bias", held)
	}
	if m := (&Sums{}).Measures(0.95); m != nil {
		t.Errorf("of nothing: %+v", m)
	}
	one := summed(pairs[:1]).Measures(0.95)
	if len(one) != 3 || one[0].Low != nil || one[0].Against(1, true) != "not enough to tell" {
		t.Errorf("of one row: %+v", one)
	}
	mae := summed(pairs).Measures(0.95)[0]
	for registered, verdict := range map[float64]string{
		mae.Value: "not enough to tell", mae.Value / 2: "worse", mae.Value * 2: "better",
	} {
		if got := mae.Against(registered, true); got != verdict {
			t.Errorf("%v against %v: %s", mae.Value, registered, got)
		}
	}
}

// However many classes come, what is kept of them is bounded, and what is right stays right.
func TestManyClasses(t *testing.T) {
	s := &Sums{}
	for i := range 1000 {
		c := fmt.Sprint("class ", i)
		s.Add(&Pair{PredictedClass: c, TruthClass: c}, true)
	}
	if len(s.Confusion) > mostClasses+1 || s.Rows != 1000 {
		t.Errorf("%d classes", len(s.Confusion))
	}
	raw, err := json.Marshal(s)
	var again Sums
	if err != nil || json.Unmarshal(raw, &again) != nil || !reflect.DeepEqual(*s, again) {
		t.Errorf("%s", raw)
	}
}
