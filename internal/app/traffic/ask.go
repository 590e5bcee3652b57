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

// Ask sends a request to a version where those of an endpoint run. No lane counts it, and model servers are told
// that it is a copy: nobody acts on the answer.
func (s *Service) Ask(
	ctx context.Context,
	by act.Actor,
	e *traffic.Endpoint,
	ref string,
	request []byte,
) (Asked, error) {
	if err := by.Need(access.Inspect, e.Project); err != nil {
		return Asked{}, err
	}
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return Asked{}, err
	}
	out := Asked{Version: v.Ref}
	if v.Model != e.Model {
		return out, fault.New(fault.Invalid, "request.version", "%s answers with versions of %s, and %s is none",
			e.Name, e.Model, v.Ref).
			In("version").
			Do("name a version of %s", e.Model)
	}
	p, err := placed(ctx, s.DB.Read(records.Everything), v.Ref, e.Environment)
	if err != nil {
		return out, err
	}
	if err := p.CheckReached("version"); err != nil {
		return out, err
	}
	i := slices.IndexFunc(p.Addresses, func(a traffic.Address) bool { return a.Healthy })
	if i < 0 {
		return out, fault.New(fault.Refused, "placement.unhealthy", "no address of %s in %s is healthy", v.Ref,
			e.Environment).In("version").Do("see why with: innerladder placements %s", v.Ref)
	}
	servers, err := s.serversIn(ctx, e.Environment, p.Addresses[i].URL)
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
