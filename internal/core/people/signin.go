package people

import "time"

// SessionLasts is how long a sign-in to the console holds.
const SessionLasts = 12 * time.Hour

// From is where a sign-in comes from.
type From struct {
	Address string
	Agent   string
}

// Vouched is who a provider of sign-ins says that someone is.
type Vouched struct {
	Issuer, Subject string
	// Email counts only when the provider has verified it.
	Email    string
	Verified bool
}
