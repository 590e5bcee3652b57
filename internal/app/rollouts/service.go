// Package rollouts moves endpoints from one version to another, and back when a guard fires.
package rollouts

import (
	"innerladder/internal/app/act"
	"innerladder/internal/app/ladder"
	"innerladder/internal/app/observe"
	"innerladder/internal/app/traffic"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	traffic *traffic.Service
	observe *observe.Service
	ladder  *ladder.Service
}

// New makes a service.
func New(b *act.Base, traffic *traffic.Service, observe *observe.Service, ladder *ladder.Service) *Service {
	return &Service{Base: b, traffic: traffic, observe: observe, ladder: ladder}
}
