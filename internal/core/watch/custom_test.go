package watch

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
)

// reports are ten values of a signal in each look, with a mean and a standard deviation.
func reports(r *rand.Rand, full string, mean, deviation float64) func(int, *Seen) {
	return func(_ int, s *Seen) {
		values := make([]float64, 10)
		for i := range values {
			values[i] = mean + deviation*r.NormFloat64()
		}
		s.Custom = map[string][]float64{full: values}
	}
}

// dayOf is a day before in which a signal had a mean and a standard deviation.
func dayOf(name string, mean, deviation float64) *Past {
	r := rand.New(rand.NewPCG(4, 4))
	var n sketch.Numbers
	for range 2000 {
		n.Add(mean + deviation*r.NormFloat64())
	}
	return &Past{Custom: map[string]*sketch.Numbers{name: &n}}
}

// What is dearer than is allowed, or earns less than is wanted, is told; what is as it may be never is.
func TestRulesOfCustomSignals(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	cost := func(mean float64) func(int, *Seen) { return reports(r, "custom.cost", mean, 1) }
	earned := func(mean float64) func(int, *Seen) { return reports(r, "custom.earned", mean, 1) }
	usual := Usual{Yesterday: dayOf("cost", 3, 1)}
	usual.Yesterday.Custom["earned"] = dayOf("earned", -2, 1).Custom["earned"]
	usual.Yesterday.Custom["steady"] = dayOf("steady", 3, 0.1).Custom["steady"]
	usual.LastWeek = dayOf("cost", 2, 1)
	fires(t, map[string]play{
		"dearer than a limit": {
			Rule{Signal: "custom.cost", Limit: limit(t, "3.5"), Beyond: Above}, cost(4), usual, "at most 3.5 is " +
				"allowed",
		},
		"far beyond a limit that is far from the usual": {
			Rule{Signal: "custom.steady", Limit: limit(t, "5"), Beyond: Above},
			reports(r, "custom.steady", 9, 0.1), usual,
			"at most 5 is allowed",
		},
		"near to a limit that is far from the usual": {
			Rule{Signal: "custom.steady", Limit: limit(t, "5"), Beyond: Above},
			reports(r, "custom.steady", 4.9, 0.1),
			usual, "",
		},
		"as dear as is allowed": {
			Rule{Signal: "custom.cost", Limit: limit(t, "3.5"), Beyond: Above},
			cost(3.5),
			usual, "",
		},
		"dearer than yesterday": {
			Rule{Signal: "custom.cost", Versus: Yesterday, Times: 1.2, Beyond: Above}, cost(4.2), usual, "mean of cost",
		},
		"no dearer than yesterday": {
			Rule{Signal: "custom.cost", Versus: Yesterday, Times: 1.2, Beyond: Above}, cost(3.5), usual, "",
		},
		"dearer than a week ago, and not than a limit": {
			Rule{Signal: "custom.cost", Versus: LastWeek, Times: 1.2, Limit: limit(t, "5"), Beyond: Above},
			cost(4.2),
			usual,
			"",
		},
		"earns less than is wanted": {
			Rule{Signal: "custom.earned", Limit: limit(t, "-2.5"), Beyond: Below},
			earned(-3), usual,
			"at least -2.5 is wanted",
		},
		"earns as much as is wanted": {
			Rule{Signal: "custom.earned", Limit: limit(t, "-2.5"), Beyond: Below}, earned(-2.5), usual, "",
		},
		"times of a loss": {
			Rule{Signal: "custom.earned", Versus: Yesterday, Times: 2, Beyond: Below}, earned(-9), usual, "",
		},
		"of another signal": {
			Rule{Signal: "custom.other", Limit: limit(t, "1"), Beyond: Above},
			cost(9), usual,
			"",
		},
		"nothing was known then": {
			Rule{Signal: "custom.cost", Limit: limit(t, "1"), Beyond: Above},
			cost(9),
			Usual{},
			"",
		},
	})
	// One value that is far off is no mean that is.
	var w Watched
	set := &Set{Watches: []Rule{{Signal: "custom.cost", Limit: limit(t, "3.5"), Beyond: Above}}}
	changes := played(&w, set, 50, &usual, begin, func(i int, s *Seen) {
		if cost(3)(i, s); i == 20 {
			s.Custom["custom.cost"][0] = 1e6
		}
	})
	if len(changes) > 0 {
		t.Errorf("one value raised %+v", changes)
	}
	// An alert is about its signal, which can be muted, and says what the mean is.
	w = Watched{}
	changes = played(&w, set, 100, &usual, begin, cost(5))
	if len(changes) != 1 || changes[0].Group != "custom.cost" {
		t.Fatalf("%+v", changes)
	}
	if st := w.Stands["custom.cost"]; st.Rate < 4.8 || st.Rate > 5.2 || st.Allowed != 3.5 {
		t.Errorf("%+v", st)
	}
	if all := strings.Join(set.Subjects(), " "); !strings.Contains(all, "custom.cost") ||
		strings.Contains(all, "custom.any") {
		t.Errorf("it can be muted by %s", all)
	}
	played(&w, set, 100, &usual, begin.Add(time.Hour), cost(3))
	if st := w.Stands["custom.cost"]; st.State != Quiet {
		t.Errorf("when it is well again: %+v", st)
	}
	w = Watched{}
	played(&w, &Set{Watches: []Rule{{Signal: "custom.earned", Limit: limit(t, "-2.5"), Beyond: Below}}}, 100, &usual,
		begin, earned(-4))
	if st := w.Stands["custom.earned"]; st.Rate > -3.8 || st.Rate < -4.2 || st.Allowed != -2.5 || st.State != Firing {
		t.Errorf("%+v", st)
	}
}

func TestRulesOfCustomSignalsAreChecked(t *testing.T) {
	for name, c := range map[string]struct {
		rule  Rule
		wrong string
	}{
		"above":            {Rule{Signal: "custom.cost", Limit: limit(t, "3"), Beyond: Above}, ""},
		"a loss":           {Rule{Signal: "custom.cost", Limit: limit(t, "-3"), Beyond: Below, Then: "roll_back"}, ""},
		"as it is better":  {Rule{Signal: "custom.cost", Limit: limit(t, "0")}, ""},
		"off":              {Rule{Signal: "custom.cost", Off: true}, ""},
		"all of them":      {Rule{Signal: "custom", Limit: limit(t, "3")}, "names no custom signal"},
		"no name":          {Rule{Signal: "custom.", Limit: limit(t, "3")}, "names no c"},
		"no side":          {Rule{Signal: "custom.cost", Limit: limit(t, "3"), Beyond: "beside"}, "is no side"},
		"a side of errors": {Rule{Signal: "error_rate", Limit: limit(t, "3 %"), Beyond: Below}, "always watched"},
		"a share":          {Rule{Signal: "custom.cost", Limit: limit(t, "3 %")}, "is no limit of"},
		"main":             {Rule{Signal: "custom.cost", Versus: Main, Times: 2}, "cannot be held against"},
		"a negative PSI":   {Rule{Signal: "feature_drift", Limit: limit(t, "-0.2")}, "the limit is -0.2"},
	} {
		err := c.rule.CheckAlone()
		if c.wrong == "" && err != nil || c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)) {
			t.Errorf("%s: %v, want %q", name, err, c.wrong)
		}
	}
	for want, r := range map[string]Rule{
		"Tell when custom.cost is above 3.": {Signal: "custom.cost", Limit: limit(t, "3"), Beyond: Above},
		"Go back when custom.earned is below -3, and below 0.5 times what it was in the day before.": {
			Signal: "custom.earned", Limit: limit(t, "-3"), Versus: Yesterday, Times: 0.5, Beyond: Below,
			Then: "roll_back",
		},
	} {
		if r.String() != want {
			t.Errorf("%s, want %s", r, want)
		}
	}
}
