package observe

import (
	"context"
	"math"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/signals"
)

const (
	// usualEvery is how often it is looked up what is usual; usualBack is the time that counts, but for the last
	// usualLess, in which what is wrong now may have begun.
	usualEvery = 5 * time.Minute
	usualBack  = 24 * time.Hour
	usualLess  = 5 * time.Minute
	// leastUsual is of how many rows it is known what is usual.
	leastUsual = 1000
	// unevenBack is from how far back it is taken how evenly requests come.
	unevenBack = 2 * time.Hour
	week       = 7 * 24 * time.Hour
)

// lookUp looks up what is usual when it is time for that, and reports whether it is known.
func (s *Service) lookUp(ctx context.Context, e *traffic.Endpoint, w *watching, now time.Time) bool {
	main := e.Split.Main().Version
	if main != w.main || e.Watches.Revision != w.revision || now.Sub(w.usualAt) > usualEvery {
		if s.lookups >= mostLookups {
			return w.main != "" && main == w.main // what was looked up before serves, but not of another version
		}
		s.lookups++
		if w.main != "" && main != w.main {
			w.Distrust()
		}
		w.usual, w.usualAt, w.main, w.revision = s.usual(ctx, e, now), now, main, e.Watches.Revision
	}
	if e.Watches.Needs(watch.Main) {
		w.usual.Main = s.mainLately(e, now)
	}
	return true
}

// usual looks up what an endpoint did before, and what its columns are held against. What cannot be read is not known.
func (s *Service) usual(ctx context.Context, e *traffic.Endpoint, now time.Time) watch.Usual {
	ref := s.references(ctx, e.Name, e.Split.Main().Version)
	u := watch.Usual{
		Inputs: ref.inputs, Outputs: ref.outputs, Missing: ref.missing, Metrics: ref.metrics,
		Quietest: s.quietest(ctx, e.Name, now),
	}
	u.Yesterday = s.past(ctx, e.Name, now.Add(-usualBack).Truncate(time.Hour), now.Add(-usualLess), now.Add(-usualBack))
	if e.Watches.Needs(watch.LastWeek) {
		then := now.Add(-week)
		u.LastWeek = s.past(ctx, e.Name, then.Add(-12*time.Hour).Truncate(time.Hour), then.Add(12*time.Hour), then)
	}
	u.Hour = s.hourOfWeek(ctx, e.Name, now)
	if e.Watches.Sets(watch.RequestRate) {
		u.Dispersion = s.dispersion(ctx, e.Name, now)
	}
	return u
}

// hourOfWeek is what columns were in this hour of the weeks before, as far as that is known.
func (s *Service) hourOfWeek(ctx context.Context, endpoint string, now time.Time) watch.HourOfWeek {
	hour := now.UTC().Truncate(time.Hour)
	var weeks []sketch.Content
	for k := 1; k <= watch.Weeks; k++ {
		from := hour.Add(-time.Duration(k) * week)
		windows, err := s.recorder.Windows(ctx, signals.Query{
			Endpoint: endpoint, From: from, To: from.Add(time.Hour), Longest: signals.Hour, Content: true,
		})
		if err != nil {
			s.Log.Warn("what columns were a week ago is not known", "endpoint", endpoint, "error", err)
		}
		var one sketch.Content
		for _, w := range windows {
			if w.Dealt() {
				one.Merge(&w.Summary.Content)
			}
		}
		if one.Rows == 0 {
			break
		}
		weeks = append(weeks, one)
	}
	return watch.HoursOf(hour, weeks)
}

// past is what an endpoint did between two moments, and how many requests came around a third.
func (s *Service) past(ctx context.Context, endpoint string, from, to, around time.Time) *watch.Past {
	p := &watch.Past{Missing: map[string]float64{}, Outside: map[string]float64{}, PerSecond: -1}
	windows, err := s.recorder.Windows(ctx, signals.Query{
		Endpoint: endpoint, From: from, To: to, Longest: signals.Hour, Latency: true, Content: true,
	})
	if err != nil {
		s.Log.Warn("what is usual is not known", "endpoint", endpoint, "error", err)
		return p
	}
	var sum sketch.Summary
	for _, w := range windows {
		if w.Dealt() {
			sum.Merge(w.Summary)
		}
	}
	p.Counts, p.Latency, p.Custom = sum.Counts, &sum.Latency, s.customsIn(ctx, endpoint, from, to)
	for name, c := range sum.Content.Inputs {
		if all := c.Total(); all >= leastUsual {
			p.Missing[name] = float64(c.Missing) / float64(all)
			p.Outside[name] = float64(c.Outside()) / float64(max(1, c.Seen()))
		}
	}
	hour := around.Truncate(time.Hour)
	then := func(at time.Time) bool {
		at = at.Truncate(time.Hour)
		return !at.Before(hour) && at.Before(hour.Add(2*time.Hour))
	}
	var came, refusals uint64
	began := to
	for _, w := range windows {
		began = earlier(began, w.At)
		if w.Lane != signals.Shadow && then(w.At) {
			came += w.Summary.Counts.Requests
		}
	}
	if kept := s.signals.Store(); kept != nil {
		refused, err := kept.Refused(ctx, endpoint, signals.Hour, from, to)
		if err != nil {
			s.Log.Warn("how much is refused usually is not known", "endpoint", endpoint, "error", err)
		}
		for _, r := range refused {
			r.Refusals[request.NoHealthyLane] = 0
			p.Refused += r.Refusals.Total()
			if then(r.At) {
				refusals += r.Refusals.Total()
			}
		}
	}
	if !began.After(hour) { // it was there already
		p.PerSecond = float64(came+refusals) / (2 * time.Hour).Seconds()
	}
	return p
}

// came counts the requests that came in each minute or hour between two moments, from the one after that in which the
// endpoint was called first: of that one it was there for a part.
func (s *Service) came(ctx context.Context, endpoint string, from, to time.Time, level signals.Level) (out []float64) {
	windows, err := s.recorder.Windows(ctx, signals.Query{Endpoint: endpoint, From: from, To: to, Longest: level})
	if err != nil {
		s.Log.Warn("how many requests come usually is not known", "endpoint", endpoint, "error", err)
		return nil
	}
	step := level.Length()
	at := map[time.Time]float64{}
	first := to
	for _, w := range windows {
		if w.Lane != signals.Shadow {
			then := w.At.Truncate(step)
			at[then] += float64(w.Summary.Counts.Requests)
			first = earlier(first, then)
		}
	}
	for then := first.Add(step); then.Before(to); then = then.Add(step) {
		out = append(out, at[then])
	}
	return out
}

// dispersion is how unevenly requests come; 0 where it is not known.
func (s *Service) dispersion(ctx context.Context, endpoint string, now time.Time) float64 {
	to := now.Truncate(time.Minute)
	return watch.Dispersion(s.came(ctx, endpoint, to.Add(-unevenBack), to, signals.Minute))
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// mostTruths is how many outcomes of an endpoint wait for a look at most.
const mostTruths = 20_000

// Told hands outcomes to the watches of an endpoint.
func (s *Service) Told(endpoint string, pairs []outcome.Pair) {
	s.truthsMu.Lock()
	defer s.truthsMu.Unlock()
	if waiting := s.truths[endpoint]; len(waiting)+len(pairs) <= mostTruths {
		s.truths[endpoint] = append(waiting, pairs...)
	}
}

// truthsOf takes what was told of predictions of a version since the last look.
func (s *Service) truthsOf(endpoint, version string) map[string]watch.Truths {
	s.truthsMu.Lock()
	pairs := s.truths[endpoint]
	delete(s.truths, endpoint)
	s.truthsMu.Unlock()
	out := map[string]watch.Truths{}
	for i := range pairs {
		if p := &pairs[i]; p.Version == version && p.Lane != signals.Pinned {
			t := out[p.Output]
			t.Number, t.Errors = p.Number, append(t.Errors, math.Abs(p.Error()))
			out[p.Output] = t
		}
	}
	return out
}

// mainLately is what main did beside the trial that there is now, as far back as seconds are kept.
func (s *Service) mainLately(e *traffic.Endpoint, now time.Time) *watch.Past {
	p := &watch.Past{Latency: &sketch.Quantiles{}, PerSecond: -1}
	for _, r := range s.recorder.Recent(e.Name, later(e.Split.MadeAt, now.Add(-inMemory)), now.Truncate(time.Second)) {
		if r.Lane == string(traffic.Main) {
			p.Counts = p.Counts.Plus(r.Traffic.Counts)
			p.Latency.Merge(&r.Traffic.Latency)
		}
	}
	return p
}

// quietest looks up the quietest hour of the last week, of those since the endpoint was called first.
func (s *Service) quietest(ctx context.Context, endpoint string, now time.Time) (q watch.Quietest) {
	to := now.Truncate(time.Hour)
	if hours := s.came(ctx, endpoint, to.Add(-week), to, signals.Hour); len(hours) > 0 {
		q.Fewest, q.Hours = uint64(slices.Min(hours)), len(hours)
	}
	return q
}

// references are what a version was fitted on and how right it was then, as far as it is known.
type references struct {
	inputs, outputs map[string]*sketch.Column
	// missing are the shares of the inputs that are.
	missing, metrics map[string]float64
}

// references looks them up, the columns on the bins that an endpoint is counted on.
func (s *Service) references(ctx context.Context, endpoint, version string) references {
	out := references{
		inputs: map[string]*sketch.Column{}, outputs: map[string]*sketch.Column{}, missing: map[string]float64{},
	}
	v, err := s.registry.Version(ctx, act.BySelf(), version)
	if err != nil || v.Signature == nil {
		return out
	}
	out.metrics = v.Metrics
	p, err := s.registry.Profile(ctx, act.BySelf(), v.Ref)
	if err != nil || p == nil {
		return out
	}
	bins := s.recorder.Bins(endpoint)
	on := func(side, name string) *sketch.Column { // the profile of a later version may have other bins
		ref := p.Columns[name]
		b, counted := bins[signals.Column{Endpoint: endpoint, Side: side, Name: name}]
		if ref == nil || !counted {
			return nil
		}
		return ref.On(b, p.Fine[name])
	}
	for _, c := range v.Signature.Inputs {
		if ref := on(signals.Input, c.Name); ref != nil && ref.Total() > 0 {
			out.inputs[c.Name] = ref
			out.missing[c.Name] = float64(ref.Missing) / float64(ref.Total())
		}
	}
	for _, c := range v.Signature.Outputs {
		if ref := on(signals.Output, c.Name); ref != nil {
			out.outputs[c.Name] = ref
		}
	}
	return out
}
