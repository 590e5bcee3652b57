package observe

import (
	"cmp"
	"context"
	"maps"
	"math"
	"slices"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/traffic"
	"innerladder/internal/signals"

	"github.com/google/uuid"
)

// stratumKey names a stratum of values.
type stratumKey struct {
	split int
	at    int64
}

// strata gathers values of both sides by split and window of time.
type strata struct {
	incumbent string
	step      time.Duration
	at        map[stratumKey]*compare.ValueStratum
}

func (s *strata) add(split int, at time.Time, version string, x float64) {
	key := stratumKey{split, at.Truncate(s.step).Unix()}
	if s.at == nil {
		s.at = map[stratumKey]*compare.ValueStratum{}
	}
	if s.at[key] == nil {
		s.at[key] = &compare.ValueStratum{}
	}
	if version == s.incumbent {
		s.at[key].Incumbent.Add(x)
	} else {
		s.at[key].Candidate.Add(x)
	}
}

// list lists them in the order of time.
func (s *strata) list() (out []compare.ValueStratum) {
	keys := slices.SortedFunc(maps.Keys(s.at), func(a, b stratumKey) int {
		return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.split, b.split))
	})
	for _, key := range keys {
		out = append(out, *s.at[key])
	}
	return out
}

// comparedValues are what came later of both versions of a comparison.
func (s *Service) comparedValues(ctx context.Context, e *traffic.Endpoint, p span, from time.Time,
) (out []compare.Values, err error) {
	kept := s.signals.Store()
	if kept == nil {
		return nil, nil
	}
	q := signals.LaterQuery{
		Endpoint: e.Name, Versions: []string{p.incumbent, p.candidate}, From: from, To: p.to, Limit: MostSingle,
	}
	inSpan := func(split int) bool { return p.first == 0 || split == 0 || split >= p.first && split <= p.last }
	begun := strata{incumbent: p.incumbent, step: longestFor(p.to.Sub(from)).Length()}
	v := valuesOf{Service: s, endpoint: e, pair: guard.TrialPair{Candidate: p.candidate}}
	for _, kind := range []string{guard.MAE, guard.Accuracy} {
		q.Numbers = kind == guard.MAE
		pairs, err := kept.OutcomesLater(ctx, q)
		if err != nil {
			return nil, err
		}
		by := map[string]*strata{}
		for i := range pairs {
			o := &pairs[i]
			id, _ := uuid.Parse(o.Request) // it was read from what it is kept as
			_, origin, _ := s.ids.Read(id)
			if !inSpan(origin.Split) {
				continue
			}
			if by[o.Output] == nil {
				one := begun
				by[o.Output] = &one
			}
			by[o.Output].add(origin.Split, o.At, o.Version, math.Abs(o.Error()))
		}
		for _, output := range slices.Sorted(maps.Keys(by)) {
			one := compare.Values{Signal: kind + "." + output, Strata: by[output].list()}
			if kind == guard.MAE {
				one.Unit = v.unit(ctx, output)
			}
			out = append(out, one)
		}
	}
	for i := range e.Custom {
		c := &e.Custom[i]
		values, err := kept.CustomsLater(ctx, c.Name, q)
		if err != nil {
			return nil, err
		}
		of := begun
		for _, x := range values {
			if inSpan(x.Split) {
				of.add(x.Split, x.At, x.Version, x.X)
			}
		}
		if len(of.at) > 0 {
			out = append(out, compare.Values{
				Signal: c.Full(), Unit: c.Unit, HigherIsBetter: c.Better == metric.Higher, Strata: of.list(),
			})
		}
	}
	return out, nil
}
