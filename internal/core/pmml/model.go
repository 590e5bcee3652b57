package pmml

import (
	"fmt"
	"io"
	"slices"
	"strings"
)

// Field is an input or an output of a document.
type Field struct {
	Name string
	// Datatype is FP64, INT64, BOOL or BYTES, as the Open Inference Protocol calls it.
	Datatype string
}

// Model is a document that can be computed. It is safe for use by several goroutines at once.
type Model struct {
	Inputs, Outputs []Field
	places          []int
	document        *document
	top             *model
}

// Unsupported says what of a document is not computed here.
type Unsupported struct{ Reasons []string }

func (u *Unsupported) Error() string {
	return "it cannot be computed here: " + strings.Join(u.Reasons, "; ")
}

// document is what all models of a file share.
type document struct {
	// slots are the places of fields in a row, by name.
	slots map[string]int
	types map[string]*element
	// derived are the fields that are computed of others at the beginning.
	derived []derived
	reasons []string
}

// row is the values of all fields, by slot; done says which derived ones have been computed.
type row []Value

// refuse notes what is not computed.
func (d *document) refuse(format string, args ...any) {
	d.reasons = append(d.reasons, fmt.Sprintf(format, args...))
}

// slot is the place of a field; one that nothing has named yet gets one.
func (d *document) slot(name string) int {
	if _, there := d.slots[name]; !there {
		d.slots[name] = len(d.slots)
	}
	return d.slots[name]
}

var kinds = []string{
	"RegressionModel", "GeneralRegressionModel", "TreeModel", "MiningModel", "NeuralNetwork", "ClusteringModel",
}

// Load reads a document and makes sure that all of it can be computed. The error is *Unsupported where the document is
// well but some of it cannot.
func Load(r io.Reader) (*Model, error) {
	root, err := parse(r)
	if err != nil {
		return nil, err
	}
	d := &document{slots: map[string]int{}, types: map[string]*element{}}
	for _, f := range root.child("DataDictionary").all("DataField") {
		d.types[f.word("name", "")] = f
		d.slot(f.word("name", ""))
	}
	for _, f := range root.child("TransformationDictionary").all("DefineFunction") {
		d.refuse("the function %q that the document defines", f.word("name", ""))
	}
	if d.derived, err = d.derivedFields(root.child("TransformationDictionary")); err != nil {
		return nil, err
	}
	m := &Model{document: d}
	var found *element
	for _, c := range root.children {
		if c.child("MiningSchema") != nil {
			found = c
			break
		}
	}
	if found == nil {
		return nil, fmt.Errorf("there is no model in the document")
	}
	if m.top, err = d.model(found); err != nil {
		return nil, err
	}
	if len(d.reasons) > 0 {
		slices.Sort(d.reasons)
		return nil, &Unsupported{slices.Compact(d.reasons)}
	}
	for _, f := range found.child("MiningSchema").all("MiningField") {
		name := f.word("name", "")
		if usage := f.word("usageType", "active"); usage == "active" {
			if d.types[name] == nil {
				return nil, fmt.Errorf("the field %q is in the mining schema and not in the dictionary", name)
			}
			m.Inputs = append(m.Inputs, Field{name, datatypeOf(d.types[name])})
			m.places = append(m.places, d.slots[name])
		}
	}
	for _, o := range m.top.outputs {
		m.Outputs = append(m.Outputs, Field{o.name, o.datatype})
	}
	return m, nil
}

// datatypeOf is the type of a field as the protocol calls it.
func datatypeOf(f *element) string {
	switch f.word("dataType", "") {
	case "float", "double":
		return "FP64"
	case "integer":
		return "INT64"
	case "boolean":
		return "BOOL"
	}
	return "BYTES"
}

// Score computes the outputs of one row of inputs in the order of m.Inputs. An output that the document does not define
// for such a row is missing.
func (m *Model) Score(in []Value) (out []Value, err error) {
	if len(in) != len(m.places) {
		return nil, fmt.Errorf("%d values for %d inputs", len(in), len(m.places))
	}
	r := make(row, len(m.document.slots))
	for i, at := range m.places {
		r[at] = in[i]
	}
	if err := m.document.prepare(r, m.document.derived); err != nil {
		return nil, err
	}
	res, err := m.top.score(r)
	if err != nil {
		return nil, err
	}
	return res.given, nil
}

// prepare computes derived fields, each after those that stand before it.
func (d *document) prepare(r row, list []derived) error {
	for i := range list {
		v, err := list[i].of.value(r)
		if err != nil {
			return fmt.Errorf("the field %q: %w", list[i].name, err)
		}
		r[list[i].at] = list[i].typed(v)
	}
	return nil
}

// result is what a model says of one row.
type result struct {
	value Value
	// shares are those of the classes, in the order of categories.
	categories []string
	shares     []float64
	// entity is the part of the model that decided: a node, a cluster.
	entity string
	given  []Value
}

// share is that of one class.
func (r *result) share(category string) Value {
	for i, c := range r.categories {
		if c == category {
			return Number(r.shares[i])
		}
	}
	return Value{}
}

// decide takes the class with the largest share.
func (r *result) decide() {
	best := -1
	for i, p := range r.shares {
		if best < 0 || p > r.shares[best] {
			best = i
		}
	}
	if best >= 0 {
		r.value = Text(r.categories[best])
	}
}

// model is one model of a document, which may be within another.
type model struct {
	d              *document
	classification bool
	fields         []mining
	derived        []derived
	target         string
	rescale        func(Value) Value
	outputs        []output
	run            func(r row) (*result, error)
}

// output is what a model gives.
type output struct {
	name, datatype, feature, value string
	at                             int
	of                             expression
}

// model reads a model of any kind.
func (d *document) model(e *element) (*model, error) {
	m := &model{d: d, classification: e.word("functionName", "") == "classification"}
	if e.word("isScorable", "true") == "false" {
		return nil, fmt.Errorf("the document says of itself that it cannot be scored")
	}
	var err error
	for _, f := range e.child("MiningSchema").all("MiningField") {
		if usage := f.word("usageType", "active"); usage == "target" || usage == "predicted" {
			m.target = f.word("name", "")
		}
	}
	if m.fields, err = d.miningFields(e.child("MiningSchema")); err != nil {
		return nil, err
	}
	if m.derived, err = d.derivedFields(e.child("LocalTransformations")); err != nil {
		return nil, err
	}
	if m.rescale, err = d.targets(e.child("Targets")); err != nil {
		return nil, err
	}
	read := map[string]func(*element) (func(row) (*result, error), error){
		"RegressionModel": d.regression, "GeneralRegressionModel": d.generalRegression, "TreeModel": d.tree,
		"MiningModel": d.ensemble, "NeuralNetwork": d.network, "ClusteringModel": d.clusters,
	}[e.name]
	if read == nil {
		d.refuse("the model %s", e.name)
		return m, nil
	}
	if m.run, err = read(e); err != nil {
		return nil, fmt.Errorf("%s: %w", e.name, err)
	}
	return m, m.giving(e.child("Output"))
}

// giving reads what the model gives: its Output, else its target.
func (m *model) giving(e *element) error {
	for _, f := range e.all("OutputField") {
		o := output{
			name: f.word("name", ""), feature: f.word("feature", "predictedValue"), value: f.word("value", ""),
			datatype: datatypeOf(f),
		}
		o.at = m.d.slot(o.name)
		switch o.feature {
		case "predictedValue", "predictedDisplayValue":
			if f.attributes["dataType"] == "" {
				o.datatype = m.gives()
			}
		case "probability", "confidence", "affinity", "clusterAffinity":
			o.datatype = "FP64"
		case "entityId", "clusterId":
			o.datatype = "BYTES"
		case "transformedValue", "decision":
			of, err := m.d.expressionIn(f)
			if err != nil {
				return err
			}
			o.of = of
		default:
			m.d.refuse("the output feature %q", o.feature)
		}
		m.outputs = append(m.outputs, o)
	}
	if len(m.outputs) == 0 {
		name := m.target
		if name == "" {
			name = "predicted"
		}
		m.outputs = []output{{name: name, datatype: m.gives(), feature: "predictedValue", at: m.d.slot(name)}}
	}
	return nil
}

// gives is the type of what the model predicts.
func (m *model) gives() string {
	if f := m.d.types[m.target]; f != nil {
		return datatypeOf(f)
	}
	if m.classification || m.target == "" {
		return "BYTES"
	}
	return "FP64"
}

// score prepares the fields as the mining schema says, computes, and puts what the model gives into the row.
func (m *model) score(r row) (*result, error) {
	for i := range m.fields {
		if err := m.fields[i].apply(r); err != nil {
			return nil, err
		}
	}
	if err := m.d.prepare(r, m.derived); err != nil {
		return nil, err
	}
	res, err := m.run(r)
	if err != nil {
		return nil, err
	}
	res.value, res.given = m.rescale(res.value), nil
	for _, o := range m.outputs {
		v := res.value
		switch o.feature {
		case "probability", "confidence", "affinity", "clusterAffinity":
			of := o.value
			if of == "" {
				of = res.value.String()
			}
			v = res.share(of)
		case "entityId", "clusterId":
			v = Text(res.entity)
		case "transformedValue", "decision":
			if v, err = o.of.value(r); err != nil {
				return nil, fmt.Errorf("the output %q: %w", o.name, err)
			}
		}
		r[o.at] = v
		res.given = append(res.given, v)
	}
	return res, nil
}
