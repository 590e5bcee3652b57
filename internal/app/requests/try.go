package requests

import (
	"context"
	"encoding/json"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// mostTried is how many versions are asked at once.
const mostTried = 10

// ask asks one version, and takes the time.
func (s *Service) ask(ctx context.Context, by act.Actor, ref, environment string, request []byte,
) (wire.TriedVersion, error) {
	begun := time.Now()
	asked, err := s.traffic.Ask(ctx, by, ref, environment, request)
	out := wire.TriedVersion{
		Version: asked.Version, Status: asked.Status, Trouble: asked.Trouble, Differences: []string{},
		TookMS: float64(time.Since(begun).Microseconds()) / 1000,
	}
	if json.Valid(asked.Answer) {
		out.Answer = asked.Answer
	}
	return out, err
}

// Try asks versions of one model the same thing where they are placed: a request that is given, or the sample of the
// first one's signature, with other values for some inputs. No lane counts it, and nobody acts on what they answer. The
// answers are held against that of the first.
func (s *Service) Try(ctx context.Context, by act.Actor, in wire.TryVersions) (wire.TriedVersions, error) {
	out := wire.TriedVersions{Environment: in.Environment, Items: []wire.TriedVersion{}}
	versions, err := s.toAsk(ctx, by, in.Versions)
	if err != nil {
		return out, err
	}
	if out.Request, err = s.toTry(ctx, versions[0], in); err != nil {
		return out, err
	}
	for _, v := range versions {
		one, err := s.ask(ctx, by, v.Ref, in.Environment, out.Request)
		if err != nil {
			return out, err
		}
		if len(out.Items) > 0 {
			one.Differences, one.Compared = between(out.Items[0].Answer, one.Answer, answers.Difference.Beside)
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// toTry is the request that versions are asked.
func (s *Service) toTry(ctx context.Context, v *registry.Version, in wire.TryVersions) (json.RawMessage, error) {
	if len(in.Request) > 0 && len(in.Inputs) == 0 {
		return in.Request, nil
	}
	if v.Signature == nil {
		return nil, fault.New(fault.Refused, "try.no_signature", "%s has no signature, so there is no sample of it",
			v.Ref).In("request").Do("give the request yourself")
	}
	exact := v.Signature
	if p, err := s.DB.Read(records.Everything).PlacementOf(ctx, v.Ref, in.Environment); err == nil {
		exact = p.Exactly(exact)
	}
	request := in.Request
	if len(request) == 0 {
		if request = exact.SampleAfter(v.SampleRequest); request == nil {
			return nil, fault.New(fault.Refused, "try.no_sample", "the protocol cannot carry what %s takes in JSON",
				v.Ref).In("request").Do("give the request yourself")
		}
	}
	return exact.Override(request, in.Inputs)
}
