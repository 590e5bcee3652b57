package proof

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/judge"
	"innerladder/internal/core/registry"
	"innerladder/internal/scoring"
	"innerladder/internal/wire"

	"github.com/tidwall/gjson"
)

// none is said where no columns are meant.
const none = "none"

// Evaluate begins a job that asks a version about all rows of a table, holds the answers against a column with the
// truth, and attaches the report to the version as evidence.
func (s *Service) Evaluate(ctx context.Context, by act.Actor, in wire.NewEvaluation, table io.Reader) (*job.Job,
	error,
) {
	if err := by.May(access.Register); err != nil {
		return nil, err
	}
	how, err := judgingOf(in.Judging)
	if err != nil {
		return nil, err
	}
	in.Keep = ""
	return s.begin(ctx, by, access.Register, in.NewScoring, table, &job.Job{
		Kind: job.EvaluateKind, Evaluating: &job.Evaluating{Judging: how},
	}, nil)
}

// judgingOf reads by what answers are judged.
func judgingOf(in wire.Judging) (job.Judging, error) {
	out := job.Judging{
		Target: in.Target, Output: in.Output, Weight: in.Weight, Segments: []string{}, Against: in.Against,
	}
	if strings.TrimSpace(out.Target) == "" {
		return out, fault.New(fault.Invalid, "evaluate.target", "no column with the truth is named").In("target").
			Do("name one")
	}
	if in.Segments != "" {
		out.Segments = strings.Split(in.Segments, ",")
	}
	var err error
	out.Limits, err = limitsOf(in.AtMost, in.AtLeast)
	return out, err
}

// limitsOf reads limits as they are typed.
func limitsOf(atMost, atLeast string) (map[string]evidence.Limit, error) {
	out := map[string]evidence.Limit{}
	for _, side := range []struct {
		field, text string
		set         func(*evidence.Limit, *float64)
	}{
		{"at_most", atMost, func(l *evidence.Limit, x *float64) { l.AtMost = x }},
		{"at_least", atLeast, func(l *evidence.Limit, x *float64) { l.AtLeast = x }},
	} {
		for one := range strings.SplitSeq(side.text, ",") {
			if one == "" {
				continue
			}
			name, text, _ := strings.Cut(one, "=")
			x, err := strconv.ParseFloat(text, 64)
			if err != nil || x != x {
				return nil, fault.New(fault.Invalid, "evaluate.limit", "%q is no limit", one).In(side.field).
					Do("write one such as rmse=0.2")
			}
			l := out[name]
			side.set(&l, &x)
			out[name] = l
		}
	}
	return out, nil
}

// needed are the columns of the table that judging needs beside the answers.
func needed(e *job.Evaluating, v *registry.Version, columns []string) ([]string, error) {
	var inputs []string
	if v.Signature != nil {
		for _, c := range v.Signature.Inputs {
			if slices.Contains(columns, c.Name) && c.Name != e.Target {
				inputs = append(inputs, c.Name)
			}
		}
	}
	switch {
	case len(e.Segments) == 1 && e.Segments[0] == none:
		e.Segments = []string{}
	case len(e.Segments) == 0:
		e.Segments = append(e.Segments, inputs...)
	}
	e.Sensitive = nil
	if v.Signature != nil {
		for _, c := range v.Signature.Inputs {
			if !c.Sensitive || !slices.Contains(columns, c.Name) {
				continue
			}
			if e.Sensitive = append(e.Sensitive, c.Name); !slices.Contains(e.Segments, c.Name) {
				e.Segments = append(e.Segments, c.Name) // whatever else is looked at
			}
		}
	}
	keep := inputs // those of the worst rows are shown
	for _, name := range append([]string{e.Target, e.Weight}, e.Segments...) {
		if name != "" && !slices.Contains(keep, name) {
			keep = append(keep, name)
		}
	}
	for _, name := range keep {
		if !slices.Contains(columns, name) {
			return nil, fault.New(fault.Invalid, "evaluate.column", "the table has no column %s", name).In("target").
				Do("its columns are %s", strings.Join(columns, ", "))
		}
	}
	return keep, nil
}

// judging gathers what is judged of the answers of a job.
type judging struct {
	*job.Evaluating
	classes bool
	columns scoring.Columns
	// target, weight and output are places in a line; scores those of the probabilities, segments those of columns.
	target, weight, output int
	scores                 []int
	segments               map[string]int
	rows                   judge.Rows
	texts                  map[string][]string  // of values that are no numbers
	numbers                map[string][]float64 // NaN for those
	leftOut                int64
	// others are the answers of the version that it is held against; nil where there is none.
	others *others
	dir    string
}

// judge holds the answers of a job against the truth.
func (s *Service) judge(ctx context.Context, j *job.Job) (*evidence.Evaluation, error) {
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return nil, err
	}
	m, err := s.registry.Model(ctx, act.BySelf(), v.Model)
	if err != nil {
		return nil, err
	}
	g := &judging{Evaluating: j.Evaluating, classes: m.Task == registry.Classification, dir: s.folder(j.ID)}
	if err := scoring.Each(s.folder(j.ID), g.begin, g.take); err != nil {
		return nil, err
	}
	if len(g.rows.Number) == 0 {
		return nil, fmt.Errorf("no row that was answered has a truth in %s", g.Target)
	}
	g.finish(v)
	e, err := judge.Of(g.rows, g.Limits)
	if err != nil {
		return nil, err
	}
	if o, there := g.beside(); there {
		if e.Against, err = g.rows.Against(o); err != nil {
			return nil, err
		}
	}
	e.Data = j.Scoring.Data
	e.Judged = &evidence.Judged{
		Job: j.ID, Version: v.Ref, Table: j.Scoring.Table, Digest: j.Scoring.Digest, Target: g.Target,
		Output: g.columns.Outputs[g.output-1-len(g.columns.Kept)], By: s.build, LeftOut: g.leftOut,
		Standing: g.Standing,
	}
	return e, s.withInputs(j, g, e)
}

// begin finds the columns.
func (g *judging) begin(c scoring.Columns) error {
	if g.columns = c; len(c.Outputs) == 0 {
		return errors.New("no row was answered")
	}
	place := func(name string) int { return 1 + slices.Index(c.Kept, name) }
	g.target = place(g.Target)
	if g.Weight != "" {
		g.weight = place(g.Weight)
	}
	g.segments, g.texts, g.numbers = map[string]int{}, map[string][]string{}, map[string][]float64{}
	for _, name := range g.Segments {
		g.segments[name] = place(name)
	}
	output := slices.Index(c.Outputs, g.Output)
	if g.Output == "" {
		if output = slices.Index(c.Outputs, g.Target); output < 0 && len(c.Outputs) == 1 {
			output = 0
		}
	}
	if output < 0 {
		return fmt.Errorf("it is not known whose truth %s is: the version gives %s; say it with -output", g.Target,
			strings.Join(c.Outputs, ", "))
	}
	g.output = 1 + len(c.Kept) + output
	var scores []string
	for i, name := range c.Outputs {
		if strings.HasSuffix(name, "]") {
			g.scores, scores = append(g.scores, 1+len(c.Kept)+i), append(scores, name)
		}
	}
	return g.readOthers(g.dir, c.Outputs[output], scores)
}

// take takes a row in; one without truth is left out.
func (g *judging) take(values []gjson.Result) error {
	truth, predicted := values[g.target], values[g.output]
	g.classes = g.classes || predicted.Type == gjson.String
	if truth.Type == gjson.Null || !g.classes && (truth.Type != gjson.Number || predicted.Type != gjson.Number) {
		g.leftOut++
		return nil
	}
	if len(g.rows.Number) >= judge.MostRows {
		return fmt.Errorf("there are more than %d rows; evaluate on a sample of them", judge.MostRows)
	}
	r := &g.rows
	r.Number = append(r.Number, values[0].Int())
	if g.classes {
		r.TruthClass, r.PredictedClass = append(r.TruthClass, truth.String()), append(r.PredictedClass,
			predicted.String())
		if len(g.scores) > 0 {
			row := make([]float64, len(g.scores))
			for k, at := range g.scores {
				row[k] = values[at].Num
			}
			r.Scores = append(r.Scores, row)
		}
	} else {
		r.Truth, r.Predicted = append(r.Truth, truth.Num), append(r.Predicted, predicted.Num)
	}
	if g.others != nil {
		g.others.pair(values[0].Int(), g.classes)
	}
	if g.weight > 0 {
		r.Weights = append(r.Weights, values[g.weight].Num)
	}
	for name, at := range g.segments {
		x, text := values[at].Num, ""
		if values[at].Type != gjson.Number {
			x, text = math.NaN(), values[at].String()
		}
		g.texts[name], g.numbers[name] = append(g.texts[name], text), append(g.numbers[name], x)
	}
	return nil
}

// finish makes levels of columns, and finds which class each score is of.
func (g *judging) finish(v *registry.Version) {
	g.rows.Segments, g.rows.Sensitive = map[string][]string{}, g.Sensitive
	for name := range g.segments {
		if levels := evaluate.LevelsOf(g.texts[name], g.numbers[name]); levels != nil {
			g.rows.Segments[name] = levels
		}
	}
	if v.Signature == nil || g.rows.Scores == nil {
		return
	}
	levels := evaluate.Distinct(slices.Concat(g.rows.TruthClass, g.rows.PredictedClass), len(g.scores))
	for _, c := range v.Signature.Outputs {
		if len(c.Levels) == len(g.scores) {
			levels = c.Levels
		}
	}
	if right := g.fitsScores(levels); !right {
		g.rows.Scores = nil // it is not known which class each is of
		return
	}
	g.rows.Levels = levels
}

// fitsScores reports whether scores can be of these classes, in this order: every truth is one of them, scores are
// shares of one, and the highest is nearly always that of the class that was predicted.
func (g *judging) fitsScores(levels []string) bool {
	if len(levels) != len(g.scores) {
		return false
	}
	agree := 0
	for i, row := range g.rows.Scores {
		if !slices.Contains(levels, g.rows.TruthClass[i]) {
			return false
		}
		best, sum := 0, 0.0
		for k, p := range row {
			if p > row[best] {
				best = k
			}
			if sum += p; !(p >= 0 && p <= 1) {
				return false
			}
		}
		if math.Abs(sum-1) > 1e-3 {
			return false
		}
		if levels[best] == g.rows.PredictedClass[i] {
			agree++
		}
	}
	return float64(agree) >= 0.99*float64(len(g.rows.Scores))
}

// withInputs puts beside the worst rows what was asked.
func (s *Service) withInputs(j *job.Job, g *judging, e *evidence.Evaluation) error {
	wanted := map[int64][]*evidence.WorstRow{}
	want := func(rows []evidence.WorstRow) {
		for i := range rows {
			rows[i].Inputs = map[string]any{}
			wanted[rows[i].Row] = append(wanted[rows[i].Row], &rows[i])
		}
	}
	want(e.Worst)
	if e.Against != nil {
		want(e.Against.Worst)
	}
	return scoring.Each(s.folder(j.ID), func(scoring.Columns) error { return nil }, func(values []gjson.Result) error {
		for _, row := range wanted[values[0].Int()] {
			for i, name := range g.columns.Kept {
				if name != g.Target && name != g.Weight {
					row.Inputs[name] = values[1+i].Value()
				}
			}
		}
		return nil
	})
}
