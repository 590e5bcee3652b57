package traffic

import (
	"fmt"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"

	"gonum.org/v1/gonum/stat/distuv"
)

func mainLane(version string, share int) Lane {
	return Lane{Kind: Main, Version: version, Share: share}
}

func trialLane(version string, share int) Lane {
	return Lane{Kind: Trial, Version: version, Share: share}
}

func copiesFor(version string, share int) Lane {
	return Lane{Kind: Shadow, Version: version, Share: share}
}

func lanes(shares ...int) []Lane {
	out := []Lane{mainLane("heat-demand@1", shares[0])}
	for i, s := range shares[1:] {
		out = append(out, trialLane(fmt.Sprintf("heat-demand@%d", i+2), s))
	}
	return out
}

func TestCheckLanes(t *testing.T) {
	cases := []struct {
		name  string
		lanes []Lane
		code  string
	}{
		{"one lane", lanes(10000), ""},
		{"three lanes", lanes(7000, 2000, 1000), ""},
		{"a lane of nothing", lanes(10000, 0), ""},
		{"none", nil, "split.empty"},
		{"95 %", lanes(9000, 500), "split.sum"},
		{"110 %", lanes(9000, 2000), "split.sum"},
		{"negative", lanes(11000, -1000), "split.share"},
		{"no main", []Lane{trialLane("heat-demand@1", 10000)}, "split.main"},
		{"two mains", []Lane{mainLane("heat-demand@1", 5000), mainLane("heat-demand@2", 5000)}, "split.main"},
		{"twice", []Lane{mainLane("heat-demand@1", 5000), trialLane("heat-demand@1", 5000)}, "split.twice"},
		{"of no kind", []Lane{mainLane("heat-demand@1", 5000), {"extra", "heat-demand@2", 5000, 0}}, "split.kind"},
		{"a shadow on top", append(lanes(9000, 1000), copiesFor("heat-demand@3", 2500)), ""},
		{"copies of nothing", append(lanes(10000), copiesFor("heat-demand@3", 0)), "split.copies"},
		{"copies for one that answers", append(lanes(9000, 1000), copiesFor("heat-demand@2", 10)), "split.twice"},
		{"a main with a tolerance", []Lane{{Main, "heat-demand@1", 10000, 0.1}}, "split.tolerance"},
	}
	for _, c := range cases {
		if got := fault.Code(CheckLanes(c.lanes)); got != c.code {
			t.Errorf("%s: got %q, want %q", c.name, got, c.code)
		}
	}
	if err := CheckLanes(lanes(9000, 500)); !strings.Contains(err.Error(), "5 % are missing") {
		t.Errorf("the error should say how much is missing: %v", err)
	}
}

func TestParsePercent(t *testing.T) {
	for in, want := range map[string]int{"90": 9000, "12.5": 1250, "0.05": 5, "100%": 10000, "0": 0, "33.33": 3333} {
		if got, err := ParsePercent("share", in); err != nil || got != want {
			t.Errorf("%q: got %d, %v", in, got, err)
		}
	}
	for _, in := range []string{"", "ten", "-1", "101", "0.001", "NaN", "Inf", "1e3"} {
		if got, err := ParsePercent("share", in); err == nil {
			t.Errorf("%q was read as %d", in, got)
		}
	}
}

func TestCheckStandings(t *testing.T) {
	d := Demand{
		Endpoint: "demand-hourly", Model: "heat-demand", Environment: "plant-north", Rung: "live", Height: 3,
	}
	good := Standing{
		Version: "heat-demand@1", Model: "heat-demand", Rung: "live", Height: 3, Placed: true, Healthy: true,
	}
	cases := []struct {
		name   string
		change func(*Standing)
		code   string
	}{
		{"good", func(*Standing) {}, ""},
		{"another model", func(s *Standing) { s.Model = "valve-fault" }, "split.model"},
		{"too low", func(s *Standing) { s.Rung, s.Height = "draft", 0 }, "split.rung"},
		{"retired", func(s *Standing) { s.Rung, s.Height = "retired", -1 }, "split.rung"},
		{"not placed", func(s *Standing) { s.Placed = false }, "split.not_placed"},
		{"not healthy", func(s *Standing) { s.Healthy, s.Reason = false, "connection refused" }, "split.not_healthy"},
	}
	for _, c := range cases {
		s := good
		c.change(&s)
		if got := fault.Code(d.Check(Lane{Kind: Trial}, s, "lanes[1].version")); got != c.code {
			t.Errorf("%s: got %q, want %q", c.name, got, c.code)
		}
		if c.code == "split.rung" { // on copies it earns what the rung demands
			c.code = ""
		}
		if got := fault.Code(d.Check(Lane{Kind: Shadow}, s, "lanes[1].version")); got != c.code {
			t.Errorf("%s, on copies: got %q, want %q", c.name, got, c.code)
		}
	}
}

func TestPickKeepsToTheShares(t *testing.T) {
	l := lanes(9000, 700, 300)
	count := make([]float64, 3)
	for p := range Whole {
		count[Pick(l, p)]++
	}
	if count[0] != 9000 || count[1] != 700 || count[2] != 300 {
		t.Errorf("points per lane: %v", count)
	}
}

// callersOf says on which lane each of many callers is.
func callersOf(l []Lane) []int {
	out := make([]int, 20000)
	for i := range out {
		out[i] = Assign("demand-hourly", l, fmt.Sprintf("substation-%d", i))
	}
	return out
}

func TestCallersKeepToTheShares(t *testing.T) {
	for _, l := range [][]Lane{lanes(9500, 500), lanes(5000, 5000), lanes(7000, 2000, 1000), lanes(9990, 0, 10)} {
		seen, chi, cells := make([]float64, len(l)), 0.0, 0.0
		all := callersOf(l)
		for _, lane := range all {
			seen[lane]++
		}
		for i, n := range seen {
			if e := float64(l[i].Share) / Whole * float64(len(all)); e > 0 {
				chi, cells = chi+(n-e)*(n-e)/e, cells+1
			} else if n > 0 {
				t.Errorf("%v callers on a lane without a share", n)
			}
		}
		if p := (distuv.ChiSquared{K: cells - 1}).Survival(chi); p < 0.001 {
			t.Errorf("%v: %v callers", l, seen)
		}
	}
}

// A lane that grows takes only what it must: nobody leaves it, and of the other lanes it takes what
// they lose. With two trials, growing the first once moved every caller off the second.
func TestALaneThatGrowsTakesOnlyWhatItMust(t *testing.T) {
	before, after := lanes(9000, 500, 500), lanes(7000, 2500, 500)
	moved := map[[2]int]int{}
	grown := callersOf(after)
	for i, lane := range callersOf(before) {
		moved[[2]int{lane, grown[i]}]++
	}
	if left := moved[[2]int{1, 0}] + moved[[2]int{1, 2}]; left > 0 {
		t.Errorf("%d callers left the lane that grew", left)
	}
	if n := moved[[2]int{2, 0}]; n > 0 {
		t.Errorf("%d callers went from the other trial to main", n)
	}
	if kept := moved[[2]int{2, 2}]; kept < 700 { // of about 1000
		t.Errorf("%d callers of the other trial are still there", kept)
	}
	if n := moved[[2]int{0, 1}] + moved[[2]int{0, 2}] + moved[[2]int{2, 1}]; n > 4600 {
		t.Errorf("%d of 20000 callers changed places, 4000 must", n)
	}
	// A lane that ends gives its callers to the others, who keep theirs but for the few that main,
	// which grows by the share, takes in exchange.
	ended, left := callersOf(lanes(7500, 2500)), 0
	for i, lane := range grown {
		if lane == 1 && ended[i] != 1 {
			left++
		}
	}
	if left > 300 { // of about 5000
		t.Errorf("%d callers of one trial moved when the other ended", left)
	}
}

func TestOtherCallersTryTheNextVersion(t *testing.T) {
	small, next := lanes(9500, 500), []Lane{mainLane("heat-demand@1", 9500), trialLane("heat-demand@3", 500)}
	same, then := 0, callersOf(next)
	for i, lane := range callersOf(small) {
		if lane == 1 && then[i] == 1 {
			same++
		}
	}
	if same > 100 {
		t.Errorf("%d of about 1000 callers are on trial for the next version too, want about 50", same)
	}
}

func TestATrialLastsAsLongAsItsPair(t *testing.T) {
	lanes := func(main, trial string) []Lane {
		out := []Lane{mainLane(main, Whole)}
		if trial != "" {
			out = []Lane{mainLane(main, 9000), trialLane(trial, 1000)}
		}
		return out
	}
	var history []Split
	for i, l := range [][]Lane{
		lanes("m@1", ""), lanes("m@1", "m@2"), lanes("m@1", "m@2"), lanes("m@1", ""),
		lanes("m@1", "m@2"), lanes("m@1", "m@2"), lanes("m@2", "m@3"),
	} {
		history = append(history, Split{Number: i + 1, Lanes: l})
	}
	var trials []guard.TrialPair
	for n, want := range []int{0, 2, 2, 0, 5, 5, 7} {
		trials = history[n].TrialPairs(trials)
		begun := 0
		if len(trials) > 0 {
			begun = trials[0].Begun
		}
		if begun != want {
			t.Errorf("#%d: the trial began with #%d, want #%d", n+1, begun, want)
		}
	}
}
