// Package serve puts the house together: it opens the stores, wires the rooms, listens,
// and takes everything down again in the right order.
package serve

import (
	"context"
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
	"innerladder/internal/blob"
	"innerladder/internal/conductor"
	"innerladder/internal/fetch"
	"innerladder/internal/gateway"
	"innerladder/internal/recorder"
	"innerladder/internal/seal"
	"innerladder/internal/service"
	"innerladder/internal/store"
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
	// BodyBudget is about how many bodies a second of each lane are read.
	BodyBudget int
	// Fetch says which addresses versions may be registered from.
	Fetch *fetch.Fetcher
	// Grace is how long requests under way may take to finish when the service stops.
	Grace time.Duration
	Log   *slog.Logger
	// Started is told the addresses once everything answers, and the link for the first
	// owner while there is nobody.
	Started func(listen, gateway, firstLink string)
}

// Run serves until ctx is done, then stops: requests under way finish, what was measured
// is written.
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
	records, err := store.Open(ctx, filepath.Join(o.Data, "ladder.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, records.Close()) }()
	signals, err := store.OpenSignals(ctx, filepath.Join(o.Data, "signals.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, signals.Close()) }()
	blobs, err := blob.Open(filepath.Join(o.Data, "blobs"))
	if err != nil {
		return err
	}
	rec, err := recorder.New(ctx, signals, o.Log, o.BodyBudget)
	if err != nil {
		return err
	}

	var clock *conductor.Conductor
	keys, err := keyring(ctx, o, records)
	if err != nil {
		return err
	}
	unlocked, err := service.Unlock(ctx, records, keys, time.Now().UTC())
	if err != nil {
		return err
	}
	// The address is needed for links before anything answers.
	inside, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return fmt.Errorf("listening for the console and the API: %w; choose another address with -listen", err)
	}
	defer inside.Close()
	if o.Address == "" {
		o.Address = "http://" + inside.Addr().String()
	}
	ids := unlocked.RequestIDs
	gate := gateway.New(gateway.Config{IDs: ids, Timeout: o.Timeout, Connections: o.Connections, Unreachable: func(a string) { clock.Unreachable(a) }}, rec, o.Log)
	serv := service.New(service.Config{Store: records, Signals: signals, Blobs: blobs, Recorder: rec, Router: gate, Log: o.Log, RequestIDs: ids, Fetch: o.Fetch, Address: strings.TrimRight(o.Address, "/"), Keys: keys, Signer: unlocked.Signer})
	clock = conductor.New(serv, gate, o.Log)
	control, err := api.New(serv, rec, api.Config{Console: api.Console{Files: web.Files()}, Provider: o.Provider, Proxies: o.Proxies}, o.Log)
	if err != nil {
		return err
	}
	firstLink, err := serv.FirstLink(ctx)
	if err != nil {
		return err
	}
	if err := serv.Reroute(ctx); err != nil {
		return err
	}
	return listen(ctx, o, inside, firstLink, gate, control, clock, rec)
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
		return nil, fmt.Errorf("another service works on %s; stop it, or use another -data directory", filepath.Dir(path))
	}
	return func() { _ = f.Close() }, nil
}

// keyring reads the keys that seal secrets.
func keyring(ctx context.Context, o Options, records *store.Store) (*seal.Ring, error) {
	if o.Keys != nil {
		return o.Keys, nil
	}
	file := o.KeyFile
	if file == "" {
		file = filepath.Join(o.Data, "key")
	}
	sealed, err := records.Read().Secrets(ctx, "")
	if err != nil {
		return nil, err
	}
	return seal.Open(file, len(sealed) > 0)
}

// listen opens the gateway's listener too and runs everything until ctx is done or a listener
// breaks.
func listen(ctx context.Context, o Options, inside net.Listener, firstLink string, gate *gateway.Gateway, control *api.API, clock *conductor.Conductor, rec *recorder.Recorder) error {
	outside, err := net.Listen("tcp", o.Gateway)
	if err != nil {
		return fmt.Errorf("listening for the gateway: %w; choose another address with -gateway", err)
	}
	broken := make(chan error, 2)
	go func() { broken <- gate.Serve(outside) }()
	go func() { broken <- control.Serve(inside) }()

	// Recording ends after the gateway, so nothing that was answered goes unrecorded.
	recording, stopRecording := context.WithCancel(context.WithoutCancel(ctx))
	working, stopWorking := context.WithCancel(context.WithoutCancel(ctx))
	var wait sync.WaitGroup
	wait.Go(func() { rec.Run(recording) })
	wait.Go(func() { clock.Run(working) })
	if o.Started != nil {
		o.Started("http://"+inside.Addr().String(), "http://"+outside.Addr().String(), firstLink)
	}

	select {
	case <-ctx.Done():
		err = nil
	case err = <-broken:
	}
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), o.Grace)
	defer cancel()
	stopWorking()
	err = errors.Join(err, gate.Stop(grace), control.Stop(grace))
	stopRecording()
	wait.Wait()
	return err
}
