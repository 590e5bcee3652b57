// Package observe knows how endpoints fare: what is measured, how versions compare, whether
// model servers are well, and the alerts about all that.
package observe

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/custom"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/health"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/request"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
	coretraffic "innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/jobs"
	"innerladder/internal/recorder"
	"innerladder/internal/signals"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	registry *registry.Service
	traffic  *traffic.Service
	recorder *recorder.Recorder
	signals  *signals.Keeper
	router   traffic.Router
	ids      *coretraffic.RequestIDs

	// health is where the health watch of each address of each placement stands; checking
	// are the checks that go on.
	healthMu sync.Mutex
	health   map[address]health.State
	checking jobs.Busy
	// watched is where the watching of each endpoint's trials stands.
	watchMu sync.Mutex
	watched map[string]guard.State
	// worst is the worst moment of main in the day before a trial began, was what a version did before another took
	// over from it.
	worst past[trialKey, seqtest.Moment]
	was   past[trialKey, guard.Pair]
	// wasValues is what an incumbent did before a trial by signals whose values come later.
	wasValues past[valueKey, *sketch.Numbers]
	// watches are those of each endpoint.
	watchesMu sync.Mutex
	watches   map[string]*watching
	// lookups counts, in one round of the job, how often it was looked up what is usual.
	lookups int
	// truths are the outcomes of each endpoint that no look has taken yet, reports values of custom signals.
	truthsMu sync.Mutex
	truths   map[string][]outcome.Pair
	reports  map[string][]custom.Value
	// respond does what a watch asks for beside an alert.
	respond func(ctx context.Context, endpoint string, st watch.Stand) (did string, err error)
	// asked are the inputs of requests that ended in some ways, and of others.
	asked func(ctx context.Context, endpoint string, from, to time.Time, ways []request.Outcome,
	) (troubled, fine []map[string]any, err error)
	// said is what was said last of the signals.
	said atomic.Int32
}

// New makes a service.
func New(b *act.Base, registry *registry.Service, traffic *traffic.Service, rec *recorder.Recorder,
	kept *signals.Keeper, router traffic.Router, ids *coretraffic.RequestIDs,
) *Service {
	return &Service{
		Base: b, registry: registry, traffic: traffic, recorder: rec, signals: kept, router: router, ids: ids,
		health: map[address]health.State{}, watched: map[string]guard.State{}, watches: map[string]*watching{},
		truths: map[string][]outcome.Pair{}, reports: map[string][]custom.Value{},
	}
}

// OnAsked says how it is found out what was asked, which the log of requests knows.
func (s *Service) OnAsked(asked func(ctx context.Context, endpoint string, from, to time.Time, ways []request.Outcome,
) (troubled, fine []map[string]any, err error),
) {
	s.asked = asked
}

// OnFire says how is done what a watch asks for beside an alert, which knows of rollouts and splits.
func (s *Service) OnFire(respond func(ctx context.Context, endpoint string, st watch.Stand) (did string, err error)) {
	s.respond = respond
}
