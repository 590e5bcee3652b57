package observe

import (
	"cmp"
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

const (
	// mostFresh is how many values a guard takes in at once: those that are left come a second later.
	mostFresh = 5000
	// mostBefore is how many of the incumbent's values of the day before a trial are looked at.
	mostBefore = 50_000
)

// valueKey names what an incumbent did before a trial by a signal.
type valueKey struct {
	trialKey
	signal string
}

// EvidenceFor is the evidence of the trials of an endpoint, with the values that guards of terms ask for and have not
// taken in yet.
func (s *Service) EvidenceFor(ctx context.Context, e *traffic.Endpoint, trials []guard.TrialPair, terms guard.Terms,
) (guard.Evidence, bool) {
	evidence, ready := s.Evidence(ctx, e.Name, trials)
	wanted, kept := terms.ValueSignals(), s.signals.Store()
	if len(wanted) == 0 || kept == nil || !ready {
		return evidence, ready
	}
	state, err := s.Watching(ctx, e.Name)
	if err != nil {
		s.Log.Warn("where guards stand is not known", "endpoint", e.Name, "error", err)
		return evidence, ready
	}
	for _, t := range trials {
		pair, known := evidence[t.Key()]
		if !known || t.Copies {
			continue
		}
		pair.Values = map[string]guard.Values{}
		for _, signal := range wanted {
			v := valuesOf{Service: s, kept: kept, endpoint: e, pair: t, state: &state, into: pair.Values}
			if err := v.add(ctx, signal); err != nil {
				// They come with the next look.
				s.Log.Warn("values of a signal are not known", "endpoint", e.Name, "signal", signal, "error", err)
			}
		}
		for signal, of := range pair.Values { // a guard and a comparison may have asked for the same
			slices.SortFunc(of.New, func(a, b guard.Value) int { return cmp.Compare(a.Seq, b.Seq) })
			of.New = slices.CompactFunc(of.New, func(a, b guard.Value) bool { return a.Seq == b.Seq })
			pair.Values[signal] = of
		}
		evidence[t.Key()] = pair
	}
	return evidence, ready
}

// valuesOf gathers the values of the versions of a trial.
type valuesOf struct {
	*Service
	kept     *signals.Store
	endpoint *traffic.Endpoint
	pair     guard.TrialPair
	state    *guard.State
	into     map[string]guard.Values
	// bare leaves out what was before.
	bare bool
}

// add gathers what has not been taken in yet of a signal that a guard or a comparison names.
func (v *valuesOf) add(ctx context.Context, named string) error {
	kind, of, _ := strings.Cut(named, ".")
	q := signals.LaterQuery{
		Endpoint: v.endpoint.Name, Versions: []string{v.pair.Incumbent, v.pair.Candidate}, From: v.pair.Since,
		After: v.state.Taken(v.pair, named), Limit: mostFresh,
	}
	if kind == guard.Custom {
		return v.addCustom(ctx, named, of, q)
	}
	q.Output, q.Numbers = of, kind == guard.MAE
	fresh, err := v.kept.OutcomesLater(ctx, q)
	if err != nil {
		return err
	}
	for i := range fresh {
		o := &fresh[i]
		signal := kind + "." + o.Output
		one, known := v.into[signal]
		if !known {
			one = guard.Values{Unit: v.unit(ctx, o.Output), Before: v.outcomesBefore(ctx, kind, o.Output)}
		}
		one.New = append(one.New, guard.Value{
			Seq: o.Seq, At: o.At, Candidate: o.Version == v.pair.Candidate, X: math.Abs(o.Error()),
		})
		v.into[signal] = one
	}
	v.stand(ctx, kind, named)
	return nil
}

// stand hands over signals that a guard has taken in of which nothing new came, so that it says how they stand.
func (v *valuesOf) stand(ctx context.Context, kind, guarded string) {
	for _, signal := range v.state.Knows(v.pair, guarded) {
		if _, known := v.into[signal]; !known {
			_, output, _ := strings.Cut(signal, ".")
			v.into[signal] = guard.Values{Unit: v.unit(ctx, output), Before: v.outcomesBefore(ctx, kind, output)}
		}
	}
}

func (v *valuesOf) addCustom(ctx context.Context, full, name string, q signals.LaterQuery) error {
	declared := v.endpoint.CustomOf(name)
	if declared == nil {
		return nil
	}
	fresh, err := v.kept.CustomsLater(ctx, name, q)
	if err != nil {
		return err
	}
	one := guard.Values{Unit: declared.Unit, HigherIsBetter: declared.Better == metric.Higher}
	for _, x := range fresh {
		one.New = append(one.New, guard.Value{
			Seq: x.Seq, At: x.At, Candidate: x.Version == v.pair.Candidate, X: x.X,
		})
	}
	one.Before = v.before(ctx, full, func(q signals.LaterQuery, add func(float64)) error {
		was, err := v.kept.CustomsLater(ctx, name, q)
		for _, x := range was {
			add(x.X)
		}
		return err
	})
	v.into[full] = one
	return nil
}

// outcomesBefore are how far the incumbent was off, or how often wrong, in the day before.
func (v *valuesOf) outcomesBefore(ctx context.Context, kind, output string) *sketch.Numbers {
	return v.before(ctx, kind+"."+output, func(q signals.LaterQuery, add func(float64)) error {
		q.Output, q.Numbers = output, kind == guard.MAE
		was, err := v.kept.OutcomesLater(ctx, q)
		for i := range was {
			add(math.Abs(was[i].Error()))
		}
		return err
	})
}

// before is what the incumbent did by a signal in the day before the trial, looked up until there is enough of it.
func (v *valuesOf) before(ctx context.Context, signal string,
	read func(q signals.LaterQuery, add func(float64)) error,
) *sketch.Numbers {
	if v.bare {
		return nil
	}
	key := valueKey{trialKey{v.endpoint.Name, v.pair.Key()}, signal}
	return v.wasValues.get(key, func() (*sketch.Numbers, bool) {
		var n sketch.Numbers
		err := read(signals.LaterQuery{
			Endpoint: v.endpoint.Name, Versions: []string{v.pair.Incumbent}, From: v.pair.Since.Add(-lookBack),
			To: v.pair.Since, Limit: mostBefore,
		}, n.Add)
		if err != nil {
			v.Log.Warn("what main did before a trial is not known", "endpoint", v.endpoint.Name, "signal", signal,
				"error", err)
			return nil, false
		}
		return &n, n.N >= guard.LeastBefore || !v.pair.After && v.Now().Sub(v.pair.Since) > time.Minute
	})
}

// reportedLately is what came of main in the last day by signals whose values come later.
func (s *Service) reportedLately(ctx context.Context, e *traffic.Endpoint, guards []guard.Guard,
) map[string]rollout.Reported {
	out := map[string]rollout.Reported{}
	kept := s.signals.Store()
	if kept == nil {
		return out
	}
	now := s.Now()
	main := e.Split.Main().Version
	pair := guard.TrialPair{Incumbent: main, Candidate: main, Since: now.Add(-lookBack)}
	v := valuesOf{
		Service: s, kept: kept, endpoint: e, pair: pair, bare: true,
		state: &guard.State{}, into: map[string]guard.Values{},
	}
	for _, signal := range (guard.Terms{Guards: guards}).ValueSignals() {
		if err := v.add(ctx, signal); err != nil {
			s.Log.Warn("what was reported lately is not known", "endpoint", e.Name, "signal", signal, "error", err)
		}
	}
	for signal, values := range v.into {
		var r rollout.Reported
		first, last := now, pair.Since
		for _, x := range values.New {
			r.Add(x.X)
			first, last = earlier(first, x.At), later(last, x.At)
		}
		r.Rate = float64(r.N) / max(1, last.Sub(first).Seconds())
		out[signal] = r
	}
	return out
}

// unit is that of an output of the candidate; empty where none is said.
func (v *valuesOf) unit(ctx context.Context, output string) string {
	found, err := v.registry.Resolve(ctx, v.DB.Read(records.Everything), "version", v.pair.Candidate)
	if err != nil || found.Signature == nil {
		return ""
	}
	for _, c := range found.Signature.Outputs {
		if c.Name == output {
			return c.Unit
		}
	}
	return ""
}
