package traffic

import (
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/records"
)

// answersWithin is how long a server may take for a sample request: the first may load the model.
const answersWithin = 20 * time.Second

// cleanAddress reads the address of a model server: http or https, a host, perhaps a
// path, nothing else.
func cleanAddress(raw string) (string, error) {
	u, err := url.Parse(raw)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" || u.User != nil || u.RawQuery != "" ||
		u.Fragment != "" {
		return "", fault.New(fault.Invalid, "placement.address", "%q is not the address of a model server", raw).
			In("addresses").
			Do("give http://HOST:PORT or https://HOST:PORT, without user, query or fragment")
	}
	if a, err := netip.ParseAddr(u.Hostname()); err == nil && !traffic.MayServe(a) {
		return "", fault.New(fault.Refused, "placement.not_allowed", "no model server may be at %s", u.Hostname()).
			In("addresses").Do("give an address of the network; link-local ones, where machines are told their " +
			"credentials, are not asked")
	}
	return strings.TrimRight(u.String(), "/"), nil
}

// found is what an address of a placement showed.
type found struct {
	declared signature.Served
	heard    *answers.Case // nil when no sample could be sent
}

// inspect makes sure that a version runs at an address: it is ready, declares what the signature
// says, answers the sample request as promised, and its known answers.
func (s *Service) inspect(ctx context.Context, v *registry.Version, environment, address,
	servedAs string,
) (found, error) {
	var out found
	refuse := func(code, why, remedy string) (found, error) {
		return out, fault.New(fault.Refused, code, "%s at %s: %s", servedAs, address, why).In("addresses").
			Do("%s", remedy)
	}
	servers, err := s.serversIn(ctx, environment, address)
	if err != nil {
		return out, err
	}
	if err := servers.Ready(ctx, address, servedAs); err != nil {
		return refuse("placement.not_ready", oip.Outline(err),
			"start the model server, see that it speaks the Open Inference Protocol and is ready, and name the model "+
				"with -as if it is called otherwise there")
	}
	m, err := servers.Metadata(ctx, address, servedAs)
	if err != nil {
		return refuse("placement.no_metadata", oip.Outline(err),
			"see that the server describes its models as the Open Inference Protocol says")
	}
	out.declared = m.Served
	if v.Signature != nil {
		if reasons := v.Signature.Fits(m.Served); len(reasons) > 0 {
			return refuse("placement.signature", strings.Join(reasons, "; "),
				"place the version that this server serves, or serve "+v.Ref+" there")
		}
	}
	at := asked{servers.Patient(answersWithin), address, servedAs, v.Signature.Exactly(m.Served)}
	// A sample that the protocol cannot carry, or that is too large, is not sent.
	if sample := at.exact.SampleAfter(v.SampleRequest); sample != nil && !at.exact.Halves() {
		tensors, why := at.ask(ctx, sample)
		if why != "" {
			return refuse("placement.sample", "the sample request "+why,
				"see what the server logs about it; where the values of the sample are at fault, register the "+
					"version with -sample and rows that it can answer")
		}
		out.heard = heard(sample, tensors)
	}
	if told, wrong := at.proves(ctx, v.KnownAnswers); wrong {
		return refuse("placement.answers", told, "serve "+v.Ref+" there: what runs is not what was registered")
	} else if told != "" {
		return refuse("placement.answers", told, "see what the server logs about it")
	}
	return out, nil
}

// ProvesEverywhere asks a version for its known answers at each of its healthy addresses in an environment, and
// says where it answers otherwise; empty when it does not, or has none.
func (s *Service) ProvesEverywhere(ctx context.Context, ref, environment string) string {
	p, err := s.DB.Read(records.Everything).PlacementOf(ctx, ref, environment)
	if err != nil {
		return ref + " is not placed in " + environment
	}
	for _, a := range p.Addresses {
		if !a.Healthy {
			continue
		}
		if told, _ := s.Proves(ctx, *p, a.URL); told != "" {
			return fmt.Sprintf("%s does not give its known answers at %s: %s", ref, a.URL, told)
		}
	}
	return ""
}

// Warm sends a version sample requests where it is placed, to each of its healthy addresses in turn, until
// so many were answered as its signature says or one was not. It says how many were, and what went wrong.
func (s *Service) Warm(ctx context.Context, ref, environment string, requests int) (answered int, why string) {
	r := s.DB.Read(records.Everything)
	v, err := s.registry.Resolve(ctx, r, "version", ref)
	if err != nil {
		return 0, err.Error()
	}
	p, err := r.PlacementOf(ctx, v.Ref, environment)
	if err != nil {
		return 0, v.Ref + " is not placed in " + environment
	}
	if p.Elsewhere {
		return 0, v.Ref + " answers elsewhere in " + environment
	}
	exact := p.Exactly(v.Signature)
	if exact == nil || exact.Halves() {
		return requests, "" // it cannot be asked anything: there is no sample that the protocol carries
	}
	sample := exact.SampleAfter(v.SampleRequest)
	if sample == nil {
		return requests, ""
	}
	for i := 0; answered < requests; i++ {
		a := p.Addresses[i%len(p.Addresses)]
		if !a.Healthy {
			if !p.Healthy {
				return answered, p.Reason()
			}
			continue
		}
		servers, err := s.serversIn(ctx, environment, a.URL)
		if err != nil {
			return answered, err.Error()
		}
		at := asked{servers.Patient(answersWithin), a.URL, p.ServedAs, exact}
		if _, why := at.ask(ctx, sample); why != "" {
			return answered, "the sample request " + why
		}
		answered++
	}
	return answered, ""
}
