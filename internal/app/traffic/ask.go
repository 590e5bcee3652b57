package traffic

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
)

// Asked is what a version answered to a request that somebody wanted it to be asked.
type Asked struct {
	Version string
	// Status is 0 when there was no answer; Trouble says why.
	Status  int
	Answer  json.RawMessage
	Trouble string
}

// Ask sends a request to a version where it is placed in an environment. No lane counts it, and model servers are told
// that it is a copy: nobody acts on the answer.
func (s *Service) Ask(ctx context.Context, by act.Actor, ref, environment string, request []byte) (Asked, error) {
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return Asked{}, err
	}
	if err := by.Need(access.Inspect, v.Project); err != nil {
		return Asked{}, err
	}
	out := Asked{Version: v.Ref}
	p, err := placed(ctx, s.DB.Read(records.Everything), v.Ref, environment)
	if err != nil {
		return out, err
	}
	if err := p.CheckReached("version"); err != nil {
		return out, err
	}
	i := slices.IndexFunc(p.Addresses, func(a traffic.Address) bool { return a.Healthy })
	if i < 0 {
		return out, fault.New(fault.Refused, "placement.unhealthy", "no address of %s in %s is healthy", v.Ref,
			environment).In("version").Do("see why with: innerladder placements %s", v.Ref)
	}
	servers, err := s.serversIn(ctx, environment, p.Addresses[i].URL)
	if err != nil {
		return out, err
	}
	servers = servers.Patient(answersWithin).With(traffic.Header{Name: traffic.CopyHeader, Value: "true"})
	status, _, body, err := servers.Ask(ctx, p.Addresses[i].URL, p.ServedAs, request)
	switch {
	case errors.Is(err, context.Canceled):
		return out, err
	case err != nil:
		out.Trouble = err.Error()
	default:
		out.Status, out.Answer = status, body
	}
	return out, nil
}
