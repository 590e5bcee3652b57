package traffic

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/oip"
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
	return strings.TrimRight(u.String(), "/"), nil
}

// inspect makes sure that a version can run at an address, and returns what is declared there.
func (s *Service) inspect(ctx context.Context, v *registry.Version, environment, address,
	servedAs string,
) (*signature.Served, error) {
	refuse := func(code, why, remedy string) (*signature.Served, error) {
		return nil, fault.New(fault.Refused, code, "%s at %s: %s", servedAs, address, why).In("addresses").
			Do("%s", remedy)
	}
	servers, err := s.serversIn(ctx, environment)
	if err != nil {
		return nil, err
	}
	if err := servers.Ready(ctx, address, servedAs); err != nil {
		return refuse("placement.not_ready", err.Error(),
			"start the model server, see that it speaks the Open Inference Protocol and is ready, and name the model "+
				"with -as if it is called otherwise there")
	}
	m, err := servers.Metadata(ctx, address, servedAs)
	if err != nil {
		return refuse("placement.no_metadata", err.Error(),
			"see that the server describes its models as the Open Inference Protocol says")
	}
	if v.Signature != nil {
		if reasons := v.Signature.Fits(m.Served); len(reasons) > 0 {
			return refuse("placement.signature", strings.Join(reasons, "; "),
				"place the version that this server serves, or serve "+v.Ref+" there")
		}
	}
	exact := v.Signature.Exactly(m.Served)
	sample := exact.SampleAfter(v.SampleRequest)
	if sample == nil {
		return &m.Served, nil // the protocol cannot carry what it takes, or it is too large
	}
	if why := s.answers(ctx, servers, address, servedAs, exact, sample); why != "" {
		return refuse("placement.sample", "the sample request "+why,
			"see what the server logs about it; where the values of the sample are at fault, register the version "+
				"with -sample and rows that it can answer")
	}
	return &m.Served, nil
}

// answers sends a request to a server and says what is wrong with the answer, "" when it is as
// the signature promises. What the server says is not told: whoever places may not be meant to
// read what runs there.
func (s *Service) answers(ctx context.Context, servers *oip.Client, address, servedAs string,
	exact *signature.Signature, request []byte,
) string {
	status, _, body, err := servers.Patient(answersWithin).Ask(ctx, address, servedAs, request)
	if err != nil {
		return "was not answered: " + err.Error()
	}
	if status != http.StatusOK {
		return fmt.Sprintf("was answered with status %d", status)
	}
	tensors, err := oip.Tensors(body, "outputs")
	if err != nil {
		return "was not answered in the Open Inference Protocol"
	}
	outputs := make([]signature.Tensor, len(tensors))
	for i, t := range tensors {
		outputs[i] = signature.Tensor{Name: t.Name, Datatype: t.Datatype, Shape: t.Shape}
	}
	return strings.Join(exact.Answered(outputs), "; ")
}
