// Package incident is the page that the service writes about a rollback: what happened when, what was touched, what
// differs between the versions, and whether it could have been known. It is handed what was gathered, and
// computes nothing that it is not told.
package incident

import (
	"fmt"
	"strings"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/request"
)

// Incident is what is known of one rollback. People add notes, a cause and follow-ups, and close it.
type Incident struct {
	ID        string `json:"id" description:"I-NUMBER"`
	Project   string `json:"project"`
	Endpoint  string `json:"endpoint"`
	Candidate string `json:"candidate" description:"the version that was rolled back"`
	Incumbent string `json:"incumbent" description:"the version that answers again"`
	Rollout   string `json:"rollout,omitempty" description:"R-NUMBER, when one moved the endpoint"`
	Alert     string `json:"alert,omitempty" description:"A-NUMBER; absent when a person decided it"`
	Signal    string `json:"signal,omitempty" description:"the guard's; absent when a person decided it"`
	By        string `json:"by"`
	Why       string `json:"why"`
	// Left is the split that was left, For the one that came into force instead.
	Left int `json:"left"`
	For  int `json:"for"`
	// Begun is when the candidate got its first share, At when it lost it.
	Begun time.Time `json:"begun"`
	At    time.Time `json:"at"`
	// Report is nil for the moments until it is written.
	Report    *Report    `json:"report,omitempty" description:"absent for the moments until it is written"`
	State     string     `json:"state" enum:"open,closed"`
	Cause     string     `json:"cause,omitempty"`
	Notes     []Note     `json:"notes"`
	FollowUps []FollowUp `json:"follow_ups"`
	ClosedBy  string     `json:"closed_by,omitempty"`
	ClosedAt  *time.Time `json:"closed_at,omitempty"`
}

// Note is what somebody wrote about an incident.
type Note struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Text string    `json:"text"`
}

// FollowUp is something to do so that it does not happen again.
type FollowUp struct {
	Number int        `json:"number"`
	Text   string     `json:"text"`
	Who    string     `json:"who,omitempty"`
	Due    string     `json:"due,omitempty" description:"a day, YYYY-MM-DD"`
	MadeBy string     `json:"made_by"`
	MadeAt time.Time  `json:"made_at"`
	DoneBy string     `json:"done_by,omitempty"`
	DoneAt *time.Time `json:"done_at,omitempty"`
}

// Report is what the service wrote, as it was known then.
type Report struct {
	WrittenAt time.Time `json:"written_at"`
	Sentence  string    `json:"sentence"`
	Timeline  []Event   `json:"timeline"`
	// Requests are those that the candidate answered while it had a share, Failed those of them that
	// failed.
	Requests uint64 `json:"requests"`
	Failed   uint64 `json:"failed"`
	// Callers are about how many asked for them, of those who give their name or a key; 0 where nobody did.
	Callers uint64 `json:"callers,omitempty" description:"about how many, of those who give a name or a key"`
	// Samples are some of those requests that are kept: those that failed first.
	Samples []Sample `json:"samples" description:"some of those requests that are kept, those that failed first"`
	// Comparison is of that time alone; absent where nothing was measured.
	Comparison *compare.Comparison `json:"comparison,omitempty"`
	// Curve is the evidence of the guards as it climbed.
	Curve []guard.Progress `json:"curve"`
	// Moved are the columns of what both versions were made from, what moved most first.
	Moved []Moved        `json:"moved" description:"how the rows behind both versions differ, most moved first"`
	Diff  *registry.Diff `json:"diff,omitempty"`
	// Approved says who said yes, to what, before it answered.
	Approved []Approval `json:"approved"`
	// Known says of each kind of evidence whether it could have shown it.
	Known []Known `json:"known"`
}

// Sample is one request that the candidate dealt with.
type Sample struct {
	Request string          `json:"request" description:"its id; what was asked is in the log of the endpoint"`
	At      time.Time       `json:"at"`
	Outcome request.Outcome `json:"outcome"`
	Status  int             `json:"status"`
	Reason  string          `json:"reason,omitempty"`
}

// String is the sample in a line.
func (s Sample) String() string {
	text := fmt.Sprintf("%s %s, status %d", s.Request, strings.ReplaceAll(string(s.Outcome), "_", " "), s.Status)
	if s.Reason != "" {
		text += ", " + s.Reason
	}
	return text
}

// Event is one line of what happened.
type Event struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
	By   string    `json:"by"`
	// Bad is set for what went wrong.
	Bad bool `json:"bad,omitempty"`
}

// Moved is how a column of the rows behind a version differs from that of the other's.
type Moved struct {
	Column   string  `json:"column"`
	Verdict  string  `json:"verdict"`
	PSI      float64 `json:"psi"`
	Sentence string  `json:"sentence"`
}

// Approval is one promotion that brought the version where it could answer.
type Approval struct {
	Promotion string    `json:"promotion"`
	To        string    `json:"to"`
	AskedBy   string    `json:"asked_by"`
	Signed    []string  `json:"signed"`
	At        time.Time `json:"at"`
	Emergency bool      `json:"emergency,omitempty"`
}

// Known is whether a kind of evidence could have shown what went wrong.
type Known struct {
	Source string `json:"source" enum:"profile,evaluation,known_answers,load,tests,replay,plan"`
	// Could is yes where it showed it, no where it could not have, missing where there was none.
	Could   string `json:"could" enum:"yes,no,missing"`
	Finding string `json:"finding"`
	// Advice is what would show it next time.
	Advice string `json:"advice,omitempty"`
}

// ids are how incidents are known.
var ids = naming.Numbered{Prefix: "I-", What: "incident"}

// ID writes the number of an incident as people do.
func ID(number int64) string { return ids.ID(number) }

// ParseID reads I-3.
func ParseID(field, s string) (int64, error) { return ids.Parse(field, s) }

// Title says in a few words what went wrong.
func (i *Incident) Title() string {
	what := "was taken back by " + i.By
	switch {
	case i.Signal == guard.ErrorRate:
		what = "failed more"
	case i.Signal == guard.TimeoutRate:
		what = "timed out more"
	case strings.HasPrefix(i.Signal, "latency"):
		what = "was slower"
	case i.Signal == guard.PredictionDrift:
		what = "predicted something else"
	case i.Signal == guard.MissingOutputs:
		what = "did not give its outputs"
	case i.Signal == "placement_health":
		what = "had no healthy model server"
	}
	return i.Candidate + " " + what
}

// mostText bounds what people write.
const mostText = 4000

// CheckText refuses an empty or endless text; field is where it was given.
func CheckText(field, text string) error {
	if strings.TrimSpace(text) == "" || len(text) > mostText {
		return fault.New(fault.Invalid, "incident."+field, "the text has %d bytes", len(text)).In(field).
			Do("write something, of %d bytes at most", mostText)
	}
	return nil
}

// CheckDue refuses what is no day.
func CheckDue(due string) error {
	if due == "" {
		return nil
	}
	if _, err := time.Parse(time.DateOnly, due); err != nil {
		return fault.New(fault.Invalid, "incident.due", "%q is no day", due).
			In("due").
			Do("write one such as 2026-01-31")
	}
	return nil
}

// Markdown is the incident as a document.
func (i *Incident) Markdown() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# %s: %s", i.ID, i.Title())
	line("")
	line("%s, %s to %s, %s. Rolled back by %s. #%d was left for #%d: %s answers again.", i.Endpoint, clock(i.Begun),
		clock(i.At), i.State, i.By, i.Left, i.For, i.Incumbent)
	line("")
	line("> %s", i.Why)
	if r := i.Report; r != nil {
		line("\n%s\n\n## What happened\n", r.Sentence)
		for _, e := range r.Timeline {
			line("- %s %s (%s)", e.At.UTC().Format("15:04:05"), e.What, e.By)
		}
		if r.Comparison != nil {
			line("\n## Side by side\n\n| signal | %s | %s | verdict |\n|---|---|---|---|", i.Incumbent, i.Candidate)
			for _, row := range r.Comparison.Rows {
				line("| %s | %s | %s | %s |", row.Signal, measured(row.Incumbent, row.Unit),
					measured(row.Candidate, row.Unit), row.Verdict)
			}
			for _, d := range r.Comparison.Predictions {
				line("\nPredictions of %s: %s.", d.Column, d.Movement.Sentence)
			}
		}
		line("\n## What differs\n")
		for _, m := range r.Moved {
			line("- rows, %s: %s", m.Column, m.Sentence)
		}
		for _, c := range differences(r.Diff) {
			line("- %s", c)
		}
		if len(r.Samples) > 0 {
			line("\n## Some of its requests\n")
		}
		for _, s := range r.Samples {
			line("- %s", s)
		}
		line("\n## Who approved it\n")
		for _, a := range r.Approved {
			line("- %s to %s, asked by %s, signed by %s", a.Promotion, a.To, a.AskedBy, strings.Join(a.Signed, ", "))
		}
		line("\n## Could it have been known?\n")
		for _, k := range r.Known {
			line("- %s: %s %s", strings.ReplaceAll(k.Source, "_", " "), k.Finding, k.Advice)
		}
	}
	line("\n## Cause\n\n%s", or(i.Cause, "Not found yet."))
	if len(i.FollowUps) > 0 {
		line("\n## Follow-ups\n")
	}
	for _, f := range i.FollowUps {
		done := " "
		if f.DoneAt != nil {
			done = "x"
		}
		line("- [%s] %s %s %s", done, f.Text, f.Who, f.Due)
	}
	if len(i.Notes) > 0 {
		line("\n## Notes\n")
	}
	for _, n := range i.Notes {
		line("- %s, %s: %s", clock(n.At), n.By, n.Text)
	}
	return b.String()
}

func clock(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

func or(text, none string) string {
	if text == "" {
		return none
	}
	return text
}

func measured(x *float64, unit string) string {
	if x == nil {
		return "–"
	}
	if unit == "share" {
		return fmt.Sprintf("%.2f %%", *x*100)
	}
	return fmt.Sprintf("%.4g %s", *x, unit)
}

// differences lists what differs between two versions, in words.
func differences(d *registry.Diff) (out []string) {
	if d == nil {
		return nil
	}
	for _, c := range d.Code {
		out = append(out, fmt.Sprintf("code, %s: %s → %s", c.Name, or(c.From, "–"), or(c.To, "–")))
	}
	for _, c := range d.Data {
		out = append(out, fmt.Sprintf("data, %s: %s → %s", c.Name, or(c.From, "–"), or(c.To, "–")))
	}
	for _, c := range d.Params {
		out = append(out, fmt.Sprintf("parameter %s: %s → %s", c.Name, or(c.From, "–"), or(c.To, "–")))
	}
	for _, c := range d.Dependencies {
		out = append(out, fmt.Sprintf("requirement %s: %s → %s", c.Name, or(c.From, "–"), or(c.To, "–")))
	}
	return out
}
