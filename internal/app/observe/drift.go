package observe

import (
	"context"
	"fmt"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/compare"
	"innerladder/internal/core/drift"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/sketch"
	corespan "innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// DriftQuestion says what is held against what.
type DriftQuestion struct {
	Endpoint string
	// Version whose requests are looked at; those of all that callers are dealt to when it is empty.
	Version string
	Window  time.Duration
	// Until is when the window ends; zero is now.
	Until time.Time
	// First has the window begin with the first request of the version, or of the endpoint.
	First   bool
	Against wire.Against
}

const (
	// driftSteps is in how many steps a window is looked at, about; driftByHours from how long on by hours.
	driftSteps   = 30
	driftByHours = 30 * time.Hour
	// season is how long a window must be to be like a reference of all hours of the week.
	season = week
)

// Drift holds every column of an endpoint's requests and answers against a reference, an earlier time, or another lane.
func (s *Service) Drift(ctx context.Context, by act.Actor, q DriftQuestion) (wire.Drift, error) {
	out := wire.Drift{
		Endpoint: q.Endpoint, Version: q.Version, Against: q.Against, Items: []wire.ColumnDrift{}, Left: []string{},
	}
	e, err := s.traffic.Endpoint(ctx, by, q.Endpoint)
	if err != nil {
		return out, err
	}
	if err := q.check(e); err != nil {
		return out, err
	}
	if err := s.driftSpan(ctx, e, &q, &out); err != nil {
		return out, err
	}
	version := q.Version
	if version == "" {
		version = e.Split.Main().Version
	}
	now, err := s.spanOf(ctx, e.Name, q.Version, out.From, out.To, out.Step())
	if err != nil {
		return out, err
	}
	before, err := s.driftAgainst(ctx, e, version, &out)
	if err != nil {
		return out, err
	}
	if out.Note == "" && len(before[signals.Input].Whole)+len(before[signals.Output].Whole) == 0 {
		out.Note = "Nothing is known of the time that it is held against."
	}
	v, err := s.registry.Version(ctx, act.BySelf(), version)
	if err != nil {
		return out, err
	}
	for _, side := range []string{signals.Input, signals.Output} {
		s.driftOf(e.Name, side, v.Signature, before[side], now[side], &out)
	}
	return out, nil
}

// check says whether a question can be answered.
func (q *DriftQuestion) check(e *traffic.Endpoint) error {
	if e.Split == nil || len(e.Split.Lanes) == 0 {
		return fault.New(fault.Refused, "drift.nothing", "nothing answers for %s yet", e.Name).In("endpoint").
			Do("send traffic to a version with: innerladder split %s %s@NUMBER=100", e.Name, e.Model)
	}
	if !slices.Contains(q.Against.Enum(), any(q.Against)) {
		return fault.New(fault.Invalid, "drift.against", "%q is nothing to be held against", q.Against).In("against").
			Do("use reference, before, week or main")
	}
	if q.Version != "" {
		if model, _ := naming.Thing(q.Version); model != e.Model {
			return fault.New(fault.Invalid, "drift.version", "%s is no version of %s", q.Version, e.Model).
				In("version").Do("name one as %s@NUMBER", e.Model)
		}
	}
	return checkWindow(q.Window)
}

// driftSpan is from when to when is looked, and in which steps.
func (s *Service) driftSpan(ctx context.Context, e *traffic.Endpoint, q *DriftQuestion, out *wire.Drift) error {
	step := max(time.Minute, (q.Window / driftSteps).Truncate(time.Minute))
	if q.Window > driftByHours {
		step = max(time.Hour, (q.Window / driftSteps).Truncate(time.Hour))
	}
	out.StepMS = step.Milliseconds()
	out.To = s.Now()
	if !q.Until.IsZero() && q.Until.Before(out.To) {
		out.To = q.Until
	}
	out.From = out.To.Add(-q.Window).Truncate(step)
	if !q.First {
		return nil
	}
	history, err := s.traffic.History(ctx, s.DB.Read(records.Everything), e.Name)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(history, func(p traffic.Split) bool {
		return q.Version == "" ||
			slices.ContainsFunc(p.Lanes, func(l traffic.Lane) bool { return l.Version == q.Version })
	})
	if i < 0 {
		return fault.New(fault.Unknown, "drift.version", "%s has answered nothing at %s", q.Version, e.Name).
			In("version").Do("name one that has")
	}
	out.From = history[i].MadeAt.Truncate(step)
	out.To = earlier(out.To, out.From.Add(q.Window))
	return nil
}

// sides are the columns of requests and answers.
type sides map[string]compare.Span

// spanOf reads what came to callers' lanes in a span, in steps.
func (s *Service) spanOf(ctx context.Context, endpoint, version string, from, to time.Time, step time.Duration,
) (sides, error) {
	q := signals.Query{Endpoint: endpoint, From: from, To: to, Longest: signals.Minute, Content: true}
	if step >= time.Hour {
		q.Longest = signals.Hour
	}
	if version != "" {
		q.Versions = []string{version}
	}
	windows, err := s.recorder.Windows(ctx, q)
	if err != nil {
		return nil, err
	}
	var whole sketch.Content
	steps := make([]sketch.Content, max(1, int(to.Sub(from)/step)+1))
	for _, w := range windows {
		if i := int(w.At.Sub(from) / step); w.Dealt() && i >= 0 && i < len(steps) {
			steps[i].Merge(&w.Summary.Content)
			whole.Merge(&w.Summary.Content)
		}
	}
	of := func(pick func(*sketch.Content) map[string]*sketch.Column) compare.Span {
		one := compare.Span{Whole: pick(&whole), Distinct: whole.Distinct.Count()}
		for i := range steps {
			one.Steps = append(one.Steps, pick(&steps[i]))
			one.StepsDistinct = append(one.StepsDistinct, steps[i].Distinct.Count())
		}
		return one
	}
	return sides{
		signals.Input:  of(func(c *sketch.Content) map[string]*sketch.Column { return c.Inputs }),
		signals.Output: of(func(c *sketch.Content) map[string]*sketch.Column { return c.Outputs }),
	}, nil
}

// driftAgainst is what a span is held against.
func (s *Service) driftAgainst(ctx context.Context, e *traffic.Endpoint, version string, out *wire.Drift,
) (sides, error) {
	whole := (out.To.Sub(out.From) + out.Step() - 1) / out.Step() * out.Step()
	between := func(from, to time.Time) {
		out.AgainstFrom, out.AgainstTo = &from, &to
	}
	switch out.Against {
	case wire.AgainstBefore:
		between(out.From.Add(-whole), out.From)
		return s.spanOf(ctx, e.Name, out.Version, *out.AgainstFrom, *out.AgainstTo, out.Step())
	case wire.AgainstWeek:
		return s.weeksBefore(ctx, e, out)
	case wire.AgainstMain:
		main := e.Split.Main().Version
		if version == main {
			return nil, fault.New(fault.Invalid, "drift.main", "%s is main itself", version).In("version").
				Do("name the version that is held against it")
		}
		between(out.From, out.To)
		return s.spanOf(ctx, e.Name, main, out.From, out.To, out.Step())
	}
	return s.driftReference(ctx, e, version, out), nil
}

// driftReference is what a version was fitted on.
func (s *Service) driftReference(ctx context.Context, e *traffic.Endpoint, version string, out *wire.Drift) sides {
	ref := s.references(ctx, e.Name, version)
	switch length := out.To.Sub(out.From); {
	case len(ref.inputs)+len(ref.outputs) == 0:
		out.Note = version + " has no reference profile; register versions with a sample of what they were fitted on."
	case length < season && len(ref.inputs) > 0:
		out.Note = fmt.Sprintf("The reference is of a longer time than %s: what has seasons is far from it at any "+
			"hour. Hold it against the same hours of the week where it has.", corespan.Rounded(length))
	}
	of := func(columns map[string]*sketch.Column) compare.Span {
		rows := uint64(0)
		for _, c := range columns {
			rows = max(rows, c.Total())
		}
		return compare.Span{Whole: columns, Distinct: rows}
	}
	return sides{signals.Input: of(ref.inputs), signals.Output: of(ref.outputs)}
}

// weeksBefore are the same hours of the weeks before, as far as they are known.
func (s *Service) weeksBefore(ctx context.Context, e *traffic.Endpoint, out *wire.Drift) (sides, error) {
	all := sides{}
	known := 0
	for k := 1; k <= watch.Weeks; k++ {
		from, to := out.From.Add(-time.Duration(k)*week), out.To.Add(-time.Duration(k)*week)
		one, err := s.spanOf(ctx, e.Name, out.Version, from, to, max(out.Step(), time.Hour))
		if err != nil {
			return nil, err
		}
		if len(one[signals.Input].Whole) == 0 {
			continue
		}
		known++
		out.AgainstFrom = &from
		if out.AgainstTo == nil {
			out.AgainstTo = &to
		}
		for side, of := range one {
			all[side] = all[side].With(of)
		}
	}
	if known < watch.Weeks {
		out.Note = fmt.Sprintf("The same hours are known of %d of the last %d weeks.", known, watch.Weeks)
	}
	return all, nil
}

// driftOf holds one side against what it is held against, and adds what became of it over time.
func (s *Service) driftOf(endpoint, side string, sig *signature.Signature, before, now compare.Span, out *wire.Drift) {
	items, left := compare.Against(before, now, drift.DefaultNeed)
	out.Left = append(out.Left, left...)
	s.describe(endpoint, side, items, sig)
	for _, d := range items {
		c := wire.ColumnDrift{Side: side, Distribution: d, Points: []wire.DriftPoint{}}
		for i, step := range now.Steps {
			if step[d.Column] == nil {
				continue
			}
			one, ok := compare.StepAgainst(before.Whole[d.Column], before.Distinct, step[d.Column],
				now.StepsDistinct[i], drift.DefaultNeed)
			if at := out.From.Add(time.Duration(i) * out.Step()); ok {
				c.Points = append(c.Points, wire.DriftPoint{At: at, Step: one})
			}
		}
		out.Items = append(out.Items, c)
	}
}
