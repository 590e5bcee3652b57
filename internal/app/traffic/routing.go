package traffic

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/record"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

// Reroute reads the routes of some endpoints, of all when none is named, and puts them in
// force. One that cannot be stops no other; it is tried again.
func (s *Service) Reroute(ctx context.Context, names ...string) error {
	s.routing.Lock()
	defer s.routing.Unlock()
	r := s.DB.Read(records.Everything)
	var endpoints []traffic.Endpoint
	if len(names) == 0 {
		all, err := r.Endpoints(ctx)
		if err != nil {
			s.unrouted[everyEndpoint] = true
			return fmt.Errorf("reading the routes: %w", err)
		}
		clear(s.unrouted)
		endpoints = all
		existing := make([]string, len(all))
		for i, e := range all {
			existing[i] = e.Name
		}
		s.router.Endpoints(existing)
	}
	for _, name := range names {
		e, err := r.Endpoint(ctx, name)
		switch {
		case errors.Is(err, records.ErrNone):
		case err != nil:
			s.unrouted[name] = true
			return fmt.Errorf("reading the route of %s: %w", name, err)
		default:
			endpoints = append(endpoints, *e)
		}
	}
	return jobs.Each(endpoints, func(e traffic.Endpoint) string { return e.Name }, func(e traffic.Endpoint) error {
		s.unrouted[e.Name] = true // until it is done
		route, err := s.readRoute(ctx, r, e)
		if err == nil {
			err = s.router.Route(route)
		}
		if err != nil {
			return err
		}
		s.remember(route)
		if told, err := s.fixBins(ctx, r, e); err != nil || !told {
			return err
		}
		delete(s.unrouted, e.Name)
		return nil
	})
}

// everyEndpoint stands for all of them among those whose routes are not in force.
const everyEndpoint = "*"

// RerouteOrRetry is Reroute for callers whose change is confirmed already: it is tried again when
// it fails.
func (s *Service) RerouteOrRetry(ctx context.Context, names ...string) {
	if err := s.Reroute(context.WithoutCancel(ctx), names...); err != nil {
		s.Log.Error("the gateway did not get the new routes; trying again", "error", err)
	}
}

// RerouteMissing puts the routes in force that could not be when that was tried last.
func (s *Service) RerouteMissing(ctx context.Context) error {
	s.routing.Lock()
	var names []string
	for name := range s.unrouted {
		names = append(names, name)
	}
	s.routing.Unlock()
	switch {
	case len(names) == 0:
		return nil
	case slices.Contains(names, everyEndpoint):
		names = nil
	}
	return s.Reroute(ctx, names...)
}

// readRoute reads all that the gateway must know of an endpoint.
func (s *Service) readRoute(ctx context.Context, r records.View, e traffic.Endpoint) (traffic.Route, error) {
	route := traffic.Route{Endpoint: e.Name, ID: e.ID, Keyed: e.Keyed, Repeatable: e.Repeatable, Requests: e.Requests}
	var err error
	if route.Headers, err = s.headersOf(ctx, r, e.Environment); err != nil {
		// The endpoint goes on without them rather than not at all.
		s.Log.Error("the headers of an environment cannot be opened", "environment", e.Environment, "error", err)
	}
	callers, err := r.Callers(ctx, e.Name)
	if err != nil {
		return route, fmt.Errorf("reading the route: %w", err)
	}
	route.Callers, route.Sticky = callers, e.Sticky
	if e.Split == nil {
		return route, nil
	}
	route.Split, route.Since = e.Split.Number, e.Split.MadeAt
	route.Elsewhere = e.Split.Elsewhere
	lanes := e.Split.Lanes
	route.Rules = e.Split.Rules
	if d, diverted := s.diverted[e.Name]; diverted && d.from == e.Split.Number {
		route.Split, route.Since, lanes = d.from+1, d.since.UTC(), d.lanes
		route.Rules = traffic.KeepRules(route.Rules, lanes)
	} else {
		delete(s.diverted, e.Name) // the record knows of it now
	}
	if len(lanes) == 0 {
		return route, nil
	}
	if route.Takes, err = s.takes(ctx, r, e); err != nil {
		return route, fmt.Errorf("reading the route: %w", err)
	}
	if route.Watched, err = s.PairsOf(ctx, r, e); err != nil {
		return route, fmt.Errorf("reading the route: %w", err)
	}
	for _, l := range lanes {
		rl, err := s.readLane(ctx, r, e, l)
		if err != nil {
			return route, fmt.Errorf("reading the route: %w", err)
		}
		route.Lanes = append(route.Lanes, rl)
	}
	return route, nil
}

// takes is what requests to an endpoint are held against, nil where they are not: the inputs of the contract in force.
func (s *Service) takes(ctx context.Context, r records.View, e traffic.Endpoint) (*signature.Signature, error) {
	if !e.Checked || e.Split.Contract == 0 {
		return nil, nil
	}
	contracts, err := r.Contracts(ctx, e.Name)
	for i := range contracts {
		if contracts[i].Number == e.Split.Contract {
			return &contracts[i].Signature, err
		}
	}
	return nil, err
}

// readLane reads what the gateway must know of one lane.
func (s *Service) readLane(ctx context.Context, r records.View, e traffic.Endpoint, l traffic.Lane,
) (traffic.RouteLane, error) {
	rl := traffic.RouteLane{Lane: l}
	labels, err := r.Labels(ctx, e.Model)
	if err != nil {
		return rl, err
	}
	for _, label := range labels {
		if label.Version == l.Version {
			rl.Labels = append(rl.Labels, label.Name)
		}
	}
	p, err := r.PlacementOf(ctx, l.Version, e.Environment)
	if errors.Is(err, records.ErrNone) {
		return rl, nil // a lane without a place answers nothing, the others go on
	}
	if err != nil {
		return rl, err
	}
	rl.Model = p.ServedAs
	for _, a := range p.Addresses {
		rl.Addresses = append(rl.Addresses, traffic.RouteAddress{URL: a.URL, Healthy: a.Healthy})
	}
	return rl, nil
}

// fixBins chooses the bins of an endpoint's columns from the reference profile of its
// main version, if it has one and they are not chosen yet. told is false when the recorder
// does not know yet which are.
func (s *Service) fixBins(ctx context.Context, r records.View, e traffic.Endpoint) (told bool, err error) {
	if e.Split == nil {
		return true, nil
	}
	main := e.Split.Main().Version
	v, err := s.registry.Resolve(ctx, r, "version", main)
	if err != nil {
		return true, err
	}
	p, err := r.Profile(ctx, v.Model, v.Number)
	if err != nil || p == nil || v.Signature == nil {
		return true, err
	}
	told = true
	for side, columns := range map[string][]signature.Column{
		signals.Input:  v.Signature.Inputs,
		signals.Output: v.Signature.Outputs,
	} {
		for _, c := range columns {
			if ref := p.Columns[c.Name]; ref != nil {
				told = s.recorder.FixBins(
					signals.Column{Endpoint: e.Name, Side: side, Name: c.Name},
					ref.Bins,
					"the reference profile of "+main,
				) &&
					told
			}
		}
	}
	return told, nil
}

// follow puts routes in force after a change that they depend on.
func (s *Service) follow(ctx context.Context, entries []record.Entry) {
	var names []string
	for _, e := range entries {
		class, _, _ := strings.Cut(e.Kind, ".")
		switch {
		// Callers may ask for lanes by label; headers are of environments; addresses of whoever answers.
		case class == "label", class == "secret", e.Kind == "placement.changed", e.Kind == "endpoint.removed":
			s.RerouteOrRetry(ctx)
			return
		case class == "endpoint", class == "split", class == "caller", class == "rollout":
			if !slices.Contains(names, e.Subject) {
				names = append(names, e.Subject)
			}
		}
	}
	if len(names) > 0 {
		s.RerouteOrRetry(ctx, names...)
	}
}
