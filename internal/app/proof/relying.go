package proof

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/explain"
	"innerladder/internal/core/job"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/score"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"

	"github.com/tidwall/gjson"
)

const (
	// readTogether is how many rows of a table are read at a time.
	readTogether = 1000
	// withCurves and withDependence are of how many inputs, those that matter most, the curves of single rows and what
	// predictions are at each value stand in the report.
	withCurves, withDependence = 30, 100
)

// relying asks a borrowed version about rows of a table, and about the same rows with other values.
type relying struct {
	*asking
	of    *job.Importance
	exact *signature.Signature
	// So many rows are asked with one request, where so many are answered, and so many requests at a time.
	batch, width int
	tells        func(job.Progress)

	sample  []signature.Row
	factors []score.Factor
	truth   []signature.Cell
	leftOut int
	// place is which of several values of the output is explained, and told how the report names it.
	place int
	told  string

	mu       sync.Mutex
	total    int
	progress job.Progress
}

// draw draws rows of a table, each with the same chance; those that do not fit, or have no truth, are left out.
func (r *relying) draw(name, file string) error {
	t, err := intake.OpenTable(name, file)
	if err != nil {
		return err
	}
	defer t.Close()
	columns := t.Columns()
	form, err := score.NewForm(r.exact, columns, []string{})
	if err != nil {
		return err
	}
	r.factors = form.Factors(columns)
	drawn, err := drawRows(t, r.of.Rows)
	if err != nil {
		return err
	}
	target := slices.Index(columns, r.of.Target)
	for _, row := range drawn {
		reasons := []string{t.Broken(row)}
		body, fit := form.Fit([][]signature.Cell{row}, columns, reasons)
		truth := signature.Cell{}
		if target >= 0 && target < len(row) {
			truth = row[target]
		}
		if len(fit) == 0 || target >= 0 && truth.Read(false).Kind == signature.MissingCell {
			r.leftOut++
			continue
		}
		one, err := signature.TakeApart(body)
		if err != nil {
			return err
		}
		r.sample, r.truth = append(r.sample, one), append(r.truth, truth)
	}
	if len(r.sample) < explain.LeastRows {
		return fmt.Errorf("only %d rows of the table can be asked, and have a truth; %d are needed", len(r.sample),
			explain.LeastRows)
	}
	r.first = r.sample[0]
	return nil
}

// drawRows draws so many rows of a table, in their order (Vitter 1985, algorithm R); the same of the same table.
func drawRows(t *intake.Table, most int) ([][]signature.Cell, error) {
	type numbered struct {
		number int
		row    []signature.Cell
	}
	var drawn []numbered
	dice := rand.New(rand.NewPCG(17, 1))
	for n := 0; ; {
		rows, err := t.Next(readTogether)
		for _, row := range rows {
			at := n
			if n++; at >= most {
				at = dice.IntN(n)
			}
			switch {
			case at >= most:
				continue
			case at >= len(drawn):
				drawn = append(drawn, numbered{})
			}
			drawn[at] = numbered{n, slices.Clone(row)}
			for k := range drawn[at].row { // what is read next stands in the same place
				drawn[at].row[k].Text = strings.Clone(drawn[at].row[k].Text)
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	slices.SortFunc(drawn, func(a, b numbered) int { return cmp.Compare(a.number, b.number) })
	out := make([][]signature.Cell, len(drawn))
	for i := range drawn {
		out[i] = drawn[i].row
	}
	return out, nil
}

// all asks everything.
func (r *relying) all(ctx context.Context) (*evidence.ImportanceReport, error) {
	if err := r.inBatches(ctx, r.sample, r.batch); err != nil {
		return nil, err
	}
	drawn := len(r.sample) + r.leftOut
	places := make([][]place, len(r.factors))
	r.total = len(r.sample) * (1 + len(r.factors)*r.of.Rounds)
	for i, f := range r.factors {
		places[i] = r.placesOf(f)
		r.total += len(places[i]) * min(len(r.sample), explain.DependenceRows)
	}
	base, err := r.base(ctx)
	if err != nil {
		return nil, err
	}
	out := &evidence.ImportanceReport{
		Rows: drawn, LeftOut: r.leftOut, Output: r.told, Rounds: r.of.Rounds,
	}
	var truth *explain.Predictions
	if r.of.Target != "" {
		truth = r.truths(base.Class != nil)
		loss, n := explain.LossOf(base, truth)
		if n == 0 {
			return nil, fmt.Errorf("the column %s has no truth of %s", r.of.Target, r.output)
		}
		out.Loss, out.Measure = &loss, "mae"
		if base.Class != nil {
			out.Measure = "error_rate"
		}
	}
	if base.Class != nil {
		out.Class = cmp.Or(r.of.Class, explain.Levels(base.Class)[0])
		if !slices.Contains(base.Class, out.Class) {
			return nil, fmt.Errorf("no row is predicted to be %q; there are %q", out.Class, explain.Levels(base.Class))
		}
	}
	for i, f := range r.factors {
		one, err := r.factor(ctx, f, base, truth, places[i], out.Class)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		out.Inputs = append(out.Inputs, one)
	}
	return out, nil
}

// base asks the rows as they are. Those without an answer are left out from then on.
func (r *relying) base(ctx context.Context) (*explain.Predictions, error) {
	got, err := r.ask(ctx, r.sample)
	if err != nil {
		return nil, err
	}
	var rows []signature.Row
	var truth []signature.Cell
	var answered []score.Answer
	for i, a := range got {
		if !a.Fine() {
			r.leftOut++
			continue
		}
		rows, truth, answered = append(rows, r.sample[i]), append(truth, r.truth[i]), append(answered, a)
	}
	if len(rows) < explain.LeastRows {
		return nil, fmt.Errorf("only %d of %d rows are answered; the first that is not: %s", len(rows), len(got),
			whyNot(got))
	}
	r.sample, r.truth, r.told = rows, truth, r.output
	if wide := len(answered[0].Values); wide > 1 {
		r.place = largest(answered, wide)
		if r.of.Target != "" {
			return nil, fmt.Errorf("%s has %d values, of which none is the truth; name another output", r.output, wide)
		}
		r.told = fmt.Sprintf("%s[%d]", r.output, r.place)
	}
	return r.predictions(answered, nil), nil
}

// whyNot is why the first row has no prediction that has none.
func whyNot(all []score.Answer) string {
	for i := range all {
		if !all[i].Fine() {
			return all[i].Reason()
		}
	}
	return ""
}

// largest is the place of a list of numbers with the largest mean.
func largest(all []score.Answer, wide int) (best int) {
	most := math.Inf(-1)
	for p := range wide {
		sum := 0.0
		for _, a := range all {
			if p < len(a.Values) {
				x, _ := a.Values[p].(float64)
				sum += x
			}
		}
		if sum > most {
			best, most = p, sum
		}
	}
	return best
}

// ask asks rows, and says how far all is.
func (r *relying) ask(ctx context.Context, rows []signature.Row) ([]score.Answer, error) {
	return r.many(ctx, rows, r.width, func(n int) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.progress.Rows += int64(n)
		r.progress.Answered += int64(n)
		r.progress.Share = math.Min(1, float64(r.progress.Rows)/float64(r.total))
		r.tells(r.progress)
	})
}

// predictions reads what is explained off answers. As says of which kind they must be; nil takes that of the first.
func (r *relying) predictions(all []score.Answer, as *explain.Predictions) *explain.Predictions {
	out := &explain.Predictions{There: make([]bool, len(all))}
	_, number := all[0].At(r.place).(float64)
	if as != nil {
		number = as.Class == nil
	}
	if number {
		out.Number = make([]float64, len(all))
	} else {
		out.Class = make([]string, len(all))
	}
	for i, a := range all {
		v := a.At(r.place)
		x, is := v.(float64)
		switch {
		case v == nil:
		case number && is:
			out.Number[i], out.There[i] = x, true
		case !number:
			out.Class[i], out.There[i] = fmt.Sprint(v), true
		}
	}
	return out
}

// truths are what is true of the rows.
func (r *relying) truths(classes bool) *explain.Predictions {
	out := &explain.Predictions{There: make([]bool, len(r.truth))}
	if classes {
		out.Class = make([]string, len(r.truth))
	} else {
		out.Number = make([]float64, len(r.truth))
	}
	for i, c := range r.truth {
		v := gjson.ParseBytes(signature.AppendCell(nil, c))
		switch {
		case classes: // also where they are called 0 and 1, or true and false
			out.Class[i], out.There[i] = v.String(), v.Type != gjson.Null
		case v.Type == gjson.Number:
			out.Number[i], out.There[i] = v.Num, true
		}
	}
	return out
}

// place is a value at which an input is looked at: as it is sent, and as it is told.
type place struct {
	sent json.RawMessage
	told any
}

// placesOf are the values at which a factor is looked at: those of the rows.
func (r *relying) placesOf(f score.Factor) (out []place) {
	var numbers []float64
	var others []string
	for _, row := range r.sample {
		v := row.Inputs[f.Input].Data[f.Part]
		if x, err := strconv.ParseFloat(string(v), 64); err == nil {
			numbers = append(numbers, x)
		} else if string(v) != "null" {
			others = append(others, string(v))
		}
	}
	if len(numbers) > 0 {
		for _, x := range explain.Places(numbers) {
			out = append(out, place{strconv.AppendFloat(nil, x, 'f', -1, 64), x})
		}
		return out
	}
	for _, level := range explain.Levels(others) {
		p := place{sent: json.RawMessage(level)}
		if json.Unmarshal(p.sent, &p.told) == nil {
			out = append(out, p)
		}
	}
	return out
}

// with is a row with another value of a factor.
func with(row signature.Row, f score.Factor, v json.RawMessage) signature.Row {
	out := signature.Row{Inputs: slices.Clone(row.Inputs)}
	in := &out.Inputs[f.Input]
	in.Data = slices.Clone(in.Data)
	in.Data[f.Part] = v
	return out
}

// factor finds out what is known of one input.
func (r *relying) factor(ctx context.Context, f score.Factor, base, truth *explain.Predictions, places []place,
	class string,
) (evidence.InputImportance, error) {
	out := evidence.InputImportance{Input: f.Name}
	var rounds []*explain.Predictions
	for round := range r.of.Rounds {
		rows := make([]signature.Row, len(r.sample))
		for i, from := range explain.Shuffled(len(rows), round) {
			rows[i] = with(r.sample[i], f, r.sample[from].Inputs[f.Input].Data[f.Part])
		}
		got, err := r.ask(ctx, rows)
		if err != nil {
			return out, err
		}
		rounds = append(rounds, r.predictions(got, base))
	}
	found := explain.ImportanceOf(base, truth, rounds)
	out.Rows, out.Moves, out.Loss = found.Rows, found.Moves, found.Loss
	few := r.sample[:min(len(r.sample), explain.DependenceRows)]
	var at [][]float64
	for _, p := range places {
		rows := make([]signature.Row, len(few))
		for i, row := range few {
			rows[i] = with(row, f, p.sent)
		}
		got, err := r.ask(ctx, rows)
		if err != nil {
			return out, err
		}
		at = append(at, numbersOf(r.predictions(got, base), class))
		out.At = append(out.At, p.told)
	}
	d := explain.DependenceOf(at)
	if out.Mean, out.Low, out.High, out.Curves = d.Mean, d.Low, d.High, d.Curves; d.Mean == nil {
		out.At = nil
	}
	return out, nil
}

// numbersOf are predictions as numbers: of classes 1 where it is the one that is looked at; NaN where there is none.
func numbersOf(p *explain.Predictions, class string) []float64 {
	out := make([]float64, len(p.There))
	for i := range out {
		switch {
		case !p.There[i]:
			out[i] = math.NaN()
		case p.Class == nil:
			out[i] = p.Number[i]
		case p.Class[i] == class:
			out[i] = 1
		}
	}
	return out
}

// describe puts the inputs first with which the error surely rises, by how much, then those with which predictions
// move, with units and what was said at registration.
func (r *relying) describe(out *evidence.ImportanceReport, v *registry.Version) {
	if c := v.Signature.Output(r.output); c != nil {
		out.Unit = c.Unit
	}
	most := 0.0
	for _, in := range out.Inputs {
		most = math.Max(most, in.Moves.High)
	}
	for i := range out.Inputs {
		in := &out.Inputs[i]
		if in.Loss != nil {
			*in.Loss = withoutRounding(*in.Loss, most)
		}
		if c := v.Signature.Input(in.Input); c != nil {
			in.Unit = c.Unit
		}
		if x, said := v.Importance[in.Input]; said {
			in.Claimed = &x
		}
	}
	rises := func(in evidence.InputImportance) float64 {
		if in.Loss != nil && in.Loss.Low > 0 {
			return in.Loss.Value
		}
		return 0
	}
	slices.SortStableFunc(out.Inputs, func(a, b evidence.InputImportance) int {
		return cmp.Or(cmp.Compare(rises(b), rises(a)), cmp.Compare(b.Moves.Value, a.Moves.Value))
	})
	for i := range out.Inputs {
		in := &out.Inputs[i]
		if i >= withCurves {
			in.Curves = nil
		}
		if i >= withDependence {
			in.At, in.Mean, in.Low, in.High = nil, nil, nil, nil
		}
		for _, all := range slices.Concat([][]float64{in.Mean, in.Low, in.High}, in.Curves) {
			for k, x := range all {
				all[k] = shortened(x)
			}
		}
	}
}

// withoutRounding is a figure without what only rounding leaves of sums beside a scale.
func withoutRounding(b evidence.Between, scale float64) evidence.Between {
	for _, x := range []*float64{&b.Value, &b.Low, &b.High} {
		if math.Abs(*x) < 1e-9*scale {
			*x = 0
		}
	}
	return b
}

// shortened is a number with as many digits as a drawing can show.
func shortened(x float64) float64 {
	out, err := strconv.ParseFloat(strconv.FormatFloat(x, 'g', 6, 64), 64)
	if err != nil {
		return x
	}
	return out
}
