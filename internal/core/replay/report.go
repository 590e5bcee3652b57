package replay

import (
	"fmt"
	"math"
	"slices"
	"time"

	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/judge"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
)

const (
	// mostSegmentRows is how many rows are looked at by parts of the inputs, leastSegment how many a part must have,
	// mostSegments how many parts are told, mostReasons how many reasons of failures.
	mostSegmentRows = 50_000
	leastSegment    = 20
	mostSegments    = 60
	mostReasons     = 20
)

// Answered is what a version answered to a recorded request now.
type Answered struct {
	Status int
	Took   time.Duration
	// Then and Now are the outputs of both answers, nil where an answer cannot be taken apart.
	Then, Now []sketch.Output
	// Why says why there is no answer.
	Why string
}

// Verdict is what one request came to.
type Verdict struct {
	// Compared says that both answered; Agreed that they said the same.
	Compared, Agreed bool
	// Apart is the largest difference of a number, in the unit of its output.
	Apart float64
}

// One holds the answers to one request side by side. A number agrees that differs by at most tolerance times the
// larger.
func One(a *Answered, tolerance float64) Verdict {
	var p sketch.Paired
	return one(&p, a, tolerance)
}

func one(p *sketch.Paired, a *Answered, tolerance float64) (v Verdict) {
	if a.Status != 200 || a.Then == nil || a.Now == nil {
		return v
	}
	v.Compared, v.Agreed = true, p.Agree(a.Then, a.Now, tolerance)
	for _, then := range a.Then {
		if now := outputOf(a.Now, then.Name); now != nil && len(now.Data) == len(then.Data) {
			for i := range then.Data {
				v.Apart = math.Max(v.Apart, math.Abs(apart(then.Data[i], now.Data[i])))
			}
		}
	}
	return v
}

func outputOf(all []sketch.Output, name string) *sketch.Output {
	i := slices.IndexFunc(all, func(o sketch.Output) bool { return o.Name == name })
	if i < 0 {
		return nil
	}
	return &all[i]
}

// apart is by how much a number is above another, and 0 of what is no number.
func apart(then, now any) float64 {
	a, isA := then.(float64)
	b, isB := now.(float64)
	if !isA || !isB {
		return 0
	}
	return b - a
}

// Judging holds the answers of many requests side by side. Its fields say how; what came of it is in Report.
type Judging struct {
	Tolerance float64
	// Output is the one that is looked at by parts of the inputs, and Unit its unit; the first where it is empty.
	Output, Unit string
	// Truth are what was true, by request.
	Truth map[string][]outcome.Pair

	pairs  sketch.Paired
	counts struct{ asked, failed, failedThen, recovered uint64 }
	why    map[string]uint64
	rows   []request.Row
	values []float64
	number bool
	judged judge.Rows
	other  judge.Other
	inputs []request.Row
}

// Take takes one request in.
func (j *Judging) Take(r *Recorded, a *Answered) {
	j.counts.asked++
	then := r.Outcome == request.Answered
	if !then {
		j.counts.failedThen++
	}
	if a.Status != 200 || a.Why != "" {
		j.counts.failed++
		j.fail(a)
		return
	}
	if !then {
		j.counts.recovered++
		return
	}
	j.pairs.Times(time.Duration(r.TookUS)*time.Microsecond, a.Took)
	if v := one(&j.pairs, a, j.Tolerance); !v.Compared {
		j.pairs.Unread++
		return
	}
	rows := request.RowsOf(&request.Kept{Request: r.Request, Answer: r.Answer})
	j.byRow(rows, a)
	j.truths(r, rows, a)
}

// fail counts why there was no answer. What a model server says of an error is left to the rows of the job: it may say
// what was asked.
func (j *Judging) fail(a *Answered) {
	why := a.Why
	if a.Status != 0 {
		why = fmt.Sprintf("status %d", a.Status)
	}
	if j.why == nil {
		j.why = map[string]uint64{}
	}
	if _, there := j.why[why]; there || len(j.why) < mostReasons {
		j.why[why]++
	} else {
		j.why["(others)"]++
	}
}

// byRow takes the rows of a request in for the parts of the inputs.
func (j *Judging) byRow(rows []request.Row, a *Answered) {
	if j.Output == "" && len(a.Then) > 0 {
		j.Output = a.Then[0].Name
	}
	then, now := outputOf(a.Then, j.Output), outputOf(a.Now, j.Output)
	if then == nil || now == nil || then.Rows != len(rows) || len(then.Data) != len(rows) ||
		len(now.Data) != len(rows) || len(j.values)+len(rows) > mostSegmentRows {
		return
	}
	for i, row := range rows {
		_, isNumber := then.Data[i].(float64)
		j.number = isNumber && !then.Whole
		x := 0.0
		switch {
		case j.number:
			x = math.Abs(apart(then.Data[i], now.Data[i]))
		case then.Data[i] != now.Data[i]:
			x = 1
		}
		if len(row.Inputs) > 0 {
			j.rows, j.values = append(j.rows, row), append(j.values, x)
		}
	}
}

// truths takes in what was true of a request. What was asked is not put beside the worst rows of the report: the log of
// requests is for fewer people than evidence is.
func (j *Judging) truths(r *Recorded, rows []request.Row, a *Answered) {
	for _, p := range j.Truth[r.ID] {
		now := outputOf(a.Now, p.Output)
		if now == nil || p.Row < 0 || p.Row >= now.Rows || len(now.Data) != now.Rows ||
			len(j.judged.Number) > 0 && p.Number != (j.judged.Truth != nil) {
			continue
		}
		d := &j.judged
		if p.Number {
			x, is := now.Data[p.Row].(float64)
			if !is {
				continue
			}
			d.Truth, d.Predicted = append(d.Truth, p.Truth), append(d.Predicted, x)
			j.other.Predicted = append(j.other.Predicted, p.Predicted)
		} else {
			d.TruthClass = append(d.TruthClass, p.TruthClass)
			d.PredictedClass = append(d.PredictedClass, fmt.Sprint(now.Data[p.Row]))
			j.other.PredictedClass = append(j.other.PredictedClass, p.PredictedClass)
		}
		d.Number, j.other.Has = append(d.Number, int64(j.counts.asked)), append(j.other.Has, true)
		row := request.Row{}
		if p.Row < len(rows) {
			row = rows[p.Row]
		}
		j.inputs = append(j.inputs, row)
	}
}

// Report is what came of all that was taken in. Against is who answered then.
func (j *Judging) Report(against string, limits map[string]evidence.Limit) (*evidence.ReplayReport, error) {
	counts := sketch.Counts{Requests: j.counts.asked}
	out := &evidence.ReplayReport{
		ShadowReport: evidence.OfPaired(&j.pairs, counts, against, j.Tolerance), Replayed: j.counts.asked,
		FailedThen: j.counts.failedThen, Recovered: j.counts.recovered, Failures: j.why, Limits: limits,
	}
	out.Copies, out.Failed = j.counts.asked, j.counts.failed
	if len(j.values) >= leastSegment {
		name := "disagreement"
		if j.number {
			name = "apart"
		}
		_, all, err := evaluate.Segments(len(j.values), leastSegment, Levels(j.rows), false, judge.MeanOf(
			func(i int) float64 { return j.values[i] }))
		if err != nil {
			return nil, err
		}
		for _, s := range all[:min(len(all), mostSegments)] {
			out.Segments = append(out.Segments, judge.SegmentOf(s, name))
		}
	}
	if len(j.judged.Number) == 0 {
		return out, nil
	}
	j.judged.Segments, j.judged.Unit, j.other.Version = Levels(j.inputs), j.Unit, against
	e, err := judge.Of(j.judged, nil)
	if err == nil {
		e.Against, err = j.judged.Against(j.other)
	}
	if err != nil {
		return nil, err
	}
	out.Truth = e
	return out, nil
}

// Levels are the levels of the inputs of rows, by column: texts and few numbers as they are, else quarters. A column of
// more texts is left out.
func Levels(rows []request.Row) map[string][]string {
	out := map[string][]string{}
	if len(rows) == 0 {
		return out
	}
	for name := range rows[0].Inputs {
		if levels := levelsOf(rows, name); levels != nil {
			out[name] = levels
		}
	}
	return out
}

func levelsOf(rows []request.Row, name string) []string {
	numbers, texts := make([]float64, len(rows)), make([]string, len(rows))
	for i, r := range rows {
		numbers[i] = math.NaN()
		switch v := r.Inputs[name].(type) {
		case float64:
			numbers[i] = v
		case nil:
		default:
			texts[i] = fmt.Sprint(v)
		}
	}
	return evaluate.LevelsOf(texts, numbers)
}
