// Package notices tells people and programs what happened: in inboxes, by e-mail and by webhooks.
// What is to be told is written in the transaction of the change, and sent after it.
package notices

import (
	"innerladder/internal/app/act"
	"innerladder/internal/app/people"
	"innerladder/internal/app/secrets"
	"innerladder/internal/fetch"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	people  *people.Service
	secrets *secrets.Service
	fetcher *fetch.Fetcher
	// address is how people reach the console, for links.
	address string
}

// New makes a service, which from then on is told of every change. fetcher opens
// the addresses of webhooks, address is how people reach the console.
func New(b *act.Base, people *people.Service, secrets *secrets.Service, fetcher *fetch.Fetcher,
	address string,
) *Service {
	b.OnNote(tell)
	return &Service{Base: b, people: people, secrets: secrets, fetcher: fetcher, address: address}
}
