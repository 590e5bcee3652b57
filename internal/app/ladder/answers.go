package ladder

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/notices"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/people"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Sign adds the answer of whoever acts to a promotion, which is carried out or refused
// when that decides it. The answer is written down as a signed statement.
func (s *Service) Sign(ctx context.Context, by act.Actor, id string, n wire.NewAnswer) (*ladder.Promotion, error) {
	return s.answer(ctx, by, id, access.Sign, func(t *act.Tx, h judged) error {
		if err := t.Need(h.Project); err != nil {
			return err
		}
		at, err := t.Now, error(nil)
		if n.Envelope != nil {
			if at, err = signedAt(n.Envelope, t.Now); err != nil {
				return err
			}
		}
		mine, err := s.answering(ctx, t.View, t.By, h, n, at)
		if err != nil {
			return err
		}
		if err := h.Sign(mine, h.ladder.Rung(h.To)); err != nil {
			return err
		}
		envelope, key, err := s.vouch(ctx, t, ladder.StatementOf(h.Promotion, h.facts.Version, mine), n.Envelope)
		if err != nil {
			return err
		}
		mine.Key = key
		h.SignOffs[len(h.SignOffs)-1].Key = key
		if err := t.AddAnswer(ctx, h.number, mine, envelope); err != nil {
			return err
		}
		if err := t.Settle(ctx, h.ID, t.By.Person, t.Now); err != nil {
			return err
		}
		said := map[rule.Answer]string{
			rule.Later:    fmt.Sprintf("%s: %s answers later about %s on %s.", h.ID, t.By.Name, h.Version, h.To),
			rule.HandOver: fmt.Sprintf("%s: %s handed the review of %s to %s.", h.ID, t.By.Name, h.Version, n.To),
		}[n.Answer]
		if said == "" {
			said = fmt.Sprintf("%s: %s said %s to %s on %s.", h.ID, t.By.Name, n.Answer, h.Version, h.To)
		}
		e := act.Entry{
			Project: h.Project, Kind: "promotion.signed", Subject: h.Version, Also: []string{h.ID},
			Involved: asker(h.Promotion), Sentence: said, Reason: n.Note, After: mine,
		}
		if n.Answer == rule.HandOver {
			e.Involved[notice.Review] = []string{n.To}
		}
		if err := t.Note(ctx, e); err != nil {
			return err
		}
		return s.settle(ctx, t, h, false)
	})
}

// answering makes the sign-off of whoever acts, as it would be written down.
func (s *Service) answering(ctx context.Context, r records.View, a act.Actor, h judged, n wire.NewAnswer,
	at time.Time,
) (rule.SignOff, error) {
	me, err := s.voucher(ctx, r, a)
	if err != nil {
		return rule.SignOff{}, err
	}
	mine := rule.SignOff{
		By: a.Name, Answer: n.Answer, Note: n.Note, At: at, Roles: rolesIn(me, h.Project), To: n.To,
		CandidateDigest: h.facts.Version.Digest, Incumbent: refOf(h.facts.Incumbent),
	}
	if n.Until != nil {
		until := n.Until.UTC().Truncate(time.Millisecond)
		mine.Until = &until
	}
	switch {
	case n.Answer != rule.Later && n.Until != nil:
		return mine, fault.New(fault.Invalid, "sign_off.until", "only a later says until when").In("until").
			Do("leave it out")
	case n.Answer != rule.HandOver && n.To != "":
		return mine, fault.New(fault.Invalid, "sign_off.to", "only handing over says to whom").In("to").
			Do("leave it out")
	case n.Answer == rule.HandOver && n.To != "":
		return mine, s.checkReviewer(ctx, r, h, n.To)
	}
	return mine, nil
}

// voucher is the person who acts; robots vouch for nothing.
func (s *Service) voucher(ctx context.Context, r records.View, a act.Actor) (*people.Person, error) {
	me, err := r.PersonNamed(ctx, a.Name)
	if err == nil && me.Robot {
		err = fault.New(fault.Forbidden, "sign_off.robot", "%s is a robot and vouches for nothing", a.Name).
			Do("a person signs")
	}
	return me, err
}

// checkReviewer refuses to hand a promotion to someone who cannot sign it, or whose
// sign-off would not count.
func (s *Service) checkReviewer(ctx context.Context, r records.View, h judged, name string) error {
	to, err := r.PersonNamed(ctx, name)
	if errors.Is(err, records.ErrNone) {
		return s.people.CheckPerson(ctx, r, "to", name)
	}
	if err != nil {
		return err
	}
	rights, err := r.RightsOf(ctx, to)
	if err != nil {
		return err
	}
	may := !to.Robot && to.Disabled == nil && rights.May(access.Sign, h.Project)
	if name == h.AskedBy {
		return nil // core says why not
	}
	if !may || !h.ladder.AnswerCounts(h.Promotion, name, rolesIn(to, h.Project), h.facts.Trainers) {
		why := "%s cannot sign %s"
		if may {
			why = "a sign-off by %s would not count for %s"
		}
		return fault.New(fault.Refused, "sign_off.cannot", why, name, h.ID).In("to").
			Do("hand it to someone who may sign for %s in %s", h.To, h.Project)
	}
	return nil
}

// Tick writes down that whoever acts looked at an item of a promotion's checklist.
func (s *Service) Tick(ctx context.Context, by act.Actor, id string, n wire.NewTick) (*ladder.Promotion, error) {
	return s.answer(ctx, by, id, access.Sign, func(t *act.Tx, h judged) error {
		if err := t.Need(h.Project); err != nil {
			return err
		}
		if _, err := s.voucher(ctx, t.View, t.By); err != nil {
			return err
		}
		tick := rule.Tick{
			Item: n.Item, Rung: n.Rung, Note: n.Note, Link: n.Link, By: t.By.Name, At: t.Now,
			CandidateDigest: h.facts.Version.Digest, Incumbent: refOf(h.facts.Incumbent),
		}
		if err := h.Tick(tick, h.ladder.Checklist(h.Promotion)); err != nil {
			return err
		}
		tick = h.Ticks[len(h.Ticks)-1]
		if err := t.PutTick(ctx, h.number, tick); err != nil {
			return err
		}
		if err := t.Note(ctx, act.Entry{
			Project: h.Project, Kind: "promotion.ticked", Subject: h.Version,
			Also: []string{h.ID}, Sentence: fmt.Sprintf("%s: %s looked at %s.", h.ID, t.By.Name, n.Item),
			Reason: strings.TrimSpace(n.Note + " " + n.Link), After: tick,
		}); err != nil {
			return err
		}
		return s.settle(ctx, t, h, false)
	})
}

// rolesOf lists the roles that someone has in a project.
func (s *Service) rolesOf(ctx context.Context, r records.View, a act.Actor, project string) ([]string, error) {
	p, err := r.PersonNamed(ctx, a.Name)
	if errors.Is(err, records.ErrNone) {
		return nil, nil // the service itself has none
	}
	if err != nil {
		return nil, err
	}
	return rolesIn(p, project), nil
}

func rolesIn(p *people.Person, project string) []string {
	var out []string
	for _, m := range p.Memberships {
		if (m.Project == project || m.Project == access.Everywhere) && !slices.Contains(out, m.Role) {
			out = append(out, m.Role)
		}
	}
	return out
}

// reviewers lists the people whom a promotion waits for: those who may sign, whose answer
// would count, and who have not answered.
func (s *Service) reviewers(ctx context.Context, t *act.Tx, h judged) ([]string, error) {
	people, readers, err := notices.Everyone(ctx, t)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range readers {
		person := people[r.Name]
		if r.Rights.May(access.Sign, h.Project) &&
			h.ladder.AnswerCounts(h.Promotion, r.Name, rolesIn(&person, h.Project), h.facts.Trainers) &&
			h.Awaits(r.Name, t.Now) {
			out = append(out, r.Name)
		}
	}
	return out, nil
}

// asker is who is told when a promotion is answered.
func asker(p *ladder.Promotion) map[notice.Topic][]string {
	return map[notice.Topic][]string{notice.Answer: {p.AskedBy}}
}
