package observe

import (
	"context"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/health"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
)

// unhealthyAfter is how many checks in a row must fail.
const unhealthyAfter = 2

// address is one address of one placement.
type address struct {
	placement int64
	url       string
}

// CheckHealth begins to ask every address of every placement whether it is ready, and does
// not wait for answers: a model server that hangs delays nobody's health but its own.
func (s *Service) CheckHealth(ctx context.Context) error {
	by := act.BySelf()
	placements, err := s.traffic.Placements(ctx, by, "")
	if err != nil {
		return err
	}
	s.forgetHealth(placements.Items)
	for _, p := range placements.Items {
		for _, a := range p.Addresses {
			s.checking.Start(p.Version+" in "+p.Environment+" at "+a.URL, func() {
				if err := s.checkAddress(ctx, p, a); err != nil && ctx.Err() == nil {
					s.Log.Error(
						"a change of health was not recorded",
						"version",
						p.Version,
						"address",
						a.URL,
						"error",
						err,
					)
				}
			})
		}
	}
	return nil
}

// Settle waits for checks that go on.
func (s *Service) Settle() { s.checking.Wait() }

// checkAddress asks one address, and records when it fell or recovered.
func (s *Service) checkAddress(ctx context.Context, p traffic.Placement, a traffic.Address) error {
	key := address{p.ID, a.URL}
	s.healthMu.Lock()
	state, known := s.health[key]
	s.healthMu.Unlock()
	if !known {
		state = health.State{Healthy: a.Healthy}
	}
	var found health.Found
	if err := s.traffic.Check(ctx, p, a.URL); err != nil {
		found.Reason = err.Error()
	} else if !known || state.Away() || !a.Healthy || s.router.Down(a.URL, p.ServedAs) {
		// It was away, and may be another model now.
		found.Reason, found.Wrong = s.traffic.Proves(ctx, p, a.URL)
	}
	if ctx.Err() != nil {
		return nil // we are stopping; that says nothing about the server
	}
	wasWrong := state.Wrong
	state, turn := health.Rule{After: unhealthyAfter}.Step(state, found, time.Now())
	s.healthMu.Lock()
	s.health[key] = state
	s.healthMu.Unlock()
	reason := found.Reason
	if reason == "" {
		s.router.MarkUp(a.URL, p.ServedAs)
	}
	// What is recorded counts, not what was turned: a change that was not recorded the
	// last time is recorded now.
	switch {
	case turn == health.Fell, !state.Healthy && a.Healthy, found.Wrong && !wasWrong:
		s.Log.Warn("a placement fell", "version", p.Version, "environment", p.Environment, "address", a.URL,
			"reason", reason)
		return s.SetHealth(ctx, p, a.URL, state.Reason, state.Sentence(p.Version, p.Environment))
	case turn == health.Recovered, state.Healthy && !a.Healthy:
		s.Log.Info("a placement recovered", "version", p.Version, "environment", p.Environment, "address", a.URL)
		return s.SetHealth(ctx, p, a.URL, "", "")
	}
	return nil
}

// forgetHealth drops what is known of placements that are gone.
func (s *Service) forgetHealth(placements []traffic.Placement) {
	there := map[int64]bool{}
	for _, p := range placements {
		there[p.ID] = true
	}
	s.healthMu.Lock()
	defer s.healthMu.Unlock()
	for key := range s.health {
		if !there[key.placement] {
			delete(s.health, key)
		}
	}
}

// SetHealth records that an address of a placement fell (with the reason) or recovered
// (without). An alert is raised when an endpoint's version has no healthy address left,
// and resolved when it has one again.
func (s *Service) SetHealth(ctx context.Context, p traffic.Placement, address, reason, sentence string) error {
	var using []string
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Place, func(t *act.Tx) (struct{}, error) {
		none := struct{}{}
		if err := t.SetAddressHealth(ctx, p.ID, address, reason, t.Now); err != nil {
			return none, err
		}
		after, err := t.PlacementOf(ctx, p.Version, p.Environment)
		if errors.Is(err, records.ErrNone) {
			return none, nil // taken away meanwhile
		}
		if err != nil {
			return none, err
		}
		kind, said := "placement.recovered",
			fmt.Sprintf("%s in %s answers again at %s.", p.Version, p.Environment, address)
		if reason != "" {
			kind, said = "placement.fell", sentence
		}
		if err := t.Note(ctx, act.Entry{
			Project: p.Project, Kind: kind, Subject: p.Version, Sentence: said,
			Reason: reason,
		}); err != nil {
			return none, err
		}
		if using, err = t.EndpointsUsing(ctx, p.Version, p.Environment); err != nil {
			return none, err
		}
		if after.Healthy {
			return none, s.resolveAlerts(ctx, t, watch.PlacementUnhealthy, p.Version, "It is healthy again.")
		}
		for _, endpoint := range using {
			if err := s.Raise(ctx, t, &watch.Alert{
				Kind: watch.PlacementUnhealthy, Project: p.Project,
				Endpoint: endpoint, Subject: p.Version, Signal: "placement_health", Sentence: sentence,
			}); err != nil {
				return none, err
			}
		}
		return none, nil
	})
	if err != nil {
		return err
	}
	if len(using) > 0 {
		s.traffic.RerouteOrRetry(ctx, using...)
	}
	return nil
}
