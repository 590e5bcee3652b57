package people

import (
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
)

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
	// Groups are those that the provider says they are in; Mapped is what the service makes of groups, nil where it
	// makes nothing of them.
	Groups []string
	Mapped GroupRoles
}

// GroupRoles says which roles a group of the provider gives.
type GroupRoles map[string][]access.Membership

// Parse reads GROUP=ROLE@PROJECT, with * for all projects, and adds it.
func (g GroupRoles) Parse(s string) error {
	at := strings.LastIndex(s, "=")
	role, project, ok := strings.Cut(s[at+1:], "@")
	if at < 1 || !ok || role == "" || project == "" {
		return fault.New(fault.Invalid, "provider.group", "%q says of no group which role it gives", s).
			In("-oidc-group").
			Do("write GROUP=ROLE@PROJECT, such as heat-engineers=operator@forecasting; ROLE@* is for all projects")
	}
	g[s[:at]] = append(g[s[:at]], access.Membership{Project: project, Role: role})
	return nil
}

// Of are the memberships that groups give, each once.
func (g GroupRoles) Of(groups []string) (out []access.Membership) {
	for _, name := range groups {
		for _, m := range g[name] {
			if !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	return out
}
