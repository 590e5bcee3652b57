package demo

import (
	"fmt"
	"math"
	"os"

	"innerladder/internal/core/signature"
	"innerladder/internal/onnxfile"
	"innerladder/internal/standin"
)

// onnxGraph is a graph in the making.
type onnxGraph struct {
	fields []onnxfile.Field
	// named counts the constants and values that were given a name.
	named int
}

func (g *onnxGraph) name() string {
	g.named++
	return fmt.Sprintf("v%d", g.named)
}

// use adds a node with one output, whose name comes back.
func (g *onnxGraph) use(operator string, in []string, attributes ...onnxfile.Field) string {
	out := g.name()
	g.fields = append(g.fields, onnxfile.Node("", operator, in, []string{out}, attributes...))
	return out
}

// of adds a node without attributes.
func (g *onnxGraph) of(operator string, in ...string) string { return g.use(operator, in) }

// number adds a constant of one number.
func (g *onnxGraph) number(x float64) string {
	name := g.name()
	g.fields = append(g.fields, onnxfile.Constant(name, onnxfile.FP64, []float64{x}))
	return name
}

// toDouble adds a cast to double precision.
func (g *onnxGraph) toDouble(x string) string {
	return g.use("Cast", []string{x}, onnxfile.Attribute("to", onnxfile.FP64))
}

// writeONNX writes a model of a number as a graph that computes it from its inputs, each a column of its own.
func writeONNX(m *standin.Model, file string) error {
	if len(m.Classes) > 0 {
		return fmt.Errorf("writing %s as ONNX: it gives classes", m.Name)
	}
	g := &onnxGraph{}
	numeric := map[string]string{}
	for _, c := range m.Inputs {
		datatype := map[signature.Type]int{
			signature.Number: onnxfile.FP64, signature.Integer: onnxfile.INT64, signature.Text: onnxfile.BYTES,
			signature.Boolean: onnxfile.BOOL,
		}[c.Type]
		g.fields = append(g.fields, onnxfile.Input(c.Name, datatype, -1))
		value := c.Name
		if c.Type == signature.Integer || c.Type == signature.Boolean {
			value = g.toDouble(value)
		}
		if fill, there := m.Fill[c.Name]; there && c.Type != signature.Text {
			value = g.of("Where", g.of("IsNaN", value), g.number(fill), value)
		}
		numeric[c.Name] = value
	}
	along := g.name()
	g.fields = append(g.fields, onnxfile.Constant(along, onnxfile.INT64, []float64{1}, 1))
	var columns []string
	for _, t := range m.Terms {
		raw, err := g.term(t, numeric)
		if err != nil {
			return fmt.Errorf("writing %s as ONNX: %w", m.Name, err)
		}
		z := g.of("Div", g.of("Sub", raw, g.number(t.Centre)), g.number(t.Scale))
		columns = append(columns, g.of("Unsqueeze", z, along))
	}
	g.fields = append(g.fields, onnxfile.Constant("weights", onnxfile.FP64, m.Weights[0][1:], len(m.Terms), 1),
		onnxfile.Constant("intercept", onnxfile.FP64, m.Weights[0][:1], 1))
	terms := g.use("Concat", columns, onnxfile.Attribute("axis", 1))
	sum := g.of("Add", g.of("MatMul", terms, "weights"), "intercept")
	g.fields = append(g.fields, onnxfile.Node("", "Squeeze", []string{sum, along}, []string{m.Output.Name}),
		onnxfile.Output(m.Output.Name, onnxfile.FP64, -1))
	return os.WriteFile(file, onnxfile.Model(m.Name, "a linear model of terms", g.fields...), 0o600)
}

// term adds what one term computes before it is centred and scaled.
func (g *onnxGraph) term(t standin.Term, numeric map[string]string) (string, error) {
	x := numeric[t.Of[0]]
	switch t.How {
	case "value":
		return x, nil
	case "product":
		for _, of := range t.Of[1:] {
			x = g.of("Mul", x, numeric[of])
		}
		return x, nil
	case "is":
		level := g.name()
		g.fields = append(g.fields, onnxfile.Text(level, t.Level))
		return g.toDouble(g.of("Equal", t.Of[0], level)), nil
	case "below":
		return g.of("Max", g.number(0), g.of("Sub", g.number(t.Limit), x)), nil
	case "sine":
		return g.of("Sin", g.of("Mul", x, g.number(2*math.Pi/t.Period))), nil
	case "cosine":
		return g.of("Cos", g.of("Mul", x, g.number(2*math.Pi/t.Period))), nil
	}
	return "", fmt.Errorf("a term by %q", t.How)
}
