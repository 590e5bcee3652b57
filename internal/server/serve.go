// Package server puts the house together: it opens the stores, wires the rooms, listens,
// and takes everything down again in the right order.
package server

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"innerladder/internal/api"
	"innerladder/internal/app"
	"innerladder/internal/app/secrets"
	"innerladder/internal/blob"
	"innerladder/internal/certificate"
	"innerladder/internal/core/traffic"
	"innerladder/internal/fetch"
	"innerladder/internal/gateway"
	"innerladder/internal/jobs"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/requestlog"
	"innerladder/internal/runner"
	"innerladder/internal/seal"
	"innerladder/internal/signals"
	"innerladder/internal/tracing"
	"innerladder/web"
)

// Options say how to serve.
type Options struct {
	// Data is the directory of everything that is kept; it is made when it is new.
	Data string
	// Listen is the address of the console and the API, Gateway that of the data plane.
	Listen, Gateway string
	// Address is how people reach the console, for links; empty is the Listen address.
	Address string
	// GatewayAddress is how callers reach the gateway, for examples; empty is the Gateway address.
	GatewayAddress string
	// Hosts are further names by which people reach the console, beside that of Address.
	Hosts []string
	// Certificate and CertificateKey are files by which both listeners speak TLS; empty is plainly.
	Certificate, CertificateKey string
	// KeyFile holds the keys that seal secrets; it is made when nothing is sealed yet. Keys,
	// when not nil, take its place.
	KeyFile string
	Keys    *seal.Ring
	// Provider vouches for people; nil is none.
	Provider *api.Provider
	// Proxies are the ranges of proxies whose word is taken where a call comes from.
	Proxies []netip.Prefix
	// Timeout is how long a model server may take to answer.
	Timeout time.Duration
	// Connections is the most connections to one model server.
	Connections int
	// Callers is the most connections of callers, Bodies the most bytes of bodies that are
	// held, both at the same time.
	Callers int
	Bodies  int64
	// BodyBudget is about how many bodies a second of each endpoint are read.
	BodyBudget int
	// Fetch says which addresses versions may be registered from.
	Fetch *fetch.Fetcher
	// Runners says how versions are run on this machine.
	Runners Runners
	// Traces is the address of a collector that takes spans by OTLP; empty is none. TracesShare is the share of calls
	// without a trace of their own of which spans are sent.
	Traces      string
	TracesShare float64
	// Build is what the program was made from.
	Build string
	// Grace is how long requests under way may take to finish when the service stops.
	Grace time.Duration
	Log   *slog.Logger
	// Started is told the addresses once everything answers, and the link for the first
	// owner while there is nobody.
	Started func(listen, gateway, firstLink string)
}

// Runners says how versions are run on this machine.
type Runners struct {
	// Stop ends what runs with the service; else it goes on and is found again. Away is how long that goes on without a
	// service; 0 is ten minutes.
	Stop bool
	Away time.Duration
	// Commands lets who administers the service allow command lines that serve versions here.
	Commands bool
}

// keeper makes who runs versions in the data directory.
func (r Runners) keeper(data string, log *slog.Logger) (*runner.Keeper, error) {
	return runner.New(runner.Options{
		Dir: filepath.Join(data, "runners"), Away: r.Away, Commands: r.Commands, Log: log,
	})
}

// Run serves until ctx is done, then stops: requests under way finish, what was measured
// is written. Routes come first: the gateway answers before anything else is loaded.
func Run(ctx context.Context, o Options) (err error) {
	tune()
	if err := os.MkdirAll(o.Data, 0o700); err != nil {
		return fmt.Errorf("making the data directory: %w", err)
	}
	unlock, err := lock(filepath.Join(o.Data, "lock"))
	if err != nil {
		return err
	}
	defer unlock()
	db, err := records.Open(ctx, filepath.Join(o.Data, "ladder.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	keys, err := keyring(ctx, o, db)
	if err != nil {
		return err
	}
	unlocked, err := secrets.Unlock(ctx, db, keys, time.Now().UTC())
	if err != nil {
		return err
	}
	// The address is needed for links before anything answers.
	inside, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return fmt.Errorf("listening for the console and the API: %w; choose another address with -listen", err)
	}
	defer inside.Close()
	h := &house{log: o.Log, rec: recorder.New(o.Log, o.BodyBudget), hurry: make(chan struct{}, 1), scheme: "http://"}
	if err := h.speakTLS(o); err != nil {
		return err
	}
	if h.traces, err = tracing.To(ctx, o.Traces, o.TracesShare, o.Build, o.Log); err != nil {
		return err
	}
	defer h.endTraces(ctx)
	o.Address = cmp.Or(o.Address, h.scheme+inside.Addr().String())
	h.keeper = signals.NewKeeper(filepath.Join(o.Data, "signals.db"), o.Log, h.rec.Attach)
	defer func() { err = errors.Join(err, h.keeper.Close()) }()
	h.requests = requestlog.New(filepath.Join(o.Data, "requests"), unlocked.Columns, o.Log)
	h.gate = h.gateway(o, unlocked.RequestIDs)
	blobs, err := blob.Open(filepath.Join(o.Data, "blobs"))
	if err != nil {
		return err
	}
	if h.runners, err = o.Runners.keeper(o.Data, o.Log); err != nil {
		return err
	}
	h.app = app.New(
		app.Config{
			Runners:  h.runners,
			Jobs:     filepath.Join(o.Data, "jobs"),
			Build:    o.Build,
			Records:  db,
			Signals:  h.keeper,
			Blobs:    blobs,
			Recorder: h.rec,
			Requests: h.requests,
			Router:   h.gate,
			Log:      o.Log,
			Unlocked: unlocked,
			Fetch:    o.Fetch,
			Address:  strings.TrimRight(o.Address, "/"),
			Keys:     keys,
		},
	)
	if err := h.app.Traffic.Reroute(ctx); err != nil {
		// What can answer does; the rest is tried again.
		o.Log.Error("not all routes are in force; trying again", "error", err)
	}
	return h.run(ctx, o, inside)
}

// house is what runs.
type house struct {
	log    *slog.Logger
	rec    *recorder.Recorder
	keeper *signals.Keeper
	// requests keeps single requests.
	requests *requestlog.Log
	gate     *gateway.Gateway
	app      *app.App
	runners  *runner.Keeper
	// tls is how the listeners speak, nil plainly; scheme is what their URLs begin with.
	tls    *tls.Config
	scheme string
	traces *tracing.Tracer
	// hurry asks for a round of health checks at once.
	hurry chan struct{}
}

// speakTLS has the listeners speak TLS if there is a certificate.
func (h *house) speakTLS(o Options) error {
	if o.Certificate == "" {
		return nil
	}
	keeper, err := certificate.Open(o.Certificate, o.CertificateKey, o.Log)
	if err != nil {
		return fmt.Errorf("%w; see -tls-certificate and -tls-key", err)
	}
	h.tls, h.scheme = keeper.Config(), "https://"
	return nil
}

// endTraces sends the spans that wait.
func (h *house) endTraces(ctx context.Context) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastSpans)
	defer cancel()
	if err := h.traces.Stop(ctx); err != nil {
		h.log.Warn("the last spans were not sent", "error", err)
	}
}

// lastSpans is how long the last spans may take to be sent.
const lastSpans = 2 * time.Second

// gateway makes the data plane.
func (h *house) gateway(o Options, ids *traffic.RequestIDs) *gateway.Gateway {
	return gateway.New(
		gateway.Config{
			Requests:    h.requests,
			IDs:         ids,
			Timeout:     o.Timeout,
			Connections: o.Connections,
			Callers:     o.Callers,
			Bodies:      o.Bodies,
			Unreachable: func(string) { h.hasten() },
			TLS:         h.tls,
			Traces:      h.traces,
		},
		h.rec,
		o.Log,
	)
}

// hasten asks for a round of health checks at once; it never waits.
func (h *house) hasten() {
	select {
	case h.hurry <- struct{}{}:
	default:
	}
}

// tune sets the runtime to what a proxy needs, once, since it is the whole process that is
// changed, and unless the environment says otherwise.
// Both figures are measured by make bench.
var tune = sync.OnceFunc(func() {
	if os.Getenv("GOMAXPROCS") == "" {
		// A write to a socket keeps its processor for as long as the kernel works, on
		// loopback until the packet is received. More processors than cores let other
		// requests go on meanwhile.
		runtime.GOMAXPROCS(4 * runtime.GOMAXPROCS(0))
	}
	if os.Getenv("GOGC") == "" {
		// The heap is small and every request makes a little garbage: collecting it less
		// often costs a few megabytes.
		debug.SetGCPercent(400)
	}
})

// lock makes sure that one service only works on a data directory.
func lock(path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the data directory: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf(
			"another service works on %s; stop it, or use another -data directory",
			filepath.Dir(path),
		)
	}
	return func() { _ = f.Close() }, nil
}

// keyring reads the keys that seal secrets.
func keyring(ctx context.Context, o Options, db *records.DB) (*seal.Ring, error) {
	if o.Keys != nil {
		return o.Keys, nil
	}
	file := o.KeyFile
	if file == "" {
		file = filepath.Join(o.Data, "key")
	}
	sealed, err := db.Read(records.Everything).Secrets(ctx, "")
	if err != nil {
		return nil, err
	}
	return seal.Open(file, len(sealed) > 0)
}

// run opens the gateway's listener, and runs everything until ctx is done or a listener
// breaks.
func (h *house) run(ctx context.Context, o Options, inside net.Listener) error {
	outside, err := net.Listen("tcp", o.Gateway)
	if err != nil {
		return fmt.Errorf("listening for the gateway: %w; choose another address with -gateway", err)
	}
	h.app.Traffic.CallersUse(cmp.Or(strings.TrimRight(o.GatewayAddress, "/"), h.scheme+outside.Addr().String()))
	broken := make(chan error, 2)
	go func() { broken <- h.gate.Serve(outside) }()
	set := Jobs(h.app, h.gate, h.rec, h.requests, h.keeper, h.hurry, h.log)
	set.Traces = h.traces
	// Recording ends after the gateway, so nothing that was answered goes unrecorded.
	reading, stopReading := context.WithCancel(context.WithoutCancel(ctx))
	working, stopWorking := context.WithCancel(context.WithoutCancel(ctx))
	defer stopReading()
	defer stopWorking()
	var readers, workers sync.WaitGroup
	readers.Go(func() { h.rec.RunReader(reading) })
	readers.Go(func() { h.requests.Run(reading) })
	workers.Go(func() { set.Run(working) })

	control, firstLink, err := h.control(ctx, o, set)
	if err == nil {
		go func() { broken <- control.Serve(inside) }()
		if o.Started != nil {
			o.Started(h.scheme+inside.Addr().String(), h.scheme+outside.Addr().String(), firstLink)
		}
		select {
		case <-ctx.Done():
		case err = <-broken:
		}
	}
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), o.Grace)
	defer cancel()
	stopWorking()
	err = errors.Join(err, h.gate.Stop(grace))
	if control != nil {
		err = errors.Join(err, control.Stop(grace))
	}
	workers.Wait()
	h.app.Observe.Settle()
	h.app.Proof.Settle()
	if o.Runners.Stop {
		h.runners.StopAll(grace)
	}
	stopReading()
	readers.Wait()
	h.rec.Tick(time.Now())
	last, cancelLast := context.WithTimeout(context.WithoutCancel(ctx), lastWrite)
	defer cancelLast()
	if err := h.rec.Flush(last); err != nil {
		h.log.Error("the last second was not written", "error", err)
	}
	return err
}

// lastWrite is how long the last of what was measured may take to be written.
const lastWrite = 10 * time.Second

// control makes the control plane.
func (h *house) control(ctx context.Context, o Options, set *jobs.Set) (*api.API, string, error) {
	control, err := api.New(
		h.app,
		h.rec,
		api.Config{
			Console: api.Console{Files: web.Files()}, Provider: o.Provider, Proxies: o.Proxies, Traces: h.traces,
			Hosts: append([]string{api.HostOf(o.Address), api.HostOf("//" + o.Listen)}, o.Hosts...), TLS: h.tls,
			Jobs: set.Reports, Gateway: h.gate.Status,
			Databases: func() []api.Database { return databases(o.Data) },
		},
		o.Log,
	)
	if err != nil {
		return nil, "", err
	}
	firstLink, err := h.app.People.FirstLink(ctx)
	return control, firstLink, err
}
