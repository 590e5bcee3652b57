package demo

import (
	"maps"
	"path/filepath"
	"slices"
	"testing"

	"innerladder/internal/standin"
)

func TestTheSameSeedGivesTheSameTown(t *testing.T) {
	a, b, c := newTown(7, 2000), newTown(7, 2000), newTown(8, 2000)
	if !slices.Equal(a.demand[5], b.demand[5]) || !slices.Equal(a.weather, b.weather) {
		t.Error("two towns of one seed differ")
	}
	if slices.Equal(a.demand[5], c.demand[5]) {
		t.Error("two seeds give one town")
	}
}

func TestWeatherHasSeasons(t *testing.T) {
	tw := newTown(2024, hoursInYear)
	mean := func(from int) (sum float64) {
		for h := from; h < from+30*24; h++ {
			sum += tw.weather[h].outdoor / (30 * 24)
		}
		return sum
	}
	if july, january := mean(0), mean(184*24); july < 12 || january > 2 {
		t.Errorf("July has %.1f °C, January %.1f °C", july, january)
	}
}

// The demo rests on this: the version with the mistake measures as well as the good one
// on its own data, and predicts something else in production.
func TestTheMistakeDoesNotShowInItsOwnMetrics(t *testing.T) {
	tw := newTown(2024, 3*hoursInYear)
	train, test := tw.demandExamples(8000, 24, 2*hoursInYear), tw.demandExamples(3000, 2*hoursInYear, 3*hoursInYear)
	fit := func(terms []standin.Term, examples []example) *standin.Model {
		m, err := fitNumber("heat-demand", demandInputs, "demand_mw", terms, examples)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	measure := func(m *standin.Model, examples []example) map[string]float64 {
		r, err := measureNumber(m, examples)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	calm, wind, wrong := fit(calmTerms(), train), fit(windTerms(), train), fit(windTerms(), inFahrenheit(train))
	mc, mw, mf := measure(calm, test), measure(wind, test), measure(wrong, inFahrenheit(test))
	if mw["rmse"] >= mc["rmse"]*0.98 || mw["r2"] < 0.9 {
		t.Errorf("the wind should help: %v without, %v with", mc, mw)
	}
	if mf["rmse"] > mw["rmse"]*1.01 {
		t.Errorf("the mistake shows offline: %v and %v", mw, mf)
	}
	if online := measure(wrong, test); online["rmse"] < 2*mw["rmse"] {
		t.Errorf("the mistake does not show in production: %v", online)
	}
}

func TestValveFaultsCanBeTold(t *testing.T) {
	v := newTown(2024, 48).valveExamples(8000)
	m, err := fitClasses("valve-fault", valveInputs, "fault", valveStates, valveTerms(), v[:6000])
	if err != nil {
		t.Fatal(err)
	}
	r, err := measureClasses(m, v[6000:])
	if err != nil || r["accuracy"] < 0.88 || r["balanced_accuracy"] < 0.55 {
		t.Errorf("%v, %v", r, err)
	}
}

func TestModelsSurviveTheirFile(t *testing.T) {
	tw := newTown(1, 1000)
	train := tw.demandExamples(1000, 24, 1000)
	m, err := fitNumber("heat-demand", demandInputs, "demand_mw", windTerms(), train)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "model.json")
	if err := m.Save(file); err != nil {
		t.Fatal(err)
	}
	back, err := standin.Load(file)
	if err != nil {
		t.Fatal(err)
	}
	row := maps.Clone(train[3].row)
	if a, b := m.Predict(row), back.Predict(row); a != b {
		t.Errorf("%v before, %v after", a, b)
	}
	row["wind_ms"] = nil
	if a, b := m.Predict(row), m.Predict(train[3].row); a == b {
		t.Error("a missing value was not filled")
	}
}
