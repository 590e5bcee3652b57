package watch

import (
	"slices"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/span"
)

// Mute keeps alerts about a subject from being raised until a time. What a watch asks for beside an alert is not done
// either.
type Mute struct {
	Subject string    `json:"subject" description:"what alerts are about, such as inputs or error_rate; all for any"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Until   time.Time `json:"until"`
	Reason  string    `json:"reason"`
}

// Everything is the subject of a mute of all alerts of watches of an endpoint.
const Everything = "all"

const (
	shortestMute = time.Minute
	longestMute  = 30 * 24 * time.Hour
)

// NewMute mutes a subject of what a set watches, for a time and a reason.
func NewMute(s *Set, subject, by, reason string, length time.Duration, now time.Time) (Mute, error) {
	m := Mute{Subject: subject, By: by, At: now, Until: now.Add(length), Reason: reason}
	if subjects := s.Subjects(); !slices.Contains(subjects, subject) {
		return m, fault.New(fault.Invalid, "mute.subject", "%q is nothing that alerts are about here", subject).
			In("subject").Do("use one of %s", list(subjects))
	}
	if length < shortestMute || length > longestMute {
		return m, fault.New(fault.Invalid, "mute.for", "it cannot be muted for %s", span.Rounded(length)).In("for").
			Do("give from 1m to 720h, such as 2h")
	}
	return m, naming.CheckReason(reason, "say why with -why")
}

// Subjects are what alerts of the watches can be about, and all of them.
func (s *Set) Subjects() []string {
	out := []string{Everything}
	for _, r := range append(s.Effective(), Rule{Signal: RequestRate}) {
		signal, _ := Parts(r.Signal)
		g := Group(r.Name())
		if slices.Contains(ofColumns, signal) && signal != Custom {
			g = Group(Name(signal, "any"))
		}
		if !slices.Contains(out, g) {
			out = append(out, g)
		}
	}
	return out
}

// Muted reports whether one of some mutes is about a subject at a moment.
func Muted(mutes []Mute, subject string, now time.Time) bool {
	return slices.ContainsFunc(mutes, func(m Mute) bool {
		return (m.Subject == subject || m.Subject == Everything) && now.Before(m.Until)
	})
}
