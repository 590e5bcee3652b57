package outcomes

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/observe"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evaluate"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/outcome"
	coreregistry "innerladder/internal/core/registry"
	"innerladder/internal/core/request"
	coretraffic "innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
	"innerladder/internal/requestlog"
	"innerladder/internal/signals"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

// confidence is that of all intervals.
const confidence = 0.95

// Accuracy says how right each version of an endpoint was in a window that ends at a moment, or now for the zero time,
// as far as the truth is known.
func (s *Service) Accuracy(ctx context.Context, by act.Actor, endpoint string, window time.Duration, until time.Time,
) (wire.Accuracy, error) {
	out := wire.Accuracy{Endpoint: endpoint, Items: []wire.VersionAccuracy{}}
	asked, err := s.observe.AskLater(ctx, by, endpoint, window, until)
	if err != nil {
		return out, err
	}
	sums, err := sumsOf(ctx, &asked)
	if err != nil {
		return out, err
	}
	out.From, out.To, out.StepMS = asked.From, asked.To, asked.Step.Milliseconds()
	answered, err := s.observe.Answered(ctx, endpoint, asked.Later)
	if err != nil {
		return out, err
	}
	for _, of := range together(sums) {
		one, err := s.measured(ctx, by, of, answered[of.version])
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, one)
	}
	slices.SortStableFunc(out.Items, func(a, b wire.VersionAccuracy) int {
		return cmp.Or(asked.MainFirst(a.Version, b.Version), cmp.Compare(b.Rows, a.Rows))
	})
	return out, nil
}

// sumsOf reads what was joined, one by one, or by hours where there is too much of it.
func sumsOf(ctx context.Context, in *observe.LaterAsked) ([]signals.OutcomeSums, error) {
	if in.Single {
		pairs, err := in.Kept.Outcomes(ctx, signals.OutcomeQuery{
			Endpoint: in.Endpoint.Name, From: in.From, To: in.To, Limit: observe.MostSingle + 1,
		})
		if err != nil || len(pairs) <= observe.MostSingle {
			return summed(pairs, in.Step), err
		}
	}
	in.ByHours()
	all, err := in.Kept.OutcomeHours(ctx, in.Endpoint.Name, in.From, in.To)
	for i := range all {
		all[i].At = all[i].At.Truncate(in.Step)
	}
	return all, err
}

// summed adds pairs up by steps of time.
func summed(pairs []outcome.Pair, step time.Duration) []signals.OutcomeSums {
	at := map[signals.OutcomeKey]*outcome.Sums{}
	type of struct{ request, output string }
	seen := map[of]bool{}
	for i := range pairs {
		p := &pairs[i]
		key := signals.OutcomeKey{Version: p.Version, Lane: p.Lane, Output: p.Output, At: p.At.Truncate(step)}
		if at[key] == nil {
			at[key] = &outcome.Sums{}
		}
		at[key].Add(p, !seen[of{p.Request, p.Output}])
		seen[of{p.Request, p.Output}] = true
	}
	out := make([]signals.OutcomeSums, 0, len(at))
	for key, sums := range at {
		out = append(out, signals.OutcomeSums{OutcomeKey: key, Sums: *sums})
	}
	return out
}

// line is what is known of one output of one version.
type line struct {
	version, output string
	whole           outcome.Sums
	steps           map[time.Time]*outcome.Sums
}

// together puts the sums of a version's lanes together, but for those of callers who asked for it by name.
func together(sums []signals.OutcomeSums) []*line {
	var out []*line
	for i := range sums {
		o := &sums[i]
		if o.Lane == signals.Pinned {
			continue
		}
		n := slices.IndexFunc(out, func(l *line) bool { return l.version == o.Version && l.output == o.Output })
		if n < 0 {
			n = len(out)
			out = append(out, &line{version: o.Version, output: o.Output, steps: map[time.Time]*outcome.Sums{}})
		}
		l := out[n]
		l.whole.Merge(&o.Sums)
		if l.steps[o.At] == nil {
			l.steps[o.At] = &outcome.Sums{}
		}
		l.steps[o.At].Merge(&o.Sums)
	}
	return out
}

// measured says how right one output of a version was.
func (s *Service) measured(ctx context.Context, by act.Actor, l *line, answered uint64,
) (wire.VersionAccuracy, error) {
	out := wire.VersionAccuracy{
		Version: l.version, Output: l.output, Answered: answered, Requests: l.whole.Requests, Rows: l.whole.Rows,
		Measures: []wire.AccuracyMeasure{}, Points: []wire.AccuracyPoint{}, Confusion: l.whole.Confusion,
	}
	out.Coverage = min(1, float64(l.whole.Requests)/float64(max(1, answered)))
	v, err := s.registry.Version(ctx, by, l.version)
	var f *fault.Fault
	if err != nil && !errors.As(err, &f) {
		return out, err
	}
	for _, m := range l.whole.Measures(confidence) {
		one := wire.AccuracyMeasure{Measure: m}
		if v != nil { // it may be deleted by now
			ofVersion(&one, v, l.output)
		}
		out.Measures = append(out.Measures, one)
	}
	for at, sums := range l.steps {
		if all := sums.Measures(confidence); len(all) > 0 {
			out.Points = append(out.Points, wire.AccuracyPoint{At: at, Rows: sums.Rows, Value: all[0].Value})
		}
	}
	slices.SortFunc(out.Points, func(a, b wire.AccuracyPoint) int { return a.At.Compare(b.At) })
	out.Sentence = sentence(&out)
	return out, nil
}

// sentence is what the measures of a version come to.
func sentence(a *wire.VersionAccuracy) string {
	if len(a.Measures) == 0 {
		return "Nothing is known yet."
	}
	text := fmt.Sprintf("The truth of %d of %d requests is known (%.1f %%).", a.Requests,
		max(a.Answered, uint64(a.Requests)), 100*a.Coverage)
	for _, m := range a.Measures {
		if m.Verdict == "worse" || m.Verdict == "better" {
			text += fmt.Sprintf(" %s is %.4g, surely %s than %.4g at registration.", m.Name, m.Value, m.Verdict,
				*m.Registered)
		}
	}
	return text
}

// leastSegment is how many predictions a level must have to be told, segmented how many are looked at, worst how many
// are shown at most.
const (
	leastSegment = 20
	segmented    = 2000
	mostShown    = 200
)

// Shown are single predictions of a version with their truth, the worst or the newest first, and where it is worse than
// on the whole.
func (s *Service) Shown(ctx context.Context, by act.Actor, q signals.OutcomeQuery, window time.Duration,
) (wire.OutcomesShown, error) {
	out := wire.OutcomesShown{
		Endpoint: q.Endpoint, Items: []wire.OutcomeShown{}, Segments: []wire.OutcomeSegment{},
	}
	e, err := s.traffic.EndpointFor(ctx, by, access.Inspect, q.Endpoint)
	if err != nil {
		return out, err
	}
	if err := observe.CheckLater(window); err != nil {
		return out, err
	}
	if q.Limit < 0 || q.Limit > mostShown {
		return out, fault.New(fault.Invalid, "list.limit", "%d predictions cannot be given at once", q.Limit).
			In("limit").Do("give 1 to %d", mostShown)
	}
	kept := s.signals.Store()
	if kept == nil {
		return out, recorder.Away()
	}
	q.To = s.Now().Add(time.Millisecond)
	q.From, q.Limit = q.To.Add(-window), cmp.Or(q.Limit, 20)
	pairs, err := kept.Outcomes(ctx, q)
	if err != nil {
		return out, err
	}
	look := &looking{s: s, endpoint: e, known: map[string][]request.Row{}}
	for _, p := range pairs {
		row, err := look.row(ctx, &p)
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, wire.OutcomeShown{Pair: p, Error: p.Error(), Inputs: row.Inputs})
	}
	q.Worst, q.Limit = false, segmented
	all, err := kept.Outcomes(ctx, q)
	if err != nil {
		return out, err
	}
	return out, look.segments(ctx, all, &out)
}

// looking finds what was asked, once for each request.
type looking struct {
	s        *Service
	endpoint *coretraffic.Endpoint
	known    map[string][]request.Row
}

// row is the row of the request that a prediction is of; an empty one where it is not kept any more.
func (l *looking) row(ctx context.Context, p *outcome.Pair) (request.Row, error) {
	rows, known := l.known[p.Request]
	if !known {
		id, err := uuid.Parse(p.Request)
		if err != nil {
			return request.Row{}, err
		}
		at, _, _ := l.s.ids.Read(id)
		k, err := l.s.log.Find(ctx, l.endpoint.ID, id, at)
		if err != nil && !errors.Is(err, requestlog.ErrNone) {
			return request.Row{}, err
		}
		rows = request.RowsOf(&k)
		l.known[p.Request] = rows
	}
	if p.Row >= len(rows) {
		return request.Row{}, nil
	}
	return rows[p.Row], nil
}

// segments says in which levels and quarters of the inputs predictions are worse.
func (l *looking) segments(ctx context.Context, pairs []outcome.Pair, out *wire.OutcomesShown) error {
	var of []outcome.Pair
	var rows []request.Row
	for i := range pairs {
		row, err := l.row(ctx, &pairs[i])
		if err != nil {
			return err
		}
		if len(row.Inputs) > 0 && pairs[i].Number == pairs[0].Number {
			of, rows = append(of, pairs[i]), append(rows, row)
		}
	}
	out.Looked, out.Measure = len(of), "mae"
	if len(of) < leastSegment {
		return nil
	}
	if !of[0].Number {
		out.Measure = "error share"
	}
	all, segments, err := evaluate.Segments(len(of), leastSegment, levels(rows), false,
		func(some []int, confidence float64) evaluate.Estimate {
			var sum, squares float64
			for _, i := range some {
				x := math.Abs(of[i].Error())
				sum, squares = sum+x, squares+x*x
			}
			return evaluate.Mean(sum, squares, float64(len(some)), confidence)
		})
	if err != nil {
		return err
	}
	out.Whole = all.Value
	for _, g := range segments {
		one := wire.OutcomeSegment{Column: g.Column, Level: g.Level, Rows: g.N, Value: g.Value, Worse: g.Worse}
		if g.Bounded() {
			one.Low, one.High = &g.Low, &g.High
		}
		out.Segments = append(out.Segments, one)
	}
	return nil
}

// levels are the levels of texts and the quarters of numbers, by column.
func levels(rows []request.Row) map[string][]string {
	out := map[string][]string{}
	for name := range rows[0].Inputs {
		numbers, texts := make([]float64, len(rows)), make([]string, len(rows))
		isText := false
		for i, r := range rows {
			x, number := r.Inputs[name].(float64)
			if !number {
				x = math.NaN()
			}
			if text, is := r.Inputs[name].(string); is {
				isText, texts[i] = true, text
			}
			numbers[i] = x
		}
		if !isText {
			texts = evaluate.Quarters(numbers)
		}
		out[name] = texts
	}
	return out
}

// ofVersion says what a measure was at registration.
func ofVersion(m *wire.AccuracyMeasure, v *coreregistry.Version, output string) {
	meaning := v.Meanings[m.Name]
	m.LowerIsBetter = meaning.LowerIsBetter(m.Name)
	m.Unit = meaning.Unit
	if v.Signature != nil && m.Unit == "" && slices.Contains([]string{"mae", "rmse", "bias"}, m.Name) {
		for _, c := range v.Signature.Outputs {
			if c.Name == output {
				m.Unit = c.Unit
			}
		}
	}
	if was, known := v.Metrics[m.Name]; known && m.Name != "bias" {
		m.Registered = &was
		if m.Low != nil {
			m.Verdict = m.Against(was, m.LowerIsBetter)
		}
	}
}
