package traffic

import (
	"context"
	"fmt"
	"slices"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
)

// diversion is a way back that is in force at the gateway before it is in the record: traffic first.
type diversion struct {
	// from is the split that it leaves; a later one in the record ends it.
	from  int
	lanes []traffic.Lane
	since time.Time
}

// mostKnownLanes is how many versions of an endpoint are remembered with their places.
const mostKnownLanes = 16

// Divert puts the lanes of a way back in force at the gateway at once, before anything is written, from what
// was read when the last route was put in force. The record follows: when its split is made, or with Undivert when
// it is refused, the records say again what is in force.
func (s *Service) Divert(ctx context.Context, e *traffic.Endpoint, lanes []traffic.Lane) error {
	s.routing.Lock()
	defer s.routing.Unlock()
	last, known := s.routed[e.Name]
	if !known || e.Split == nil {
		return fmt.Errorf("no route of %s is known yet", e.Name)
	}
	if d, diverted := s.diverted[e.Name]; diverted && d.from == e.Split.Number && slices.Equal(d.lanes, lanes) {
		return nil
	}
	d := diversion{e.Split.Number, slices.Clone(lanes), s.Clock()}
	route := last.Route
	route.Split, route.Since, route.Watched, route.Lanes = d.from+1, d.since.UTC(), nil, nil
	route.Rules = traffic.KeepRules(route.Rules, lanes)
	for _, l := range lanes {
		rl, known := last.places[l.Version]
		if !known {
			var err error
			if rl, err = s.readLane(ctx, s.DB.Read(records.Everything), *e, l); err != nil {
				return err
			}
		}
		rl.Lane = l
		route.Lanes = append(route.Lanes, rl)
	}
	if err := s.router.Route(route); err != nil {
		return err
	}
	s.diverted[e.Name] = d
	return nil
}

// Undivert has the records say again what is in force at an endpoint: the way back was refused.
func (s *Service) Undivert(ctx context.Context, endpoint string) {
	s.routing.Lock()
	_, diverted := s.diverted[endpoint]
	delete(s.diverted, endpoint)
	s.routing.Unlock()
	if diverted {
		s.RerouteOrRetry(ctx, endpoint)
	}
}

// Diverted says since when an endpoint is answered by other lanes than the record says, and by which; nothing
// where the record is right.
func (s *Service) Diverted(endpoint string) (lanes []traffic.Lane, since time.Time) {
	s.routing.Lock()
	defer s.routing.Unlock()
	d := s.diverted[endpoint]
	return d.lanes, d.since
}

// route is one that was put in force, with the places of all versions that were in it lately.
type route struct {
	traffic.Route
	places map[string]traffic.RouteLane
}

// remember keeps a route that was put in force. The routing is locked.
func (s *Service) remember(r traffic.Route) {
	places := map[string]traffic.RouteLane{}
	if before := s.routed[r.Endpoint]; len(before.places) < mostKnownLanes {
		places = before.places
		if places == nil {
			places = map[string]traffic.RouteLane{}
		}
	}
	for _, l := range r.Lanes {
		places[l.Version] = l
	}
	s.routed[r.Endpoint] = route{r, places}
}

// late says of a split that it was in force before it could be recorded; empty when it was not.
func (s *Service) late(endpoint string, now time.Time) string {
	_, since := s.Diverted(endpoint)
	if since.IsZero() || now.Sub(since) < time.Second {
		return ""
	}
	return fmt.Sprintf(" It has been in force at the gateway since %s; the record could not be written before.",
		since.UTC().Format("15:04:05.000"))
}
