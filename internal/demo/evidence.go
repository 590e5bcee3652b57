package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"os"
	"slices"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/wire"
)

// ladderOf is the ladder of the forecasting team: what a model must show before it plans
// the plant's output. The maintenance team climbs the default one.
func ladderOf(now time.Time) ladder.Ladder {
	tenth := 0.1
	return ladder.Ladder{
		Rungs: []ladder.Rung{
			{Name: "draft", Meaning: "registered, nothing asked yet"},
			{Name: "proven", Meaning: "measured on a winter it has not seen", Gate: []rule.Requirement{
				{Rule: rule.ArtifactStored{}},
				{Rule: rule.LineageComplete{Parts: []string{"data", "run"}}},
				{Rule: rule.CardSections{Sections: []string{"intended_use", "limits"}}},
				{Rule: rule.EvidenceOf{Evidence: evidence.EvaluationKind}},
			}},
			{Name: "rehearsal", Meaning: "may run beside the live ones", Skip: true, Gate: []rule.Requirement{
				{Rule: rule.SignatureNotBroken{}},
				{Rule: rule.EvidenceOf{Evidence: evidence.TestsKind, LeastTests: 4}},
			}},
			{Name: "live", Meaning: "plans the output of the plant", Skip: true, Gate: []rule.Requirement{
				{Rule: rule.Metric{Metric: "rmse", NoWorseByShare: &tenth}},
				{Rule: rule.Checklist{Items: []rule.Item{
					{
						Name: "cold-hours",
						Text: "Looked at the residuals of the coldest hours",
					},
					{Name: "buildings", Text: "Looked at the error of each building mix"},
				}}},
				{Rule: rule.DataLookedAt{}},
				{Rule: rule.SignOffs{Count: 1, Roles: []string{"approver"}, NotTrainer: true}},
				{Rule: rule.NoFreeze{}},
			}},
		},
		// Far enough ahead that the story plays on any day.
		Freezes: []rule.Freeze{{
			Name: "holidays", Zone: "Europe/Stockholm",
			From: now.AddDate(0, 0, 30).Format("2006-01-02") + " 16:00",
			To:   now.AddDate(0, 0, 44).Format("2006-01-02") + " 08:00",
		}},
	}
}

// evaluationOf measures a model on rows it has not seen: all of them, by building mix, and
// what was left over.
func (r *release) evaluationOf(data string) (evidence.Evaluation, error) {
	e := evidence.Evaluation{
		Rows: int64(len(r.sample)), Data: data, Metrics: r.metrics,
	}
	if len(r.fitted.Classes) > 0 {
		c, err := classify(r.fitted, r.sample)
		e.Confusion = &evidence.Confusion{Labels: c.Levels, Counts: make([][]int, len(c.Levels))}
		for i, row := range c.Confusion {
			for _, rows := range row { // they have no weights, so they are whole
				e.Confusion.Counts[i] = append(e.Confusion.Counts[i], int(rows))
			}
		}
		e.Limits = map[string]evidence.Limit{"balanced_accuracy": {AtLeast: new(0.5)}}
		return e, err
	}
	e.Limits = map[string]evidence.Limit{"r2": {AtLeast: new(0.5)}}
	var left, truth []float64
	by := map[string][]example{}
	for _, x := range r.sample {
		left, truth = append(left, r.fitted.Predict(x.row)-x.number), append(truth, x.number)
		if mix, ok := x.row["mix"].(string); ok {
			by[mix] = append(by[mix], x)
		}
	}
	for _, mix := range slices.Sorted(maps.Keys(by)) {
		m, err := measureNumber(r.fitted, by[mix])
		if err != nil {
			return e, err
		}
		e.Segments = append(e.Segments,
			evidence.Segment{
				Name: mix, Rows: int64(len(by[mix])),
				Metrics: map[string]float64{"rmse": m["rmse"], "bias": m["bias"]},
			})
	}
	e.Residuals = histogramOf(left, 24, r.unit)
	curve := evidence.XYCurve{Name: "calibration", XLab: "mean prediction", YLab: "mean truth"}
	order := make([]int, len(truth))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		switch x, y := truth[a]+left[a], truth[b]+left[b]; {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	const tenths = 20
	for k := range tenths {
		part := order[k*len(order)/tenths : (k+1)*len(order)/tenths]
		var x, y float64
		for _, i := range part {
			x += (truth[i] + left[i]) / float64(len(part))
			y += truth[i] / float64(len(part))
		}
		curve.X, curve.Y = append(curve.X, round(x, 4)), append(curve.Y, round(y, 4))
	}
	e.Curves = []evidence.XYCurve{curve}
	return e, nil
}

// histogramOf counts values in cells of equal width that hold nearly all of them; the
// outermost cells take the rest.
func histogramOf(values []float64, cells int, unit string) *evidence.Histogram {
	sorted := slices.Sorted(slices.Values(values))
	low, high := sorted[len(sorted)/200], sorted[len(sorted)-1-len(sorted)/200]
	h := &evidence.Histogram{Unit: unit, Counts: make([]int, cells)}
	for i := range cells + 1 {
		h.Edges = append(h.Edges, round(low+(high-low)*float64(i)/float64(cells), 4))
	}
	for _, v := range values {
		h.Counts[min(max(int((v-low)/(high-low)*float64(cells)), 0), cells-1)]++
	}
	return h
}

// check is one thing that a model must do.
type check struct {
	name string
	do   func() error
}

// checks are what the team tests a model of numbers on, each done on the model itself.
func (r *release) checks() []check {
	low, high := math.Inf(1), math.Inf(-1)
	for _, x := range r.sample {
		low, high = min(low, x.number), max(high, x.number)
	}
	shifted := func(name string, by float64) (before, after float64) {
		for _, x := range r.sample[:500] {
			row := maps.Clone(x.row)
			row[name] = row[name].(float64) + by
			before += r.fitted.Predict(x.row) / 500
			after += r.fitted.Predict(row) / 500
		}
		return before, after
	}
	return []check{
		{"answers every row with a number", func() error {
			for i, x := range r.sample {
				if y := r.fitted.Predict(x.row); math.IsNaN(y) || math.IsInf(y, 0) {
					return fmt.Errorf("row %d: %v", i, y)
				}
			}
			return nil
		}},
		{"answers the same row the same", func() error {
			if a, b := r.fitted.Predict(r.sample[0].row), r.fitted.Predict(r.sample[0].row); a != b {
				return fmt.Errorf("%v, then %v", a, b)
			}
			return nil
		}},
		{"stays near what was ever seen", func() error {
			room := high - low
			for i, x := range r.sample {
				if y := r.fitted.Predict(x.row); y < low-room || y > high+room {
					return fmt.Errorf("row %d: %.3g, and the truth is from %.3g to %.3g", i, y, low, high)
				}
			}
			return nil
		}},
		{"knows every building mix", func() error {
			for _, m := range mixes {
				row := maps.Clone(r.sample[0].row)
				row["mix"] = m.name
				if y := r.fitted.Predict(row); math.IsNaN(y) {
					return fmt.Errorf("%s: no number", m.name)
				}
			}
			return nil
		}},
		{"moves with the last hour's demand", func() error {
			if before, after := shifted("demand_1h_mw", 0.5); before == after {
				return fmt.Errorf("half a megawatt more changes nothing")
			}
			return nil
		}},
	}
}

// runChecks does the checks, and says what each came to.
func (r *release) runChecks() evidence.Suite {
	out := evidence.Suite{Name: r.model}
	for _, c := range r.checks() {
		begin := time.Now()
		err := c.do()
		one := evidence.Result{Name: c.name, Took: time.Since(begin)}
		if err != nil {
			one.Why = err.Error()
		}
		out.Results = append(out.Results, one)
	}
	return out
}

// prove evaluates a version, tests it if it forecasts, and attaches the reports.
func (p *play) prove(ctx context.Context, r *release, ref, stem string) error {
	e, err := r.evaluationOf(p.testData[r.data])
	if err != nil {
		return err
	}
	evaluation, err := json.MarshalIndent(e, "", "  ")
	if err != nil {
		return err
	}
	type report struct {
		kind, file string
		content    []byte
	}
	reports := []report{{evidence.EvaluationKind, stem + ".evaluation.json", evaluation}}
	if r.project == forecasting {
		tests, err := evidence.JUnit(r.model, nil, r.runChecks())
		if err != nil {
			return err
		}
		reports = append(reports,
			report{evidence.TestsKind, stem + ".tests.xml", tests})
	}
	for _, f := range reports {
		if err := os.WriteFile(f.file, f.content, 0o600); err != nil {
			return err
		}
		if _, err := p.runa.AttachEvidence(ctx, ref, f.kind, "", f.file); err != nil {
			return err
		}
	}
	return nil
}

// review has tove look at what the gate wants looked at, and sign.
func (p *play) review(ctx context.Context, promotion string) (ladder.Promotion, error) {
	r, err := p.tove.Review(ctx, promotion)
	if err != nil {
		return r.Promotion, err
	}
	for _, item := range r.Checklist {
		note := "nothing stands out"
		if m := r.Moved; m != nil && item.Name == "data-moved" && m.Columns[0].Movement.Verdict == drift.Moved {
			note = m.Columns[0].Name + " moved: the new feed, I am told"
		}
		if _, err := p.tove.Tick(ctx, promotion,
			wire.NewTick{Item: item.Name, Rung: item.Rung, Note: note}); err != nil {
			return r.Promotion, err
		}
	}
	return p.tove.Sign(ctx, promotion, rule.Yes, "read the measures")
}
