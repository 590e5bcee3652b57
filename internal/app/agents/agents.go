// Package agents takes what agents report of versions that answer where the gateway does not reach.
package agents

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/access"
	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/fault"
	coreregistry "innerladder/internal/core/registry"
	"innerladder/internal/core/sketch"
	coretraffic "innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

// mostAsked is about how many versions and columns an agent asks at once.
const mostAsked = elsewhere.MostColumns

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	registry *registry.Service
	traffic  *traffic.Service
	recorder *recorder.Recorder
	signals  *signals.Keeper
}

// New makes a service.
func New(b *act.Base, r *registry.Service, t *traffic.Service, rec *recorder.Recorder, kept *signals.Keeper) *Service {
	return &Service{Base: b, registry: r, traffic: t, recorder: rec, signals: kept}
}

// List lists the agents that report of an endpoint.
func (s *Service) List(ctx context.Context, by act.Actor, endpoint string) (wire.Listed[elsewhere.Agent], error) {
	none := wire.Listed[elsewhere.Agent]{Items: []elsewhere.Agent{}}
	e, err := s.traffic.Endpoint(ctx, by, endpoint)
	if err != nil {
		return none, err
	}
	kept := s.signals.Store()
	if kept == nil {
		return none, recorder.Away()
	}
	all, err := kept.Agents(ctx, e.Name)
	if err != nil {
		return none, err
	}
	return wire.Listed[elsewhere.Agent]{Items: all}, nil
}

// Met answers an agent that met versions and columns: which versions there are, and on which bins all columns are
// counted. Columns that have none yet get those that it proposes.
func (s *Service) Met(ctx context.Context, by act.Actor, endpoint, agent string, in wire.AgentMet,
) (wire.AgentKnown, error) {
	none := wire.AgentKnown{}
	e, err := s.endpoint(ctx, by, endpoint, agent)
	if err != nil {
		return none, err
	}
	if len(in.Versions) > mostAsked || len(in.Columns) > mostAsked {
		return none, fault.New(fault.Invalid, "elsewhere.many", "%d versions and %d columns are asked for",
			len(in.Versions), len(in.Columns)).In("columns").Do("ask for at most %d of each at once", mostAsked)
	}
	out := wire.AgentKnown{Endpoint: e.Name, Model: e.Model, Versions: map[string]string{}}
	for _, raw := range in.Versions {
		ref, err := s.version(ctx, s.Read(by), e, raw)
		if err != nil {
			return none, err
		}
		if ref != "" {
			out.Versions[raw] = ref
		}
	}
	proposed := map[signals.Column]sketch.Bins{}
	for i, c := range in.Columns {
		named := c.Name != "" && len(c.Name) <= elsewhere.LongestName &&
			(c.Side == signals.Input || c.Side == signals.Output)
		if err := sketch.NewColumn(c.Bins).Check(); err != nil || !named {
			return none, fault.New(fault.Invalid, "elsewhere.column", "%.60q of side %.20q cannot be counted on its "+
				"bins", c.Name, c.Side).In(fmt.Sprintf("columns[%d]", i)).
				Do("give a name, input or output, and edges that ascend or levels in order")
		}
		proposed[signals.Column{Endpoint: e.Name, Side: c.Side, Name: c.Name}] = c.Bins
	}
	bins, err := s.recorder.Propose(ctx, e.Name, "the first observations elsewhere", proposed)
	if err != nil {
		return none, err
	}
	out.Columns = []wire.AgentColumn{}
	for c, b := range bins {
		out.Columns = append(out.Columns, wire.AgentColumn{Side: c.Side, Name: c.Name, Bins: b})
	}
	return out, nil
}

// endpoint finds the endpoint that an agent reports of, if it may, and if its versions answer elsewhere.
func (s *Service) endpoint(ctx context.Context, by act.Actor, name, agent string) (*coretraffic.Endpoint, error) {
	e, err := s.traffic.EndpointFor(ctx, by, access.Report, name)
	if err != nil {
		return nil, err
	}
	if id, err := uuid.Parse(agent); err != nil || id.String() != agent {
		return nil, fault.New(fault.Invalid, "elsewhere.agent", "%.60q is no id of an agent", agent).In("agent").
			Do("give a UUID in lower case, chosen at random once and kept")
	}
	switch {
	case e.Split == nil:
		return nil, fault.New(fault.Refused, "elsewhere.no_split", "nothing answers for %s yet", e.Name).In("endpoint").
			Do("say what does with: innerladder place %s@NUMBER -env %s -elsewhere; innerladder split %s %s@NUMBER=100",
				e.Model, e.Environment, e.Name, e.Model)
	case !e.Split.Elsewhere:
		return nil, fault.New(fault.Refused, "elsewhere.here", "%s is answered for through the gateway, which counts "+
			"all of its requests", e.Name).In("endpoint").
			Do("add an endpoint for what answers elsewhere, with a version that is placed with -elsewhere")
	}
	return e, nil
}

// version finds a version of an endpoint's model by its number; empty when there is none.
func (s *Service) version(ctx context.Context, r records.View, e *coretraffic.Endpoint, raw string) (string, error) {
	ref := raw
	if _, err := strconv.ParseUint(raw, 10, 32); err == nil {
		ref = e.Model + "@" + raw
	}
	parsed, err := coreregistry.ParseRef("version", ref)
	if err != nil || parsed.Number < 1 { // who stands on a rung now did not then
		return "", nil
	}
	found, err := s.registry.Resolve(ctx, r, "version", ref)
	var f *fault.Fault
	if errors.As(err, &f) {
		return "", nil
	}
	if err != nil || found.Model != e.Model {
		return "", err
	}
	return found.Ref, nil
}

// Take takes a batch of an agent.
func (s *Service) Take(ctx context.Context, by act.Actor, endpoint, agent string, in elsewhere.Batch,
) (wire.BatchTaken, error) {
	none := wire.BatchTaken{}
	e, err := s.endpoint(ctx, by, endpoint, agent)
	if err != nil {
		return none, err
	}
	now := s.Now()
	if err := in.Check(now); err != nil {
		return none, err
	}
	r, err := s.DB.Read(records.Everything).Retention(ctx)
	if err != nil {
		return none, err
	}
	ages, err := r.Ages()
	if err != nil {
		return none, err
	}
	out := wire.BatchTaken{Number: in.Number, Left: []string{}}
	b := signals.Reported{
		Endpoint: e.Name,
		Agent: elsewhere.Agent{
			ID: agent, Name: in.Name, Number: in.Number, HeardAt: now.UTC(), Waiting: in.Waiting, Aside: in.Aside,
		},
		Ages: signals.Ages{Minutes: ages.Minutes, Hours: ages.Hours, Days: ages.Days},
	}
	lanes := laneOf{s: s, view: s.Read(by), e: e, splits: map[int]*coretraffic.Split{}, known: map[string]string{}}
	var rows []elsewhere.Hashes
	for i := range in.Windows {
		w := &in.Windows[i]
		if w.Minute.Before(now.Add(-ages.Days)) {
			out.TooOld += w.Counts.Requests
			continue
		}
		key, err := lanes.find(ctx, fmt.Sprintf("windows[%d].version", i), w)
		if err != nil {
			return none, err
		}
		b.Windows = append(b.Windows, signals.Window{Key: key, At: w.Minute.UTC(), Summary: w.Summary()})
		b.Requests += w.Counts.Requests
		if w.Minute.After(b.Until) {
			b.Until = w.Minute.UTC()
		}
		rows = append(rows, w.Different)
	}
	taken, left, err := s.recorder.Report(ctx, b, rows, now)
	if errors.Is(err, signals.ErrManyAgents) {
		return none, fault.New(fault.Refused, "elsewhere.agents", "%v", signals.ErrManyAgents).In("agent").
			Do("keep the folder of an agent when it is started again: it has its name and its number")
	}
	if err != nil {
		return none, err
	}
	out.Again = !taken
	out.Left = slices.Concat(out.Left, left)
	return out, nil
}

// laneOf finds where windows of an agent belong.
type laneOf struct {
	s    *Service
	view records.View
	e    *coretraffic.Endpoint
	// splits and known are what was looked up: splits by their numbers, versions as they were named.
	splits map[int]*coretraffic.Split
	known  map[string]string
}

// find says to which lane a window belongs: to main where the split of that minute said that its version answers
// elsewhere, else to none of a split's.
func (l *laneOf) find(ctx context.Context, field string, w *elsewhere.Window) (signals.Key, error) {
	key := signals.Key{Endpoint: l.e.Name, Lane: elsewhere.Lane}
	ref, looked := l.known[w.Version]
	if !looked {
		var err error
		if ref, err = l.s.version(ctx, l.view, l.e, w.Version); err != nil {
			return key, err
		}
		l.known[w.Version] = ref
	}
	if ref == "" {
		return key, fault.New(fault.Unknown, "elsewhere.version", "%.80q is no version of %s by its number", w.Version,
			l.e.Model).In(field).Do("see them with: innerladder versions %s", l.e.Model)
	}
	key.Version = ref
	split, err := l.at(ctx, w.Minute.Add(time.Minute-time.Millisecond))
	if err != nil || split == nil {
		return key, err
	}
	key.Split = split.Number
	if split.Elsewhere && len(split.Lanes) > 0 && split.Main().Version == ref {
		key.Lane = string(coretraffic.Main)
	}
	return key, nil
}

// at is the split that was in force at a time, nil where there was none.
func (l *laneOf) at(ctx context.Context, at time.Time) (*coretraffic.Split, error) {
	if !at.Before(l.e.Split.MadeAt) {
		return l.e.Split, nil
	}
	number, err := l.view.SplitAt(ctx, l.e.Name, at)
	if errors.Is(err, records.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if l.splits[number] == nil {
		page, _, err := l.view.Splits(ctx, l.e.Name, records.Page{Limit: 1, After: strconv.Itoa(number + 1)})
		if err != nil || len(page) == 0 {
			return nil, err
		}
		l.splits[number] = &page[0]
	}
	return l.splits[number], nil
}
