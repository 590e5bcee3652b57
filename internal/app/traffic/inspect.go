package traffic

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
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
	servers, err := s.serversIn(ctx, environment)
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
		out.heard = &answers.Case{Request: sample, Outputs: oip.Values(tensors)}
	}
	if told, wrong := at.proves(ctx, v.KnownAnswers); wrong || told != "" {
		return refuse("placement.answers", told, "serve "+v.Ref+" there: what runs is not what was registered")
	}
	return out, nil
}

// asked is a model at an address, and what it takes and gives.
type asked struct {
	servers           *oip.Client
	address, servedAs string
	exact             *signature.Signature
}

// ask sends a request and says what is wrong with the answer, "" when it is as the signature
// promises. What the server says of an error is not told: whoever places may not be meant to
// read what runs there.
func (a asked) ask(ctx context.Context, request []byte) (outputs []oip.Tensor, why string) {
	status, _, body, err := a.servers.Ask(ctx, a.address, a.servedAs, request)
	if err != nil {
		return nil, "was not answered: " + err.Error()
	}
	if status != http.StatusOK {
		return nil, fmt.Sprintf("was answered with status %d", status)
	}
	outputs, err = oip.AnyTensors(body, "outputs")
	if err != nil {
		return nil, "was not answered in the Open Inference Protocol"
	}
	got := make([]signature.Tensor, len(outputs))
	for i, t := range outputs {
		got[i] = signature.Tensor{Name: t.Name, Datatype: t.Datatype, Shape: t.Shape}
	}
	return outputs, strings.Join(a.exact.Answered(got), "; ")
}

// proves sends the known answers of a version and says where what comes back is otherwise, "" when
// nothing is. wrong is set when answers came and were not those: another model runs there.
func (a asked) proves(ctx context.Context, known *answers.Known) (told string, wrong bool) {
	if known == nil {
		return "", false
	}
	differences := map[int][]string{}
	for i, c := range known.Cases {
		request := c.Of(a.exact)
		if request == nil {
			continue // the protocol cannot carry it
		}
		outputs, why := a.ask(ctx, request)
		if why != "" {
			return fmt.Sprintf("the request of known answer %d %s", i+1, why), false
		}
		if d := known.Differences(c, oip.Values(outputs)); len(d) > 0 {
			differences[i+1] = d
		}
	}
	return answers.Told(differences), len(differences) > 0
}

// Proves sends the known answers of a placed version to one of its addresses, and says where it
// answers otherwise, "" when it does not. wrong is set when another model runs there.
func (s *Service) Proves(ctx context.Context, p traffic.Placement, address string) (told string, wrong bool) {
	v, err := s.registry.Version(ctx, act.BySelf(), p.Version)
	if err != nil || v.KnownAnswers == nil {
		return "", false // taken away meanwhile, or nothing is known
	}
	servers, err := s.serversIn(ctx, p.Environment)
	if err != nil {
		return err.Error(), false
	}
	at := asked{servers.Patient(answersWithin), address, p.ServedAs, p.Exactly(v.Signature)}
	if at.exact == nil {
		return "", false
	}
	return at.proves(ctx, v.KnownAnswers)
}

// ConfirmAnswers makes what the servers of a placement answered to the sample request the known
// answers of its version: somebody looked at them and says that they are right.
func (s *Service) ConfirmAnswers(ctx context.Context, by act.Actor, ref, environment,
	reason string,
) (*registry.Version, error) {
	if err := by.May(access.Place); err != nil {
		return nil, err
	}
	if err := naming.CheckReason(reason, "say how you know that they are right with -why"); err != nil {
		return nil, err
	}
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Place, func(t *act.Tx) (*registry.Version, error) {
		if known, err := t.KnownAnswers(ctx, v.Ref); err != nil || known != nil {
			return nil, cmp.Or(err, error(fault.New(fault.Refused, "answers.known",
				"the known answers of %s are known, and do not change", v.Ref).In("version").
				Do("register another version where they are wrong")))
		}
		p, err := t.PlacementOf(ctx, v.Ref, environment)
		if errors.Is(err, records.ErrNone) {
			return nil, fault.New(fault.Unknown, "placement.unknown", "%s is not placed in %s", v.Ref, environment).
				In("environment").Do("see where it is with: innerladder placements %s", v.Ref)
		}
		if err != nil {
			return nil, err
		}
		if p.Heard == nil {
			return nil, fault.New(fault.Refused, "answers.none", "no sample request was answered when %s was placed "+
				"in %s", v.Ref, environment).In("environment").
				Do("register it again with -answers: the same content takes them")
		}
		v.KnownAnswers = &answers.Known{
			Cases: []answers.Case{*p.Heard}, Origin: answers.Confirmed, By: t.By.Name, At: t.Now,
		}
		if err := v.KnownAnswers.Check(); err != nil {
			return nil, err
		}
		return v, s.registry.EnterAnswers(ctx, t, v, reason)
	})
}
