package traffic

import (
	"math"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/request"
	"innerladder/internal/core/signature"

	"github.com/cespare/xxhash/v2"
)

// Pick returns the position of the lane for a point in [0, Whole) that was drawn for a request.
func Pick(lanes []Lane, point int) int {
	main := 0
	for i, l := range lanes {
		if l.Kind == Main {
			main = i
			continue
		}
		if l.Kind == Shadow {
			continue
		}
		if point < l.Share {
			return i
		}
		point -= l.Share
	}
	return main
}

// Assign returns the position of the lane of a caller who has a name, by weighted rendezvous hashing
// per version (Wang and Ravishankar 1998): every lane draws an exponential time from the hash of
// endpoint, version and caller, divided by its share, and the earliest has the caller. A caller leaves a
// lane only for one that grows, or when their own gets smaller, whichever other lanes come and go. It
// depends on the version, so the same callers are not always the first to try something new.
func Assign(endpoint string, lanes []Lane, caller string) int {
	first, earliest := 0, math.Inf(1)
	for i, l := range lanes {
		if l.Share <= 0 || l.Kind == Shadow {
			continue
		}
		var h xxhash.Digest
		h.Reset()
		for _, part := range []string{endpoint, "\x00", l.Version, "\x00", caller} {
			_, _ = h.WriteString(part)
		}
		uniform := (float64(h.Sum64()>>11) + 0.5) / (1 << 53)
		if at := -math.Log(uniform) / float64(l.Share); at < earliest {
			first, earliest = i, at
		}
	}
	return first
}

// Route is all that the gateway must know to answer for one endpoint.
type Route struct {
	Endpoint string
	// ID is the endpoint's number, which request ids carry.
	ID int64
	// Split is the number of the split in force, 0 when there is none yet; Since is when
	// it came into force.
	Split int
	Since time.Time
	Lanes []RouteLane
	// Rules come before shares; Sticky is what keeps callers on their lane.
	Rules  []Rule
	Sticky string
	// Headers are sent to the model servers with every request.
	Headers []Header
	// Keyed endpoints answer only callers whose key has one of the digests.
	Keyed   bool
	Callers []Caller
	// Repeatable endpoints may be asked twice without harm.
	Repeatable bool
	// Takes is what requests are held against; nil where they are not.
	Takes *signature.Signature
	// Requests says what is kept of single requests.
	Requests request.Keeping
	// Watched are the pairs of which evidence is gathered.
	Watched []guard.TrialPair
	// Elsewhere routes lead nowhere: the version answers where the gateway does not reach.
	Elsewhere bool
}

// TrialPairs lists the trials that an endpoint has with a split, of which before are those that
// it had with the split before it: a pair that was on trial goes on. Versions that only get copies are among them.
func (s *Split) TrialPairs(before []guard.TrialPair) []guard.TrialPair {
	var out []guard.TrialPair
	for _, l := range append(s.Trials(), s.Shadows()...) {
		t := guard.TrialPair{
			Incumbent: s.Main().Version, Candidate: l.Version, Begun: s.Number, Since: s.MadeAt,
			Copies: l.Kind == Shadow,
		}
		for _, b := range before {
			if b.Incumbent == t.Incumbent && b.Candidate == t.Candidate && b.Copies == t.Copies {
				t = b
			}
		}
		out = append(out, t)
	}
	return out
}

// Header is a header with its value.
type Header struct{ Name, Value string }

// RouteLane is a lane with the places that can answer for it.
type RouteLane struct {
	Lane
	// Labels are those that the version has; callers may ask for it by them.
	Labels []string
	// Model is what the version is called at the model servers.
	Model     string
	Addresses []RouteAddress
}

// RouteAddress is one model server.
type RouteAddress struct {
	URL     string
	Healthy bool
}
