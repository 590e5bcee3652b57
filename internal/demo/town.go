// Package demo plays the whole job with made-up data: the town of Tarnholm, its district
// heat, three models that are really fitted on its generated data, model servers as
// separate processes, and steady traffic.
package demo

import (
	"encoding/csv"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strconv"

	"innerladder/internal/core/signature"
	"innerladder/internal/standin"
)

const (
	hoursInYear = 365 * 24
	substations = 42
)

// mixes are the kinds of buildings around a substation, with how much their demand
// answers to cold, wind, and the time of day.
var mixes = []struct {
	name              string
	cold, wind, daily float64
}{
	{"old-town", 1.15, 1.5, 1.0},
	{"harbour", 1.0, 2.2, 0.9},
	{"terraces", 0.85, 0.8, 1.1},
	{"works", 0.95, 1.0, 1.5},
}

// town is two winters and more of weather and heat demand, hour by hour. The same seed
// gives the same town.
type town struct {
	r       *rand.Rand
	weather []weather
	// size is the scale of each substation in MW, mix its kind of buildings.
	size [substations]float64
	mix  [substations]int
	// demand is in MW by substation and hour.
	demand [substations][]float64
}

// weather is that of one hour.
type weather struct{ outdoor, wind, solar float64 }

// newTown generates so many hours from the first of July on.
func newTown(seed uint64, hours int) *town {
	t := &town{r: rand.New(rand.NewPCG(seed, 0x7a726e)), weather: make([]weather, hours)}
	slow, gust, cloud := 0.0, 0.0, 0.0
	for h := range hours {
		year := 2 * math.Pi * (float64(h%hoursInYear)/hoursInYear + 0.5) // from July
		day := 2 * math.Pi * float64(h%24) / 24
		slow = 0.985*slow + 0.6*t.r.NormFloat64()
		gust = 0.93*gust + 0.37*t.r.NormFloat64()
		cloud = 0.95*cloud + 0.3*t.r.NormFloat64()
		height := math.Max(0, 0.45-0.4*math.Cos(year)-math.Cos(day)*0.6)
		t.weather[h] = weather{
			outdoor: 7 - 11*math.Cos(year) - 2.5*math.Cos(day-0.6) + slow,
			wind:    math.Max(0, 5*math.Exp(0.45*gust)),
			solar:   700 * height * (0.6 - 0.4*math.Tanh(cloud)),
		}
	}
	for s := range substations {
		t.size[s] = 0.85 + 0.3*t.r.Float64()
		t.mix[s] = s % len(mixes)
		t.demand[s] = make([]float64, hours)
		for h := range hours {
			t.demand[s][h] = math.Max(0.02, t.expected(s, h)*(1+0.05*t.r.NormFloat64()))
		}
	}
	return t
}

// expected is the demand of a substation in an hour without chance, in MW: hot water,
// heat against the cold, more in wind, less in the sun, and the habits of the day.
func (t *town) expected(s, h int) float64 {
	w, m := t.weather[h], mixes[t.mix[s]]
	cold := math.Max(0, 17-w.outdoor)
	habit := 0.12 * m.daily * shape(h%24, (h/24)%7)
	return t.size[s] * (0.15 + 0.050*m.cold*cold*(1+0.022*m.wind*(w.wind-5)) - 0.00025*w.solar + habit)
}

// shape is the habit of an hour of a day of the week, around zero.
func shape(hour, weekday int) float64 {
	morning, evening := 7.0, 18.5
	if weekday >= 5 {
		morning = 9
	}
	peak := func(at, width float64) float64 {
		d := (float64(hour) - at) / width
		return math.Exp(-d * d / 2)
	}
	return peak(morning, 1.6) + 0.8*peak(evening, 2.2) - 0.4*peak(2, 3)
}

// demandInputs are the inputs of heat-demand, in order.
var demandInputs = []signature.Column{
	{Name: "outdoor_c", Type: signature.Number},
	{Name: "wind_ms", Type: signature.Number},
	{Name: "solar_wm2", Type: signature.Number},
	{Name: "hour", Type: signature.Integer},
	{Name: "weekday", Type: signature.Integer},
	{Name: "supply_c", Type: signature.Number},
	{Name: "demand_1h_mw", Type: signature.Number},
	{Name: "demand_24h_mw", Type: signature.Number},
	{Name: "mix", Type: signature.Text},
}

// demandRow is what is known of a substation before an hour. The meters of past demand
// are read in a hurry, so they are off by a good deal.
func (t *town) demandRow(s, h int) standin.Row {
	w := t.weather[h]
	metered := func(x float64) float64 { return round(x*(1+0.22*t.r.NormFloat64()), 3) }
	return standin.Row{
		"outdoor_c": round(w.outdoor, 1), "wind_ms": round(w.wind, 1), "solar_wm2": round(w.solar, 0),
		"hour": float64(h % 24), "weekday": float64((h / 24) % 7),
		"supply_c":     round(72-0.9*w.outdoor+t.r.NormFloat64(), 1),
		"demand_1h_mw": metered(t.demand[s][h-1]), "demand_24h_mw": metered(t.demand[s][h-24]),
		"mix": mixes[t.mix[s]].name,
	}
}

func round(x float64, digits int) float64 {
	p := math.Pow10(digits)
	return math.Round(x*p) / p
}

// example is one row with its truth.
type example struct {
	row    standin.Row
	number float64
	class  string
}

// demandExamples draws rows of heat-demand with the demand that came, from hours in
// [from, to).
func (t *town) demandExamples(n, from, to int) []example {
	out := make([]example, n)
	for i := range out {
		s, h := t.r.IntN(substations), from+t.r.IntN(to-from)
		out[i] = example{row: t.demandRow(s, h), number: round(t.demand[s][h], 3)}
	}
	return out
}

// returnInputs are the inputs of return-temp.
var returnInputs = []signature.Column{
	{Name: "outdoor_c", Type: signature.Number},
	{Name: "hour", Type: signature.Integer},
	{Name: "supply_c", Type: signature.Number},
	{Name: "demand_1h_mw", Type: signature.Number},
	{Name: "mix", Type: signature.Text},
}

// returnExamples draws rows of return-temp with the temperature that came.
func (t *town) returnExamples(n, from, to int) []example {
	out := t.demandExamples(n, from, to)
	for i, e := range out {
		e.number = round(28+0.22*(e.row["supply_c"].(float64)-60)+3.1*e.number+
			0.8*math.Sin(2*math.Pi*e.row["hour"].(float64)/24)+0.9*t.r.NormFloat64(), 2)
		delete(e.row, "wind_ms")
		delete(e.row, "solar_wm2")
		delete(e.row, "weekday")
		delete(e.row, "demand_24h_mw")
		out[i] = e
	}
	return out
}

// valveInputs are the inputs of valve-fault.
var valveInputs = []signature.Column{
	{Name: "flow_lmin", Type: signature.Number},
	{Name: "valve_pct", Type: signature.Number},
	{Name: "supply_c", Type: signature.Number},
	{Name: "return_c", Type: signature.Number},
	{Name: "drop_kpa", Type: signature.Number},
	{Name: "age_years", Type: signature.Number},
	{Name: "maker", Type: signature.Text},
}

var (
	makers      = []string{"brenna", "kvist", "solheim"}
	valveStates = []string{"leaking", "ok", "sticking"}
)

// valveExamples draws valves in service: old ones stick, ones under pressure leak.
func (t *town) valveExamples(n int) []example {
	out := make([]example, n)
	for i := range out {
		age := round(18*t.r.Float64()*t.r.Float64(), 1)
		maker := t.r.IntN(3)
		drop := 40 + 15*t.r.NormFloat64()
		wear := 0.16*age + []float64{0, 0.5, -0.4}[maker]
		state := valveStates[1]
		switch x := t.r.Float64(); {
		case x < 1/(1+math.Exp(3.4-wear)):
			state = "sticking"
		case x < 1/(1+math.Exp(3.4-wear))+1/(1+math.Exp(5.2-0.05*drop-0.3*wear)):
			state = "leaking"
		}
		open := 15 + 75*t.r.Float64()
		flow := open*0.9 + 6*t.r.NormFloat64()
		supply := 78 + 6*t.r.NormFloat64()
		back := supply - 34 + 3*t.r.NormFloat64()
		switch state {
		case "sticking":
			flow -= 14 + 4*t.r.NormFloat64()
			drop += 12
		case "leaking":
			flow += 11 + 4*t.r.NormFloat64()
			back += 7
		}
		out[i] = example{class: state, row: standin.Row{
			"flow_lmin": round(math.Max(0.5, flow), 1), "valve_pct": round(open, 0), "supply_c": round(supply, 1),
			"return_c": round(back, 1),
			"drop_kpa": round(math.Max(2, drop), 1), "age_years": age, "maker": makers[maker],
		}}
	}
	return out
}

// writeCSV writes examples as a sample for registration.
func writeCSV(file string, inputs []signature.Column, target string, examples []example) error {
	heading := make([]string, 0, len(inputs)+1)
	for _, c := range inputs {
		heading = append(heading, c.Name)
	}
	rows := [][]string{append(heading, target)}
	for _, e := range examples {
		cells := make([]string, 0, len(heading)+1)
		for _, c := range inputs {
			cells = append(cells, cell(e.row[c.Name]))
		}
		truth := e.class
		if truth == "" {
			truth = cell(e.number)
		}
		rows = append(rows, append(cells, truth))
	}
	return writeRows(file, rows)
}

// writeRows writes a table.
func writeRows(file string, rows [][]string) error {
	f, err := os.Create(file)
	if err != nil {
		return fmt.Errorf("writing a table: %w", err)
	}
	return errors.Join(csv.NewWriter(f).WriteAll(rows), f.Close())
}

func cell(v any) string {
	switch v := v.(type) {
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case string:
		return v
	}
	return ""
}
