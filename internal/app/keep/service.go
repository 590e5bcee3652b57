// Package keep looks after what is kept: for how long, and that it can be put back.
package keep

import (
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/traffic"
	"innerladder/internal/blob"
	"innerladder/internal/requestlog"
	"innerladder/internal/signals"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	traffic *traffic.Service
	blobs   *blob.Store
	signals *signals.Keeper
	// requests keeps single requests; nil keeps none.
	requests *requestlog.Log
	// spareFor is how old a file must be to be collected; 0 is an hour.
	spareFor time.Duration
}

// New makes a service. spare is how old a file must be to be collected; 0 is an hour.
func New(b *act.Base, traffic *traffic.Service, blobs *blob.Store, kept *signals.Keeper, requests *requestlog.Log,
	spare time.Duration,
) *Service {
	return &Service{Base: b, traffic: traffic, blobs: blobs, signals: kept, requests: requests, spareFor: spare}
}
