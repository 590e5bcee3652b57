package observe

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/intake"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// watchesOf is all about the watching of an endpoint.
func (s *Service) watchesOf(ctx context.Context, r records.View, e *traffic.Endpoint) (wire.Watches, error) {
	mutes, err := r.Mutes(ctx, e.Name, s.Now())
	sentences := map[string]string{}
	for _, rule := range e.Watches.Watches {
		sentences[rule.Name()] = rule.String()
	}
	return wire.Watches{
		Endpoint: e.Name, Every: watch.Every.String(), Set: e.Watches, Text: intake.WatchesText(e.Watches),
		Items: append([]watch.Stand{}, s.shownOf(e.Name).List()...), Mutes: append([]watch.Mute{}, mutes...),
		Sentences: sentences, Subjects: e.Watches.Subjects(), Watchable: watch.Watchables(),
	}, err
}

// SetWatches has an endpoint watched as a YAML text says. based is the revision that it was decided on, -1 for any.
func (s *Service) SetWatches(ctx context.Context, by act.Actor, endpoint, text, reason string, based int,
) (wire.Watches, error) {
	set, err := intake.Watches([]byte(text))
	if err != nil {
		return wire.Watches{}, err
	}
	return s.changeWatches(ctx, by, endpoint, reason, func(now watch.Set) (watch.Set, error) {
		if based >= 0 && now.Revision != based {
			return now, fault.New(fault.Stale, "watches.stale", "the watches of %s are at revision %d", endpoint,
				now.Revision).In("If-Match").Do("look at them again, and decide anew")
		}
		return set, nil
	})
}

// SetWatch makes one rule, in place of that of the same name.
func (s *Service) SetWatch(ctx context.Context, by act.Actor, endpoint string, r watch.Rule, reason string,
) (wire.Watches, error) {
	if err := r.CheckAlone(); err != nil {
		return wire.Watches{}, err
	}
	return s.changeWatches(ctx, by, endpoint, reason, func(now watch.Set) (watch.Set, error) {
		return now.With(r), nil
	})
}

// RemoveWatch takes one rule away: its signal is watched as usual again.
func (s *Service) RemoveWatch(ctx context.Context, by act.Actor, endpoint, name, reason string) (wire.Watches, error) {
	return s.changeWatches(ctx, by, endpoint, reason, func(now watch.Set) (watch.Set, error) {
		next := now.Without(name)
		if len(next.Watches) == len(now.Watches) {
			return now, fault.New(fault.Unknown, "watch.unknown", "no watch %q was set for %s", name, endpoint).
				In("watch").Do("see them with: innerladder watch show %s", endpoint)
		}
		return next, nil
	})
}

// changeWatches makes the next revision of what people say about the watching of an endpoint.
func (s *Service) changeWatches(ctx context.Context, by act.Actor, endpoint, reason string,
	change func(watch.Set) (watch.Set, error),
) (wire.Watches, error) {
	return s.changeOf(ctx, by, access.Route, endpoint, func(t *act.Tx, e *traffic.Endpoint) (act.Entry, error) {
		before := e.Watches
		next, err := change(before)
		if err != nil {
			return act.Entry{}, err
		}
		if err := sidesOf(e, &next); err != nil {
			return act.Entry{}, err
		}
		next.Revision = before.Revision
		if intake.WatchesText(next) == intake.WatchesText(before) {
			return act.Entry{}, fault.New(fault.Refused, "watches.same", "%s is watched so already", endpoint).
				In("text").Do("nothing needs doing")
		}
		if err := next.Check(); err != nil {
			return act.Entry{}, err
		}
		next.Revision++
		e.Watches = next
		return act.Entry{
			Kind: "watches.set", Reason: reason, Before: before, After: next,
			Sentence: fmt.Sprintf("The watches of %s were changed to revision %d.", e.Name, next.Revision),
		}, t.SetWatches(ctx, e.Name, next)
	})
}

// sidesOf says of rules about custom signals which side is wrong: as they say, or else as the signal is declared.
func sidesOf(e *traffic.Endpoint, set *watch.Set) error {
	for i := range set.Watches {
		r := &set.Watches[i]
		if err := e.CheckSignal(fmt.Sprintf("watches[%d].signal", i), r.Signal); err != nil {
			return err
		}
		name, is := strings.CutPrefix(r.Signal, watch.Custom+".")
		if is && r.Beyond == "" && !r.Off {
			r.Beyond = watch.Above
			if e.CustomOf(name).Better == metric.Higher {
				r.Beyond = watch.Below
			}
		}
	}
	return nil
}

// changeOf changes something about the watching of an endpoint, and says how it stands then.
func (s *Service) changeOf(ctx context.Context, by act.Actor, need access.Permission, endpoint string,
	change func(*act.Tx, *traffic.Endpoint) (act.Entry, error),
) (wire.Watches, error) {
	return act.Change(ctx, s.Base, by, need, func(t *act.Tx) (wire.Watches, error) {
		e, err := s.traffic.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return wire.Watches{}, err
		}
		entry, err := change(t, e)
		if err != nil {
			return wire.Watches{}, err
		}
		entry.Project, entry.Subject = e.Project, e.Name
		if err := t.Note(ctx, entry); err != nil {
			return wire.Watches{}, err
		}
		return s.watchesOf(ctx, t.View, e)
	})
}

// Mute keeps alerts of watches about a subject from being raised for a time.
func (s *Service) Mute(ctx context.Context, by act.Actor, endpoint, subject, reason string, length time.Duration,
) (wire.Watches, error) {
	return s.changeOf(ctx, by, access.Handle, endpoint, func(t *act.Tx, e *traffic.Endpoint) (act.Entry, error) {
		m, err := watch.NewMute(&e.Watches, subject, t.By.Name, reason, length, t.Now)
		if err != nil {
			return act.Entry{}, err
		}
		return act.Entry{
			Kind: "watches.muted", Reason: reason, After: m,
			Sentence: fmt.Sprintf("Alerts about %s of %s are muted until %s.", subject, e.Name,
				m.Until.UTC().Format(time.RFC3339)),
		}, t.PutMute(ctx, e.Name, m)
	})
}

// Unmute has alerts raised again.
func (s *Service) Unmute(ctx context.Context, by act.Actor, endpoint, subject, reason string) (wire.Watches, error) {
	return s.changeOf(ctx, by, access.Handle, endpoint, func(t *act.Tx, e *traffic.Endpoint) (act.Entry, error) {
		mutes, err := t.Mutes(ctx, e.Name, t.Now)
		if err != nil {
			return act.Entry{}, err
		}
		i := slices.IndexFunc(mutes, func(m watch.Mute) bool { return m.Subject == subject })
		if i < 0 {
			return act.Entry{}, fault.New(fault.Refused, "mute.none", "alerts about %q of %s are not muted", subject,
				e.Name).In("subject").Do("nothing needs doing")
		}
		return act.Entry{
			Kind: "watches.unmuted", Reason: reason, Before: mutes[i],
			Sentence: fmt.Sprintf("Alerts about %s of %s are raised again.", subject, e.Name),
		}, t.EndMute(ctx, e.Name, subject)
	})
}

// Watches lists where the watches of an endpoint stand, the worst first.
func (s *Service) Watches(ctx context.Context, by act.Actor, name string) (wire.Watches, error) {
	e, err := s.traffic.Endpoint(ctx, by, name)
	if err != nil {
		return wire.Watches{}, err
	}
	return s.watchesOf(ctx, s.Read(by), e)
}

// stateOf says in a word how an endpoint is, from what is known of its lanes.
func (s *Service) stateOf(endpoint string, n *wire.EndpointNow, now time.Time) watch.EndpointState {
	k := watch.Known{}
	for _, l := range n.Lanes {
		if l.Kind.Answers() {
			k.Healthy = k.Healthy || l.Healthy
			k.Trial = k.Trial || l.Kind == traffic.Trial
		}
	}
	k.Called = now.Sub(s.recorder.LastCalled(endpoint)) < noTraffic ||
		s.recorder.RefusedLately(endpoint, now.Add(-noTraffic), now).Total() > 0
	return s.shownOf(endpoint).State(k)
}

// shownOf is where the watches of an endpoint stood after the last look.
func (s *Service) shownOf(endpoint string) *watch.Watched {
	s.watchesMu.Lock()
	defer s.watchesMu.Unlock()
	if w := s.watches[endpoint]; w != nil {
		if shown := w.shown.Load(); shown != nil {
			return shown
		}
	}
	return &watch.Watched{}
}
