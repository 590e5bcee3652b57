// Package rollouts moves endpoints from one version to another by plan, and back when a guard fires.
package rollouts

import (
	"context"
	"sync"

	"innerladder/internal/app/act"
	"innerladder/internal/app/ladder"
	"innerladder/internal/app/observe"
	"innerladder/internal/app/people"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/requests"
	"innerladder/internal/app/traffic"
	"innerladder/internal/jobs"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	people   *people.Service
	registry *registry.Service
	traffic  *traffic.Service
	observe  *observe.Service
	requests *requests.Service
	ladder   *ladder.Service

	// warmed are the candidates that are sent sample requests, by rollout.
	warmMu  sync.Mutex
	warmed  map[string]warmth
	warming jobs.Busy
	// recording writes down what guards did, beside the job that steps them; owed is what people did
	// that could not be written yet, by endpoint.
	recording jobs.Busy
	owedMu    sync.Mutex
	owed      map[string]func(context.Context) error
}

// New makes a service.
func New(b *act.Base, people *people.Service, registry *registry.Service, traffic *traffic.Service,
	observe *observe.Service, requests *requests.Service, ladder *ladder.Service,
) *Service {
	return &Service{
		Base: b, people: people, registry: registry, traffic: traffic, observe: observe,
		requests: requests, ladder: ladder,
		warmed: map[string]warmth{}, owed: map[string]func(context.Context) error{},
	}
}
