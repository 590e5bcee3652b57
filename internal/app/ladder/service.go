// Package ladder keeps the ladders of projects, and takes promotions from the question through
// the sign-offs to the rung.
package ladder

import (
	"innerladder/internal/app/act"
	"innerladder/internal/app/observe"
	"innerladder/internal/app/people"
	"innerladder/internal/app/registry"
	"innerladder/internal/blob"
	"innerladder/internal/core/record"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	people   *people.Service
	registry *registry.Service
	observe  *observe.Service
	blobs    *blob.Store
	signer   record.Signer
	// attention knows which promotions have to be looked at.
	attention attention
}

// New makes a service. signer signs what the service itself vouches for.
func New(b *act.Base, people *people.Service, registry *registry.Service, observe *observe.Service, blobs *blob.Store,
	signer record.Signer,
) *Service {
	s := &Service{Base: b, people: people, registry: registry, observe: observe, blobs: blobs, signer: signer}
	b.OnConfirm(s.attention.noted)
	return s
}
