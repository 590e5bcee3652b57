// Package app is what Inner Ladder does, one package for each capability. Each stands on
// package act and on those below it, and none knows of those above: what follows elsewhere from
// a change, such as a new route from a moved label, follows from its entry of the record.
package app

import (
	"context"
	"log/slog"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/agents"
	"innerladder/internal/app/custom"
	"innerladder/internal/app/keep"
	"innerladder/internal/app/ladder"
	"innerladder/internal/app/notices"
	"innerladder/internal/app/observe"
	"innerladder/internal/app/outcomes"
	"innerladder/internal/app/people"
	"innerladder/internal/app/proof"
	"innerladder/internal/app/record"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/requests"
	"innerladder/internal/app/rollouts"
	"innerladder/internal/app/secrets"
	"innerladder/internal/app/traffic"
	"innerladder/internal/blob"
	"innerladder/internal/fetch"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/requestlog"
	"innerladder/internal/runner"
	"innerladder/internal/seal"
	"innerladder/internal/signals"
)

// Config is what everything is made of.
type Config struct {
	Records  *records.DB
	Signals  *signals.Keeper
	Blobs    *blob.Store
	Recorder *recorder.Recorder
	Router   traffic.Router
	// Requests keeps single requests.
	Requests *requestlog.Log
	// Runners runs versions on this machine; nil runs none.
	Runners *runner.Keeper
	// Jobs is the folder of what jobs work with; empty carries out none.
	Jobs string
	// Build is what the service was made from, for reports that it makes.
	Build string
	Log   *slog.Logger
	// Unlocked are the keys of the installation.
	Unlocked secrets.Unlocked
	// Fetch opens the addresses that versions are registered from; nil takes the usual ones.
	Fetch *fetch.Fetcher
	// Address is how people reach the console, for links.
	Address string
	// Keys seal what must not lie open.
	Keys *seal.Ring
	// Spare is how old a file must be to be collected; 0 is an hour.
	Spare time.Duration
	// Now is the clock; nil is the real one.
	Now func() time.Time
}

// App is all capabilities together. It is safe for use by several goroutines at once.
type App struct {
	*act.Base
	Secrets  *secrets.Service
	People   *people.Service
	Notices  *notices.Service
	Registry *registry.Service
	Traffic  *traffic.Service
	Observe  *observe.Service
	Requests *requests.Service
	Outcomes *outcomes.Service
	Custom   *custom.Service
	Agents   *agents.Service
	Proof    *proof.Service
	Ladder   *ladder.Service
	Rollouts *rollouts.Service
	Record   *record.Service
	Keep     *keep.Service
}

// New puts the capabilities together, each on those that stand below it.
func New(c Config) *App {
	if c.Fetch == nil {
		c.Fetch = &fetch.Fetcher{}
	}
	signer := c.Unlocked.Signer
	a := &App{Base: act.NewBase(c.Records, c.Log, c.Now)}
	a.Secrets = secrets.New(a.Base, c.Keys)
	a.People = people.New(a.Base, c.Address, signer)
	a.Notices = notices.New(a.Base, a.People, a.Secrets, c.Fetch, c.Address)
	a.Registry = registry.New(a.Base, a.People, c.Blobs, c.Fetch, c.Unlocked.RequestIDs)
	a.Traffic = traffic.New(a.Base, a.People, a.Registry, a.Secrets, c.Recorder, c.Router, c.Runners)
	a.Observe = observe.New(a.Base, a.Registry, a.Traffic, c.Recorder, c.Signals, c.Router, c.Unlocked.RequestIDs)
	a.Requests = requests.New(a.Base, a.Registry, a.Traffic, c.Recorder, c.Signals, c.Requests,
		c.Unlocked.RequestIDs)
	a.Outcomes = outcomes.New(a.Base, a.Registry, a.Traffic, a.Observe, c.Recorder, c.Signals, c.Requests,
		c.Unlocked.RequestIDs)
	a.Custom = custom.New(a.Base, a.Registry, a.Traffic, a.Observe, c.Recorder, c.Signals, c.Unlocked.RequestIDs)
	a.Proof = proof.New(a.Base, a.Registry, a.Traffic, c.Fetch, c.Blobs, c.Signals, c.Requests, c.Jobs, c.Build)
	a.Agents = agents.New(a.Base, a.Registry, a.Traffic, c.Recorder, c.Signals)
	a.Ladder = ladder.New(a.Base, a.People, a.Registry, a.Observe, c.Blobs, signer)
	a.Rollouts = rollouts.New(a.Base, a.People, a.Registry, a.Traffic, a.Observe, a.Requests, a.Ladder)
	a.Observe.OnFire(a.Rollouts.AnswerWatch)
	a.Observe.OnAsked(a.Requests.Asked)
	a.Record = record.New(a.Base, a.People, a.Registry, a.Ladder, a.Observe, signer, c.Address)
	a.Keep = keep.New(a.Base, a.Traffic, c.Blobs, c.Signals, c.Requests, c.Spare)
	return a
}

// Degraded says what does not work now, and what still does; empty when all is well.
func (a *App) Degraded() string {
	var parts []string
	for _, what := range []string{a.Observe.Degraded(), a.Requests.Degraded()} {
		if what != "" {
			parts = append(parts, what)
		}
	}
	return strings.Join(parts, "; ")
}

// Ready says whether the records can be read.
func (a *App) Ready(ctx context.Context) error { return a.DB.Ready(ctx) }
