package ladder

import (
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/naming"
)

// PromotionState is where a promotion is in its life.
type PromotionState string

// The states of a promotion.
const (
	// Open: the gate still waits for something, or nobody has carried it out yet.
	Open PromotionState = "open"
	// ToReview: it was carried out in an emergency, past the gate, and someone other than
	// its author must still sign that this was right.
	ToReview PromotionState = "to_review"
	// CarriedOut: the version stepped on the rung.
	CarriedOut PromotionState = "carried_out"
	// Denied: someone said no.
	Denied PromotionState = "refused"
	// Withdrawn: the one who asked took it back.
	Withdrawn PromotionState = "withdrawn"
	// Expired: nobody answered for too long.
	Expired PromotionState = "expired"
)

// Signable reports whether people can still answer.
func (s PromotionState) Signable() bool { return s == Open || s == ToReview }

// Words writes a state as people say it.
func (s PromotionState) Words() string { return strings.ReplaceAll(string(s), "_", " ") }

// Promotion is a request that a version step up to a rung.
type Promotion struct {
	ID        string         `json:"id" description:"P-NUMBER"`
	Project   string         `json:"project"`
	Version   string         `json:"version"`
	From      string         `json:"from"`
	To        string         `json:"to"`
	Incumbent string         `json:"incumbent,omitempty" description:"the version that stands on the rung; for a closed promotion, that stood there when it was asked"`
	AskedBy   string         `json:"asked_by"`
	Note      string         `json:"note,omitempty"`
	State     PromotionState `json:"state" enum:"open,to_review,carried_out,refused,withdrawn,expired"`
	// Emergency says that it was carried out past its gate.
	Emergency bool       `json:"emergency,omitempty" description:"it was carried out past its gate"`
	OpenedAt  time.Time  `json:"opened_at"`
	ClosedAt  *time.Time `json:"closed_at,omitempty"`
	// RemindedAt is when its reviewers were last reminded.
	RemindedAt *time.Time     `json:"reminded_at,omitempty"`
	SignOffs   []rule.SignOff `json:"sign_offs" description:"the last answer of each person"`
	Ticks      []rule.Tick    `json:"ticks,omitempty"`
	// Ladder is the revision of the ladder that judges it.
	Ladder int `json:"ladder" description:"the revision of the ladder that judges it"`
	// Findings are what the gate says now; for a closed promotion, when it closed.
	Findings []rule.Finding `json:"findings"`
	// Ready says that the gate is met and someone has to carry it out.
	Ready bool `json:"ready,omitempty" description:"the gate is met; someone has to carry it out"`
}

// ids are how promotions are known.
var ids = naming.Numbered{Prefix: "P-", What: "promotion"}

// ID writes the number of a promotion as people do.
func ID(number int) string { return ids.ID(int64(number)) }

// ParseID reads P-12.
func ParseID(field, s string) (int, error) {
	n, err := ids.Parse(field, s)
	return int(n), err
}

// answers are what has been answered to it so far.
func (p *Promotion) answers() *rule.Answers {
	return &rule.Answers{Promotion: p.ID, AskedBy: p.AskedBy, SignOffs: p.SignOffs, Ticks: p.Ticks}
}

// Refusal is a no that counts, nil when there is none.
func (p *Promotion) Refusal() *rule.SignOff { return p.answers().Refusal() }

// Sign adds a person's answer, which replaces an earlier one by the same person. rung is
// the one asked for; now is the moment of the answer.
func (p *Promotion) Sign(s rule.SignOff, rung Rung) error {
	switch {
	case !p.State.Signable():
		return fault.New(fault.Refused, "promotion.closed", "%s is %s", p.ID, p.State.Words()).In("promotion").
			Do("only an open promotion can be signed")
	case s.Answer != rule.Yes && s.Answer != rule.No && s.Answer != rule.Later && s.Answer != rule.HandOver:
		return fault.New(fault.Invalid, "sign_off.answer", "%q is no answer", s.Answer).In("answer").
			Do("answer yes, no, later or hand_over")
	case s.By == p.AskedBy && p.State == ToReview:
		return fault.New(fault.Refused, "sign_off.own", "%s carried %s out past its gate and cannot sign it", s.By,
			p.ID).In("promotion").Do("someone else must say whether that was right")
	case s.By == p.AskedBy:
		return fault.New(fault.Refused, "sign_off.own", "%s asked for %s and cannot sign it", s.By, p.ID).
			In("promotion").
			Do("someone else must sign; or withdraw it with: innerladder withdraw %s", p.ID)
	case !rule.HasRole(rung.Sign, s.Roles):
		return fault.New(fault.Forbidden, "sign_off.role", "%s is signed for by those with the role %s", rung.Name,
			strings.Join(rung.Sign, " or ")).In("promotion").
			Do("hand it to one of them by a comment, or ask an owner for the role")
	case s.Answer == rule.No && strings.TrimSpace(s.Note) == "":
		return fault.New(fault.Invalid, "sign_off.reason", "a no needs a reason").In("note").
			Do("say what must change first")
	case s.Answer == rule.Later && (s.Until == nil || !s.Until.After(s.At)):
		return fault.New(fault.Invalid, "sign_off.until", "a later says no time that is still to come").In("until").
			Do("say until when, such as 48h from now")
	case s.Answer == rule.Later && s.Until.Sub(s.At) > 90*24*time.Hour:
		return fault.New(fault.Invalid, "sign_off.until", "an answer cannot be put off for more than 90 days").
			In("until").Do("say no, or hand it over")
	case s.Answer == rule.HandOver && (s.To == "" || s.To == s.By):
		return fault.New(fault.Invalid, "sign_off.to", "it is handed over to nobody else").In("to").
			Do("name the person")
	case s.Answer == rule.HandOver && s.To == p.AskedBy:
		return fault.New(fault.Refused, "sign_off.to", "%s asked for %s and cannot sign it", s.To, p.ID).In("to").
			Do("hand it to someone else")
	}
	p.SignOffs = slices.DeleteFunc(p.SignOffs, func(o rule.SignOff) bool { return o.By == s.By })
	p.SignOffs = append(p.SignOffs, s)
	return nil
}

// Tick adds that someone looked at an item of the checklist, in place of an earlier tick.
func (p *Promotion) Tick(t rule.Tick, listed []rule.Listed) error {
	i := slices.IndexFunc(listed, func(l rule.Listed) bool {
		return l.Name == t.Item && (t.Rung == "" || l.Rung == t.Rung)
	})
	switch {
	case !p.State.Signable():
		return fault.New(fault.Refused, "promotion.closed", "%s is %s", p.ID, p.State.Words()).In("promotion").
			Do("only the list of an open promotion can be ticked")
	case t.By == p.AskedBy:
		return fault.New(fault.Refused, "tick.own", "%s asked for %s and cannot tick its list", t.By, p.ID).
			In("promotion").Do("a reviewer looks at it")
	case i < 0:
		var names []string
		for _, l := range listed {
			names = append(names, l.Name+" for "+l.Rung)
		}
		f := fault.New(fault.Invalid, "tick.item", "the checklist of %s has no item %q", p.ID,
			strings.TrimSuffix(t.Item+" for "+t.Rung, " for ")).In("item")
		if len(names) == 0 {
			return f.Do("its gate has no checklist")
		}
		return f.Do("its items are %s", strings.Join(names, ", "))
	case strings.TrimSpace(t.Note) == "" && strings.TrimSpace(t.Link) == "":
		return fault.New(fault.Invalid, "tick.note", "the tick says nothing").In("note").
			Do("give a note or a link: what did you see?")
	case listed[i].Link && t.Link == "":
		return fault.New(fault.Invalid, "tick.link", "%s needs a link", t.Item).In("link").
			Do("give the address of what shows it")
	case t.Link != "" && !strings.HasPrefix(t.Link, "https://") && !strings.HasPrefix(t.Link, "http://"):
		return fault.New(fault.Invalid, "tick.link", "%q is no address", t.Link).In("link").
			Do("give one that begins with https:// or http://")
	}
	t.Rung = listed[i].Rung
	p.Ticks = slices.DeleteFunc(p.Ticks, func(o rule.Tick) bool { return o.Rung == t.Rung && o.Item == t.Item })
	p.Ticks = append(p.Ticks, t)
	return nil
}

// MarkStale marks the sign-offs and ticks that were given for another candidate or
// incumbent.
func (p *Promotion) MarkStale(candidateDigest, incumbent string) {
	for i := range p.SignOffs {
		s := &p.SignOffs[i]
		s.Stale = s.CandidateDigest != candidateDigest || s.Incumbent != incumbent
	}
	for i := range p.Ticks {
		t := &p.Ticks[i]
		t.Stale = t.CandidateDigest != candidateDigest || t.Incumbent != incumbent
	}
}

// Judge sets what the gate says now, which sign-offs are stale, and whether the promotion
// could be carried out by hand.
func (l Ladder) Judge(p *Promotion, f rule.Facts) {
	p.Incumbent = ""
	if f.Incumbent != nil {
		p.Incumbent = f.Incumbent.Ref
	}
	p.MarkStale(f.Version.Digest, p.Incumbent)
	p.Findings = l.Evaluate(p, f)
	p.Ready = p.State == Open && l.CarryOut == ByHand && rule.Met(p.Findings) && p.Refusal() == nil
}

// Settle decides what becomes of a promotion that was judged: refused when someone said
// no, carried out when the gate is met (and, where that is done by hand, byHand says that
// someone does), else it stays as it is. What was carried out in an emergency waits for
// one yes by someone else.
func (l Ladder) Settle(p *Promotion, byHand bool) PromotionState {
	switch {
	case p.Refusal() != nil:
		return Denied
	case p.State == ToReview:
		if slices.ContainsFunc(p.SignOffs, func(s rule.SignOff) bool {
			return s.Valid() && s.Answer == rule.Yes && s.By != p.AskedBy && rule.HasRole(l.Rung(p.To).Sign, s.Roles)
		}) {
			return CarriedOut
		}
		return ToReview
	case rule.Met(p.Findings) && (l.CarryOut != ByHand || byHand):
		return CarriedOut
	}
	return Open
}

// Awaits reports whether the promotion waits for a person who may sign for it.
func (p *Promotion) Awaits(person string, now time.Time) bool {
	if !p.State.Signable() || person == p.AskedBy {
		return false
	}
	for _, s := range p.SignOffs {
		if s.By != person || !s.Valid() {
			continue
		}
		switch s.Answer {
		case rule.Yes, rule.No:
			return false
		case rule.Later:
			return !s.Until.After(now)
		case rule.HandOver:
			// It comes back when someone hands it to them again.
			return slices.ContainsFunc(p.SignOffs, func(o rule.SignOff) bool {
				return o.Valid() && o.Answer == rule.HandOver && o.To == person && o.At.After(s.At)
			})
		}
	}
	return true
}

// AnswerCounts reports whether an answer of a person with some roles can help a promotion up:
// they may sign for its rung, and where sign-offs are demanded, theirs is one that counts.
func (l Ladder) AnswerCounts(p *Promotion, person string, roles, trainers []string) bool {
	if person == p.AskedBy || !rule.HasRole(l.Rung(p.To).Sign, roles) {
		return false
	}
	demanded := false
	for _, g := range l.gates(p.From, p.To) {
		if q, ok := g.Rule.(rule.SignOffs); ok && p.State == Open {
			demanded = true
			if rule.HasRole(q.Roles, roles) && (!q.NotTrainer || !slices.Contains(trainers, person)) {
				return true
			}
		}
	}
	return !demanded
}

// Due is what time has brought about for a promotion.
type Due int

// What can be due.
const (
	Nothing Due = iota
	Remind
	Expire
)

// DueAt decides whether reviewers must be reminded, or the promotion expires. A review of
// an emergency is reminded of and never expires.
func (l Ladder) DueAt(p *Promotion, now time.Time) Due {
	asked, last := p.lastAsked(), p.lastAct()
	for _, s := range p.SignOffs {
		// Who said later is reminded when later has come.
		if s.Answer == rule.Later && s.Valid() && !s.Until.After(now) && s.Until.After(asked) {
			return Remind
		}
	}
	switch {
	case p.State == Open && !p.Ready && now.Sub(last) >= time.Duration(l.ExpireAfter):
		return Expire
	case p.State.Signable() && now.Sub(asked) >= time.Duration(l.RemindAfter) &&
		now.Sub(last) >= time.Duration(l.RemindAfter):
		return Remind
	}
	return Nothing
}

// NextAt is the next moment at which time alone may bring something about for a promotion: a
// reminder, its end, or the end of the freeze that holds now. It may be too early, never too
// late; the zero time is never.
func (l Ladder) NextAt(p *Promotion, frozen rule.Frozen, now time.Time) (next time.Time) {
	if !p.State.Signable() {
		return next
	}
	asked, last := p.lastAsked(), p.lastAct()
	moments := []time.Time{later(asked, last).Add(time.Duration(l.RemindAfter)), frozen.Until}
	if p.State == Open {
		moments = append(moments, last.Add(time.Duration(l.ExpireAfter)))
	}
	for _, s := range p.SignOffs {
		if s.Until != nil {
			moments = append(moments, *s.Until)
		}
	}
	for _, m := range moments {
		if m.After(now) && (next.IsZero() || m.Before(next)) {
			next = m
		}
	}
	return next
}

// lastAct is when anybody last did anything, or said that they would.
func (p *Promotion) lastAct() time.Time {
	last := p.OpenedAt
	for _, s := range p.SignOffs {
		last = later(last, s.At)
		if s.Answer == rule.Later && s.Valid() {
			last = later(last, *s.Until)
		}
	}
	for _, t := range p.Ticks {
		last = later(last, t.At)
	}
	return last
}

// lastAsked is when reviewers were asked or reminded last.
func (p *Promotion) lastAsked() time.Time {
	if p.RemindedAt != nil {
		return later(p.OpenedAt, *p.RemindedAt)
	}
	return p.OpenedAt
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
