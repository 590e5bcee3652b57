// Package service is what Inner Ladder does, one file for each capability. Every change
// of state goes the same way: check the permission, decide in the core, and write the
// record and its audit entry in one transaction; the entry is published when the
// transaction is confirmed.
package service

import (
	"context"
	"log/slog"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/blob"
	"innerladder/internal/core/record"
	"innerladder/internal/core/traffic"
	"innerladder/internal/fetch"
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

// Service does the job: all capabilities, each on those that stand below it.
type Service struct {
	*act.Base
	Secrets  *Secrets
	People   *People
	Notices  *Notices
	Registry *Registry
	Traffic  *Traffic
	Observe  *Observe
	Ladder   *Ladder
	Rollouts *Rollouts
	Record   *Record
	Keep     *Keep
}

// New makes a service.
func New(c Config) *Service {
	if c.Fetch == nil {
		c.Fetch = &fetch.Fetcher{}
	}
	s := &Service{Base: act.NewBase(c.Records, c.Log, c.Now)}
	s.Secrets = NewSecrets(s.Base, c.Keys)
	s.People = NewPeople(s.Base, c.Address, c.Signer)
	s.Notices = NewNotices(s.Base, s.People, s.Secrets, c.Fetch, c.Address)
	s.Registry = NewRegistry(s.Base, s.People, c.Blobs, c.Fetch, c.RequestIDs)
	s.Traffic = NewTraffic(s.Base, s.Registry, s.Secrets, c.Recorder, c.Router)
	s.Observe = NewObserve(s.Base, s.Registry, s.Traffic, c.Recorder, c.Signals, c.Router)
	s.Ladder = NewLadder(s.Base, s.People, s.Registry, s.Observe, c.Blobs, c.Signer)
	s.Rollouts = NewRollouts(s.Base, s.Traffic, s.Observe, s.Ladder, c.Recorder)
	s.Record = NewRecord(s.Base, s.People, s.Registry, s.Ladder, s.Observe, c.Signer, c.Address)
	s.Keep = NewKeep(s.Base, s.Traffic, c.Blobs, c.Signals, c.Spare)
	return s
}

// Ready says whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.DB.Ready(ctx) }
