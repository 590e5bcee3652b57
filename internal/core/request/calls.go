package request

import (
	"strings"

	"innerladder/internal/core/naming"
)

// Calls are what one caller asked of an endpoint and got.
type Calls struct {
	Requests uint64 `json:"requests"`
	// Failed are those that no version answered, Wrong those that were at fault themselves.
	Failed uint64 `json:"failed" description:"that were not answered"`
	Wrong  uint64 `json:"wrong" description:"that were at fault themselves: 4xx of a model server"`
}

// Plus adds calls up.
func (c Calls) Plus(o Calls) Calls {
	return Calls{c.Requests + o.Requests, c.Failed + o.Failed, c.Wrong + o.Wrong}
}

// Names of those who cannot be told by a name of theirs.
const (
	// Unnamed are callers who give no name and have no key.
	Unnamed = "(no name)"
	// Others are those beyond MostCallers.
	Others = "(others)"
)

const (
	// MostCallers is how many callers of an endpoint are told apart in a minute.
	MostCallers = 200
	// longestCaller is how long a name is told, in bytes.
	longestCaller = 80
)

// CallerName is a name that callers give, as it is counted: what no screen can show is left out, and so is what is
// beyond 80 bytes.
func CallerName(given string) string {
	given = strings.ToValidUTF8(given[:min(len(given), longestCaller)], "")
	given = strings.TrimSpace(strings.Map(func(c rune) rune {
		if naming.Hidden(c) {
			return -1
		}
		return c
	}, given))
	if given == "" || given == Others {
		return Unnamed
	}
	return given
}
