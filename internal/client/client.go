// Package client is the Go client of the API. The command line and the demo use nothing
// else.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/replica"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

// Problem is an error that the service answered with.
type Problem struct{ wire.Problem }

// Error gives detail and remedy as one text.
func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.Detail
	}
	return p.Detail + "; " + p.Remedy
}

// Code returns the code of the problem in err, or "".
func Code(err error) string {
	var p *Problem
	if errors.As(err, &p) {
		return p.Problem.Code
	}
	return ""
}

// Client calls the API of one service as one person.
type Client struct {
	server, token string
	http          *http.Client
}

// New makes a client for the service at an address, as the person with a token.
func New(server, token string) *Client {
	return &Client{strings.TrimRight(server, "/"), token, &http.Client{}}
}

const base = "/api/v1"

// path joins segments, each escaped.
func path(segments ...string) string {
	for i, s := range segments {
		segments[i] = url.PathEscape(s)
	}
	return base + "/" + strings.Join(segments, "/")
}

// query adds parameters that are not empty.
func query(p string, pairs ...string) string {
	q := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			q.Set(pairs[i], pairs[i+1])
		}
	}
	if len(q) == 0 {
		return p
	}
	return p + "?" + q.Encode()
}

func call[T any](ctx context.Context, c *Client, method, path string, in any, header ...string) (T, error) {
	var out T
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return out, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.server+path, body)
	if err != nil {
		return out, fmt.Errorf("calling %s: %w", c.server, err)
	}
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	return out, c.do(req, &out)
}

func (c *Client) do(req *http.Request, out any) error {
	return c.send(req, func(res *http.Response) error {
		if res.StatusCode == http.StatusNoContent {
			return nil
		}
		if err := json.NewDecoder(res.Body).Decode(out); err != nil {
			return fmt.Errorf("reading the answer of %s: %w", req.URL.Path, err)
		}
		return nil
	})
}

// stream reads an answer of any size.
func (c *Client) stream(ctx context.Context, path string, read func(io.Reader) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.server+path, nil)
	if err != nil {
		return fmt.Errorf("calling %s: %w", c.server, err)
	}
	return c.send(req, func(res *http.Response) error { return read(res.Body) })
}

// send makes a call with the token and has its answer read, unless it is a refusal.
func (c *Client) send(req *http.Request, read func(*http.Response) error) error {
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return unreachable(c.server, err)
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		return problem(res)
	}
	return read(res)
}

func unreachable(server string, err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return fmt.Errorf("the service at %s cannot be reached: %w; start it with: innerladder serve, or name another "+
		"with -server", server, err)
}

func problem(res *http.Response) error {
	p := &Problem{}
	b, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return fmt.Errorf("reading a problem: %w", err)
	}
	if json.Unmarshal(b, p) != nil || p.Problem.Code == "" {
		return fmt.Errorf("%s answered %s, which is not our API", res.Request.URL.Host, res.Status)
	}
	return p
}

// whole reads a list part by part to its end.
func whole[T any](ctx context.Context, c *Client, path string, pairs ...string) (wire.Listed[T], error) {
	all := wire.Listed[T]{Items: []T{}}
	for cursor := ""; ; {
		part, err := call[wire.Listed[T]](ctx, c, "GET",
			query(path, append(pairs, "limit", "200", "cursor", cursor)...), nil)
		if err != nil {
			return all, err
		}
		all.Items = append(all.Items, part.Items...)
		if cursor = part.Next; cursor == "" {
			return all, nil
		}
	}
}

// Part says which part of a list is wanted.
type Part struct {
	Limit  int
	Cursor string
}

func (p Part) limit() string {
	if p.Limit == 0 {
		return ""
	}
	return strconv.Itoa(p.Limit)
}

// AddEnvironment adds a place where versions run.
func (c *Client) AddEnvironment(ctx context.Context, n wire.NewEnvironment) (traffic.Environment, error) {
	return call[traffic.Environment](ctx, c, "POST", path("environments"), n)
}

// EditEnvironment changes an environment.
func (c *Client) EditEnvironment(ctx context.Context, name string,
	e wire.EditEnvironment,
) (traffic.Environment, error) {
	return call[traffic.Environment](ctx, c, "PATCH", path("environments", name), e)
}

// RemoveEnvironment takes away an environment in which nothing runs.
func (c *Client) RemoveEnvironment(ctx context.Context, name, why string) (traffic.Environment, error) {
	return call[traffic.Environment](ctx, c, "DELETE", query(path("environments", name), "reason", why), nil)
}

// Environments lists the places where versions run.
func (c *Client) Environments(ctx context.Context) (wire.Listed[traffic.Environment], error) {
	return whole[traffic.Environment](ctx, c, path("environments"))
}

// Place says that a version runs somewhere.
func (c *Client) Place(ctx context.Context, ref, environment string, addresses []string,
	servedAs string,
) (traffic.Placement, error) {
	return call[traffic.Placement](ctx, c, "POST", path("placements"),
		wire.NewPlacement{Version: ref, Environment: environment, Addresses: addresses, ServedAs: servedAs})
}

// PlaceRun runs a version on the service's machine in an environment.
func (c *Client) PlaceRun(ctx context.Context, ref, environment string, by wire.NewRunner) (traffic.Placement, error) {
	return call[traffic.Placement](ctx, c, "POST", path("placements"),
		wire.NewPlacement{Version: ref, Environment: environment, Runner: &by})
}

// Running lists what runs on the service's machine, of one version when a ref is given.
func (c *Client) Running(ctx context.Context, ref string) (wire.Listed[wire.Running], error) {
	return whole[wire.Running](ctx, c, path("running"), "version", ref)
}

// RunningLog is the last lines that a replica wrote.
func (c *Client) RunningLog(ctx context.Context, ref, environment string, number, lines int) (wire.RunningLog, error) {
	return call[wire.RunningLog](ctx, c, "GET", path("running", environment, ref, strconv.Itoa(number), "log")+
		"?lines="+strconv.Itoa(lines), nil)
}

// Templates lists the command lines that may serve versions on the service's machine.
func (c *Client) Templates(ctx context.Context) (wire.Listed[replica.Template], error) {
	return whole[replica.Template](ctx, c, path("runner-templates"))
}

// PutTemplate allows a command line to serve versions there.
func (c *Client) PutTemplate(ctx context.Context, in wire.PutTemplate) (replica.Template, error) {
	return call[replica.Template](ctx, c, "PUT", path("runner-templates", in.Name), in)
}

// RemoveTemplate allows a command line no more.
func (c *Client) RemoveTemplate(ctx context.Context, name, reason string) (replica.Template, error) {
	return call[replica.Template](ctx, c, "DELETE",
		path("runner-templates", name)+"?reason="+url.QueryEscape(reason), nil)
}

// PlaceElsewhere says that a version answers in an environment where the gateway does not reach.
func (c *Client) PlaceElsewhere(ctx context.Context, ref, environment string) (traffic.Placement, error) {
	return call[traffic.Placement](ctx, c, "POST", path("placements"),
		wire.NewPlacement{Version: ref, Environment: environment, Elsewhere: true})
}

// Agents lists the agents that report what answers elsewhere for an endpoint.
func (c *Client) Agents(ctx context.Context, endpoint string) (wire.Listed[elsewhere.Agent], error) {
	return call[wire.Listed[elsewhere.Agent]](ctx, c, "GET", path("endpoints", endpoint, "agents"), nil)
}

// AgentMet asks which versions there are and on which bins columns are counted.
func (c *Client) AgentMet(ctx context.Context, endpoint, agent string, in wire.AgentMet) (wire.AgentKnown, error) {
	return call[wire.AgentKnown](ctx, c, "POST", path("endpoints", endpoint, "agents", agent, "met"), in)
}

// AgentBatch reports what versions did elsewhere.
func (c *Client) AgentBatch(ctx context.Context, endpoint, agent string, b elsewhere.Batch) (wire.BatchTaken, error) {
	return call[wire.BatchTaken](ctx, c, "POST", path("endpoints", endpoint, "agents", agent, "batches"), b)
}

// ChangeAddresses adds addresses to a placement and takes others away.
func (c *Client) ChangeAddresses(ctx context.Context, ref, environment string,
	e wire.EditAddresses,
) (traffic.Placement, error) {
	return call[traffic.Placement](ctx, c, "PATCH", path("placements", environment, ref), e)
}

// Unplace says that a version runs in an environment no more.
func (c *Client) Unplace(ctx context.Context, ref, environment string) (traffic.Placement, error) {
	return call[traffic.Placement](ctx, c, "DELETE", path("placements", environment, ref), nil)
}

// Placements lists what runs where, of one version when a ref is given.
func (c *Client) Placements(ctx context.Context, ref string) (wire.Listed[traffic.Placement], error) {
	return whole[traffic.Placement](ctx, c, path("placements"), "version", ref)
}

// AddEndpoint adds an endpoint.
func (c *Client) AddEndpoint(ctx context.Context, e wire.NewEndpoint) (traffic.Endpoint, error) {
	return call[traffic.Endpoint](ctx, c, "POST", path("endpoints"), e)
}

// EditEndpoint changes what is said about an endpoint and what it demands.
func (c *Client) EditEndpoint(ctx context.Context, name string, e wire.EditEndpoint) (traffic.Endpoint, error) {
	return call[traffic.Endpoint](ctx, c, "PATCH", path("endpoints", name), e)
}

// RemoveEndpoint takes away an endpoint that nobody calls.
func (c *Client) RemoveEndpoint(ctx context.Context, name, why string) (traffic.Endpoint, error) {
	return call[traffic.Endpoint](ctx, c, "DELETE", query(path("endpoints", name), "reason", why), nil)
}

// Endpoints lists endpoints.
func (c *Client) Endpoints(ctx context.Context) (wire.Listed[traffic.Endpoint], error) {
	return whole[traffic.Endpoint](ctx, c, path("endpoints"))
}

// Endpoint shows an endpoint.
func (c *Client) Endpoint(ctx context.Context, name string) (traffic.Endpoint, error) {
	return call[traffic.Endpoint](ctx, c, "GET", path("endpoints", name), nil)
}

// EndpointNow says what the lanes of an endpoint do now.
func (c *Client) EndpointNow(ctx context.Context, name string) (wire.EndpointNow, error) {
	return call[wire.EndpointNow](ctx, c, "GET", path("endpoints", name, "now"), nil)
}

// Series says what an endpoint did over time.
func (c *Client) Series(ctx context.Context, name string, window time.Duration) (wire.Series, error) {
	return call[wire.Series](ctx, c, "GET", query(path("endpoints", name, "series"), "window", window.String()), nil)
}

// Over says what is compared: a split, or a window that ends at Until (now for the zero time), or the
// last trial for neither.
type Over struct {
	Split  int
	Window time.Duration
	Until  time.Time
}

// Compare puts versions beside their incumbent; those of the last trial when none are named.
func (c *Client) Compare(ctx context.Context, endpoint, incumbent string, candidates []string,
	over Over,
) (wire.Comparisons, error) {
	var split, window, until string
	if over.Split != 0 {
		split = strconv.Itoa(over.Split)
	}
	if over.Window != 0 {
		window = over.Window.String()
	}
	if !over.Until.IsZero() {
		until = over.Until.Format(time.RFC3339Nano)
	}
	return call[wire.Comparisons](ctx, c, "GET",
		query(path("endpoints", endpoint, "compare"), "incumbent", incumbent, "candidate",
			strings.Join(candidates, ","), "split", split, "window", window, "until", until), nil)
}

// Splits lists the splits of an endpoint, newest first.
func (c *Client) Splits(ctx context.Context, endpoint string, p Part) (wire.Listed[traffic.Split], error) {
	return call[wire.Listed[traffic.Split]](ctx, c, "GET",
		query(path("endpoints", endpoint, "splits"), "limit", p.limit(), "cursor", p.Cursor), nil)
}

// ifMatch is the header that refuses a change decided on another split or revision than based;
// below 0 there is none.
func ifMatch(based int) []string {
	if based < 0 {
		return nil
	}
	return []string{"If-Match", strconv.Quote(strconv.Itoa(based))}
}

// Split makes a new split and puts it in force; based is the split it was decided on,
// below 0 for any.
func (c *Client) Split(ctx context.Context, endpoint string, lanes []traffic.Lane, reason string,
	based int,
) (traffic.Split, error) {
	return c.SplitBy(ctx, endpoint, lanes, nil, reason, based)
}

// SplitBy makes a new split with rules that come before shares. Without rules (nil) those in force stay; an empty list
// ends them.
func (c *Client) SplitBy(ctx context.Context, endpoint string, lanes []traffic.Lane, rules []traffic.Rule,
	reason string, based int,
) (traffic.Split, error) {
	body := map[string]any{"lanes": lanes, "reason": reason}
	if rules != nil {
		body["rules"] = rules
	}
	return call[traffic.Split](ctx, c, "POST", path("endpoints", endpoint, "splits"), body, ifMatch(based)...)
}

// Explain says where a request would go, and by which rule.
func (c *Client) Explain(ctx context.Context, endpoint string, e wire.Explain) (traffic.Where, error) {
	return call[traffic.Where](ctx, c, "POST", path("endpoints", endpoint, "explain"), e)
}

// Back returns to an earlier split; 0 is the last without a trial lane.
func (c *Client) Back(ctx context.Context, endpoint string, to int, reason string, based int) (traffic.Split, error) {
	return c.backAnd(ctx, endpoint, to, reason, based, false)
}

// BackAndDown is Back, after which the version that is left must be signed anew.
func (c *Client) BackAndDown(ctx context.Context, endpoint string, to int, reason string,
	based int,
) (traffic.Split, error) {
	return c.backAnd(ctx, endpoint, to, reason, based, true)
}

func (c *Client) backAnd(ctx context.Context, endpoint string, to int, reason string, based int,
	down bool,
) (traffic.Split, error) {
	return call[traffic.Split](ctx, c, "POST", path("endpoints", endpoint, "back"),
		map[string]any{"to": to, "reason": reason, "step_down": down}, ifMatch(based)...)
}

// Contracts lists the contracts of an endpoint, newest first.
func (c *Client) Contracts(ctx context.Context, endpoint string) (wire.Listed[traffic.Contract], error) {
	return call[wire.Listed[traffic.Contract]](ctx, c, "GET", path("endpoints", endpoint, "contracts"), nil)
}

// MakeContract decides a new contract of an endpoint.
func (c *Client) MakeContract(ctx context.Context, endpoint, version, reason string) (traffic.Contract, error) {
	return call[traffic.Contract](ctx, c, "POST", path("endpoints", endpoint, "contracts"),
		map[string]any{"version": version, "reason": reason})
}

// ContractSchema is a contract as JSON Schema, of requests or of answers.
func (c *Client) ContractSchema(ctx context.Context, endpoint string, number int,
	side string,
) (map[string]any, error) {
	return call[map[string]any](ctx, c, "GET",
		query(path("endpoints", endpoint, "contracts", strconv.Itoa(number), "schema"), "side", side), nil)
}

// ConfirmAnswers makes what a placed version answered to the sample request its known answers.
func (c *Client) ConfirmAnswers(ctx context.Context, ref, environment, reason string) (registry.Version, error) {
	return call[registry.Version](ctx, c, "POST", path("versions", ref, "known-answers"),
		map[string]any{"environment": environment, "reason": reason})
}

// Alerts lists alerts, newest first.
func (c *Client) Alerts(ctx context.Context, state, endpoint string, p Part) (wire.Listed[watch.Alert], error) {
	return call[wire.Listed[watch.Alert]](ctx, c, "GET",
		query(path("alerts"), "state", state, "endpoint", endpoint, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// Alert shows an alert.
func (c *Client) Alert(ctx context.Context, id string) (watch.Alert, error) {
	return call[watch.Alert](ctx, c, "GET", path("alerts", id), nil)
}

// HandleAlert acknowledges or resolves an alert.
func (c *Client) HandleAlert(ctx context.Context, id, state, note string) (watch.Alert, error) {
	return call[watch.Alert](ctx, c, "POST", path("alerts", id), map[string]string{"state": state, "note": note})
}
