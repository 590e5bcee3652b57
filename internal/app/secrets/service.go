// Package secrets keeps what must not lie open in the records: it is sealed with keys that are
// not among them. It opens the keys of an installation at a start, and changes them.
package secrets

import (
	"sync"

	"innerladder/internal/app/act"
	"innerladder/internal/seal"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base

	// keys seal secrets; they change when they are rotated.
	keysMu   sync.Mutex
	keys     *seal.Ring
	rotating sync.Mutex
}

// New makes a service; keys seal from now on.
func New(b *act.Base, keys *seal.Ring) *Service { return &Service{Base: b, keys: keys} }
