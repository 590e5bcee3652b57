package pmml

import (
	"encoding/csv"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// What R predicts with the models that it fitted, which bench/golden/pmml.R wrote down.
func TestAgreesWithR(t *testing.T) {
	files, _ := filepath.Glob("testdata/*.pmml")
	if len(files) < 9 {
		t.Fatalf("%d documents", len(files))
	}
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			m := load(t, read(t, file))
			lines, err := csv.NewReader(strings.NewReader(read(t, strings.TrimSuffix(file, ".pmml")+".csv"))).ReadAll()
			if err != nil {
				t.Fatal(err)
			}
			head := lines[0]
			for _, line := range lines[1:] {
				in := make([]Value, len(m.Inputs))
				for i, f := range m.Inputs {
					in[i] = cell(line[slices.Index(head, f.Name)])
				}
				out, err := m.Score(in)
				if err != nil {
					t.Fatal(err)
				}
				for i, want := range line[3:] {
					if !close(out[i], cell(want)) {
						t.Fatalf("%v: %s is %v, want %s", line, m.Outputs[i].Name, out[i], want)
					}
				}
			}
		})
	}
}

func read(t *testing.T, file string) string {
	t.Helper()
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func load(t *testing.T, document string) *Model {
	t.Helper()
	m, err := Load(strings.NewReader(document))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func cell(s string) Value {
	if x, err := strconv.ParseFloat(s, 64); err == nil {
		return Number(x)
	}
	if s == "" {
		return Value{}
	}
	return Text(s)
}

func close(got, want Value) bool {
	x, a := got.float()
	y, b := want.float()
	if a && b {
		return math.Abs(x-y) <= 1e-9*max(1, math.Abs(y))
	}
	return got == want
}

// written is a PMML document around a model over some fields: continuous ones and texts by their names in capitals.
func written(fields, model string) string {
	var all strings.Builder
	for _, f := range strings.Fields(fields) {
		name, kind := f, `optype="continuous" dataType="double"`
		if strings.HasPrefix(f, "#") {
			name, kind = f[1:], `optype="categorical" dataType="string"`
		}
		all.WriteString(`<DataField name="` + name + `" ` + kind + `/>`)
	}
	return `<?xml version="1.0"?><PMML version="4.4" xmlns="http://www.dmg.org/PMML-4_4"><Header/><DataDictionary>` +
		all.String() + `</DataDictionary>` + model + `</PMML>`
}

func schema(fields ...string) string {
	var all strings.Builder
	for _, f := range fields {
		name, target := strings.CutPrefix(f, "=")
		if target {
			name += `" usageType="target`
		}
		all.WriteString(`<MiningField name="` + name + `"/>`)
	}
	return "<MiningSchema>" + all.String() + "</MiningSchema>"
}

// The example of linear regression in the standard: claims by age, salary and place of the car.
func TestStandardsRegression(t *testing.T) {
	m := load(t, written("age salary #car_location number_of_claims", `<RegressionModel functionName="regression">`+
		schema("age", "salary", "car_location", "=number_of_claims")+`<RegressionTable intercept="132.37">
		<NumericPredictor name="age" exponent="1" coefficient="7.1"/>
		<NumericPredictor name="salary" exponent="1" coefficient="0.01"/>
		<CategoricalPredictor name="car_location" value="carpark" coefficient="41.1"/>
		<CategoricalPredictor name="car_location" value="street" coefficient="325.03"/>
		</RegressionTable></RegressionModel>`))
	for _, c := range []struct {
		in   []Value
		want Value
	}{
		{[]Value{Number(35), Number(20000), Text("street")}, Number(132.37 + 7.1*35 + 200 + 325.03)},
		{[]Value{Number(35), Number(20000), Text("carpark")}, Number(132.37 + 7.1*35 + 200 + 41.1)},
		{[]Value{Number(35), Number(20000), {}}, Number(132.37 + 7.1*35 + 200)},
		{[]Value{{}, Number(20000), Text("street")}, Value{}},
	} {
		if out, err := m.Score(c.in); err != nil || !close(out[0], c.want) {
			t.Errorf("%v: %v, want %v (%v)", c.in, out, c.want, err)
		}
	}
}

// golf is the tree of the standard's example, with what is to be done about missing values.
func golf(strategy string) string {
	return written("temperature humidity #windy #outlook #whatIdo", `<TreeModel functionName="classification" `+
		strategy+`>`+schema("temperature", "humidity", "windy", "outlook", "=whatIdo")+`
	<Node id="0" score="will play" defaultChild="1"><True/>
	 <Node id="1" score="will play" defaultChild="2"><SimplePredicate field="outlook" operator="equal" value="sunny"/>
	  <Node id="2" score="will play" defaultChild="3"><CompoundPredicate booleanOperator="and">
	   <SimplePredicate field="temperature" operator="lessThan" value="90"/>
	   <SimplePredicate field="temperature" operator="greaterThan" value="50"/></CompoundPredicate>
	   <Node id="3" score="will play"><SimplePredicate field="humidity" operator="lessThan" value="80"/></Node>
	   <Node id="4" score="no play"><SimplePredicate field="humidity" operator="greaterOrEqual" value="80"/></Node>
	  </Node>
	  <Node id="5" score="no play"><CompoundPredicate booleanOperator="or">
	   <SimplePredicate field="temperature" operator="greaterOrEqual" value="90"/>
	   <SimplePredicate field="temperature" operator="lessOrEqual" value="50"/></CompoundPredicate></Node>
	 </Node>
	 <Node id="6" score="may play"><CompoundPredicate booleanOperator="or">
	  <SimplePredicate field="outlook" operator="equal" value="overcast"/>
	  <SimplePredicate field="outlook" operator="equal" value="rain"/></CompoundPredicate>
	  <Node id="7" score="may play"><CompoundPredicate booleanOperator="and">
	   <SimplePredicate field="temperature" operator="greaterThan" value="60"/>
	   <SimplePredicate field="temperature" operator="lessThan" value="100"/>
	   <SimplePredicate field="outlook" operator="equal" value="overcast"/>
	   <SimplePredicate field="humidity" operator="lessThan" value="70"/>
	   <SimplePredicate field="windy" operator="equal" value="false"/></CompoundPredicate></Node>
	  <Node id="8" score="no play"><CompoundPredicate booleanOperator="and">
	   <SimplePredicate field="outlook" operator="equal" value="rain"/>
	   <SimplePredicate field="humidity" operator="lessThan" value="70"/></CompoundPredicate></Node>
	 </Node></Node></TreeModel>`)
}

// The example of a tree in the standard, and the strategies for what is missing.
func TestStandardsTree(t *testing.T) {
	for _, c := range []struct{ strategy, in, want string }{
		{"", "75 55 false overcast", "may play"},
		{"", "75 55 true sunny", "will play"},
		{"", "75 85 true sunny", "no play"},
		{"", "95 55 true sunny", "no play"},
		{"", "65 60 true rain", "no play"},
		{"", "75 80 true rain", ""},
		{`noTrueChildStrategy="returnLastPrediction"`, "75 80 true rain", "may play"},
		{`missingValueStrategy="lastPrediction"`, "75 - true sunny", "will play"},
		{`missingValueStrategy="nullPrediction"`, "75 - true sunny", ""},
		{`missingValueStrategy="defaultChild"`, "- 85 true sunny", "no play"},
		{`missingValueStrategy="lastPrediction"`, "40 - true -", "will play"},
		{"", "- 55 false sunny", ""},
	} {
		m := load(t, golf(c.strategy))
		var in []Value
		for _, w := range strings.Fields(c.in) {
			in = append(in, cell(strings.TrimPrefix(w, "-")))
		}
		out, err := m.Score(in)
		if err != nil || out[0].String() != c.want {
			t.Errorf("%s %s: %q, want %q (%v)", c.strategy, c.in, out, c.want, err)
		}
	}
}

// Expressions, each by hand.
func TestExpressions(t *testing.T) {
	for _, c := range []struct{ expression, want string }{
		{
			`<NormContinuous field="x"><LinearNorm orig="0" norm="0"/><LinearNorm orig="10" norm="1"/>
			</NormContinuous>`, "0.7",
		},
		{`<NormDiscrete field="s" value="works"/>`, "1"},
		{`<FieldRef field="gone" mapMissingTo="4"/>`, "4"},
		{
			`<Discretize field="x">
			<DiscretizeBin binValue="1"><Interval closure="openClosed" rightMargin="6.9"/></DiscretizeBin>
			<DiscretizeBin binValue="2"><Interval closure="closedOpen" leftMargin="7"/></DiscretizeBin>
			</Discretize>`, "2",
		},
		{
			`<MapValues outputColumn="o" defaultValue="9"><FieldColumnPair field="s" column="i"/><InlineTable>
			<row><i>works</i><o>5</o></row></InlineTable></MapValues>`, "5",
		},
		{
			`<Apply function="if"><Apply function="greaterThan"><FieldRef field="x"/><Constant>6</Constant></Apply>
			<Apply function="*"><FieldRef field="x"/><Constant>2</Constant></Apply><Constant>0</Constant>
			</Apply>`, "14",
		},
		{`<Apply function="isMissing"><FieldRef field="gone"/></Apply>`, "1"},
		{`<Apply function="+" mapMissingTo="3"><FieldRef field="gone"/><Constant>1</Constant></Apply>`, "3"},
		{
			`<Apply function="isIn"><FieldRef field="s"/><Constant>harbour</Constant><Constant>works</Constant>
			</Apply>`, "1",
		},
		{`<Apply function="/" defaultValue="8"><Constant>1</Constant><Constant>0</Constant></Apply>`, "8"},
		{`<Apply function="ln"><Apply function="exp"><FieldRef field="x"/></Apply></Apply>`, "7"},
	} {
		m := load(t, written("x #s gone y", `<RegressionModel functionName="regression">`+
			schema("x", "s", "gone", "=y")+`<LocalTransformations><DerivedField name="d" optype="continuous"
			dataType="double">`+c.expression+`</DerivedField></LocalTransformations><RegressionTable intercept="0">
			<NumericPredictor name="d" coefficient="1"/></RegressionTable></RegressionModel>`))
		out, err := m.Score([]Value{Number(7), Text("works"), {}})
		if err != nil || out[0].String() != c.want {
			t.Errorf("%s: %v, want %s (%v)", c.expression, out, c.want, err)
		}
	}
}

// What the schema says about values that are missing, not allowed or far out.
func TestTreatmentOfValues(t *testing.T) {
	one := func(field, dictionary string) *Model {
		return load(t, `<PMML version="4.4"><DataDictionary><DataField name="x" optype="continuous" dataType="double">`+
			dictionary+`</DataField><DataField name="y" optype="continuous" dataType="double"/></DataDictionary>
			<RegressionModel functionName="regression"><MiningSchema><MiningField name="x" `+field+`/>
			<MiningField name="y" usageType="target"/></MiningSchema><Targets><Target field="y" rescaleFactor="2"
			rescaleConstant="1"/></Targets><RegressionTable intercept="0"><NumericPredictor name="x" coefficient="1"/>
			</RegressionTable></RegressionModel></PMML>`)
	}
	span := `<Interval closure="closedClosed" leftMargin="0" rightMargin="10"/>`
	for _, c := range []struct {
		field, dictionary string
		in                Value
		want              string
	}{
		{`missingValueReplacement="3"`, "", Value{}, "7"},
		{"", "", Value{}, ""},
		{"", span, Number(5), "11"},
		{"", span, Number(11), "refused"},
		{`invalidValueTreatment="asIs"`, span, Number(11), "23"},
		{`invalidValueTreatment="asMissing" missingValueReplacement="2"`, span, Number(11), "5"},
		{`outliers="asExtremeValues" lowValue="0" highValue="4"`, "", Number(9), "9"},
		{`outliers="asMissingValues" lowValue="0" highValue="4"`, "", Number(9), ""},
		{`missingValueReplacement="1"`, `<Value value="-999" property="missing"/>`, Number(-999), "3"},
	} {
		out, err := one(c.field, c.dictionary).Score([]Value{c.in})
		got := "refused"
		if err == nil {
			got = out[0].String()
		}
		if got != c.want {
			t.Errorf("%s %s of %v: %s, want %s (%v)", c.field, c.dictionary, c.in, got, c.want, err)
		}
	}
}

// Ways to put models together.
func TestEnsembles(t *testing.T) {
	part := func(weight, ask, by string) string {
		return `<Segment weight="` + weight + `">` + ask + `<RegressionModel functionName="regression">` +
			schema("x", "=y") + `<Output><OutputField name="o` + weight + `" feature="predictedValue"/></Output>
			<RegressionTable intercept="0"><NumericPredictor name="x" coefficient="` + by + `"/></RegressionTable>
			</RegressionModel></Segment>`
	}
	chain := `<Segment><True/><RegressionModel functionName="regression">` + schema("o1", "=y") + `<RegressionTable
		intercept="100"><NumericPredictor name="o1" coefficient="1"/></RegressionTable></RegressionModel></Segment>`
	low := `<SimplePredicate field="x" operator="lessThan" value="0"/>`
	for _, c := range []struct{ method, segments, want string }{
		{"average", part("1", "<True/>", "1") + part("3", "<True/>", "2"), "15"},
		{"weightedAverage", part("1", "<True/>", "1") + part("3", "<True/>", "2"), "17.5"},
		{"sum", part("1", "<True/>", "1") + part("3", "<True/>", "2"), "30"},
		{"weightedSum", part("1", "<True/>", "1") + part("3", "<True/>", "2"), "70"},
		{"median", part("1", "<True/>", "1") + part("3", "<True/>", "2") + part("2", "<True/>", "9"), "20"},
		{"max", part("1", "<True/>", "1") + part("3", "<True/>", "2"), "20"},
		{"selectFirst", part("1", low, "1") + part("3", "<True/>", "2"), "20"},
		{"sum", part("1", low, "1"), ""},
		{"modelChain", part("1", "<True/>", "3") + chain, "130"},
	} {
		fields := "x y"
		if c.method == "modelChain" {
			fields += " o1"
		}
		m := load(t, written(fields, `<MiningModel functionName="regression">`+schema("x", "=y")+`<Segmentation
			multipleModelMethod="`+c.method+`">`+c.segments+`</Segmentation></MiningModel>`))
		if out, err := m.Score([]Value{Number(10)}); err != nil || out[0].String() != c.want {
			t.Errorf("%s: %v, want %s (%v)", c.method, out, c.want, err)
		}
	}
}

// What is not computed is refused by name, all of it at once; what is broken is said to be.
func TestRefusedByName(t *testing.T) {
	regression := func(inside string) string {
		return written("x y", `<RegressionModel functionName="regression">`+schema("x", "=y")+inside+
			`<RegressionTable intercept="0"/></RegressionModel>`)
	}
	for document, want := range map[string]string{
		written("x y", `<SupportVectorMachineModel functionName="regression">`+schema("x", "=y")+
			`</SupportVectorMachineModel>`): "the model SupportVectorMachineModel",
		regression(`<LocalTransformations><DerivedField name="d" optype="continuous" dataType="double"><Apply
			function="erf"><FieldRef field="x"/></Apply></DerivedField><DerivedField name="e" optype="continuous"
			dataType="double"><TextIndex textField="x"/></DerivedField>
			</LocalTransformations>`): `the expression TextIndex; the function "erf"`,
		golf(`missingValueStrategy="weightedConfidence"`): `the strategy "weightedConfidence" for missing values`,
		"<PMML><a></PMML>": "</PMML> closes what is not open", "<html/>": "the document is no whole PMML",
	} {
		_, err := Load(strings.NewReader(document))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
}
