package observe

import (
	"context"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// History lists the splits of an endpoint, newest first, with for how long each was in force, what it served, and how
// it ended. With a moment it is the one that was in force then.
func (s *Service) History(ctx context.Context, by act.Actor, endpoint string, at time.Time,
	p records.Page,
) (wire.Listed[wire.Served], error) {
	var none wire.Listed[wire.Served]
	if err := by.May(access.Read); err != nil {
		return none, err
	}
	r := s.Read(by)
	e, err := s.traffic.FindEndpoint(ctx, r, endpoint)
	if err != nil {
		return none, err
	}
	if !at.IsZero() {
		number, err := r.SplitAt(ctx, e.Name, at)
		if errors.Is(err, records.ErrNone) {
			return none, fault.New(fault.Unknown, "history.none", "nothing answered for %s at %s", e.Name,
				at.UTC().Format(time.RFC3339)).In("at").Do("see all that did with: innerladder history %s", e.Name)
		}
		if err != nil {
			return none, err
		}
		p = records.Page{Limit: 1, After: fmt.Sprint(number + 1)}
	}
	splits, next, err := r.Splits(ctx, e.Name, p)
	if err != nil {
		return none, err
	}
	if !at.IsZero() {
		next = ""
	}
	out := wire.Listed[wire.Served]{Items: []wire.Served{}, Next: next}
	for i, split := range splits {
		until, err := s.untilOf(ctx, r, e, splits, i)
		if err != nil {
			return none, err
		}
		out.Items = append(out.Items, served(split, until, s.Now()))
		if split.Leaves > 0 {
			if out.Items[i].Incident, err = r.IncidentAt(ctx, e.Name, split.Number); err != nil {
				return none, err
			}
		}
	}
	return out, s.addServed(ctx, e.Name, out.Items)
}

// untilOf is when the split at a position was left; the zero time while it is in force.
func (s *Service) untilOf(ctx context.Context, r records.View, e *traffic.Endpoint, splits []traffic.Split,
	i int,
) (time.Time, error) {
	switch {
	case i > 0:
		return splits[i-1].MadeAt, nil
	case splits[0].Number == e.Split.Number:
		return time.Time{}, nil
	}
	next, _, err := r.Splits(ctx, e.Name, records.Page{Limit: 1, After: fmt.Sprint(splits[0].Number + 2)})
	if err != nil || len(next) == 0 {
		return time.Time{}, err
	}
	return next[0].MadeAt, nil
}

// served is a split with how it ended.
func served(split traffic.Split, until, now time.Time) wire.Served {
	out := wire.Served{
		Split:    split,
		Ended:    "in force",
		Versions: []wire.ServedBy{},
		LastedMS: now.Sub(split.MadeAt).Milliseconds(),
	}
	if !until.IsZero() {
		out.Until, out.Ended = &until, split.End()
		out.LastedMS = until.Sub(split.MadeAt).Milliseconds()
	}
	return out
}

// addServed adds what each version answered under each split, as far as that is still known.
func (s *Service) addServed(ctx context.Context, endpoint string, items []wire.Served) error {
	if len(items) == 0 {
		return nil
	}
	from, to := items[len(items)-1].Split.MadeAt, s.Now()
	if until := items[0].Until; until != nil {
		to = *until
	}
	windows, err := s.recorder.Windows(ctx, signals.Query{
		Endpoint: endpoint, From: from.Truncate(time.Minute), To: to.Add(time.Minute),
		Longest: longestFor(to.Sub(from)),
	})
	if err != nil {
		s.Log.Warn("what splits have served is not known", "endpoint", endpoint, "error", err)
		return nil
	}
	type key struct {
		split   int
		version string
	}
	sums := map[key]*wire.ServedBy{}
	for _, w := range windows {
		if w.Lane == signals.Shadow {
			continue // nobody was served by that
		}
		k := key{w.Split, w.Version}
		if sums[k] == nil {
			sums[k] = &wire.ServedBy{Version: w.Version}
		}
		sums[k].Requests += w.Summary.Counts.Requests
		sums[k].Failed += w.Summary.Counts.Failed()
	}
	for i := range items {
		for _, l := range traffic.Answering(items[i].Split.Lanes) {
			if sum := sums[key{items[i].Split.Number, l.Version}]; sum != nil {
				items[i].Versions = append(items[i].Versions, *sum)
			}
		}
	}
	return nil
}
