package demo

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math"
	"os"
	"path/filepath"

	"innerladder/internal/blob"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"
	"innerladder/internal/standin"
	"innerladder/internal/wire"
)

// What the teams had before the story begins: projects, data sets, runs that were logged
// as they went, a base model that others start from, and a bench of trials. All of it is
// really fitted.

// furnish adds projects, people and data sets.
func (p *play) furnish(ctx context.Context) error {
	for name, about := range map[string]string{
		forecasting: "demand and temperatures, for dispatch",
		maintenance: "valves and pumps, for the crews",
	} {
		if _, err := p.sif.AddProject(ctx, name, about); err != nil {
			return err
		}
	}
	if err := p.admit(ctx); err != nil {
		return err
	}
	p.trainData, p.testData = map[string]string{}, map[string]string{}
	for _, d := range []struct {
		key, project, name, about string
		inputs                    []signature.Column
		target                    string
		rows                      []example
		into                      map[string]string
	}{
		{
			"winters", forecasting, "winters-2024", "the first winter alone", demandInputs, "demand_mw",
			p.town.demandExamples(3000, 24, hoursInYear), p.trainData,
		},
		{
			"winters", forecasting, "winters-2024", "both winters, repairs of March left out", demandInputs,
			"demand_mw",
			p.town.demandExamples(6000, 24, twoYears), p.trainData,
		},
		{
			"winters", forecasting, "winter-2026", "the winter that nobody fitted on", demandInputs, "demand_mw",
			p.town.demandExamples(3000, twoYears, threeYears), p.testData,
		},
		{
			"valves", maintenance, "valves-2025", "valves in service, labelled by the crews", valveInputs, "fault",
			p.town.valveExamples(4000), p.trainData,
		},
		{
			"valves", maintenance, "valves-2026", "labelled this year, for measuring only", valveInputs, "fault",
			p.town.valveExamples(2000), p.testData,
		},
	} {
		ref, err := p.addData(ctx, d.project, d.name, d.about, d.inputs, d.target, d.rows)
		if err != nil {
			return err
		}
		d.into[d.key] = ref
	}
	return nil
}

// addData writes rows to a file and adds it as a revision of a data set.
func (p *play) addData(ctx context.Context, project, name, about string, inputs []signature.Column, target string,
	rows []example,
) (string, error) {
	path := filepath.Join(p.Data, "town", name+".csv")
	if err := writeCSV(path, inputs, target, rows); err != nil {
		return "", err
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	digest, size, err := blob.Digest(f)
	if err != nil {
		return "", err
	}
	if _, err := f.Seek(0, 0); err != nil {
		return "", err
	}
	seen, err := intake.Profile(path, f, size, nil)
	if err != nil {
		return "", err
	}
	schema, err := seen.Signature(nil, nil)
	if err != nil {
		return "", err
	}
	d, err := p.runa.AddDataSet(ctx,
		wire.NewDataSet{
			Name: name, Project: project, Description: about,
			Address: "https://data.tarnholm.example/" + name + ".csv", Digest: digest, Size: size,
			Rows:   int64(len(rows)),
			Schema: schema.Inputs,
		})
	return d.Ref, err
}

const (
	// epochs is how many steps of a run are logged.
	epochs = 60
	// rate is the step size of gradient descent on scaled terms.
	rate = 0.12
)

// train logs a run: gradient descent on the terms of a release, measured after every
// epoch on what it learns from and on what it has not seen. The release itself holds the
// exact solution that the descent goes towards.
func (p *play) train(ctx context.Context, r *release) (string, error) {
	run, err := p.runa.StartRun(ctx,
		wire.NewRun{
			Model: r.model, Project: r.project, Title: r.note, Machine: "bench-2", Params: r.params,
			Code: &lineage.Code{
				Repository: "https://git.tarnholm.example/forecasting", Branch: "main",
				Commit: commit(r.model, len(r.fitted.Terms)),
			},
			Data: []lineage.DataUse{{Data: p.trainData[r.data], Role: lineage.TrainedOn}},
		})
	if err != nil {
		return "", err
	}
	var points []lineage.Point
	descend(r, func(epoch int, train, test float64) {
		points = append(points, lineage.Point{Metric: "train_loss", Step: int64(epoch), Value: train},
			lineage.Point{Metric: "test_loss", Step: int64(epoch), Value: test})
	})
	if _, err := p.runa.LogRun(ctx, run.Ref, map[string]string{"epochs": fmt.Sprint(epochs), "rate": fmt.Sprint(rate)},
		points); err != nil {
		return "", err
	}
	_, err = p.runa.EndRun(ctx, run.Ref, false, "then the exact solution")
	return run.Ref, err
}

// commit is a made-up revision: the same code for the same model and terms.
func commit(model string, terms int) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s with %d terms", model, terms))
	return hex.EncodeToString(sum[:20])
}

// descend fits the weights of a release again by gradient descent, from zero, and tells
// the loss after every epoch: root mean squared error for numbers, mean cross entropy
// for classes.
func descend(r *release, tell func(epoch int, train, test float64)) {
	terms := func(examples []example) ([][]float64, []example) {
		examples = examples[:min(len(examples), 600)]
		out := make([][]float64, len(examples))
		for i, e := range examples {
			out[i] = []float64{1}
			for _, t := range r.fitted.Terms {
				out[i] = append(out[i], (t.Raw(e.row, r.fitted.Fill)-t.Centre)/t.Scale)
			}
		}
		return out, examples
	}
	x, train := terms(r.train)
	z, test := terms(r.sample)
	w := make([][]float64, len(r.fitted.Weights))
	for k := range w {
		w[k] = make([]float64, len(r.fitted.Terms)+1)
	}
	step := rate / math.Sqrt(float64(len(r.fitted.Terms)))
	for epoch := range epochs {
		grad := make([][]float64, len(w))
		for k := range grad {
			grad[k] = make([]float64, len(w[k]))
		}
		for i, row := range x {
			for k, residual := range residuals(r.fitted, w, row, train[i]) {
				for j, v := range row {
					grad[k][j] += residual * v / float64(len(x))
				}
			}
		}
		for k := range w {
			for j := range w[k] {
				w[k][j] -= step * grad[k][j]
			}
		}
		tell(epoch, loss(r.fitted, w, x, train), loss(r.fitted, w, z, test))
	}
}

// shares turns the scores of classes into shares that add up to one.
func shares(w [][]float64, row []float64) []float64 {
	out, top, sum := make([]float64, len(w)), math.Inf(-1), 0.0
	for k := range w {
		for j, v := range row {
			out[k] += w[k][j] * v
		}
		top = math.Max(top, out[k])
	}
	for k := range out {
		out[k] = math.Exp(out[k] - top)
		sum += out[k]
	}
	for k := range out {
		out[k] /= sum
	}
	return out
}

// residuals are prediction less truth, one for a number, one a class for classes.
func residuals(m *standin.Model, w [][]float64, row []float64, e example) []float64 {
	if len(m.Classes) == 0 {
		y := 0.0
		for j, v := range row {
			y += w[0][j] * v
		}
		return []float64{y - e.number}
	}
	out := shares(w, row)
	for k, class := range m.Classes {
		if class == e.class {
			out[k]--
		}
	}
	return out
}

func loss(m *standin.Model, w, x [][]float64, examples []example) float64 {
	total := 0.0
	for i, row := range x {
		r := residuals(m, w, row, examples[i])
		if len(m.Classes) == 0 {
			total += r[0] * r[0]
			continue
		}
		for k, class := range m.Classes {
			if class == examples[i].class {
				total -= math.Log(math.Max(r[k]+1, 1e-12))
			}
		}
	}
	total /= float64(len(x))
	if len(m.Classes) == 0 {
		total = math.Sqrt(total)
	}
	return round(total, 5)
}

// baseRelease is a model that answers to the weather and the time of day only.
func (p *play) baseRelease(note string, terms []standin.Term) (*release, error) {
	r, err := p.demandRelease(note, terms, asTheyAre)
	if err != nil {
		return nil, err
	}
	r.model, r.about, r.fitted.Name = "weather-base", "the weather's part of heat demand, a start for other models",
		"weather-base"
	r.format, r.suffix, r.tags = writePMML, ".pmml", []string{"base", "weather"}
	return r, nil
}

// openArchive registers the base model and vets it.
func (p *play) openArchive(ctx context.Context) error {
	plain := []standin.Term{value("outdoor_c"), value("wind_ms"), value("solar_wm2")}
	for _, b := range []struct {
		note  string
		terms []standin.Term
	}{{"temperature alone", plain[:1]}, {"with wind and sun", plain}} {
		r, err := p.baseRelease(b.note, b.terms)
		if err != nil {
			return err
		}
		if _, _, err := p.register(ctx, r); err != nil {
			return err
		}
	}
	if _, err := p.tove.Vet(ctx, "weather-base", "checked against three winters by the forecasting team",
		true); err != nil {
		return err
	}
	_, err := p.runa.PutLabel(ctx, "weather-base", 2, "stable", "", "the one to start from")
	p.base = []lineage.Parent{{Version: "weather-base@2", Relation: "extended"}}
	return err
}

// trials registers a bench of trials: the same terms and fewer, on more and fewer rows.
func (p *play) trials(ctx context.Context) error {
	terms := windTerms()
	for i, n := range []int{4, 7, 10, 13, len(terms)} {
		r, err := p.demandRelease(fmt.Sprintf("the first %d terms", n), terms[:n], asTheyAre)
		if err != nil {
			return err
		}
		r.model, r.about, r.tags = "heat-demand-bench", "trials of what to put into heat-demand", []string{"trial"}
		r.parents = p.base
		if i == 4 {
			r.tags = append(r.tags, "candidate")
		}
		if _, _, err := p.register(ctx, r); err != nil {
			return err
		}
	}
	small, err := p.valveRelease("for the handheld, without the makers", valveTerms()[:6])
	if err != nil {
		return err
	}
	small.model, small.about, small.tags = "valve-fault-handheld", "valve-fault, small enough for the crews' handhelds",
		[]string{"edge"}
	small.parents = []lineage.Parent{{Version: "valve-fault@1", Relation: "distilled"}}
	if _, _, err := p.register(ctx, small); err != nil {
		return err
	}
	if _, err := p.tove.Retire(ctx, "heat-demand-bench@1", "too few terms to be of use"); err != nil {
		return err
	}
	p.say("the archive holds a vetted base model, a bench of trials, and a model for handhelds, with their " +
		"runs and data")
	return nil
}
