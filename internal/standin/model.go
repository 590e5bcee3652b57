// Package standin is a simulated model server. It speaks the Open Inference Protocol and
// computes real predictions from small fitted models; only its misbehaviour is made up.
package standin

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"slices"

	"innerladder/internal/core/signature"
)

// Format names the file format of a fitted model.
const Format = "innerladder-standin-model/1"

// Model is a small fitted model: weights on terms that are computed from the inputs.
type Model struct {
	Format string             `json:"format"`
	Name   string             `json:"name"`
	Inputs []signature.Column `json:"inputs"`
	Output signature.Column   `json:"output"`
	// Terms are what the weights apply to; the first weight of each row is the
	// intercept.
	Terms []Term `json:"terms"`
	// Weights has one row for a number, one row a class for classes.
	Weights [][]float64 `json:"weights"`
	Classes []string    `json:"classes,omitempty"`
	// Strict models fail when an input is missing; others take its Fill value.
	Strict bool               `json:"strict,omitempty"`
	Fill   map[string]float64 `json:"fill,omitempty"`
}

// Term is one number computed from the inputs of a row, then centred and scaled.
type Term struct {
	// Of names the inputs; Level is for texts.
	Of    []string `json:"of"`
	Level string   `json:"level,omitempty"`
	// How is value, product, is, sine, cosine, or below.
	How string `json:"how"`
	// Period is that of sine and cosine; Limit that of below: max(0, Limit − x).
	Period float64 `json:"period,omitempty"`
	Limit  float64 `json:"limit,omitempty"`
	Centre float64 `json:"centre"`
	Scale  float64 `json:"scale"`
}

// Row is the inputs of one prediction: numbers, booleans, texts, or nil.
type Row map[string]any

// Raw computes the term before centring and scaling.
func (t Term) Raw(row Row, fill map[string]float64) float64 {
	x := func(i int) float64 {
		switch v := row[t.Of[i]].(type) {
		case float64:
			return v
		case bool:
			if v {
				return 1
			}
			return 0
		}
		return fill[t.Of[i]]
	}
	switch t.How {
	case "product":
		p := 1.0
		for i := range t.Of {
			p *= x(i)
		}
		return p
	case "is":
		if row[t.Of[0]] == t.Level {
			return 1
		}
		return 0
	case "sine":
		return math.Sin(2 * math.Pi * x(0) / t.Period)
	case "cosine":
		return math.Cos(2 * math.Pi * x(0) / t.Period)
	case "below":
		return math.Max(0, t.Limit-x(0))
	}
	return x(0)
}

// scores computes one number for each row of weights.
func (m *Model) scores(row Row) []float64 {
	out := make([]float64, len(m.Weights))
	for k, w := range m.Weights {
		out[k] = w[0]
	}
	for j, t := range m.Terms {
		z := (t.Raw(row, m.Fill) - t.Centre) / t.Scale
		for k, w := range m.Weights {
			out[k] += w[j+1] * z
		}
	}
	return out
}

// Predict predicts a number for a row.
func (m *Model) Predict(row Row) float64 { return m.scores(row)[0] }

// Classify predicts a class for a row, with a probability for each class.
func (m *Model) Classify(row Row) (class string, probability []float64) {
	p := m.scores(row)
	top := slices.Max(p)
	sum := 0.0
	for k := range p {
		p[k] = math.Exp(p[k] - top)
		sum += p[k]
	}
	best := 0
	for k := range p {
		p[k] /= sum
		if p[k] > p[best] {
			best = k
		}
	}
	return m.Classes[best], p
}

// Load reads a model from a file.
func Load(file string) (*Model, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the model: %w", err)
	}
	var m Model
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, fmt.Errorf("reading the model: %s: %w", file, err)
	}
	return &m, m.check(file)
}

func (m *Model) check(file string) error {
	switch {
	case m.Format != Format:
		return fmt.Errorf("reading the model: %s is not in the format %s", file, Format)
	case m.Name == "" || len(m.Inputs) == 0 || len(m.Weights) == 0:
		return fmt.Errorf("reading the model: %s lacks a name, inputs or weights", file)
	case len(m.Classes) > 0 && len(m.Classes) != len(m.Weights):
		return fmt.Errorf("reading the model: %s has %d classes and %d rows of weights", file, len(m.Classes),
			len(m.Weights))
	}
	for _, w := range m.Weights {
		if len(w) != len(m.Terms)+1 {
			return fmt.Errorf("reading the model: %s has %d terms and %d weights", file, len(m.Terms), len(w))
		}
	}
	for i, t := range m.Terms {
		if len(t.Of) == 0 || t.Scale == 0 {
			return fmt.Errorf("reading the model: term %d of %s has no input or no scale", i+1, file)
		}
	}
	return nil
}

// Save writes a model to a file.
func (m *Model) Save(file string) error {
	b, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(b, '\n'), 0o644)
}
