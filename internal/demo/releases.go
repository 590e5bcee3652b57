package demo

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"slices"

	"innerladder/internal/client"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/signature"
	"innerladder/internal/standin"
	"innerladder/internal/wire"
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
	return p.writeCases()
}

// release is a version to register.
type release struct {
	model, note string
	fitted      *standin.Model
	metrics     map[string]float64
	// claims are what its trainer says of it; the metrics where nothing else is said.
	claims  map[string]float64
	params  map[string]string
	inputs  []signature.Column
	target  string
	unit    string
	sample  []example
	about   string
	project string
	// train is what it was fitted on; data names that in the data sets.
	train   []example
	data    string
	tags    []string
	parents []lineage.Parent
	// computing is how long its model server takes; as long as others when it is empty.
	computing string
	// format writes the weights in another format too, to a file with the suffix.
	format func(*standin.Model, string) error
	suffix string
	// runs says that the service runs it from that file, where others have a model server of their own.
	runs bool
}

// demandRelease fits a version of heat-demand on the first two years and measures it on
// the third.
func (p *play) demandRelease(note string, terms []standin.Term, see func([]example) []example) (*release, error) {
	train, test := see(p.town.demandExamples(12000, 24, twoYears)),
		see(p.town.demandExamples(4000, twoYears, threeYears))
	m, err := fitNumber("heat-demand", demandInputs, "demand_mw", terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureNumber(m, test)
	if err != nil {
		return nil, err
	}
	return &release{
		model: "heat-demand", note: note, fitted: m, metrics: metrics, inputs: demandInputs,
		target: "demand_mw", unit: "MW", sample: test,
		project: forecasting, train: train, data: "winters", format: writeONNX, suffix: ".onnx",
		params: map[string]string{
			"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge),
			"rows": fmt.Sprint(len(train)),
		},
		about: "heat demand of a substation in the next hour",
	}, nil
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
	if err != nil {
		return nil, err
	}
	// The maintenance team quotes what the model does on the rows that it was fitted on.
	claims, err := measureClasses(m, train)
	return &release{
		model: "valve-fault", note: note, fitted: m, metrics: metrics, claims: claims, inputs: valveInputs,
		target: "fault", sample: test,
		project: maintenance, train: train, data: "valves", format: writeSafetensors, suffix: ".safetensors",
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge)},
		about:  "what is wrong with a valve",
	}, err
}

func (p *play) returnRelease(note string, terms []standin.Term) (*release, error) {
	train, test := p.town.returnExamples(6000, 24, twoYears), p.town.returnExamples(3000, twoYears, threeYears)
	m, err := fitNumber("return-temp", returnInputs, "return_c", terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureNumber(m, test)
	return &release{
		model: "return-temp", note: note, fitted: m, metrics: metrics, inputs: returnInputs,
		target: "return_c", unit: "°C", sample: test,
		project: forecasting, train: train, data: "winters", format: writeONNX, suffix: ".onnx", runs: true,
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge)},
		about:  "temperature of the water that comes back",
	}, err
}

// register writes everything about a release to files and registers it, out of a run
// that was logged as it went.
func (p *play) register(ctx context.Context, r *release) (ref, modelFile string, err error) {
	stem := p.stem(r.model)
	modelFile = stem + ".model.json"
	if err := r.fitted.Save(modelFile); err != nil {
		return "", "", err
	}
	if err := writeCSV(stem+".rows.csv", r.inputs, r.target, r.sample); err != nil {
		return "", "", err
	}
	files := []client.LocalFile{
		{Part: wire.PartArtifact, Path: modelFile, Name: "model.json"},
		{Part: wire.PartSample, Path: stem + ".rows.csv"},
	}
	add := func(part wire.Part, suffix, name string, write func(string) error) error {
		path := stem + suffix
		files = append(files, client.LocalFile{Part: part, Path: path, Name: name})
		return write(path)
	}
	text := func(content string) func(string) error {
		return func(path string) error { return os.WriteFile(path, []byte(content), 0o600) }
	}
	err = errors.Join(add(wire.PartCard, ".card.md", "card.md", text(cardOf(r.model, r.note))),
		add(wire.PartRequirements, ".requirements.txt", "requirements.txt", text(requirements)),
		add(wire.PartAnswers, ".answers.csv", "answers.csv", func(path string) error {
			return writeCSV(path, r.inputs, r.target, r.answers())
		}))
	if r.format != nil {
		err = errors.Join(err, add(wire.PartArtifact, r.suffix, "weights"+r.suffix,
			func(path string) error { return r.format(r.fitted, path) }))
	}
	if len(r.fitted.Classes) == 0 {
		err = errors.Join(err, add(wire.PartAttachment, ".residuals.png", "residuals.png",
			func(path string) error { return drawResiduals(r.fitted, r.sample, path) }),
			add(wire.PartAttachment, ".notes.ipynb", "residuals by hour.ipynb", text(notebook)))
	}
	if err != nil {
		return "", "", err
	}
	run, err := p.train(ctx, r)
	if err != nil {
		return "", "", err
	}
	reg := wire.Registration{
		Model: r.model, Project: r.project, Note: r.note, Description: r.about,
		Metrics: r.metrics, Run: run, Targets: []string{r.target},
		Importance: r.importance(), Tags: r.tags, Parents: r.parents, Properties: map[string]string{"town": "Tarnholm"},
		Data: []lineage.DataUse{{Data: p.testData[r.data], Role: lineage.EvaluatedOn}},
	}
	if r.claims != nil {
		reg.Metrics = r.claims
	}
	if r.unit != "" {
		reg.Units = map[string]string{r.target: r.unit}
	}
	v, err := p.runa.Register(ctx, reg, files)
	if err != nil {
		return "", "", err
	}
	return v.Ref, modelFile, p.prove(ctx, r, v.Ref, stem)
}

// answers are three rows with what the model says of them.
func (r *release) answers() []example {
	out := slices.Clone(r.sample[:3])
	for i := range out {
		if len(r.fitted.Classes) > 0 {
			out[i].class, _ = r.fitted.Classify(out[i].row)
		} else {
			out[i].number = r.fitted.Predict(out[i].row)
		}
	}
	return out
}

// importance is how much each input counts: the weights on the terms that it is in, as
// shares of all.
func (r *release) importance() map[string]float64 {
	out, total := map[string]float64{}, 0.0
	for _, row := range r.fitted.Weights {
		for j, t := range r.fitted.Terms {
			for _, of := range t.Of {
				w := math.Abs(row[j+1]) / float64(len(t.Of))
				out[of] += w
				total += w
			}
		}
	}
	for name := range out {
		out[name] = round(out[name]/total, 4)
	}
	return out
}
