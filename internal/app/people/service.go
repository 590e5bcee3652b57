// Package people keeps accounts, roles, tokens and sign-ins, and the projects in which people
// have roles.
package people

import (
	"innerladder/internal/app/act"
	"innerladder/internal/core/record"
	"innerladder/internal/credential"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	attempts attempts
	turns    credential.Turns
	// address is how people reach the console, for links.
	address string
	signer  record.Signer
}

// New makes a service. address is how people reach the console, signer what the
// service itself signs with.
func New(b *act.Base, address string, signer record.Signer) *Service {
	return &Service{Base: b, address: address, signer: signer}
}
