// Package registry keeps models, their versions and files, and what those come from: data sets,
// runs and evidence.
package registry

import (
	"sync"

	"innerladder/internal/app/act"
	"innerladder/internal/app/people"
	"innerladder/internal/blob"
	"innerladder/internal/core/traffic"
	"innerladder/internal/fetch"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	people *people.Service
	blobs  *blob.Store
	// held are uploads of which a registration is being made.
	held sync.Map
	// fetcher opens the addresses that versions are registered from.
	fetcher *fetch.Fetcher
	// requests reads the ids that the gateway makes.
	requests *traffic.RequestIDs
}

// New makes a service. fetcher opens the addresses that versions are registered
// from, requests reads the ids that the gateway makes.
func New(b *act.Base, people *people.Service, blobs *blob.Store, fetcher *fetch.Fetcher,
	requests *traffic.RequestIDs,
) *Service {
	return &Service{Base: b, people: people, blobs: blobs, fetcher: fetcher, requests: requests}
}
