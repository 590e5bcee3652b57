package ladder

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// PromotionState is where a promotion is in its life.
type PromotionState string

// The states of a promotion.
const (
	// Open: the gate still waits for something.
	Open PromotionState = "open"
	// CarriedOut: the version stands on the rung.
	CarriedOut PromotionState = "carried_out"
	// Denied: someone said no.
	Denied PromotionState = "refused"
	// Withdrawn: the one who asked took it back.
	Withdrawn PromotionState = "withdrawn"
)

// Answer is what a sign-off says.
type Answer string

// The answers.
const (
	Yes Answer = "yes"
	No  Answer = "no"
)

// SignOff is one person's signed answer. It holds only for the candidate and the
// incumbent that the person saw.
type SignOff struct {
	By     string    `json:"by"`
	Answer Answer    `json:"answer" enum:"yes,no"`
	Note   string    `json:"note,omitempty"`
	At     time.Time `json:"at"`
	// CandidateDigest and Incumbent are what was signed for.
	CandidateDigest string `json:"candidate_digest"`
	Incumbent       string `json:"incumbent,omitempty"`
	// Stale is set when either has changed since; a stale sign-off does not count.
	Stale bool `json:"stale"`
}

// Promotion is a request that a version step up to a rung.
type Promotion struct {
	ID        string         `json:"id" description:"P-NUMBER"`
	Project   string         `json:"project"`
	Version   string         `json:"version"`
	From      string         `json:"from"`
	To        string         `json:"to"`
	Incumbent string         `json:"incumbent,omitempty" description:"the version that stood on the rung when it was asked"`
	AskedBy   string         `json:"asked_by"`
	Note      string         `json:"note,omitempty"`
	State     PromotionState `json:"state" enum:"open,carried_out,refused,withdrawn"`
	OpenedAt  time.Time      `json:"opened_at"`
	ClosedAt  *time.Time     `json:"closed_at,omitempty"`
	SignOffs  []SignOff      `json:"sign_offs"`
	// Findings are what the gate says now; for a closed promotion, when it closed.
	Findings []Finding `json:"findings"`
}

// ID writes the number of a promotion as people do.
func ID(number int) string { return "P-" + strconv.Itoa(number) }

// ParseID reads P-12.
func ParseID(field, s string) (int, error) {
	digits, ok := strings.CutPrefix(strings.ToUpper(s), "P-")
	n, err := strconv.Atoi(digits)
	if !ok || err != nil || n < 1 {
		return 0, fault.New(fault.Invalid, "promotion.id", "%q names no promotion", s).In(field).Do("write P-NUMBER, such as P-1")
	}
	return n, nil
}

// Sign adds a person's answer, which replaces an earlier one by the same person. now is
// the moment; candidateDigest and incumbent are what the person is looking at.
func (p *Promotion) Sign(s SignOff) error {
	switch {
	case p.State != Open:
		return fault.New(fault.Refused, "promotion.closed", "%s is %s", p.ID, strings.ReplaceAll(string(p.State), "_", " ")).In("promotion").
			Do("only an open promotion can be signed")
	case s.Answer != Yes && s.Answer != No:
		return fault.New(fault.Invalid, "sign_off.answer", "%q is no answer", s.Answer).In("answer").Do("answer yes or no")
	case s.By == p.AskedBy:
		return fault.New(fault.Refused, "sign_off.own", "%s asked for %s and cannot sign it", s.By, p.ID).In("promotion").
			Do("someone else must sign; or withdraw it with: innerladder withdraw %s", p.ID)
	case s.Answer == No && strings.TrimSpace(s.Note) == "":
		return fault.New(fault.Invalid, "sign_off.reason", "a no needs a reason").In("note").Do("say what must change first")
	}
	p.SignOffs = slices.DeleteFunc(p.SignOffs, func(o SignOff) bool { return o.By == s.By })
	p.SignOffs = append(p.SignOffs, s)
	return nil
}

// MarkStale marks the sign-offs that were given for another candidate or incumbent.
func (p *Promotion) MarkStale(candidateDigest, incumbent string) {
	for i := range p.SignOffs {
		s := &p.SignOffs[i]
		s.Stale = s.CandidateDigest != candidateDigest || s.Incumbent != incumbent
	}
}

// Settle decides what becomes of an open promotion by its findings: carried out when
// all passed, refused when someone said no, else it stays open.
func Settle(findings []Finding) PromotionState {
	state := CarriedOut
	for _, f := range findings {
		switch {
		case f.State == Failed && f.Requirement == SignOffs:
			return Denied
		case f.State != Passed:
			state = Open
		}
	}
	return state
}
