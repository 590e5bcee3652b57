package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"innerladder/internal/api"
	"innerladder/internal/core/people"
	"innerladder/internal/demo"
	"innerladder/internal/fetch"
	"innerladder/internal/seal"
	"innerladder/internal/server"
	"innerladder/internal/standin"

	"github.com/mattn/go-isatty"
)

func runCommands() []command {
	return []command{
		{
			name: "serve", group: "Run", summary: "Run the service: console, API and gateway", most: 0,
			example: "innerladder serve -data ./data", setup: serveCommand,
		},
		{
			name: "demo", group: "Run", summary: "Play the whole job with made-up data, model servers and traffic",
			most: 0, example: "innerladder demo -for 2m", setup: demoCommand,
		},
		{
			name: "standin", group: "Run", summary: "Run a simulated model server that computes real predictions",
			most:    0,
			example: "innerladder standin -listen 127.0.0.1:9001 -model model.json -delay 20ms", setup: standinCommand,
		},
		{
			name: "standin mail", group: "Run",
			summary: "Run a mail server that prints what it is sent and keeps nothing",
			most:    0, example: "innerladder standin mail -listen 127.0.0.1:2525", setup: standinMail,
		},
		{
			name: "standin hook", group: "Run",
			summary: "Run a receiver of webhooks that checks and prints what it is sent", most: 0,
			example: "innerladder standin hook -secret-file hook.secret", setup: standinHook,
		},
		{
			name: "standin tell", group: "Run", arguments: "URL",
			summary: "Tell a running stand-in to be slow, to fail, to be biased, or to crash", least: 1, most: 1,
			example: "innerladder standin tell http://127.0.0.1:9001 -fail 20", setup: tellCommand,
		},
		{
			name: "openapi", group: "Run", summary: "Print the OpenAPI document of the API", most: 0,
			example: "innerladder openapi > openapi.json",
			setup: func(c *call) func(context.Context) error {
				return func(context.Context) error {
					doc, err := api.Document()
					if err != nil {
						return err
					}
					_, err = fmt.Fprintf(c.Out, "%s\n", doc)
					return err
				}
			},
		},
		{
			name: "version", group: "Run", summary: "Say which build this is", most: 0, example: "innerladder version",
			setup: func(c *call) func(context.Context) error {
				return func(context.Context) error {
					_, err := fmt.Fprintln(c.Out, build())
					return err
				}
			},
		},
	}
}

// build says what the binary was made from, and when that was committed.
func build() string {
	what, _ := buildTime()
	return what
}

func buildTime() (what string, at time.Time) {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "innerladder, unknown build", at
	}
	revision, dirty := "unknown commit", ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			revision = s.Value[:min(12, len(s.Value))]
		case s.Key == "vcs.time":
			at, _ = time.Parse(time.RFC3339, s.Value)
		case s.Key == "vcs.modified" && s.Value == "true":
			dirty = " with changes"
		}
	}
	on := ""
	if !at.IsZero() {
		on = " of " + at.Format(time.DateOnly)
	}
	return fmt.Sprintf("innerladder %s%s%s, %s", revision, on, dirty, info.GoVersion), at
}

// logger writes text to a terminal and JSON anywhere else.
func logger(w io.Writer, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, wrongUse("%q is no log level; use debug, info, warn or error", level)
	}
	options := &slog.HandlerOptions{Level: l}
	if t, is := w.(*terminal); is {
		w = t.to // the log escapes by itself
	}
	if f, ok := w.(*os.File); ok && isatty.IsTerminal(f.Fd()) {
		return slog.New(slog.NewTextHandler(w, options)), nil
	}
	return slog.New(slog.NewJSONHandler(w, options)), nil
}

// allowFetching reads what the operator allows.
// ranges reads ranges of addresses.
func ranges(option, text string) (out []netip.Prefix, err error) {
	for _, r := range commas(text) {
		p, err := netip.ParsePrefix(r)
		if err != nil {
			return nil, wrongUse("-%s: %q is no range; write one such as 10.1.0.0/16", option, r)
		}
		out = append(out, p)
	}
	return out, nil
}

func allowFetching(f *fetch.Fetcher, private, folders string) (err error) {
	if f.Private, err = ranges("fetch-private", private); err != nil {
		return err
	}
	for _, folder := range strings.Split(folders, ",") {
		if folder = strings.TrimSpace(folder); folder == "" {
			continue
		}
		absolute, err := filepath.Abs(folder)
		if err != nil {
			return err
		}
		f.Folders = append(f.Folders, absolute)
	}
	return nil
}

// providerOptions are those about a provider of sign-ins; set takes them over.
func providerOptions(c *call, o *server.Options) (set func() error) {
	provider := &api.Provider{}
	c.flags.StringVar(&provider.Issuer, "oidc-issuer", "", "`URL` of a provider of sign-ins by OpenID Connect")
	c.flags.StringVar(&provider.ClientID, "oidc-client-id", "", "`ID` by which the provider knows the service")
	providerSecret := c.flags.String("oidc-client-secret-file", "",
		"`FILE` with the secret by which the provider knows the service")
	c.flags.Func("oidc-group", "`GROUP=ROLE@PROJECT`: the role that a group of the provider gives, * for all "+
		"projects; may be given several times. Whoever signs in has the roles of their groups from then on, and no "+
		"others of these",
		func(s string) error {
			if provider.Groups == nil {
				provider.Groups = people.GroupRoles{}
			}
			return provider.Groups.Parse(s)
		})
	c.flags.StringVar(&provider.GroupsIn, "oidc-groups-claim", "groups", "`NAME` of the claim that names groups")
	c.flags.Func("oidc-scope", "`SCOPE` to ask the provider for beside openid, email and profile",
		func(s string) error {
			provider.Scopes = append(provider.Scopes, s)
			return nil
		})
	c.flags.StringVar(&provider.Title, "oidc-title", "the provider", "`NAME` of the provider on the sign-in page")
	return func() error { return signInBy(provider, *providerSecret, o) }
}

// signInBy sets the provider of sign-ins, when there is one.
func signInBy(p *api.Provider, secretFile string, o *server.Options) error {
	if p.Issuer == "" {
		return nil
	}
	if p.ClientID == "" || secretFile == "" {
		return wrongUse("-oidc-issuer needs -oidc-client-id and -oidc-client-secret-file")
	}
	b, err := os.ReadFile(secretFile)
	if err != nil {
		return fmt.Errorf("reading the provider's secret: %w", err)
	}
	p.ClientSecret = strings.TrimSpace(string(b))
	o.Provider = p
	return nil
}

// runnerOptions are those about versions that run on this machine.
func runnerOptions(c *call, r *server.Runners) {
	c.flags.BoolVar(&r.Stop, "stop-runners", false,
		"end the versions that run on this machine with the service; else they go on and are found again")
	c.flags.BoolVar(&r.Commands, "run-commands", false,
		"let who administers the service allow command lines that serve versions on this machine")
	c.flags.DurationVar(&r.Away, "runners-away", 10*time.Minute,
		"`DURATION` without a service after which versions that run on this machine end by themselves")
}

// doorOptions are where the service listens, under which names, and whose word is taken; check looks at them.
func doorOptions(c *call, o *server.Options) (check func() error) {
	c.flags.StringVar(&o.Listen, "listen", "127.0.0.1:7400", "`ADDRESS` of the console and the API")
	c.flags.StringVar(&o.Gateway, "gateway", "127.0.0.1:7500", "`ADDRESS` of the gateway, which callers of models call")
	c.flags.StringVar(&o.Address, "address", "",
		"`URL` by which people reach the console, for links; that of -listen when not given")
	c.flags.StringVar(&o.GatewayAddress, "gateway-address", "",
		"`URL` by which callers reach the gateway, for examples; that of -gateway when not given")
	hosts := c.flags.String("hosts", "",
		"`NAMES` by which people reach the console beside that of -address, separated by commas; *.example.org is all "+
			"beneath it. Other names are turned away, addresses in numbers and localhost are not")
	c.flags.StringVar(&o.Certificate, "tls-certificate", "",
		"`FILE` with the certificate by which console, API and gateway speak TLS, and those that lead to its "+
			"authority; read again when it changes")
	c.flags.StringVar(&o.CertificateKey, "tls-key", "", "`FILE` with the certificate's key")
	c.flags.StringVar(&o.Traces, "traces-to", "",
		"`URL` of a collector that takes spans by OTLP, such as http://127.0.0.1:4318; none when not given")
	c.flags.Float64Var(&o.TracesShare, "traces-share", 0.01,
		"`SHARE` of the calls without a trace of their own of which spans are sent; those with one say it themselves")
	proxies := c.flags.String("trusted-proxy", "",
		"`RANGES` of proxies before the console and API whose X-Forwarded-For is believed, such as 127.0.0.1/32")
	return func() (err error) {
		if (o.Certificate == "") != (o.CertificateKey == "") {
			return wrongUse("-tls-certificate and -tls-key go together")
		}
		for _, h := range strings.Split(*hosts, ",") {
			if h = strings.TrimSpace(h); h != "" {
				o.Hosts = append(o.Hosts, h)
			}
		}
		o.Proxies, err = ranges("trusted-proxy", *proxies)
		return err
	}
}

func serveCommand(c *call) func(context.Context) error {
	c.configured = true
	var o server.Options
	c.flags.StringVar(&o.Data, "data", "innerladder-data", "`DIR` of everything that is kept")
	doors := doorOptions(c, &o)
	c.flags.StringVar(&o.KeyFile, "key-file", "",
		"`FILE` with the keys that seal secrets; DATA/key when not given, made at first start. "+
			"INNERLADDER_SEALING_KEYS takes its place")
	byProvider := providerOptions(c, &o)
	c.flags.DurationVar(&o.Timeout, "model-timeout", 30*time.Second,
		"`DURATION`: how long a model server may take to answer")
	c.flags.IntVar(&o.Connections, "connections", 512, "`N` connections at most to one model server")
	c.flags.IntVar(&o.BodyBudget, "body-budget", 500,
		"`N`: of how many requests a second of each endpoint the inputs and outputs are looked at, "+
			"about, fewer when they are large; counts and latency are "+
			"always complete")
	bodies := c.flags.Int("bodies-in-flight", 512,
		"`MIB` of requests and answers held in memory at the same time, at most; beyond it callers are asked to "+
			"try again")
	c.flags.IntVar(&o.Callers, "callers", 8192, "`N` connections of callers at most at the same time")
	c.flags.DurationVar(&o.Grace, "grace", 20*time.Second,
		"`DURATION`: how long requests may take to finish when the service stops")
	runnerOptions(c, &o.Runners)
	o.Fetch = &fetch.Fetcher{}
	private := c.flags.String("fetch-private", "",
		"`RANGES` of private addresses that versions may be registered from, such as 10.1.0.0/16,127.0.0.0/8")
	folders := c.flags.String("fetch-folder", "",
		"`DIRS` whose files versions may be registered from with file://, separated by commas")
	c.flags.Int64Var(&o.Fetch.Largest, "fetch-largest", 64<<30,
		"`BYTES` of one file at most that are fetched from an address")
	level := c.flags.String("log", "info", "`LEVEL`: debug, info, warn or error")
	return func(ctx context.Context) error {
		if err := allowFetching(o.Fetch, *private, *folders); err != nil {
			return err
		}
		if o.BodyBudget < 1 || o.Connections < 1 || o.Timeout <= 0 || o.Grace < 0 || *bodies < 1 || o.Callers < 1 {
			return wrongUse("-body-budget, -bodies-in-flight, -callers, -connections and -model-timeout must be " +
				"above zero")
		}
		if err := doors(); err != nil {
			return err
		}
		o.Bodies, o.Build = int64(*bodies)<<20, build()
		var err error
		if o.Log, err = logger(c.Err, *level); err != nil {
			return err
		}
		if err := byProvider(); err != nil {
			return err
		}
		if keys, ok := c.Env("INNERLADDER_SEALING_KEYS"); ok && keys != "" {
			if o.Keys, err = seal.ParseRing(keys); err != nil {
				return wrongUse("INNERLADDER_SEALING_KEYS: %v", err)
			}
		}
		o.Started = func(listen, gateway, firstLink string) {
			fmt.Fprintf(c.Out, "console and API  %s\ngateway          %s\n", listen, gateway)
			if firstLink != "" {
				fmt.Fprintf(c.Out, "first owner      %s\n", firstLink)
				c.say("Nobody is here yet. Whoever opens that link first, within 7 days, becomes the first owner: " +
					"open it in a browser, or run: innerladder login -link LINK -name NAME")
			}
		}
		return server.Run(ctx, o)
	}
}

func demoCommand(c *call) func(context.Context) error {
	c.configured = true
	o := demo.Options{Out: c.Out, Err: c.Err}
	c.flags.StringVar(&o.Data, "data", "", "`DIR` to keep what is made; a new temporary one when not given")
	c.flags.StringVar(&o.Listen, "listen", "127.0.0.1:7400", "`ADDRESS` of the console and the API")
	c.flags.StringVar(&o.Gateway, "gateway", "127.0.0.1:7500", "`ADDRESS` of the gateway")
	c.flags.DurationVar(&o.For, "for", 0,
		"`DURATION` after which it ends by itself with a summary; it fails when the story did not play out")
	c.flags.Uint64Var(&o.Seed, "seed", 2024, "`NUMBER`: the same seed gives the same town")
	c.flags.Float64Var(&o.Rate, "rate", 200, "`N` requests a second to demand-hourly")
	c.flags.StringVar(&o.Story, "story", "", "`STORY` to play alone: "+strings.Join(demo.Stories, ", "))
	return func(ctx context.Context) error {
		if o.Story != "" && !slices.Contains(demo.Stories, o.Story) {
			return wrongUse("there is no story %q; play one of %s", o.Story, strings.Join(demo.Stories, ", "))
		}
		if o.Rate <= 0 || o.Rate > 5000 {
			return wrongUse("a rate of %v requests a second cannot be made; use 1 to 5000", o.Rate)
		}
		return demo.Run(ctx, o)
	}
}

// behaviour defines the options that say how a stand-in behaves.
func behaviour(c *call, b *standin.Behaviour) {
	c.flags.DurationVar(&b.StartAfter, "start-after", 0, "`DURATION` until it is ready")
	c.flags.DurationVar(&b.Delay, "delay", 0, "`DURATION` that every answer takes longer")
	c.flags.Float64Var(&b.FailPercent, "fail", 0, "`PERCENT` of requests that fail")
	c.flags.Float64Var(&b.Bias, "bias", 0, "`NUMBER` that is added to every numeric prediction")
	c.flags.DurationVar(&b.CrashAfter, "crash-after", 0, "`DURATION` after which the server crashes")
}

func standinCommand(c *call) func(context.Context) error {
	c.configured = true
	var o standin.Options
	c.flags.StringVar(&o.Listen, "listen", "127.0.0.1:9001", "`ADDRESS` of the model server")
	c.flags.StringVar(&o.Model, "model", "", "`FILE` of the fitted model")
	c.flags.StringVar(&o.Name, "name", "", "`NAME` of the model there; that in the file when not given")
	behaviour(c, &o.Behaviour)
	return func(ctx context.Context) error {
		if o.Model == "" {
			return wrongUse("no model is given; use -model")
		}
		if err := o.Behaviour.Check(); err != nil {
			return wrongUse("%v", err)
		}
		o.Started = func(address, model string) { fmt.Fprintf(c.Out, "%s serves %s\n", address, model) }
		return standin.Run(ctx, o)
	}
}

func tellCommand(c *call) func(context.Context) error {
	var b standin.Behaviour
	behaviour(c, &b)
	return func(ctx context.Context) error {
		if err := b.Check(); err != nil {
			return wrongUse("%v", err)
		}
		if err := standin.Tell(ctx, strings.TrimRight(c.args[0], "/"), b); err != nil {
			return err
		}
		fmt.Fprintln(c.Out, b)
		return nil
	}
}

func standinMail(c *call) func(context.Context) error {
	c.configured = true
	listen := c.flags.String("listen", "127.0.0.1:2525", "`ADDRESS` of the mail server")
	return func(ctx context.Context) error {
		l, err := net.Listen("tcp", *listen)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.Out, "takes e-mail at %s\n", l.Addr())
		m := standin.Mail{Received: func(l standin.Letter) {
			fmt.Fprintf(c.Out, "to %s: %s\n%s\n", l.To, l.Subject,
				l.Body)
		}}
		return m.Serve(ctx, l)
	}
}

func standinHook(c *call) func(context.Context) error {
	c.configured = true
	listen := c.flags.String("listen", "127.0.0.1:2580", "`ADDRESS` of the receiver")
	file := c.flags.String("secret-file", "", "`FILE` with the webhook's secret; it is read for every delivery")
	return func(ctx context.Context) error {
		if *file == "" {
			return wrongUse("no secret is given; use -secret-file")
		}
		l, err := net.Listen("tcp", *listen)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.Out, "takes webhooks at http://%s\n", l.Addr())
		srv := &http.Server{ReadTimeout: time.Minute, Handler: &standin.Hook{
			Secret:   func() string { b, _ := os.ReadFile(*file); return string(b) },
			Received: func(id string, body []byte) { fmt.Fprintf(c.Out, "%s %s\n", id, body) },
		}}
		stop := context.AfterFunc(ctx, func() { _ = srv.Close() })
		defer stop()
		if err := srv.Serve(l); err != nil && ctx.Err() == nil {
			return err
		}
		return nil
	}
}
