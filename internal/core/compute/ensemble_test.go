package compute

import (
	"fmt"
	"strings"
	"testing"

	"innerladder/internal/core/ensemble"
	"innerladder/internal/core/tensor"
)

// line is to = start + slope·from as PMML; an x above most is refused.
func line(t *testing.T, from, to string, start, slope, most float64) *Model {
	t.Helper()
	m, err := Load("pmml", fmt.Appendf(nil, `<PMML version="4.4"><DataDictionary><DataField name="%[1]s"
		optype="continuous" dataType="double"><Interval closure="closedClosed" rightMargin="%[5]v"/></DataField>
		<DataField name="%[2]s" optype="continuous" dataType="double"/></DataDictionary>
		<RegressionModel functionName="regression"><MiningSchema><MiningField name="%[1]s"/>
		<MiningField name="%[2]s" usageType="target"/></MiningSchema><RegressionTable intercept="%[3]v">
		<NumericPredictor name="%[1]s" coefficient="%[4]v"/></RegressionTable></RegressionModel></PMML>`, from, to,
		start, slope, most), nil)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// sides says on which side of a limit x lies, as PMML.
func sides(t *testing.T, limit float64) *Model {
	t.Helper()
	m, err := Load("pmml", fmt.Appendf(nil, `<PMML version="4.4"><DataDictionary><DataField name="x"
		optype="continuous" dataType="double"/><DataField name="side" optype="categorical" dataType="string"/>
		</DataDictionary><TreeModel functionName="classification"><MiningSchema><MiningField name="x"/>
		<MiningField name="side" usageType="target"/></MiningSchema><Node><True/><Node score="cold"><SimplePredicate
		field="x" operator="lessThan" value="%[1]v"/></Node><Node score="warm"><SimplePredicate field="x"
		operator="greaterOrEqual" value="%[1]v"/></Node></Node></TreeModel></PMML>`, limit), nil)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// seen is a watcher that writes down.
type seen struct{ lines []string }

func (s *seen) Ran(member string, run func() error) error {
	s.lines = append(s.lines, member)
	return run()
}

func (s *seen) Differed(member, output string, by float64) {
	s.lines = append(s.lines, fmt.Sprintf("%s %s %.3g", member, output, by))
}

func TestEnsembles(t *testing.T) {
	a, b := line(t, "x", "y", 0, 1, 1e9), line(t, "x", "y", 10, 3, 1e9)
	short := line(t, "x", "y", 100, 0, 5)
	plan := func(how string, members ...ensemble.Member) ensemble.Plan {
		for i := range members {
			members[i].Version = fmt.Sprintf("m@%d", i+1)
		}
		p := ensemble.Plan{How: how, Members: members}
		if err := p.Check(); err != nil {
			t.Fatal(err)
		}
		return p
	}
	one := ensemble.Member{}
	for name, c := range map[string]struct {
		plan    ensemble.Plan
		members []*Model
		want    string
	}{
		"mean":     {plan(ensemble.Mean, one, one), []*Model{a, b}, "[5 25]"},
		"weighted": {plan(ensemble.WeightedMean, ensemble.Member{Weight: 3}, one), []*Model{a, b}, "[2.5 17.5]"},
		"first":    {plan(ensemble.First, one, one), []*Model{short, a}, "[0 10]"},
		"vote": {
			plan(ensemble.Vote, one, one, one),
			[]*Model{sides(t, 5), sides(t, -5), sides(t, 20)},
			"[cold warm]",
		},
		"weighted vote": {
			plan(ensemble.Vote, one, ensemble.Member{Weight: 5}, one),
			[]*Model{sides(t, 5), sides(t, 50), sides(t, -20)},
			"[cold cold]",
		},
		"even": {plan(ensemble.Vote, one, one), []*Model{sides(t, -5), sides(t, 50)}, "[warm warm]"},
		"chain": {plan(ensemble.Chain, ensemble.Member{Gives: []string{"heat=y"}}, ensemble.Member{Takes: []string{
			"x=heat",
		}}), []*Model{b, a}, "[10 40]"},
	} {
		t.Run(name, func(t *testing.T) {
			m, err := Ensemble(c.plan, c.members, nil)
			if err != nil {
				t.Fatal(err)
			}
			out, err := m.Run([]*tensor.Tensor{tensor.New([]float64{0, 10}, 2)})
			if err != nil || fmt.Sprint(out[0].Data) != c.want {
				t.Errorf("%v (%v), want %s", out, err, c.want)
			}
		})
	}
	w := &seen{}
	m, err := Ensemble(plan(ensemble.Mean, one, one), []*Model{a, b}, w)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.Run([]*tensor.Tensor{tensor.New([]float64{0, 10}, 2)}); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(w.lines, "; "); got != "m@1; m@2; m@1 y 10; m@2 y 10" {
		t.Error(got)
	}
	if _, err := Ensemble(plan(ensemble.Mean, one, one), []*Model{a, sides(t, 1)}, nil); err == nil {
		t.Error("members that do not fit were put together")
	}
	texts, err := Ensemble(plan(ensemble.Mean, one, one), []*Model{sides(t, 1), sides(t, 2)}, nil)
	if err == nil {
		_, err = texts.Run([]*tensor.Tensor{tensor.New([]float64{0}, 1)})
	}
	if err == nil || !strings.Contains(err.Error(), "let the members vote") {
		t.Errorf("a mean of texts: %v", err)
	}
}
