package demo

import (
	"fmt"
	"math"

	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/signature"
	"innerladder/internal/standin"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/optimize"
	"gonum.org/v1/gonum/stat"
)

// ridge is the penalty on every weight but the intercept, on scaled terms.
const ridge = 1e-3

// value, product and the others make terms.
func value(of string) standin.Term { return standin.Term{Of: []string{of}, How: "value"} }

func product(a, b string) standin.Term {
	return standin.Term{Of: []string{a, b}, How: "product"}
}

func is(of, level string) standin.Term {
	return standin.Term{Of: []string{of}, How: "is", Level: level}
}

// waves are the first harmonics of a period.
func waves(of string, period float64, harmonics int) (out []standin.Term) {
	for k := 1; k <= harmonics; k++ {
		out = append(out, standin.Term{Of: []string{of}, How: "sine", Period: period / float64(k)},
			standin.Term{Of: []string{of}, How: "cosine", Period: period / float64(k)})
	}
	return out
}

// calmTerms are those of a demand model that does not look at the wind.
func calmTerms() []standin.Term {
	terms := []standin.Term{
		value("outdoor_c"), value("solar_wm2"), value("supply_c"), value("demand_1h_mw"),
		value("demand_24h_mw"),
	}
	terms = append(terms, waves("hour", 24, 3)...)
	for _, m := range mixes[1:] {
		terms = append(terms, is("mix", m.name))
	}
	return terms
}

// windTerms are the same with the wind, which cools more the colder it is.
func windTerms() []standin.Term {
	return append(calmTerms(), value("wind_ms"), product("outdoor_c", "wind_ms"))
}

func returnTerms() []standin.Term {
	return append([]standin.Term{value("outdoor_c"), value("supply_c"), value("demand_1h_mw")}, waves("hour", 24, 1)...)
}

func valveTerms() []standin.Term {
	terms := []standin.Term{
		value("flow_lmin"), value("valve_pct"), value("supply_c"), value("return_c"),
		value("drop_kpa"), value("age_years"),
	}
	for _, m := range makers[1:] {
		terms = append(terms, is("maker", m))
	}
	return terms
}

// design scales the terms on the examples and computes the matrix of a fit, with a
// first column of ones.
func design(m *standin.Model, examples []example) *mat.Dense {
	x := mat.NewDense(len(examples), len(m.Terms)+1, nil)
	column := make([]float64, len(examples))
	for i := range examples {
		x.Set(i, 0, 1)
	}
	for j := range m.Terms {
		t := &m.Terms[j]
		for i, e := range examples {
			column[i] = t.Raw(e.row, m.Fill)
		}
		t.Centre, t.Scale = stat.MeanStdDev(column, nil)
		if t.Scale == 0 {
			t.Scale = 1
		}
		for i, v := range column {
			x.Set(i, j+1, (v-t.Centre)/t.Scale)
		}
	}
	return x
}

// fills takes the mean of every number, for rows where it is missing.
func fills(inputs []signature.Column, examples []example) map[string]float64 {
	out := map[string]float64{}
	for _, c := range inputs {
		if c.Type == signature.Text {
			continue
		}
		for _, e := range examples {
			out[c.Name] += e.row[c.Name].(float64) / float64(len(examples))
		}
	}
	return out
}

// fitNumber fits a model of a number by ridge regression.
func fitNumber(name string, inputs []signature.Column, output string, terms []standin.Term,
	examples []example,
) (*standin.Model, error) {
	m := &standin.Model{
		Format: standin.Format, Name: name, Inputs: inputs,
		Output: signature.Column{Name: output, Type: signature.Number}, Terms: terms, Fill: fills(inputs, examples),
	}
	x := design(m, examples)
	y := mat.NewVecDense(len(examples), nil)
	for i, e := range examples {
		y.SetVec(i, e.number)
	}
	n := len(terms) + 1
	var xtx mat.SymDense
	xtx.SymOuterK(1, x.T())
	for j := 1; j < n; j++ {
		xtx.SetSym(j, j, xtx.At(j, j)+ridge*float64(len(examples)))
	}
	var xty, w mat.VecDense
	xty.MulVec(x.T(), y)
	var chol mat.Cholesky
	if !chol.Factorize(&xtx) {
		return nil, fmt.Errorf("fitting %s: the terms depend on one another", name)
	}
	if err := chol.SolveVecTo(&w, &xty); err != nil {
		return nil, fmt.Errorf("fitting %s: %w", name, err)
	}
	m.Weights = [][]float64{append([]float64(nil), w.RawVector().Data...)}
	return m, nil
}

// fitClasses fits a model of classes by multinomial logistic regression.
func fitClasses(name string, inputs []signature.Column, output string, classes []string, terms []standin.Term,
	examples []example,
) (*standin.Model, error) {
	m := &standin.Model{
		Format: standin.Format, Name: name, Inputs: inputs,
		Output: signature.Column{Name: output, Type: signature.Text}, Classes: classes, Terms: terms,
		Fill: fills(inputs, examples),
	}
	x := design(m, examples)
	n, width, k := len(examples), len(terms)+1, len(classes)
	truth := make([]int, n)
	for i, e := range examples {
		for c, name := range classes {
			if e.class == name {
				truth[i] = c
			}
		}
	}
	// loss is the mean negative log-likelihood with its gradient.
	loss := func(w, grad []float64) float64 {
		var scores mat.Dense
		scores.Mul(x, mat.NewDense(k, width, w).T())
		residual := mat.NewDense(n, k, nil)
		total := 0.0
		for i := range n {
			row := scores.RawRowView(i)
			top, sum := math.Inf(-1), 0.0
			for _, s := range row {
				top = math.Max(top, s)
			}
			for _, s := range row {
				sum += math.Exp(s - top)
			}
			for c, s := range row {
				p := math.Exp(s-top) / sum
				if c == truth[i] {
					total -= math.Log(math.Max(p, 1e-300))
					p--
				}
				residual.Set(i, c, p)
			}
		}
		for _, v := range w {
			total += ridge * float64(n) * v * v / 2
		}
		if grad != nil {
			g := mat.NewDense(k, width, grad)
			g.Mul(residual.T(), x)
			for i, v := range w {
				grad[i] = (grad[i] + ridge*float64(n)*v) / float64(n)
			}
		}
		return total / float64(n)
	}
	result, err := optimize.Minimize(optimize.Problem{
		Func: func(w []float64) float64 { return loss(w, nil) },
		Grad: func(grad, w []float64) { loss(w, grad) },
	}, make([]float64, k*width), &optimize.Settings{MajorIterations: 60, GradientThreshold: 1e-4}, &optimize.LBFGS{})
	if result == nil {
		return nil, fmt.Errorf("fitting %s: %w", name, err)
	}
	for c := range k {
		m.Weights = append(m.Weights, append([]float64(nil), result.X[c*width:(c+1)*width]...))
	}
	return m, nil
}

// measureNumber measures a model of a number on examples it has not seen.
func measureNumber(m *standin.Model, examples []example) (map[string]float64, error) {
	truth, predicted := make([]float64, len(examples)), make([]float64, len(examples))
	for i, e := range examples {
		truth[i], predicted[i] = e.number, m.Predict(e.row)
	}
	r, err := evaluate.OfRegression(truth, predicted, nil)
	if err != nil {
		return nil, err
	}
	return map[string]float64{
		"rmse": round(r.RMSE, 4), "mae": round(r.MAE, 4), "r2": round(r.R2, 4),
		"bias": round(r.Bias, 4),
	}, nil
}

// classify holds what a model of classes says of examples against the truth.
func classify(m *standin.Model, examples []example) (evaluate.Classification, error) {
	truth, predicted := make([]string, len(examples)), make([]string, len(examples))
	for i, e := range examples {
		truth[i] = e.class
		predicted[i], _ = m.Classify(e.row)
	}
	return evaluate.OfClassification(truth, predicted, nil)
}

// measureClasses measures a model of classes on examples.
func measureClasses(m *standin.Model, examples []example) (map[string]float64, error) {
	c, err := classify(m, examples)
	if err != nil {
		return nil, err
	}
	return map[string]float64{
		"accuracy": round(c.Accuracy, 4), "balanced_accuracy": round(c.BalancedAccuracy, 4),
		"macro_f1": round(c.MacroF1, 4),
	}, nil
}
