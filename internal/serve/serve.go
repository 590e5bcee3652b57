// Package serve puts the house together: it opens the stores, wires the rooms, listens,
// and takes everything down again in the right order.
package serve

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"sync"
	"syscall"
	"time"

	"innerladder/internal/api"
	"innerladder/internal/blob"
	"innerladder/internal/conductor"
	"innerladder/internal/fetch"
	"innerladder/internal/gateway"
	"innerladder/internal/recorder"
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
	// FirstPerson is the owner who is added to a new data directory.
	FirstPerson string
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
	// Started is told the addresses once everything answers, and the file with the
	// first person's token when one was made.
	Started func(listen, gateway, tokenFile string)
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
	ids, err := service.RequestIDs(ctx, records.Read())
	if err != nil {
		return err
	}
	gate := gateway.New(gateway.Config{IDs: ids, Timeout: o.Timeout, Connections: o.Connections, Unreachable: func(a string) { clock.Unreachable(a) }}, rec, o.Log)
	serv := service.New(service.Config{Store: records, Signals: signals, Blobs: blobs, Recorder: rec, Router: gate, Log: o.Log, RequestIDs: ids, Fetch: o.Fetch})
	clock = conductor.New(serv, gate, o.Log)
	control, err := api.New(serv, rec, api.Console{Files: web.Files()}, o.Log)
	if err != nil {
		return err
	}
	tokenFile, err := firstPerson(ctx, serv, o)
	if err != nil {
		return err
	}
	if err := serv.Reroute(ctx); err != nil {
		return err
	}
	return listen(ctx, o, tokenFile, gate, control, clock, rec)
}

// tune sets the runtime to what a proxy needs, unless the environment says otherwise.
// Both figures are measured by make bench.
func tune() {
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
}

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

// firstPerson adds the owner of a new data directory and writes the token to a file
// that only its owner can read.
func firstPerson(ctx context.Context, s *service.Service, o Options) (file string, err error) {
	token, err := s.FirstPerson(ctx, o.FirstPerson)
	if err != nil || token == "" {
		return "", err
	}
	file = filepath.Join(o.Data, "first-token")
	if err := os.WriteFile(file, []byte(token+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("writing the first person's token: %w", err)
	}
	return file, nil
}

// listen opens both listeners and runs everything until ctx is done or a listener
// breaks.
func listen(ctx context.Context, o Options, tokenFile string, gate *gateway.Gateway, control *api.API, clock *conductor.Conductor, rec *recorder.Recorder) error {
	outside, err := net.Listen("tcp", o.Gateway)
	if err != nil {
		return fmt.Errorf("listening for the gateway: %w; choose another address with -gateway", err)
	}
	inside, err := net.Listen("tcp", o.Listen)
	if err != nil {
		_ = outside.Close()
		return fmt.Errorf("listening for the console and the API: %w; choose another address with -listen", err)
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
		o.Started("http://"+inside.Addr().String(), "http://"+outside.Addr().String(), tokenFile)
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
