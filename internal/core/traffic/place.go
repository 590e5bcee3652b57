package traffic

import (
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/replica"
	"innerladder/internal/core/signature"
)

// Environment is a place where versions run. It is some project's, which keeps it, and versions of
// the projects that it is shared with may run there too.
type Environment struct {
	Name        string   `json:"name"`
	Description string   `json:"description"`
	Project     string   `json:"project" description:"whose it is; who manages that project keeps it"`
	SharedWith  []string `json:"shared_with" description:"other projects whose versions may run there"`
	// Allowed says where its model servers may be; anywhere when there is no rule.
	Allowed []AddressRule `json:"allowed" description:"where model servers may be; anywhere when empty"`
	// Headers is how many headers its model servers are sent with every request.
	Headers    int       `json:"headers" description:"how many headers its model servers are sent"`
	AddedBy    string    `json:"added_by"`
	AddedAt    time.Time `json:"added_at"`
	Placements int       `json:"placements" description:"how many versions are placed there"`
}

// Serves reports whether versions of a project may run there.
func (e Environment) Serves(project string) bool {
	return project != "" && (e.Project == project || slices.Contains(e.SharedWith, project))
}

// CheckProject refuses versions of a project that may not run there.
func (e Environment) CheckProject(project string) error {
	if e.Serves(project) {
		return nil
	}
	return fault.New(fault.Refused, "environment.not_shared", "%s is for %s, not for %s", e.Name, e.Project, project).
		In("environment").
		Do("ask who manages %s to share it with: innerladder environment edit %s -share %s", e.Project, e.Name, project)
}

// CheckAddress refuses an address where none of its model servers may be. What its servers are
// sent is secret, so without a rule nothing of it may leave.
func (e Environment) CheckAddress(address string) error {
	switch {
	case len(e.Allowed) == 0 && e.Headers == 0:
		return nil
	case len(e.Allowed) == 0:
		return fault.New(fault.Refused, "environment.no_rules",
			"%s has headers, and no rule that says to which addresses they may go", e.Name).In("environment").
			Do("say so first with: innerladder environment edit %s -allow HOST", e.Name)
	case slices.ContainsFunc(e.Allowed, func(r AddressRule) bool { return r.Allows(address) }):
		return nil
	}
	return fault.New(fault.Refused, "placement.not_allowed", "no model server of %s may be at %s", e.Name, address).
		In("addresses").
		Do("see its rules with: innerladder environment list; who manages %s can change them", e.Project)
}

// Address is one model server of a placement.
type Address struct {
	URL     string `json:"url"`
	Healthy bool   `json:"healthy"`
	// Reason says why the address is not healthy, Since when that was last found.
	Reason string    `json:"reason,omitempty"`
	Since  time.Time `json:"since"`
}

// Placement is one version running in one environment.
type Placement struct {
	ID          int64     `json:"id"`
	Project     string    `json:"project"`
	Version     string    `json:"version"`
	Environment string    `json:"environment"`
	ServedAs    string    `json:"served_as" description:"the model's name at the model servers"`
	Addresses   []Address `json:"addresses"`
	Healthy     bool      `json:"healthy" description:"true when at least one address is, or it has none"`
	// Elsewhere placements have no address: their versions answer where the gateway does not reach, and what they do is
	// known from the reports of agents.
	Elsewhere bool `json:"elsewhere,omitempty" description:"answers where the gateway does not reach; agents report it"`
	// Runner is how it is run on the service's machine; nil where it runs in servers of others.
	Runner *Runner `json:"runner,omitempty" description:"how it is run on the service's machine"`
	// Declared is what its servers said at placement that they take and give; nil when they were
	// not asked yet.
	Declared *signature.Served `json:"declared,omitempty" description:"what its servers declared at placement"`
	// Heard is what its servers answered to the sample request at placement; nil when it was not
	// sent.
	Heard *answers.Case `json:"heard,omitempty" description:"what its servers answered to the sample request at placement"`
	// Fits says how the version stands to the contracts of the endpoints that it could answer for.
	Fits     []Fit     `json:"fits,omitempty" description:"how it stands to the contracts of endpoints there; at placement only"`
	PlacedBy string    `json:"placed_by"`
	PlacedAt time.Time `json:"placed_at"`
}

// Runner is how a placed version is run on the service's machine.
type Runner struct {
	// ID names it among all that run there.
	ID     string `json:"id"`
	Digest string `json:"digest,omitempty" description:"SHA-256 of the file that it is computed from"`
	Format string `json:"format,omitempty" description:"how that file is written"`
	// Template is the command line that serves it; empty is the built-in model server.
	Template string        `json:"template,omitempty" description:"serves it; the built-in model server when empty"`
	Replicas replica.Range `json:"replicas"`
	// BatchRows and BatchWaitMS gather rows of several requests.
	BatchRows   int     `json:"batch_rows" description:"rows that are computed together at most; 0 is none"`
	BatchWaitMS float64 `json:"batch_wait_ms" description:"how long a request waits for others at most"`
}

// CheckReplicas refuses a number that should follow the load of a program that does not say what its load is.
func (r *Runner) CheckReplicas(of replica.Range) error {
	if r.Template == "" || !of.Follows() {
		return nil
	}
	return fault.New(fault.Invalid, "replicas.template", "the load of what %s runs is not known", r.Template).
		In("replicas").Do("give one number; only the built-in model server follows the load")
}

// Exactly is the signature of the placed version as its servers take and give it; nil when
// nothing is known of it.
func (p *Placement) Exactly(s *signature.Signature) *signature.Signature {
	if p.Declared == nil {
		return s
	}
	return s.Exactly(*p.Declared)
}

// Reason says why the placement is not healthy, "" when it is.
func (p *Placement) Reason() string {
	for _, a := range p.Addresses {
		if !a.Healthy && !p.Healthy {
			return a.URL + ": " + a.Reason
		}
	}
	return ""
}

// URLs lists the addresses of the placement.
func (p *Placement) URLs() []string {
	out := make([]string, len(p.Addresses))
	for i, a := range p.Addresses {
		out[i] = a.URL
	}
	return out
}

// Where says where the placed version runs, as people read it.
func (p *Placement) Where() string {
	if p.Elsewhere {
		return "elsewhere, where the gateway does not reach"
	}
	if p.Runner != nil {
		return "run here at " + strings.Join(p.URLs(), ", ")
	}
	return strings.Join(p.URLs(), ", ")
}

// CheckReached refuses a placement that cannot be asked anything from here.
func (p *Placement) CheckReached(field string) error {
	if !p.Elsewhere {
		return nil
	}
	return fault.New(fault.Refused, "placement.elsewhere", "%s answers elsewhere in %s, where nothing reaches it",
		p.Version, p.Environment).In(field).
		Do("ask it where it runs; to have it answer here, take it away with: innerladder unplace %s -env %s, and "+
			"place it with -at URL", p.Version, p.Environment)
}

// SameAddresses reports whether two placements are at the same addresses, in the same order.
func (p *Placement) SameAddresses(o Placement) bool { return slices.Equal(p.URLs(), o.URLs()) }

// Without is the placement without some of its addresses. One that it does not have is refused.
func (p *Placement) Without(urls []string) (Placement, error) {
	out := *p
	out.Addresses = slices.Clone(p.Addresses)
	for _, url := range urls {
		i := slices.IndexFunc(out.Addresses, func(a Address) bool { return a.URL == strings.TrimRight(url, "/") })
		if i < 0 {
			return out, fault.New(fault.Unknown, "placement.address_unknown", "%s does not run at %s", p.Version, url).
				In("remove").Do("it runs at %s", strings.Join(p.URLs(), ", "))
		}
		out.Addresses = slices.Delete(out.Addresses, i, i+1)
	}
	return out.With(), nil
}

// With is the placement with more addresses, as healthy as they are.
func (p Placement) With(more ...Address) Placement {
	p.Addresses = slices.Concat(p.Addresses, more)
	p.Healthy = slices.ContainsFunc(p.Addresses, func(a Address) bool { return a.Healthy })
	return p
}
