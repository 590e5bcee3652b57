// Package custom keeps signals of a team's own: what they are, what is reported of them, and how the versions of an
// endpoint do by them.
package custom

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/observe"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/access"
	"innerladder/internal/core/custom"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/metric"
	coretraffic "innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	registry *registry.Service
	traffic  *traffic.Service
	observe  *observe.Service
	recorder *recorder.Recorder
	signals  *signals.Keeper
	ids      *coretraffic.RequestIDs
}

// New makes a service.
func New(b *act.Base, r *registry.Service, t *traffic.Service, o *observe.Service, rec *recorder.Recorder,
	kept *signals.Keeper, ids *coretraffic.RequestIDs,
) *Service {
	return &Service{Base: b, registry: r, traffic: t, observe: o, recorder: rec, signals: kept, ids: ids}
}

// oldest is since when single values are kept.
func (s *Service) oldest(ctx context.Context, now time.Time) (time.Time, error) {
	r, err := s.DB.Read(records.Everything).Retention(ctx)
	if err != nil {
		return now, err
	}
	ages, err := r.Ages()
	return now.Add(-ages.Hours), err
}

// Set says what a custom signal of an endpoint is. Its unit stays what it is: what was reported is in it.
func (s *Service) Set(ctx context.Context, by act.Actor, endpoint, name string, in wire.EditCustom,
) (custom.Signal, error) {
	signal := custom.Signal{Name: name, Unit: in.Unit, Better: metric.Way(in.Better), About: in.About}
	if err := signal.Check(); err != nil {
		return signal, err
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (custom.Signal, error) {
		e, err := s.traffic.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return signal, err
		}
		signal.MadeBy, signal.MadeAt = t.By.Name, t.Now
		entry := act.Entry{
			Project: e.Project, Kind: "custom.set", Subject: e.Name, Reason: in.Reason,
			Sentence: fmt.Sprintf("%s has a signal %s of its own.", e.Name, name),
		}
		all := slices.Clone(e.Custom)
		was := e.CustomOf(name)
		if was != nil {
			if was.Unit != in.Unit {
				return signal, fault.New(fault.Refused, "custom.unit", "%s of %s is in %q", name, e.Name, was.Unit).
					In("unit").Do("add one of another name: what was reported stays in the unit that it has")
			}
			if was.Better == signal.Better && was.About == in.About {
				return signal, fault.New(fault.Refused, "custom.same", "%s of %s is that already", name, e.Name).
					In("signal").Do("nothing needs doing")
			}
			entry.Before = *was
			entry.Sentence = fmt.Sprintf("What the signal %s of %s is was changed.", name, e.Name)
			signal.MadeBy, signal.MadeAt = was.MadeBy, was.MadeAt
			all = slices.DeleteFunc(all, func(c custom.Signal) bool { return c.Name == name })
		}
		if all = append(all, signal); len(all) > custom.Most {
			return signal, fault.New(fault.Refused, "custom.most", "%s has %d signals of its own already", e.Name,
				custom.Most).In("signal").Do("take one away first with: innerladder custom remove %s NAME", e.Name)
		}
		slices.SortFunc(all, func(a, b custom.Signal) int { return strings.Compare(a.Name, b.Name) })
		entry.After = signal
		if err := t.SetCustom(ctx, e.Name, all); err != nil {
			return signal, err
		}
		if err := t.Note(ctx, entry); err != nil || was != nil {
			return signal, err
		}
		kept := s.signals.Store()
		if kept == nil {
			return signal, recorder.Away()
		}
		return signal, kept.ForgetCustom(ctx, e.Name, name) // of another of that name, which was taken away
	})
}

// Remove takes a custom signal of an endpoint away. What was reported of it is kept as long as all that was measured,
// and seen by nobody: another signal of that name begins with nothing.
func (s *Service) Remove(ctx context.Context, by act.Actor, endpoint, name, reason string) (custom.Signal, error) {
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (custom.Signal, error) {
		e, err := s.traffic.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return custom.Signal{}, err
		}
		signal := e.CustomOf(name)
		if signal == nil {
			return custom.Signal{}, fault.New(fault.Unknown, "custom.unknown", "%s has no signal %.60q of its own",
				e.Name, name).In("signal").Do("see which it has with: innerladder custom show %s", e.Name)
		}
		if err := s.unused(ctx, t, e, signal); err != nil {
			return *signal, err
		}
		left := slices.DeleteFunc(slices.Clone(e.Custom), func(c custom.Signal) bool { return c.Name == name })
		if err := t.SetCustom(ctx, e.Name, left); err != nil {
			return *signal, err
		}
		return *signal, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "custom.removed", Subject: e.Name, Reason: reason, Before: *signal,
			Sentence: fmt.Sprintf("The signal %s of %s was taken away.", name, e.Name),
		})
	})
}

// unused says whether nothing watches a signal.
func (s *Service) unused(ctx context.Context, t *act.Tx, e *coretraffic.Endpoint, signal *custom.Signal) error {
	used := func(by, remedy string) error {
		return fault.New(fault.Refused, "custom.used", "%s watches %s of %s", by, signal.Name, e.Name).In("signal").
			Do("%s", remedy)
	}
	names := func(guards []guard.Guard) bool {
		return slices.ContainsFunc(guards, func(g guard.Guard) bool { return g.Signal == signal.Full() })
	}
	if names(e.Terms.Guards) {
		return used("a guard", "take it out first with: innerladder endpoint edit "+e.Name+" -guard "+signal.Full()+
			"=off")
	}
	if slices.ContainsFunc(e.Watches.Watches, func(r watch.Rule) bool { return r.Signal == signal.Full() }) {
		return used("a watch", "take it away first with: innerladder watch remove "+e.Name+" "+signal.Full())
	}
	if e.Rollout == "" {
		return nil
	}
	moving, err := t.RolloutOf(ctx, e.Name)
	if err != nil {
		return err
	}
	if names(moving.Plan.Guards) || moving.Plan.Compare.Signal == signal.Full() {
		return used(e.Rollout, "wait until it is over, or end it first")
	}
	return nil
}
