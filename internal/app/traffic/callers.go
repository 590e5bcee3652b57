package traffic

import (
	"context"
	"fmt"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/traffic"
	"innerladder/internal/credential"
	"innerladder/internal/wire"
)

// AddCaller gives a program a key to an endpoint, which from then on answers nobody
// without one.
func (s *Service) AddCaller(ctx context.Context, by act.Actor, endpoint, name string) (wire.MadeCaller, error) {
	if err := naming.Check("name", name); err != nil {
		return wire.MadeCaller{}, err
	}
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Route, func(t *act.Tx) (wire.MadeCaller, error) {
		e, err := s.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return wire.MadeCaller{}, err
		}
		there, err := t.Callers(ctx, endpoint)
		if err != nil {
			return wire.MadeCaller{}, err
		}
		if slices.ContainsFunc(there, func(c traffic.Caller) bool { return c.Name == name }) {
			return wire.MadeCaller{}, fault.New(fault.Refused, "caller.exists", "%s has a key to %s already", name,
				endpoint).In("name").Do("take it away first, or choose another name and let both hold while the " +
				"program changes over")
		}
		key, digest := credential.Token("ilc_")
		out := wire.MadeCaller{Caller: traffic.Caller{
			Name: name, Hint: credential.Hint(key), MadeBy: t.By.Name, MadeAt: t.Now,
			Digest: digest,
		}, Key: key}
		if err := t.View.AddCaller(ctx, endpoint, out.Caller); err != nil {
			return out, err
		}
		sentence := fmt.Sprintf("%s was given a key to %s.", name, endpoint)
		if !e.Keyed {
			sentence += " From now on callers need one."
			if err := t.SetKeyed(ctx, endpoint, true); err != nil {
				return out, err
			}
		}
		return out, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "caller.added", Subject: endpoint, Sentence: sentence,
			After: out.Caller,
		})
	})
}

// Callers lists who has a key to an endpoint.
func (s *Service) Callers(ctx context.Context, by act.Actor, endpoint string) (wire.Listed[traffic.Caller], error) {
	e, err := s.Endpoint(ctx, by, endpoint)
	if err != nil {
		return wire.Listed[traffic.Caller]{}, err
	}
	err = by.May(access.Route)
	if err == nil {
		err = by.Need(access.Route, e.Project)
	}
	if err != nil {
		return wire.Listed[traffic.Caller]{}, err
	}
	items, err := s.Read(by).Callers(ctx, endpoint)
	return wire.Listed[traffic.Caller]{Items: items}, err
}

// EndCaller takes a caller's key away. The endpoint goes on to need one.
func (s *Service) EndCaller(ctx context.Context, by act.Actor, endpoint, name, reason string) (struct{}, error) {
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (struct{}, error) {
		e, err := s.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return struct{}{}, err
		}
		there, err := t.View.EndCaller(ctx, endpoint, name, t.Now)
		if err != nil {
			return struct{}{}, err
		}
		if !there {
			return struct{}{}, fault.New(fault.Unknown, "caller.unknown", "%s has no key to %s", name, endpoint).
				In("caller").Do("see who has with: innerladder callers %s", endpoint)
		}
		return struct{}{}, t.Note(ctx,
			act.Entry{
				Project: e.Project, Kind: "caller.removed", Subject: endpoint,
				Sentence: fmt.Sprintf("The key of %s to %s was taken away.", name, endpoint), Reason: reason,
			})
	})
}

// SetKeyed says whether an endpoint answers only callers that have a key.
func (s *Service) SetKeyed(ctx context.Context, by act.Actor, endpoint string, keyed bool,
	reason string,
) (*traffic.Endpoint, error) {
	if err := naming.CheckReason(reason, "say why callers need a key, or none any more"); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Endpoint, error) {
		e, err := s.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return nil, err
		}
		if e.Keyed == keyed {
			return e, nil
		}
		if err := t.View.SetKeyed(ctx, endpoint, keyed); err != nil {
			return nil, err
		}
		before := map[string]bool{"keyed": e.Keyed}
		e.Keyed = keyed
		sentence := endpoint + " answers anyone who can reach the gateway."
		if keyed {
			sentence = endpoint + " answers only callers that have a key."
		}
		return e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "endpoint.keyed", Subject: endpoint, Sentence: sentence,
			Reason: reason, Before: before, After: map[string]bool{"keyed": keyed},
		})
	})
}
