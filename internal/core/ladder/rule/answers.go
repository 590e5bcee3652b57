package rule

import "time"

// Answer is what a sign-off says.
type Answer string

// The answers.
const (
	Yes Answer = "yes"
	No  Answer = "no"
	// Later puts the answer off until a time; HandOver leaves it to somebody else.
	Later    Answer = "later"
	HandOver Answer = "hand_over"
)

// SignOff is one person's signed answer. It holds only for the candidate and the
// incumbent that the person saw.
type SignOff struct {
	By     string    `json:"by"`
	Answer Answer    `json:"answer" enum:"yes,no,later,hand_over"`
	Note   string    `json:"note,omitempty"`
	At     time.Time `json:"at"`
	// Roles are those that the person had in the project then.
	Roles []string `json:"roles,omitempty"`
	// Until is when someone who said later will answer; To whom it was handed over.
	Until *time.Time `json:"until,omitempty"`
	To    string     `json:"to,omitempty"`
	// CandidateDigest and Incumbent are what was signed for.
	CandidateDigest string `json:"candidate_digest"`
	Incumbent       string `json:"incumbent,omitempty"`
	// Stale is set when either has changed since; a stale sign-off does not count.
	Stale bool `json:"stale"`
	// Void says why a sign-off does not count any more, whatever comes.
	Void string `json:"void,omitempty" description:"why it does not count any more"`
	// Key is the key that signed it.
	Key string `json:"key,omitempty" description:"fingerprint of the key that signed it"`
}

// Valid reports whether a sign-off counts.
func (s SignOff) Valid() bool { return !s.Stale && s.Void == "" }

// Tick is one item of a checklist that someone looked at.
type Tick struct {
	Rung string    `json:"rung"`
	Item string    `json:"item"`
	Note string    `json:"note,omitempty"`
	Link string    `json:"link,omitempty"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
	// CandidateDigest and Incumbent are what was looked at.
	CandidateDigest string `json:"candidate_digest"`
	Incumbent       string `json:"incumbent,omitempty"`
	Stale           bool   `json:"stale"`
}

// Answers are what people have answered to a promotion so far.
type Answers struct {
	// Promotion is its id, AskedBy who asked for it.
	Promotion, AskedBy string
	SignOffs           []SignOff
	Ticks              []Tick
}

// Refusal is a no that counts, nil when there is none.
func (a *Answers) Refusal() *SignOff {
	for i, s := range a.SignOffs {
		if s.Valid() && s.Answer == No && s.By != a.AskedBy {
			return &a.SignOffs[i]
		}
	}
	return nil
}

// Tick finds the tick of an item, stale or not; nil when there is none.
func (a *Answers) Tick(rung, item string) *Tick {
	for i, t := range a.Ticks {
		if t.Rung == rung && t.Item == item {
			return &a.Ticks[i]
		}
	}
	return nil
}

// Ticked finds the tick of an item that counts.
func (a *Answers) Ticked(rung, item string) *Tick {
	if t := a.Tick(rung, item); t != nil && !t.Stale && t.By != a.AskedBy {
		return t
	}
	return nil
}
