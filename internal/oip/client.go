package oip

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"innerladder/internal/core/traffic"
)

// largestAnswer bounds what is read of a model server's answer to our own questions.
const largestAnswer = 4 << 20

// Client asks model servers what they serve. Its zero value is not usable; see
// NewClient.
type Client struct {
	http    *http.Client
	headers []traffic.Header
	largest int64
}

// With is a client that sends further headers with every question.
func (c *Client) With(headers ...traffic.Header) *Client {
	return &Client{c.http, slices.Concat(c.headers, headers), c.largest}
}

// Patient is a client whose answers may take as long as timeout.
func (c *Client) Patient(timeout time.Duration) *Client {
	patient := *c.http
	patient.Timeout = timeout
	return &Client{&patient, c.headers, c.largest}
}

// Wide is a client that keeps so many connections to each server, and reads answers of up to a size; whoever makes it
// closes it.
func (c *Client) Wide(connections int, largest int64) *Client {
	wide, transport := *c.http, c.http.Transport.(*http.Transport).Clone()
	transport.MaxIdleConnsPerHost = connections
	wide.Transport = transport
	return &Client{&wide, c.headers, largest}
}

// Close closes the connections that are not in use.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// NewClient makes a client whose every question is answered within timeout or fails.
func NewClient(timeout time.Duration) *Client {
	return &Client{largest: largestAnswer, http: &http.Client{
		Timeout: timeout,
		// A redirect would be followed to a place nobody has named.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DialContext:         (&net.Dialer{Timeout: timeout, Control: mayServe}).DialContext,
			MaxIdleConnsPerHost: 1, IdleConnTimeout: 10 * time.Second,
		},
	}}
}

// NoAnswerInTime is how an error reads where a model server took too long.
const NoAnswerInTime = "no answer in time"

var errNotAllowed = errors.New("no model server may be there")

// mayServe refuses a connection to an address that a host name led to.
func mayServe(_, address string, _ syscall.RawConn) error {
	if at, err := netip.ParseAddrPort(address); err == nil && !traffic.MayServe(at.Addr()) {
		return errNotAllowed
	}
	return nil
}

// ModelPath is the path of a model at a server.
func ModelPath(model string) string { return "/v2/models/" + url.PathEscape(model) }

// Ready asks whether the server at base and the model there are ready. It returns nil
// when both are, else why not, in words for people.
func (c *Client) Ready(ctx context.Context, base, model string) error {
	for _, path := range []string{"/v2/health/ready", ModelPath(model) + "/ready"} {
		status, body, err := c.get(ctx, base+path)
		if err != nil {
			return err
		}
		if status != http.StatusOK {
			return &Refusal{path, status, said(body)}
		}
	}
	return nil
}

// Metadata asks what the model at the server at base takes and gives.
func (c *Client) Metadata(ctx context.Context, base, model string) (ModelMetadata, error) {
	var m ModelMetadata
	path := ModelPath(model)
	status, body, err := c.get(ctx, base+path)
	if err != nil {
		return m, err
	}
	if status != http.StatusOK {
		return m, &Refusal{path, status, said(body)}
	}
	if err := json.Unmarshal(body, &m); err != nil || m.Name == "" {
		return m, fmt.Errorf("GET %s did not answer with model metadata of the protocol", path)
	}
	return m, nil
}

// Infer sends a request and returns the answer's status, headers and body.
func (c *Client) Infer(ctx context.Context, base, model string, r *InferRequest) (int, http.Header, []byte, error) {
	b, err := json.Marshal(r)
	if err != nil {
		return 0, nil, nil, err
	}
	return c.Ask(ctx, base, model, b)
}

// Ask sends the body of a request as it is, and returns the answer's status, headers and body.
func (c *Client) Ask(ctx context.Context, base, model string, b []byte) (int, http.Header, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, base+ModelPath(model)+"/infer", bytes.NewReader(b))
	if err != nil {
		return 0, nil, nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	return c.do(req)
}

func (c *Client) get(ctx context.Context, address string) (int, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, nil, err
	}
	status, _, body, err := c.do(req)
	return status, body, err
}

func (c *Client) do(req *http.Request) (int, http.Header, []byte, error) {
	for _, h := range c.headers {
		req.Header.Set(h.Name, h.Value)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return 0, nil, nil, errors.New(explain(err))
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, c.largest))
	if err != nil {
		return 0, nil, nil, errors.New(explain(err))
	}
	return res.StatusCode, res.Header, body, nil
}

// explain says in a few words why a model server could not be asked.
func explain(err error) string {
	var timeout net.Error
	var dns *net.DNSError
	switch {
	case errors.Is(err, errNotAllowed):
		return errNotAllowed.Error()
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection broke"
	case errors.As(err, &dns):
		return "no such host"
	case errors.As(err, &timeout) && timeout.Timeout():
		return NoAnswerInTime
	}
	text := err.Error()
	if i := strings.LastIndex(text, ": "); i >= 0 {
		text = text[i+2:]
	}
	return text
}

// Refusal is an answer of a model server that is no 200.
type Refusal struct {
	Path   string
	Status int
	// Said is the error that the server named, "" when it named none.
	Said string
}

// Error says what was asked and answered.
func (r *Refusal) Error() string {
	return fmt.Sprintf("GET %s answered %d%s", r.Path, r.Status, r.Said)
}

// Outline says why a model server could not be asked without what it said, for those who may not be
// meant to read what runs there.
func Outline(err error) string {
	var r *Refusal
	if errors.As(err, &r) {
		return fmt.Sprintf("GET %s answered %d", r.Path, r.Status)
	}
	return err.Error()
}

// said quotes the error in a body, if it has one.
func said(body []byte) string {
	var e Error
	if json.Unmarshal(body, &e) == nil && e.Error != "" {
		return ": " + e.Error
	}
	return ""
}
