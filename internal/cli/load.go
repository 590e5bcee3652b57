package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/evidence"
	coreload "innerladder/internal/core/load"
	coreprofile "innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/gateway"
	"innerladder/internal/intake"
	"innerladder/internal/load"
	"innerladder/internal/oip"
	"innerladder/internal/wire"
)

// loadCommand sends an endpoint as many requests as one wants to know about.
func loadCommand() []command {
	return []command{{
		name: "load", group: "Prove", arguments: "ENDPOINT", least: 1, most: 1,
		summary: "Send an endpoint so many requests a second, on their own clock, and say how it held: failures, " +
			"latency from when each request was due, and from which rate on it does not keep up",
		example: "innerladder load demand-hourly -rate 200 -for 1m\n" +
			"innerladder load demand-hourly -ramp 20 -rate 2000 -for 2m -rows winter.csv\n" +
			"innerladder load demand-hourly -rate 500 -for 1m -limit p99=50 -limit error_rate=0.001 -attach",
		setup: loadEndpoint,
	}}
}

// loading are the options of a load test.
type loading struct {
	load.Options
	gateway, keyFile, rows, out string
	log, attach                 bool
	limits                      list
}

// distinctBodies is how many different requests are made, at most.
const distinctBodies = 2000

func loadEndpoint(c *call) func(context.Context) error {
	c.connect()
	var o loading
	c.flags.Float64Var(&o.Rate, "rate", 50, "`N` requests a second, 20 000 at most")
	c.flags.Float64Var(&o.From, "ramp", 0, "`N` requests a second at first, from which it grows evenly to -rate")
	c.flags.DurationVar(&o.For, "for", 30*time.Second, "`DURATION`, two hours at most")
	c.flags.IntVar(&o.Connections, "connections", 512, "`N` connections at most")
	c.flags.DurationVar(&o.Timeout, "timeout", 30*time.Second,
		"`DURATION` from when a request is due, after which it failed")
	c.flags.StringVar(&o.gateway, "gateway", "http://127.0.0.1:7500", "`URL` of the gateway")
	c.flags.StringVar(&o.keyFile, "key-file", "", "`FILE` with a caller's key to the endpoint, where it needs one")
	c.flags.StringVar(&o.rows, "rows", "", "`FILE` with rows to send (CSV, JSON lines or Parquet); else rows drawn "+
		"from the reference profile of who answers, or its sample")
	c.flags.BoolVar(&o.log, "log-rows", false, "send what was asked lately, from the log of requests")
	c.flags.Var(&o.limits, "limit", "`NAME=MOST` that is good enough: p50, p90, p95, p99, max in milliseconds, "+
		"error_rate as a share; may be given several times")
	c.flags.StringVar(&o.out, "o", "", "`FILE` that the report is written to, as evidence of the kind load")
	c.flags.BoolVar(&o.attach, "attach", false, "attach the report to the version that answers, for its gates")
	return func(ctx context.Context) error {
		limits, err := limitsOf(o.limits)
		if err != nil {
			return err
		}
		if err := o.Check(); err != nil {
			return wrongUse("%v", err)
		}
		if o.Connections < 1 || o.Timeout <= 0 {
			return wrongUse("-connections and -timeout must be above zero")
		}
		return c.load(ctx, &o, limits)
	}
}

// limitsOf reads limits as they are typed.
func limitsOf(given []string) (map[string]evidence.Limit, error) {
	out := map[string]evidence.Limit{}
	for _, l := range given {
		name, most, _ := strings.Cut(l, "=")
		x, err := strconv.ParseFloat(most, 64)
		if known := []string{"p50", "p90", "p95", "p99", "max", "error_rate"}; err != nil || math.IsNaN(x) ||
			!slices.Contains(known, name) {
			return nil, wrongUse("-limit %q is none; write NAME=MOST with one of %s", l, strings.Join(known, ", "))
		}
		out[name] = evidence.Limit{AtMost: &x}
	}
	return out, nil
}

// load carries a load test out.
func (c *call) load(ctx context.Context, o *loading, limits map[string]evidence.Limit) error {
	e, err := c.api.Endpoint(ctx, c.args[0])
	if err != nil {
		return err
	}
	main := e.MainVersion()
	if main == "" {
		return fmt.Errorf("nothing answers for %s yet", e.Name)
	}
	if o.Bodies, err = c.loadBodies(ctx, o, e.Name, e.Environment, main); err != nil {
		return err
	}
	o.URL = strings.TrimRight(o.gateway, "/") + oip.ModelPath(e.Name) + "/infer"
	o.Header = map[string]string{gateway.CallerHeader: "load test"}
	if o.keyFile != "" {
		b, err := os.ReadFile(o.keyFile)
		if err != nil {
			return fmt.Errorf("reading the caller's key: %w", err)
		}
		o.Header[gateway.KeyHeader] = strings.TrimSpace(string(b))
	}
	if !*c.json {
		o.Progress = func(p load.Progress) {
			c.say("%4.0f s  %7.1f a second due, %d answered, %d failed, %d under way", p.At.Seconds(), p.Rate,
				p.Ended-p.Failed, p.Failed, p.Sent-p.Ended)
		}
	}
	r, err := load.Run(ctx, o.Options)
	if err != nil {
		return err
	}
	r.Limits = limits
	raw, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	if o.out != "" {
		if err := os.WriteFile(o.out, raw, 0o600); err != nil {
			return err
		}
	}
	if err := c.show(r, nil, func() { printLoad(c.Out, e.Name, main, r, len(o.Bodies)) }); err != nil {
		return err
	}
	if o.attach {
		if err := c.attachLoad(ctx, main, raw); err != nil {
			return err
		}
	}
	if broken := brokenBy(r); len(broken) > 0 {
		return refused("%s", strings.Join(broken, "; "))
	}
	return nil
}

// brokenBy lists the limits that a report breaks.
func brokenBy(r evidence.LoadReport) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(r.Limits)) {
		x, there := r.LatencyMs[name]
		if name == "error_rate" {
			x, there = float64(r.Errors)/float64(r.Requests), true
		}
		if most := *r.Limits[name].AtMost; !there || x > most {
			out = append(out, fmt.Sprintf("%s is %.4g, and %.4g is good enough", name, x, most))
		}
	}
	return out
}

// attachLoad attaches a report to a version.
func (c *call) attachLoad(ctx context.Context, ref string, raw []byte) error {
	dir, err := os.MkdirTemp("", "innerladder-load-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "load.json")
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		return err
	}
	e, err := c.api.AttachEvidence(ctx, ref, evidence.LoadKind, "", file)
	if err == nil {
		c.say("%s is attached to %s: %s", e.ID, ref, e.Verdict)
	}
	return err
}

func printLoad(w io.Writer, endpoint, version string, r evidence.LoadReport, bodies int) {
	fmt.Fprintf(w, "%s, answered by %s: %s\n%d different requests\n\n", endpoint, version, coreload.Says(r), bodies)
	for _, why := range slices.Sorted(maps.Keys(r.Failures)) {
		fmt.Fprintf(w, "failed: %d by %s\n", r.Failures[why], why)
	}
	if len(r.LatencyMs) == 0 {
		return
	}
	t := newTable(w, "LATENCY", "MS", "95 %")
	for _, name := range []string{"p50", "p90", "p95", "p99", "max"} {
		x, there := r.LatencyMs[name]
		if !there {
			continue
		}
		within := ""
		if b := r.BoundsMs[name]; len(b) == 2 {
			within = fmt.Sprintf("%.4g … %.4g", b[0], b[1])
		}
		t.row(name, fmt.Sprintf("%.4g", x), within)
	}
	t.done()
}

// loadBodies are the requests that are sent.
func (c *call) loadBodies(ctx context.Context, o *loading, endpoint, environment, ref string) ([][]byte, error) {
	if o.log {
		return c.askedLately(ctx, endpoint)
	}
	v, err := c.api.Version(ctx, ref)
	if err != nil {
		return nil, err
	}
	if v.Signature == nil {
		return nil, fmt.Errorf("%s has no signature, so no request can be made for it; use -log-rows", ref)
	}
	exact := v.Signature
	placed, err := c.api.Placements(ctx, ref)
	if err != nil {
		return nil, err
	}
	for i := range placed.Items {
		if placed.Items[i].Environment == environment {
			exact = placed.Items[i].Exactly(exact)
		}
	}
	sample := exact.SampleAfter(v.SampleRequest)
	if sample == nil {
		return nil, fmt.Errorf("the protocol cannot carry in JSON what %s takes; use -log-rows", ref)
	}
	if o.rows != "" {
		return rowsOfFile(o.rows, exact, sample)
	}
	return c.drawn(ctx, &v, exact, sample)
}

// rowsOfFile makes a request of each row of a table. Columns that are no inputs are left out.
func rowsOfFile(file string, s *signature.Signature, sample json.RawMessage) (out [][]byte, err error) {
	texts := map[string]bool{}
	for _, c := range s.Inputs {
		texts[c.Name] = c.Type == signature.Text
	}
	enough := errors.New("enough rows were read")
	err = intake.EachRowOf(file, texts, func(line int, values map[string]any) error {
		maps.DeleteFunc(values, func(name string, _ any) bool { return s.Input(name) == nil })
		body, err := s.Override(sample, values)
		if err != nil {
			return fmt.Errorf("line %d: %w", line, err)
		}
		if out = append(out, body); len(out) >= distinctBodies {
			return enough
		}
		return nil
	})
	if errors.Is(err, enough) {
		err = nil
	}
	if err == nil && len(out) == 0 {
		err = fmt.Errorf("%s has no rows", file)
	}
	return out, err
}

// drawn makes requests whose values are drawn from a version's reference profile; its sample where it has none.
func (c *call) drawn(ctx context.Context, v *registry.Version, s *signature.Signature, sample json.RawMessage,
) ([][]byte, error) {
	p, err := c.api.Profile(ctx, v.Ref)
	if err != nil || len(p.Columns) == 0 {
		c.say("%s has no reference profile; the sample of its signature is sent again and again", v.Ref)
		return [][]byte{sample}, nil
	}
	// The same rows each time, so that tests can be compared.
	d, err := coreprofile.NewDrawing(&p, s, v.Signature, sample, uint64(v.Number))
	if err != nil {
		return nil, err
	}
	rows, err := d.Rows(distinctBodies)
	var out [][]byte
	for _, r := range rows {
		out = append(out, signature.Together([]signature.Row{r}))
	}
	return out, err
}

// askedLately are requests that are in the log whole.
func (c *call) askedLately(ctx context.Context, endpoint string) (out [][]byte, err error) {
	const most = 200
	found, err := c.api.Requests(ctx, wire.RequestFilter{Endpoint: endpoint, Limit: most, Outcome: "answered"})
	if err != nil {
		return nil, err
	}
	for _, r := range found.Items {
		one, err := c.api.Request(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		if len(one.Request) > 0 && one.RequestNote == "" {
			out = append(out, one.Request)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no request to %s is in the log whole; see what is kept with: innerladder endpoint "+
			"show %s", endpoint, endpoint)
	}
	return out, nil
}
