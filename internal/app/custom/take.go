package custom

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/custom"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

const (
	// mostItems is how many reports are taken at once.
	mostItems = 1000
	// ahead is how far clocks that report may be before ours.
	ahead = time.Minute
)

// origin is where a request was answered.
type origin struct {
	version, lane string
	known         bool
}

// taking is one call with reports.
type taking struct {
	endpoint *traffic.Endpoint
	read     records.View
	now      time.Time
	// oldest is before when single values are not kept any more, so that it could not be told whether one counted.
	oldest time.Time
	out    wire.ReportsTaken
	values []custom.Value
	// of says which item a value is of.
	of []int
	// lanes, versions and splits are what was looked up.
	lanes    map[traffic.Origin]origin
	versions map[string]string
	splits   map[int64]int
}

// Take takes in what is reported of custom signals, and says what became of each report. What it cannot be told of
// which version is told and never guessed.
func (s *Service) Take(ctx context.Context, by act.Actor, endpoint string, in wire.NewReports,
) (wire.ReportsTaken, error) {
	none := wire.ReportsTaken{}
	e, err := s.traffic.EndpointFor(ctx, by, access.Report, endpoint)
	if err != nil {
		return none, err
	}
	if err := check(e, in); err != nil {
		return none, err
	}
	t := &taking{
		endpoint: e, read: s.Read(by), now: s.Now(), lanes: map[traffic.Origin]origin{}, versions: map[string]string{},
		splits: map[int64]int{},
		out:    wire.ReportsTaken{Endpoint: e.Name, Account: outcome.NewAccount()},
	}
	if t.oldest, err = s.oldest(ctx, t.now); err != nil {
		return none, err
	}
	for i := range in.Items {
		if err := s.take(ctx, t, i, &in.Items[i]); err != nil {
			return none, err
		}
	}
	return s.keep(ctx, t, in)
}

// check says whether reports can be looked at.
func check(e *traffic.Endpoint, in wire.NewReports) error {
	if len(in.Items) == 0 || len(in.Items) > mostItems {
		return fault.New(fault.Invalid, "custom.many", "there are %d reports", len(in.Items)).In("items").
			Do("give from 1 to %d at once", mostItems)
	}
	for i := range in.Items {
		at := fmt.Sprintf("items[%d]", i)
		if err := in.Items[i].Check(at); err != nil {
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(in.Items[i].Values)) {
			if err := e.CheckSignal(at+".values", custom.Full(name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// left notes that a report was not taken.
func (t *taking) left(r *custom.Report, fate outcome.Fate, why string, args ...any) {
	t.out.Leave(r.Line, r.Request, fate, why, args...)
}

// take finds out what a report is of.
func (s *Service) take(ctx context.Context, t *taking, i int, r *custom.Report) error {
	v := custom.Value{ID: r.ID, Arrived: t.now}
	ok, err := false, error(nil)
	if r.Request != "" {
		ok, err = s.ofRequest(ctx, t, r, &v)
	} else {
		ok, err = s.ofVersion(ctx, t, r, &v)
	}
	if err != nil || !ok {
		return err
	}
	switch {
	case v.At.Before(t.oldest):
		t.left(r, outcome.Late, "it is of %s; single values are kept since %s, before which it cannot be told "+
			"whether one has counted", v.At.UTC().Format(time.RFC3339), t.oldest.UTC().Format(time.DateOnly))
		return nil
	case v.At.After(t.now.Add(ahead)):
		t.left(r, outcome.Wrong, "it is of %s, which is still to come", v.At.UTC().Format(time.RFC3339))
		return nil
	}
	var some []custom.Value
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		x, why := custom.Number(name, r.Values[name])
		if why != "" {
			t.left(r, outcome.Wrong, "%s", why)
			return nil
		}
		one := v
		one.Signal, one.X = name, x
		some = append(some, one)
	}
	for _, one := range some {
		t.values, t.of = append(t.values, one), append(t.of, i)
	}
	return nil
}

// ofRequest reads off a request's id when it was answered, by which version and in which lane.
func (s *Service) ofRequest(ctx context.Context, t *taking, r *custom.Report, v *custom.Value) (ok bool, err error) {
	id, err := uuid.Parse(strings.TrimSpace(r.Request))
	at, from, is := s.ids.Read(id)
	switch {
	case err != nil || !is:
		t.left(r, outcome.Unmatched, "%.60q is no id of a request here", r.Request)
		return false, nil
	case from.Endpoint != t.endpoint.ID:
		t.left(r, outcome.Unmatched, "request %s was to another endpoint", id)
		return false, nil
	case from.Lane == traffic.NoLane:
		t.left(r, outcome.Unmatched, "no version answered request %s: it was turned away", id)
		return false, nil
	}
	o, looked := t.lanes[from]
	if !looked {
		a, err := t.read.LaneOf(ctx, from.Endpoint, from.Split, from.Lane)
		if err != nil && !errors.Is(err, records.ErrNone) {
			return false, err
		}
		o = origin{a.Version, a.Lane, err == nil}
		if from.Apart {
			o.lane = signals.Pinned
		}
		t.lanes[from] = o
	}
	if o.lane == string(traffic.Shadow) {
		t.left(r, outcome.Unmatched, "request %s was a copy, which answered nobody", id)
		return false, nil
	}
	if !o.known {
		t.left(r, outcome.Unmatched, "what answered request %s is not known any more", id)
		return false, nil
	}
	v.Request, v.Version, v.Lane, v.Split, v.At = id.String(), o.version, o.lane, from.Split, at
	return true, nil
}

// ofVersion takes a report of what a version answered at a time.
func (s *Service) ofVersion(ctx context.Context, t *taking, r *custom.Report, v *custom.Value) (ok bool, err error) {
	ref, known := t.versions[r.Version]
	if !known {
		found, err := s.registry.Resolve(ctx, t.read, "version", r.Version)
		var f *fault.Fault
		if err != nil && !errors.As(err, &f) {
			return false, err
		}
		if err == nil && found.Model == t.endpoint.Model && ofNumber(r.Version) {
			ref = found.Ref
		}
		t.versions[r.Version] = ref
	}
	if ref == "" {
		t.left(r, outcome.Unmatched, "%.80q is no version of %s by its number", r.Version, t.endpoint.Model)
		return false, nil
	}
	minute := r.At.Unix() / 60
	split, known := t.splits[minute]
	if !known {
		split, err = t.read.SplitAt(ctx, t.endpoint.Name, *r.At)
		if err != nil && !errors.Is(err, records.ErrNone) {
			return false, err
		}
		t.splits[minute] = split
	}
	v.Version, v.Split, v.At = ref, split, r.At.UTC().Truncate(time.Millisecond)
	return true, nil
}

// ofNumber reports whether a ref names a version by its number: who stands on a rung now did not then.
func ofNumber(raw string) bool {
	ref, err := registry.ParseRef("version", raw)
	return err == nil && ref.Number > 0
}

// keep writes the values down and says what became of the reports.
func (s *Service) keep(ctx context.Context, t *taking, in wire.NewReports) (wire.ReportsTaken, error) {
	kept := s.signals.Store()
	if kept == nil {
		return t.out, recorder.Away()
	}
	fates, err := kept.PutCustom(ctx, t.endpoint.Name, t.values, in.Replace)
	if err != nil {
		return t.out, err
	}
	fresh := outcome.Fresh(t.values, fates)
	t.out.Values = len(fresh)
	s.observe.Reported(t.endpoint.Name, fresh)
	t.out.Settle(fates, t.of, "another value was reported before; give replace to put this one in its place",
		func(i int) (int, string) { return in.Items[i].Line, in.Items[i].Request })
	return t.out, nil
}
