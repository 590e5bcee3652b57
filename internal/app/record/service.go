// Package record is what is read of the record of who did what, when and why, what is said
// about it, and what is proved by it.
package record

import (
	"innerladder/internal/app/act"
	"innerladder/internal/app/ladder"
	"innerladder/internal/app/observe"
	"innerladder/internal/app/people"
	"innerladder/internal/app/registry"
	"innerladder/internal/core/record"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	people   *people.Service
	registry *registry.Service
	ladder   *ladder.Service
	observe  *observe.Service
	signer   record.Signer
	// address is how people reach the console, for the source of exported events.
	address string
}

// New makes a service. signer signs checkpoints.
func New(b *act.Base, people *people.Service, registry *registry.Service, ladder *ladder.Service,
	observe *observe.Service, signer record.Signer, address string,
) *Service {
	return &Service{
		Base: b, people: people, registry: registry, ladder: ladder, observe: observe, signer: signer,
		address: address,
	}
}
