// Package service is what Inner Ladder does, one file for each capability. Every change
// of state goes the same way: check the permission, decide in the core, and write the
// record and its audit entry in one transaction; the entry is published when the
// transaction is confirmed.
package service

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/blob"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/health"
	"innerladder/internal/core/record"
	"innerladder/internal/core/traffic"
	"innerladder/internal/fetch"
	"innerladder/internal/jobs"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/signals"
)

// Config is what a service is made of.
type Config struct {
	Records  *records.DB
	Signals  *signals.Keeper
	Blobs    *blob.Store
	Recorder *recorder.Recorder
	Router   Router
	Log      *slog.Logger
	// RequestIDs reads the ids that the gateway makes.
	RequestIDs *traffic.RequestIDs
	// Fetch opens the addresses that versions are registered from.
	Fetch *fetch.Fetcher
	// Signer signs checkpoints of the record.
	Signer record.Signer
	// Address is how people reach the console, for links.
	Address string
	// Keys seal what must not lie open.
	Keys *seal.Ring
	// Spare is how old a file must be to be collected; 0 is an hour.
	Spare time.Duration
	// Now is the clock; nil is the real one.
	Now func() time.Time
}

// Service does the job. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	signals  *signals.Keeper
	blobs    *blob.Store
	recorder *recorder.Recorder
	router   Router
	servers  *oip.Client
	requests *traffic.RequestIDs
	fetcher  *fetch.Fetcher
	spareFor time.Duration
	attempts attempts
	// attention knows which promotions have to be looked at.
	attention attention
	address   string
	signer    record.Signer

	// keys seal secrets; they change when they are rotated.
	keysMu   sync.Mutex
	keys     *seal.Ring
	rotating sync.Mutex

	// routing serialises reading the routes and putting them in force; unrouted are the
	// endpoints for which that could not be done.
	routing  sync.Mutex
	unrouted map[string]bool

	// health is where the health watch of each address of each placement stands; checking
	// are the checks that go on.
	healthMu sync.Mutex
	health   map[address]health.State
	checking jobs.Busy

	// watched is where the watching of each endpoint's trials stands, trials which those are.
	watchMu sync.Mutex
	watched map[string]guard.State
	trials  map[string]splitTrials
	// said is what was said last of the signals.
	said atomic.Int32
}

// askServersFor is how long a model server may take to answer a question of ours.
const askServersFor = 2 * time.Second

// New makes a service.
func New(c Config) *Service {
	s := &Service{
		Base: act.NewBase(c.Records, c.Log, c.Now), signals: c.Signals, blobs: c.Blobs, recorder: c.Recorder,
		router:   c.Router,
		servers:  oip.NewClient(askServersFor),
		requests: c.RequestIDs, unrouted: map[string]bool{}, health: map[address]health.State{},
		watched: map[string]guard.State{}, trials: map[string]splitTrials{}, fetcher: c.Fetch, spareFor: c.Spare,
		address: c.Address, keys: c.Keys, signer: c.Signer,
	}
	if s.fetcher == nil {
		s.fetcher = &fetch.Fetcher{}
	}
	s.OnNote(tell)
	s.OnConfirm(s.attention.noted)
	s.OnConfirm(s.follow)
	return s
}

// spare is how old a file must be to be collected.
func (s *Service) spare() time.Duration {
	if s.spareFor == 0 {
		return youngest
	}
	return s.spareFor
}

// Ready says whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.DB.Ready(ctx) }
