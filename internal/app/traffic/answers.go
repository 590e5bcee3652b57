package traffic

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
)

// largestHeard bounds what is kept of an answer to a sample request: placements are read each
// second.
const largestHeard = 16 << 10

// heard is what a server answered to a sample request; nil when it is too large to be kept.
func heard(sample json.RawMessage, tensors []oip.Tensor) *answers.Case {
	c := &answers.Case{Request: sample, Outputs: oip.Values(tensors)}
	if b, err := json.Marshal(c); err != nil || len(b) > largestHeard {
		return nil
	}
	return c
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
			return fmt.Sprintf("known answer %d cannot be sent: the protocol cannot carry its inputs", i+1), false
		}
		outputs, why := a.ask(ctx, request)
		if why != "" {
			return fmt.Sprintf("the request of known answer %d %s", i+1, why), false
		}
		for _, d := range known.Differences(c, oip.Values(outputs)) {
			differences[i+1] = append(differences[i+1], d.String())
		}
	}
	return answers.Told(differences), len(differences) > 0
}

// Proves sends the known answers of a placed version to one of its addresses, and says where it
// answers otherwise, "" when it does not. wrong is set when another model runs there.
func (s *Service) Proves(ctx context.Context, p traffic.Placement, address string) (told string, wrong bool) {
	v, err := s.registry.Version(ctx, act.BySelf(), p.Version)
	if fault.Is(err, fault.Unknown) {
		return "", false // it was deleted meanwhile
	}
	if err != nil {
		return err.Error(), false // what is not known proves nothing
	}
	if v.KnownAnswers == nil {
		return "", false
	}
	servers, err := s.serversIn(ctx, p.Environment, address)
	if err != nil {
		return err.Error(), false
	}
	exact := p.Exactly(v.Signature)
	if exact == nil {
		exact = &signature.Signature{} // it was placed before servers were asked: only messages can be sent
	}
	at := asked{servers.Patient(answersWithin), address, p.ServedAs, exact}
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
		known, err := t.KnownAnswers(ctx, v.Ref)
		if err != nil {
			return nil, err
		}
		if known != nil {
			return nil, fault.New(fault.Refused, "answers.known",
				"the known answers of %s are known, and do not change",
				v.Ref).In("version").Do("register another version where they are wrong")
		}
		p, err := placed(ctx, t.View, v.Ref, environment)
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
