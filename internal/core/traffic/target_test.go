package traffic

import (
	"strings"
	"testing"

	"innerladder/internal/core/fault"
)

var twoLanes = []Lane{mainLane("m@1", Whole), trialLane("m@2", 0)}

func asked(key string, headers, inputs map[string]string) Asked {
	find := func(in map[string]string) func(string) (string, bool) {
		return func(name string) (string, bool) { v, ok := in[name]; return v, ok }
	}
	return Asked{Key: key, Caller: headers["Inner-Ladder-Caller"], Header: find(headers), Input: find(inputs)}
}

// The first rule that is met decides; what is not there meets nothing.
func TestTargets(t *testing.T) {
	var rules []Rule
	for _, text := range []string{
		"key is beta-app,other-app to m@2", "header X-Team matches desk-.* to m@2",
		"input outdoor_c from -30 below -10 to m@2", "cookie lane is new to m@2", "caller is odd to m@1",
	} {
		r, err := ParseRule("rule", text)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		rules = append(rules, r)
	}
	if err := CheckTargets("rules", rules, twoLanes); err != nil {
		t.Fatal(err)
	}
	targets, err := NewTargets(rules, twoLanes, "")
	if err != nil || !targets.Bodies || !targets.Any() {
		t.Fatalf("%v, %+v", err, targets)
	}
	for name, c := range map[string]struct {
		asked Asked
		lane  int
		rule  int
	}{
		"a key":             {asked("other-app", nil, nil), 1, 0},
		"another key":       {asked("app", nil, nil), 0, -1},
		"a header":          {asked("", map[string]string{"X-Team": "desk-3"}, nil), 1, 1},
		"a part of one":     {asked("", map[string]string{"X-Team": "the desk-3"}, nil), 0, -1},
		"cold":              {asked("", nil, map[string]string{"outdoor_c": "-12.5"}), 1, 2},
		"the upper end":     {asked("", nil, map[string]string{"outdoor_c": "-10"}), 0, -1},
		"the lower end":     {asked("", nil, map[string]string{"outdoor_c": "-30"}), 1, 2},
		"no number":         {asked("", nil, map[string]string{"outdoor_c": "cold"}), 0, -1},
		"a cookie":          {asked("", map[string]string{"Cookie": `a=b; lane="new"`}, nil), 1, 3},
		"another cookie":    {asked("", map[string]string{"Cookie": "xlane=new"}, nil), 0, -1},
		"a caller":          {asked("", map[string]string{"Inner-Ladder-Caller": "odd"}, nil), 0, 4},
		"nothing":           {Asked{}, 0, -1},
		"the first is met":  {asked("beta-app", map[string]string{"Inner-Ladder-Caller": "odd"}, nil), 1, 0},
		"an empty key":      {asked("", nil, nil), 0, -1},
		"not a number: NaN": {asked("", nil, map[string]string{"outdoor_c": "NaN"}), 0, -1},
	} {
		if lane, rule := targets.Find(c.asked); rule != c.rule || (rule >= 0 && lane != c.lane) {
			t.Errorf("%s: lane %d by rule %d", name, lane, rule)
		}
	}
	for _, r := range rules { // what is shown says all that was written
		if s := r.String(); !strings.Contains(s, r.On) || !strings.Contains(s, r.Version) {
			t.Errorf("%s", s)
		}
	}
	if kept := KeepRules(rules, twoLanes[:1]); len(kept) != 1 || kept[0].Version != "m@1" {
		t.Errorf("%+v", kept)
	}
}

func TestRulesThatCannotBeFollowed(t *testing.T) {
	one, two := 1.0, 2.0
	for code, r := range map[string]Rule{
		"rule.on":      {On: "weather", Is: []string{"x"}, Version: "m@1"},
		"rule.what":    {On: OnKey, Version: "m@1"},
		"rule.range":   {On: "input x", From: &two, To: &one, Version: "m@1"},
		"rule.version": {On: OnKey, Is: []string{"x"}, Version: "m@9"},
		"rule.matches": {On: OnKey, Matches: "(", Version: "m@1"},
		"rule.is":      {On: OnKey, Is: make([]string, 1001), Version: "m@1"},
	} {
		if err := CheckTargets("rules", []Rule{r}, twoLanes); fault.Code(err) != code {
			t.Errorf("%s: %v", code, err)
		}
	}
	both := Rule{On: OnKey, Is: []string{"x"}, Matches: "y", Version: "m@1"}
	if err := CheckTargets("rules", []Rule{both}, twoLanes); fault.Code(err) != "rule.what" {
		t.Error(err)
	}
	if err := CheckTargets("rules", make([]Rule, 51), twoLanes); fault.Code(err) != "rule.many" {
		t.Error(err)
	}
	for _, text := range []string{
		"", "key", "key is x", "key to m@1", "input x from y to m@1", "input x below to m@1", " to ",
	} {
		if r, err := ParseRule("rule", text); err == nil {
			if err = CheckTargets("rules", []Rule{r}, twoLanes); err == nil {
				t.Errorf("%q was read as %s", text, r)
			}
		}
	}
	for _, on := range []string{"header ", "header a b", "header X:", "input", "cookie ", "Header X"} {
		if CheckOn("on", on) == nil {
			t.Errorf("%q can be looked at", on)
		}
	}
}

// It is told where a request would go, as the gateway sends it.
func TestExplain(t *testing.T) {
	r, _ := ParseRule("rule", "key is beta-app to m@2")
	s := &Split{Number: 7, Lanes: []Lane{mainLane("m@1", 9000), trialLane("m@2", 1000)}, Rules: []Rule{r}}
	for name, c := range map[string]struct {
		named, sticky string
		asked         Asked
		version, says string
	}{
		"named":  {"m@2", "", Asked{}, "m@2", "The path names m@2"},
		"rule":   {"", "", asked("beta-app", nil, nil), "m@2", "Rule 1 sends it to m@2"},
		"sticky": {"", "header X-User", asked("", map[string]string{"X-User": "odd"}, nil), "", "which keeps it on"},
		"chance": {"", "", Asked{}, "", "chance decides: m@1 90 %"},
	} {
		w, err := Explain("e", s, c.sticky, c.named, c.asked)
		if err != nil || !strings.Contains(w.Sentence, c.says) || (c.version != "" && w.Version != c.version) {
			t.Errorf("%s: %v, %+v", name, err, w)
		}
		if name == "sticky" && w.Version != s.Lanes[Assign("e", s.Lanes, "odd")].Version {
			t.Errorf("%+v", w)
		}
	}
	if _, err := Explain("e", s, "", "m@9", Asked{}); fault.Code(err) != "explain.version" {
		t.Error(err)
	}
}
