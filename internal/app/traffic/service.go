// Package traffic keeps endpoints, their splits, and the placements of versions, and puts in
// force at the gateway what is decided about them.
package traffic

import (
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/people"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/secrets"
	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/runner"
	"innerladder/internal/wire"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	people   *people.Service
	registry *registry.Service
	secrets  *secrets.Service
	recorder *recorder.Recorder
	router   Router
	servers  *oip.Client
	// runners runs versions on this machine; nil where none are. runs is what is known of each by its id, only for the
	// job that looks after them.
	runners *runner.Keeper
	runs    map[string]*run

	// callersUse is how callers reach the gateway.
	callersUse atomic.Pointer[string]

	// routing serialises reading the routes and putting them in force; unrouted are the
	// endpoints for which that could not be done.
	routing  sync.Mutex
	unrouted map[string]bool
	// routed are the routes in force, diverted those that the record does not know of yet.
	routed   map[string]route
	diverted map[string]diversion
	// courses are those of each endpoint up to its newest split.
	coursesMu sync.Mutex
	courses   map[string]traffic.Course
}

// askServersFor is how long a model server may take to answer a question of ours.
const askServersFor = 2 * time.Second

// New makes a service, which from then on puts routes in force after every
// change that they depend on.
func New(b *act.Base, people *people.Service, registry *registry.Service, secrets *secrets.Service,
	rec *recorder.Recorder, router Router, runners *runner.Keeper,
) *Service {
	s := &Service{
		Base: b, people: people, registry: registry, secrets: secrets, recorder: rec, router: router,
		runners: runners, runs: map[string]*run{},
		servers: oip.NewClient(askServersFor), unrouted: map[string]bool{},
		routed: map[string]route{}, diverted: map[string]diversion{}, courses: map[string]traffic.Course{},
	}
	b.OnConfirm(s.follow)
	return s
}

// Router puts routes in force, each endpoint by itself.
type Router interface {
	// Route puts the route of one endpoint in force; when it cannot, its last good one goes
	// on.
	Route(traffic.Route) error
	// Endpoints says which endpoints there are.
	Endpoints(names []string)
	// Down reports whether a request has found a model down at an address since MarkUp.
	Down(address, model string) bool
	// MarkUp says that a model was found ready at an address.
	MarkUp(address, model string)
}

// CallersUse says how callers reach the gateway, for examples.
func (s *Service) CallersUse(url string) { s.callersUse.Store(&url) }

// Gateway is how callers reach the gateway.
func (s *Service) Gateway() wire.GatewayAddress {
	if url := s.callersUse.Load(); url != nil {
		return wire.GatewayAddress{URL: *url}
	}
	return wire.GatewayAddress{}
}
