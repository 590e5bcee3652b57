package demo

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"innerladder/internal/client"
	"innerladder/internal/core/registry"
	"innerladder/internal/service"
	"innerladder/internal/standin"
)

const (
	threeYears = 3 * hoursInYear
	twoYears   = 2 * hoursInYear
	// winter is the January of the third year, in which the demo plays.
	winter = 2*hoursInYear + 190*24
)

func (p *play) generate() error {
	p.town = newTown(p.Seed, threeYears)
	p.say("Tarnholm has %d substations; two winters to fit on, and the weather of a third", substations)
	return nil
}

// release is a version to register.
type release struct {
	model, note string
	fitted      *standin.Model
	metrics     map[string]float64
	params      map[string]string
	inputs      []registry.Column
	target      string
	unit        string
	sample      []example
	about       string
}

// demandRelease fits a version of heat-demand on the first two years and measures it on
// the third.
func (p *play) demandRelease(note string, terms []standin.Term, see func([]example) []example) (*release, error) {
	train, test := see(p.town.demandExamples(12000, 24, twoYears)), see(p.town.demandExamples(4000, twoYears, threeYears))
	m, err := fitNumber("heat-demand", demandInputs, "demand_mw", terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureNumber(m, test)
	if err != nil {
		return nil, err
	}
	return &release{model: "heat-demand", note: note, fitted: m, metrics: metrics, inputs: demandInputs, target: "demand_mw", unit: "MW", sample: test,
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge), "rows": fmt.Sprint(len(train))},
		about:  "heat demand of a substation in the next hour"}, nil
}

func asTheyAre(e []example) []example { return e }

// inFahrenheit is the mistake: the outdoor temperature was exported in °F.
func inFahrenheit(examples []example) []example {
	out := slices.Clone(examples)
	for i := range out {
		out[i].row = maps.Clone(out[i].row)
		out[i].row["outdoor_c"] = round(out[i].row["outdoor_c"].(float64)*1.8+32, 1)
	}
	return out
}

func (p *play) valveRelease(note string, terms []standin.Term) (*release, error) {
	train, test := p.town.valveExamples(8000), p.town.valveExamples(3000)
	m, err := fitClasses("valve-fault", valveInputs, "fault", valveStates, terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureClasses(m, test)
	return &release{model: "valve-fault", note: note, fitted: m, metrics: metrics, inputs: valveInputs, target: "fault", sample: test,
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge)}, about: "what is wrong with a valve"}, err
}

func (p *play) returnRelease(note string, terms []standin.Term) (*release, error) {
	train, test := p.town.returnExamples(6000, 24, twoYears), p.town.returnExamples(3000, twoYears, threeYears)
	m, err := fitNumber("return-temp", returnInputs, "return_c", terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureNumber(m, test)
	return &release{model: "return-temp", note: note, fitted: m, metrics: metrics, inputs: returnInputs, target: "return_c", unit: "°C", sample: test,
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge)}, about: "temperature of the water that comes back"}, err
}

// register writes the model and its sample to files and registers them.
func (p *play) register(ctx context.Context, r *release) (ref, modelFile string, err error) {
	dir := filepath.Join(p.Data, "town")
	n, err := filepath.Glob(filepath.Join(dir, r.model+"-*.model.json"))
	if err != nil {
		return "", "", err
	}
	stem := filepath.Join(dir, fmt.Sprintf("%s-%d", r.model, len(n)+1))
	modelFile = stem + ".model.json"
	if err := r.fitted.Save(modelFile); err != nil {
		return "", "", err
	}
	if err := writeCSV(stem+".rows.csv", r.inputs, r.target, r.sample); err != nil {
		return "", "", err
	}
	reg := service.Registration{Model: r.model, Note: r.note, Description: r.about, Metrics: r.metrics, Params: r.params, Targets: []string{r.target}}
	if r.unit != "" {
		reg.Units = map[string]string{r.target: r.unit}
	}
	v, err := p.runa.Register(ctx, reg, append(client.Artifacts(modelFile), client.LocalFile{Part: service.PartSample, Path: stem + ".rows.csv"}))
	return v.Ref, modelFile, err
}
