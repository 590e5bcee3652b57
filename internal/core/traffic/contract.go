package traffic

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

// Contract is the signature that the callers of an endpoint rely on: immutable and numbered. The
// first is that of the first version that answers; each later one is a decision of its own.
type Contract struct {
	Endpoint string `json:"endpoint"`
	Model    string `json:"model"`
	// Environment is that of the endpoint.
	Environment string              `json:"environment"`
	Number      int                 `json:"number"`
	Signature   signature.Signature `json:"signature"`
	Version     string              `json:"version" description:"the version whose signature it is"`
	Reason      string              `json:"reason"`
	Author      string              `json:"author"`
	MadeAt      time.Time           `json:"made_at"`
	// InForce is set for the one that the split in force keeps.
	InForce bool `json:"in_force,omitempty" description:"the split in force keeps it"`
}

// Fit is how a version stands to a contract.
type Fit struct {
	Version  string `json:"version"`
	Endpoint string `json:"endpoint"`
	Contract int    `json:"contract"`
	// Verdict says what it means for those who call as the contract says.
	Verdict signature.Compatibility `json:"verdict" enum:"compatible,widened,breaking,unknown"`
	Changes []signature.Change      `json:"changes"`
}

// Breaks lists what breaks callers, in words.
func (f Fit) Breaks() string {
	var out []string
	for _, c := range f.Changes {
		if !c.Breaking {
			continue
		}
		switch c.Kind {
		case "added":
			out = append(out, fmt.Sprintf("%s is added (%s)", c.Name, c.To))
		case "removed":
			out = append(out, fmt.Sprintf("%s is gone (%s)", c.Name, c.From))
		default:
			out = append(out, fmt.Sprintf("%s was %s and is %s", c.Name, c.From, c.To))
		}
	}
	return strings.Join(out, "; ")
}

// Keeps holds a version against the contract. What the version's signature leaves open, it is
// taken to serve as the contract says: a server that does otherwise is found at placement.
func (c *Contract) Keeps(version string, s *signature.Signature) Fit {
	f := Fit{
		Version: version, Endpoint: c.Endpoint, Contract: c.Number, Verdict: signature.NotKnown,
		Changes: []signature.Change{},
	}
	if s != nil {
		f.Changes, f.Verdict = signature.Diff(&c.Signature, s.Exactly(c.Signature.Served()))
	}
	return f
}

// Decided are the contracts of one endpoint that a new arrangement may be made under: the one in
// force, and those decided after it; in ascending order.
type Decided []Contract

// Newest is the contract decided last; nil when there is none.
func (d Decided) Newest() *Contract {
	if len(d) == 0 {
		return nil
	}
	return &d[len(d)-1]
}

// Best is how a version stands to the newest of the contracts that it keeps, else to the one in
// force.
func (d Decided) Best(version string, s *signature.Signature) (f Fit) {
	for _, c := range slices.Backward(d) {
		if f = c.Keeps(version, s); f.Verdict != signature.Breaking {
			return f
		}
	}
	return f
}

// Under finds the contract that all versions of a split keep, the newest that there is; 0 where
// nothing is known yet of what callers rely on. It is refused when there is none: the versions of
// one split answer the same callers.
func (d Decided) Under(standings []Standing) (number int, err error) {
	for _, c := range slices.Backward(d) {
		if err = d.keep(&c, standings); err == nil {
			return c.Number, nil
		}
	}
	return 0, err // of the one in force: what callers would meet
}

// Kept says whether the versions of an earlier split still keep its contract. What is not known
// of them is let pass: a way back must stay open.
func (c *Contract) Kept(standings []Standing) error {
	known := slices.DeleteFunc(slices.Clone(standings), func(s Standing) bool { return s.Signature == nil })
	return Decided{*c}.keep(c, known)
}

// keep says which of the versions of a split does not keep a contract.
func (d Decided) keep(c *Contract, standings []Standing) error {
	for i, s := range standings {
		field := fmt.Sprintf("lanes[%d].version", i)
		switch f := c.Keeps(s.Version, s.Signature); f.Verdict {
		case signature.Breaking:
			return fault.New(fault.Refused, "split.contract", "%s breaks contract %d of %s: %s", s.Version, c.Number,
				c.Endpoint, f.Breaks()).In(field).Do("%s", d.instead(c.Endpoint, s.Version))
		case signature.NotKnown:
			return fault.New(fault.Refused, "split.contract_unknown", "it is not known whether %s keeps contract %d "+
				"of %s: it has no signature, and its server was not asked", s.Version, c.Number, c.Endpoint).In(field).
				Do("take it away with unplace and place it again: its server is asked then")
		}
	}
	return nil
}

// instead says what to do about a version that breaks the contract in force.
func (d Decided) instead(endpoint, version string) string {
	if n := d.Newest().Number; n != d[0].Number {
		return fmt.Sprintf("contract %d is decided too: make a split all of whose versions keep that one", n)
	}
	return fmt.Sprintf("register a version that keeps it, or decide a new contract for its callers with: "+
		"innerladder contract decide %s -from %s -why REASON", endpoint, version)
}
