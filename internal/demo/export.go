package demo

import (
	"encoding/binary"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"

	"innerladder/internal/standin"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
)

// The same fitted weights in open formats, as teams hand them over. All apply to the
// scaled terms of the model, not to the raw inputs.

// matrix is the weights without the intercepts, terms by outputs, and the intercepts.
func matrix(m *standin.Model) (weights, intercepts []float32) {
	for j := range m.Terms {
		for _, row := range m.Weights {
			weights = append(weights, float32(row[j+1]))
		}
	}
	for _, row := range m.Weights {
		intercepts = append(intercepts, float32(row[0]))
	}
	return weights, intercepts
}

func float32s(x []float32) []byte {
	var b []byte
	for _, v := range x {
		b = binary.LittleEndian.AppendUint32(b, math.Float32bits(v))
	}
	return b
}

// writeSafetensors writes the weights as two tensors.
func writeSafetensors(m *standin.Model, file string) error {
	w, b := matrix(m)
	type entry struct {
		Dtype   string `json:"dtype"`
		Shape   []int  `json:"shape"`
		Offsets []int  `json:"data_offsets"`
	}
	header, err := json.Marshal(map[string]any{
		"__metadata__": map[string]string{"format": "weights on scaled terms", "model": m.Name},
		"weights":      entry{"F32", []int{len(m.Terms), len(m.Weights)}, []int{0, 4 * len(w)}},
		"intercepts":   entry{"F32", []int{len(b)}, []int{4 * len(w), 4 * (len(w) + len(b))}},
	})
	if err != nil {
		return err
	}
	out := binary.LittleEndian.AppendUint64(nil, uint64(len(header)))
	out = append(append(append(out, header...), float32s(w)...), float32s(b)...)
	return os.WriteFile(file, out, 0o600)
}

// writePMML writes a model whose terms are plain inputs as a regression in PMML.
func writePMML(m *standin.Model, file string) error {
	type dataField struct {
		Name     string `xml:"name,attr"`
		Optype   string `xml:"optype,attr"`
		DataType string `xml:"dataType,attr"`
	}
	type miningField struct {
		Name  string `xml:"name,attr"`
		Usage string `xml:"usageType,attr"`
	}
	type predictor struct {
		Name        string  `xml:"name,attr"`
		Coefficient float64 `xml:"coefficient,attr"`
	}
	doc := struct {
		XMLName xml.Name `xml:"PMML"`
		Version string   `xml:"version,attr"`
		Space   string   `xml:"xmlns,attr"`
		Header  struct {
			About string `xml:"description,attr"`
			By    struct {
				Name string `xml:"name,attr"`
			} `xml:"Application"`
		}
		Dictionary struct{ DataField []dataField } `xml:"DataDictionary"`
		Model      struct {
			Name     string                              `xml:"modelName,attr"`
			Function string                              `xml:"functionName,attr"`
			Schema   struct{ MiningField []miningField } `xml:"MiningSchema"`
			Table    struct {
				Intercept float64     `xml:"intercept,attr"`
				Numeric   []predictor `xml:"NumericPredictor"`
			} `xml:"RegressionTable"`
		} `xml:"RegressionModel"`
	}{Version: "4.4", Space: "http://www.dmg.org/PMML-4_4"}
	doc.Header.About, doc.Header.By.Name = m.Name, "tarnholm-fit"
	doc.Model.Name, doc.Model.Function = m.Name, "regression"
	intercept := m.Weights[0][0]
	for j, t := range m.Terms {
		if t.How != "value" {
			return fmt.Errorf("writing %s as PMML: the term %v is no plain input", m.Name, t.Of)
		}
		c := m.Weights[0][j+1] / t.Scale
		intercept -= c * t.Centre
		doc.Dictionary.DataField = append(doc.Dictionary.DataField, dataField{t.Of[0], "continuous", "double"})
		doc.Model.Schema.MiningField = append(doc.Model.Schema.MiningField, miningField{t.Of[0], "active"})
		doc.Model.Table.Numeric = append(doc.Model.Table.Numeric, predictor{t.Of[0], c})
	}
	doc.Model.Table.Intercept = intercept
	doc.Dictionary.DataField = append(doc.Dictionary.DataField, dataField{m.Output.Name, "continuous", "double"})
	doc.Model.Schema.MiningField = append(doc.Model.Schema.MiningField, miningField{m.Output.Name, "target"})
	b, err := xml.MarshalIndent(doc, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append([]byte(xml.Header), b...), 0o600)
}

// drawResiduals draws truth less prediction over the prediction, in a picture.
func drawResiduals(m *standin.Model, examples []example, file string) error {
	points := make(plotter.XYs, 0, len(examples))
	for _, e := range examples[:min(len(examples), 1500)] {
		y := m.Predict(e.row)
		points = append(points, plotter.XY{X: y, Y: e.number - y})
	}
	p := plot.New()
	p.Title.Text = m.Name + ": what was left over on hours it had not seen"
	p.X.Label.Text, p.Y.Label.Text = "predicted "+m.Output.Name, "truth − prediction"
	dots, err := plotter.NewScatter(points)
	if err != nil {
		return err
	}
	dots.Color, dots.Radius = color.RGBA{R: 15, G: 111, B: 107, A: 140}, vg.Points(1.2)
	p.Add(plotter.NewGrid(), dots)
	return p.Save(16*vg.Centimeter, 9*vg.Centimeter, file)
}

// stem is the beginning of the names of the files of the next version of a model.
func (p *play) stem(model string) string {
	p.registered[model]++
	return filepath.Join(p.Data, "town", fmt.Sprintf("%s-%d", model, p.registered[model]))
}
