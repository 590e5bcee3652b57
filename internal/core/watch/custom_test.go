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

// cost and earned are reports of two signals with a mean and a standard deviation of 1.
func cost(r *rand.Rand, mean float64) func(int, *Seen) { return reports(r, "custom.cost", mean, 1) }

func earned(r *rand.Rand, mean float64) func(int, *Seen) { return reports(r, "custom.earned", mean, 1) }

// usualCustom is a day before in which three signals had means of 3, -2 and 3, and a week before in which cost was 2.
func usualCustom() *Usual {
	u := Usual{Yesterday: dayOf("cost", 3, 1), LastWeek: dayOf("cost", 2, 1)}
	u.Yesterday.Custom["earned"] = dayOf("earned", -2, 1).Custom["earned"]
	u.Yesterday.Custom["steady"] = dayOf("steady", 3, 0.1).Custom["steady"]
	return &u
}

// atMost is a rule that a mean may be at most so much.
func atMost(t *testing.T, signal, most string) Rule {
	return Rule{Signal: signal, Limit: limit(t, most), Beyond: Above}
}

// What is dearer than is allowed is told; what is as it may be never is.
func TestRulesOfWhatCosts(t *testing.T) {
	r, usual := rand.New(rand.NewPCG(31, 32)), *usualCustom()
	steady := func(mean float64) func(int, *Seen) { return reports(r, "custom.steady", mean, 0.1) }
	dearer := Rule{Signal: "custom.cost", Versus: Yesterday, Times: 1.2, Beyond: Above}
	fires(t, map[string]play{
		"dearer than a limit": {atMost(t, "custom.cost", "3.5"), cost(r, 4), usual, "at most 3.5 is allowed"},
		"far beyond a limit that is far from the usual": {
			atMost(t, "custom.steady", "5"), steady(9), usual, "at most 5 is allowed",
		},
		"near to a limit that is far from the usual": {atMost(t, "custom.steady", "5"), steady(4.9), usual, ""},
		"as dear as is allowed":                      {atMost(t, "custom.cost", "3.5"), cost(r, 3.5), usual, ""},
		"dearer than yesterday":                      {dearer, cost(r, 4.2), usual, "mean of cost"},
		"no dearer than yesterday":                   {dearer, cost(r, 3.5), usual, ""},
		"dearer than a week ago, and not than a limit": {
			Rule{Signal: "custom.cost", Versus: LastWeek, Times: 1.2, Limit: limit(t, "5"), Beyond: Above},
			cost(r, 4.2), usual, "",
		},
		"of another signal":      {atMost(t, "custom.other", "1"), cost(r, 9), usual, ""},
		"nothing was known then": {atMost(t, "custom.cost", "1"), cost(r, 9), Usual{}, ""},
	})
}

// What earns less than is wanted is told; what earns enough never is.
func TestRulesOfWhatEarns(t *testing.T) {
	r, usual := rand.New(rand.NewPCG(31, 32)), *usualCustom()
	least := Rule{Signal: "custom.earned", Limit: limit(t, "-2.5"), Beyond: Below}
	fires(t, map[string]play{
		"earns less than is wanted":  {least, earned(r, -3), usual, "at least -2.5 is wanted"},
		"earns as much as is wanted": {least, earned(r, -2.5), usual, ""},
		"times of a loss": {
			Rule{Signal: "custom.earned", Versus: Yesterday, Times: 2, Beyond: Below}, earned(r, -9), usual, "",
		},
	})
	var w Watched
	played(&w, &Set{Watches: []Rule{least}}, 100, usualCustom(), begin, earned(r, -4))
	if st := w.Stands["custom.earned"]; st.Rate > -3.8 || st.Rate < -4.2 || st.Allowed != -2.5 || st.State != Firing {
		t.Errorf("%+v", st)
	}
}

// One value that is far off is no mean that is.
func TestOneValueIsNoMean(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	var w Watched
	set := &Set{Watches: []Rule{atMost(t, "custom.cost", "3.5")}}
	changes := played(&w, set, 50, usualCustom(), begin, func(i int, s *Seen) {
		if cost(r, 3)(i, s); i == 20 {
			s.Custom["custom.cost"][0] = 1e6
		}
	})
	if len(changes) > 0 {
		t.Errorf("one value raised %+v", changes)
	}
}

// An alert is about its signal, which can be muted, says what the mean is, and ends when it is well again.
func TestAnAlertAboutACustomSignal(t *testing.T) {
	r, usual := rand.New(rand.NewPCG(31, 32)), usualCustom()
	var w Watched
	set := &Set{Watches: []Rule{atMost(t, "custom.cost", "3.5")}}
	changes := played(&w, set, 100, usual, begin, cost(r, 5))
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
	played(&w, set, 100, usual, begin.Add(time.Hour), cost(r, 3))
	if st := w.Stands["custom.cost"]; st.State != Quiet {
		t.Errorf("when it is well again: %+v", st)
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
