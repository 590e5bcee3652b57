package intake

import (
	"reflect"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/rollout"
)

// What is written is read as it was.
func TestPlansAreReadAsTheyAreWritten(t *testing.T) {
	plans := rollout.BuiltIn()
	plans[0].Hours = []rollout.Hours{{Days: []string{"mon", "fri"}, From: "08:00", To: "17:30", Zone: "Europe/Oslo"}}
	plans[1].Steps[0].Good = []string{"error_rate"}
	plans[1].Guards[0].Then = "hold"
	plans[0].First = []string{"key is beta-app", `header X-Team matches "?desk-.*`}
	for _, p := range plans {
		got, err := Plan([]byte(PlanText(p)))
		if p.Hours != nil && p.Hours[0].Zone == "" {
			p.Hours[0].Zone = "UTC"
		}
		if err != nil || !reflect.DeepEqual(got, p) {
			t.Errorf("%s: %v\nwant %+v\ngot  %+v", p.Name, err, p, got)
		}
	}
}

// What is wrong is said with line and column, and what to do.
func TestPlansThatAreWrong(t *testing.T) {
	good := "name: mine\nkind: canary\nsteps:\n  - share: 5 %\n    time: 10s\n  - share: 50\nbake:\n  time: 1m\n"
	if p, err := Plan([]byte(good)); err != nil || p.Steps[1].Share != 5000 || len(p.Guards) == 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	for name, c := range map[string]struct{ from, to, where, says string }{
		"unknown field": {"    time: 10s", "    tiem: 10s", "line 5, column 5", `steps[0]: there is no field "tiem"`},
		"no duration":   {"time: 10s", "time: soon", "line 5, column 11", `"soon" is no duration`},
		"first":         {"bake:", "first: [moon is full]\nbake:", "line 7, column 9", `"moon" is nothing`},
		"first and to":  {"bake:", "first:\n  - key\nbake:", "line 8, column 5", "is no rule"},
		"share":         {"share: 50", "share: half", "line 6, column 12", `"half" is no share`},
		"not growing":   {"share: 50", "share: 5", "line 6, column 12", "step 2 has 5 % after 5 %"},
		"a list":        {"    time: 10s", "    good: all", "line 5, column 11", "this is a single value"},
		"twice":         {"    time: 10s", "    time: 10s\n    time: 9s", "line 6, column 5", `"time" is said twice`},
		"missing":       {"bake:\n  time: 1m\n", "", "line 1, column 1", "the plan has no bake"},
		"number": {
			"kind: canary", "kind: canary\nalpha: often", "line 3, column 8", `"often" is not a number`,
		},
		"name":          {"name: mine", "name: My Plan", "line 1, column 7", "cannot be a name"},
		"anchor":        {"bake:\n", "bake: &x\n", "line 7, column 7", "anchors and aliases"},
		"wrong guard":   {"bake:", "guards:\n  - signal: wrath\nbake:", "line 8, column 13", `"wrath" is no signal`},
		"nested scalar": {"time: 1m", "time: [1m]", "line 8, column 9", "this is a list"},
		"revision": {
			"kind: canary", "revision: 4\nkind: canary", "line 2, column 1", `there is no field "revision"`,
		},
		"whole number":    {"time: 10s", "requests: 1.5", "line 5, column 15", "is not a whole number"},
		"two fold fields": {"name: mine", "name: mine\nname: mine", "line 2, column 1", "is said twice"},
	} {
		if !strings.Contains(good, c.from) {
			t.Fatal(name)
		}
		_, err := Plan([]byte(strings.Replace(good, c.from, c.to, 1)))
		if !fault.Is(err, fault.Invalid) || !strings.Contains(err.Error(), c.where) ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, text := range []string{"", "\t- {", "[]", strings.Repeat("#", largestYAML+1), "a: &a [*a]"} {
		if _, err := Plan([]byte(text)); !fault.Is(err, fault.Invalid) {
			t.Errorf("%.20q: %v", text, err)
		}
	}
}

func FuzzPlan(f *testing.F) {
	f.Add(PlanText(rollout.BuiltIn()[0]))
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Plan([]byte(text))
		if err != nil {
			if fault.Code(err) == "" {
				t.Errorf("%v", err)
			}
			return
		}
		again, err := Plan([]byte(PlanText(p)))
		if err != nil || len(again.Steps) != len(p.Steps) {
			t.Errorf("%v\n%s", err, PlanText(p))
		}
	})
}
