package wire

import (
	"encoding/json"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/people"
	"innerladder/internal/core/registry"
)

// NewAnswer is what someone says to a promotion.
type NewAnswer struct {
	Answer rule.Answer `json:"answer" required:"true" enum:"yes,no,later,hand_over"`
	Note   string      `json:"note,omitempty" description:"needed for a no"`
	Until  *time.Time  `json:"until,omitempty" description:"when the answer will come; needed for a later"`
	To     string      `json:"to,omitempty" description:"to whom it is handed over"`
	// Envelope is the statement signed with the person's own key; the service signs when
	// it is absent.
	Envelope json.RawMessage `json:"envelope,omitempty" description:"the statement in a DSSE envelope, signed with one's own key; the service signs when absent"`
}

// NewTick says that someone looked at an item of the checklist.
type NewTick struct {
	Item string `json:"item" required:"true"`
	Rung string `json:"rung,omitempty" description:"whose checklist, where items of two have the same name"`
	Note string `json:"note,omitempty" description:"what was seen; a note or a link is needed"`
	Link string `json:"link,omitempty" description:"address of what shows it"`
}

// GateReport is what the gates on the way to a rung say about a version.
type GateReport struct {
	Version   string         `json:"version"`
	From      string         `json:"from"`
	To        string         `json:"to"`
	Incumbent string         `json:"incumbent,omitempty"`
	Promotion string         `json:"promotion,omitempty" description:"the one that asks for it, if there is one"`
	Ladder    int            `json:"ladder" description:"revision of the ladder"`
	Met       bool           `json:"met"`
	Findings  []rule.Finding `json:"findings"`
}

// NewPromotion says what is asked for.
type NewPromotion struct {
	Version string `json:"version" required:"true" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
	To      string `json:"to" required:"true" description:"the rung"`
	Note    string `json:"note,omitempty" description:"for those who sign; needed for an emergency"`
	// Emergency carries it out past the gate, and asks for a review afterwards.
	Emergency bool `json:"emergency,omitempty" description:"carry it out at once, past the gate; needs the permission override, and is reviewed afterwards"`
}

// Review is everything that someone reads who reviews a promotion.
type Review struct {
	Promotion ladder.Promotion  `json:"promotion"`
	Checklist []rule.Listed     `json:"checklist"`
	CarryOut  string            `json:"carry_out" enum:"at_once,by_hand"`
	SignRoles []string          `json:"sign_roles" description:"roles that may sign; everyone with the permission when there are none"`
	Candidate registry.Version  `json:"candidate"`
	Incumbent *registry.Version `json:"incumbent,omitempty"`
	Diff      *registry.Diff    `json:"diff,omitempty" description:"from the incumbent to the candidate"`
	// Evidence has the newest report of each kind.
	Evidence          []evidence.Evidence `json:"evidence" description:"the newest of each kind"`
	IncumbentEvidence []evidence.Evidence `json:"incumbent_evidence" description:"the newest of each kind"`
	// Moved is how the rows behind the candidate differ from those behind the incumbent, what
	// moved most first; absent where one of them has no reference profile.
	Moved *compare.Profiles `json:"moved,omitempty" description:"how its rows differ, most moved first"`
	// Measured is how the two behaved where both answered, over the last day.
	Measured []compare.Comparison `json:"measured" description:"how both behaved in their last trial"`
	Answers  []string             `json:"answers" description:"endpoints that the candidate answers for now"`
}

// StatementFor is what whoever acts would sign by an answer, to be signed with their own
// key.
type StatementFor struct {
	PayloadType string `json:"payload_type"`
	Payload     string `json:"payload" description:"the in-toto statement, in base64: sign it as DSSE says, and send the envelope with the same answer within ten minutes"`
}

// Voucher is one signed statement about a version, checked.
type Voucher struct {
	Promotion string      `json:"promotion"`
	To        string      `json:"to" description:"the rung"`
	By        string      `json:"by"`
	Answer    rule.Answer `json:"answer" enum:"yes,no,later,hand_over"`
	Note      string      `json:"note,omitempty"`
	At        time.Time   `json:"at"`
	Key       string      `json:"key,omitempty" description:"fingerprint of the key that signed"`
	KeyOwner  string      `json:"key_owner,omitempty" description:"whose key it is; inner-ladder is the service"`
	// Genuine says that the signature is right and the statement says what is written here.
	Genuine bool `json:"genuine"`
	// Fits says that it was said of the bytes that are stored now.
	Fits bool `json:"fits" description:"it was said of the bytes that are stored now"`
	// Counts says that it still counts: the last answer of its giver, not void.
	Counts   bool            `json:"counts" description:"it still counts: the last answer of its giver, and not void"`
	Problems []string        `json:"problems,omitempty"`
	Envelope json.RawMessage `json:"envelope" description:"the DSSE envelope"`
}

// Vouchers is who vouched for a version, for what, with which key, and whether that still
// fits what is stored.
type Vouchers struct {
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Rung    string `json:"rung"`
	// Sound says that every statement is genuine and fits, and that every file has its
	// digest.
	Sound bool `json:"sound"`
	// Files says of every file whether its bytes have the registered digest.
	Files      []VouchedFile       `json:"files"`
	Statements []Voucher           `json:"statements"`
	Keys       []people.SigningKey `json:"keys" description:"those that are needed to check the envelopes"`
}

// VouchedFile is a file of a version, read again.
type VouchedFile struct {
	Name   string `json:"name"`
	Digest string `json:"digest" description:"as it was registered"`
	State  string `json:"state" enum:"right,changed,missing,elsewhere"`
	// ReadAt is when its bytes were read for this; absent for a file elsewhere.
	ReadAt *time.Time `json:"read_at,omitempty" description:"when its bytes were read for this; absent for a file that is kept elsewhere"`
}
