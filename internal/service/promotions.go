package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/registry"
	"innerladder/internal/store"
)

// NewPromotion says what is asked for.
type NewPromotion struct {
	Version string `json:"version" required:"true" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
	To      string `json:"to" required:"true" description:"the rung"`
	Note    string `json:"note,omitempty" description:"for those who sign; needed for an emergency"`
	// Emergency carries it out past the gate, and asks for a review afterwards.
	Emergency bool `json:"emergency,omitempty" description:"carry it out at once, past the gate; needs the permission override, and is reviewed afterwards"`
}

// Promote asks that a version step up to a rung. When every gate on the way is met
// already, it is carried out at once, if the ladder says so.
func (s *Service) Promote(ctx context.Context, n NewPromotion) (*ladder.Promotion, error) {
	v, err := s.Version(ctx, n.Version)
	if err != nil {
		return nil, err
	}
	stored, err := s.storedArtifacts(v)
	if err != nil {
		return nil, err
	}
	if n.Emergency && strings.TrimSpace(n.Note) == "" {
		return nil, fault.New(fault.Invalid, "promotion.emergency", "an emergency needs a reason").In("note").Do("say why it cannot wait for its gate")
	}
	return change(ctx, s, access.Ask, func(t *tx) (*ladder.Promotion, error) {
		// Read again: it may have moved meanwhile.
		v, err := t.Version(ctx, v.Model, v.Number)
		if err != nil {
			return nil, err
		}
		l, err := t.Ladder(ctx, v.Project)
		if err != nil {
			return nil, err
		}
		if err := l.CheckClimb(v.Ref, v.Rung, n.To); err != nil && !(n.Emergency && fault.Code(err) == "promotion.skips") {
			return nil, err
		}
		if n.Emergency {
			if err := t.actor.need(access.Override, v.Project); err != nil {
				return nil, err
			}
		}
		roles, err := s.rolesOf(ctx, t.Records, t.actor, v.Project)
		if err != nil {
			return nil, err
		}
		if rung := l.Rung(n.To); !ladder.HasRole(rung.Ask, roles) {
			return nil, fault.New(fault.Forbidden, "promotion.role", "%s is asked for by those with the role %s", n.To, strings.Join(rung.Ask, " or ")).In("to").Do("have one of them ask, or ask an owner for the role")
		}
		if open, err := t.OpenPromotion(ctx, v.Ref, n.To); err == nil {
			return nil, fault.New(fault.Refused, "promotion.open_already", "%s asks for %s to %s already", open.ID, v.Ref, n.To).In("version").
				Do("sign it with: innerladder sign %s -yes", open.ID)
		} else if !errors.Is(err, store.ErrNone) {
			return nil, err
		}
		p := &ladder.Promotion{Project: v.Project, Version: v.Ref, From: v.Rung, To: n.To, AskedBy: t.actor.Name, Note: n.Note, State: ladder.Open, Emergency: n.Emergency,
			Ladder: l.Number, OpenedAt: t.now, SignOffs: []ladder.SignOff{}}
		f, err := s.facts(ctx, t.Records, v, n.To, stored)
		if err != nil {
			return nil, err
		}
		if f.Incumbent != nil {
			p.Incumbent = f.Incumbent.Ref
		}
		if n.Emergency {
			l.Judge(p, f)
			p.State = ladder.ToReview
		}
		if err := t.AddPromotion(ctx, p); err != nil {
			return nil, err
		}
		reviewers, err := s.reviewers(ctx, t, p, l, f)
		if err != nil {
			return nil, err
		}
		if n.Emergency {
			return p, s.override(ctx, t, l, p, f, reviewers)
		}
		opened := entry{Project: v.Project, Kind: "promotion.opened", Subject: v.Ref, Also: []string{p.ID}, Sentence: fmt.Sprintf("%s: %s asks for %s to %s.", p.ID, p.AskedBy, v.Ref, n.To), Reason: n.Note, After: p}
		if len(reviewers) > 0 {
			opened.involved = map[notice.Topic][]string{notice.Review: reviewers}
		}
		if err := t.note(ctx, opened); err != nil {
			return nil, err
		}
		return p, s.settle(ctx, t, l, p, f, false)
	})
}

// override carries a promotion out past its gate.
func (s *Service) override(ctx context.Context, t *tx, l ladder.Revision, p *ladder.Promotion, f ladder.Facts, reviewers []string) error {
	number, err := ladder.ParseID("promotion", p.ID)
	if err != nil {
		return err
	}
	if err := t.SetPromotion(ctx, number, p); err != nil {
		return err
	}
	var open []string
	for _, finding := range p.Findings {
		if finding.State != ladder.Passed {
			open = append(open, finding.Sentence)
		}
	}
	passed := "Its gate was met."
	if len(open) > 0 {
		passed = "Past its gate: " + strings.Join(open, " ")
	}
	e := entry{Project: p.Project, Kind: "promotion.emergency", Subject: p.Version, Also: []string{p.ID}, Reason: p.Note, Before: map[string]string{"rung": p.From}, After: p,
		Sentence: fmt.Sprintf("EMERGENCY %s: %s put %s on %s. %s", p.ID, p.AskedBy, p.Version, p.To, passed)}
	if len(reviewers) > 0 {
		e.involved = map[notice.Topic][]string{notice.Review: reviewers}
	}
	if err := t.note(ctx, e); err != nil {
		return err
	}
	return s.stepUp(ctx, t, l, p, f.Version)
}

// rolesOf lists the roles that someone has in a project.
func (s *Service) rolesOf(ctx context.Context, r store.Records, a Actor, project string) ([]string, error) {
	p, err := r.PersonNamed(ctx, a.Name)
	if errors.Is(err, store.ErrNone) {
		return nil, nil // the service itself has none
	}
	if err != nil {
		return nil, err
	}
	return rolesIn(p, project), nil
}

func rolesIn(p *store.Person, project string) []string {
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
func (s *Service) reviewers(ctx context.Context, t *tx, p *ladder.Promotion, l ladder.Revision, f ladder.Facts) ([]string, error) {
	people, readers, err := t.everyone(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range readers {
		person := people[r.Name]
		if r.Rights.May(access.Sign, p.Project) && l.Heeds(p, r.Name, rolesIn(&person, p.Project), f.Trainers) && p.Awaits(r.Name, t.now) {
			out = append(out, r.Name)
		}
	}
	return out, nil
}

// NewAnswer is what someone says to a promotion.
type NewAnswer struct {
	Answer ladder.Answer `json:"answer" required:"true" enum:"yes,no,later,hand_over"`
	Note   string        `json:"note,omitempty" description:"needed for a no"`
	Until  *time.Time    `json:"until,omitempty" description:"when the answer will come; needed for a later"`
	To     string        `json:"to,omitempty" description:"to whom it is handed over"`
	// Envelope is the statement signed with the person's own key; the service signs when
	// it is absent.
	Envelope json.RawMessage `json:"envelope,omitempty" description:"the statement in a DSSE envelope, signed with one's own key; the service signs when absent"`
}

// answering makes the sign-off of whoever acts, as it would be written down.
func (s *Service) answering(ctx context.Context, r store.Records, a Actor, p *ladder.Promotion, l ladder.Revision, f ladder.Facts, n NewAnswer, at time.Time) (ladder.SignOff, error) {
	me, err := r.PersonNamed(ctx, a.Name)
	if err != nil {
		return ladder.SignOff{}, err
	}
	if me.Robot {
		return ladder.SignOff{}, fault.New(fault.Forbidden, "sign_off.robot", "%s is a robot and vouches for nothing", a.Name).Do("a person signs")
	}
	mine := ladder.SignOff{By: a.Name, Answer: n.Answer, Note: n.Note, At: at, Roles: rolesIn(me, p.Project), To: n.To, CandidateDigest: f.Version.Digest, Incumbent: refOf(f.Incumbent)}
	if n.Until != nil {
		until := n.Until.UTC().Truncate(time.Millisecond)
		mine.Until = &until
	}
	switch {
	case n.Answer != ladder.Later && n.Until != nil:
		return mine, fault.New(fault.Invalid, "sign_off.until", "only a later says until when").In("until").Do("leave it out")
	case n.Answer != ladder.HandOver && n.To != "":
		return mine, fault.New(fault.Invalid, "sign_off.to", "only handing over says to whom").In("to").Do("leave it out")
	case n.Answer == ladder.HandOver && n.To != "":
		return mine, s.checkReviewer(ctx, r, p, l, f, n.To)
	}
	return mine, nil
}

// checkReviewer refuses to hand a promotion to someone who cannot sign it, or whose
// sign-off would not count.
func (s *Service) checkReviewer(ctx context.Context, r store.Records, p *ladder.Promotion, l ladder.Revision, f ladder.Facts, name string) error {
	to, err := r.PersonNamed(ctx, name)
	if errors.Is(err, store.ErrNone) {
		return s.checkPerson(ctx, r, "to", name)
	}
	if err != nil {
		return err
	}
	rights, err := r.RightsOf(ctx, to)
	if err != nil {
		return err
	}
	may := !to.Robot && to.Disabled == nil && rights.May(access.Sign, p.Project)
	if name == p.AskedBy {
		return nil // core says why not
	}
	if !may || !l.Heeds(p, name, rolesIn(to, p.Project), f.Trainers) {
		why := "%s cannot sign %s"
		if may {
			why = "a sign-off by %s would not count for %s"
		}
		return fault.New(fault.Refused, "sign_off.cannot", why, name, p.ID).In("to").Do("hand it to someone who may sign for %s in %s", p.To, p.Project)
	}
	return nil
}

// Sign adds the answer of whoever acts to a promotion, which is carried out or refused
// when that decides it. The answer is written down as a signed statement.
func (s *Service) Sign(ctx context.Context, id string, n NewAnswer) (*ladder.Promotion, error) {
	stored, err := s.storedFor(ctx, id)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Sign, func(t *tx) (*ladder.Promotion, error) {
		p, number, l, f, err := s.reviewed(ctx, t.Records, id, stored)
		if err != nil {
			return nil, err
		}
		if err := t.need(p.Project); err != nil {
			return nil, err
		}
		at := t.now
		if n.Envelope != nil {
			if at, err = signedAt(n.Envelope, t.now); err != nil {
				return nil, err
			}
		}
		mine, err := s.answering(ctx, t.Records, t.actor, p, l, f, n, at)
		if err != nil {
			return nil, err
		}
		if err := p.Sign(mine, l.Rung(p.To)); err != nil {
			return nil, err
		}
		envelope, key, err := s.vouch(ctx, t, ladder.StatementOf(p, f.Version, mine), n.Envelope)
		if err != nil {
			return nil, err
		}
		mine.Key = key
		p.SignOffs[len(p.SignOffs)-1].Key = key
		if err := t.AddAnswer(ctx, number, mine, envelope); err != nil {
			return nil, err
		}
		if err := t.Settle(ctx, p.ID, t.actor.person, t.now); err != nil {
			return nil, err
		}
		said := map[ladder.Answer]string{
			ladder.Later:    fmt.Sprintf("%s: %s answers later about %s on %s.", p.ID, t.actor.Name, p.Version, p.To),
			ladder.HandOver: fmt.Sprintf("%s: %s handed the review of %s to %s.", p.ID, t.actor.Name, p.Version, n.To),
		}[n.Answer]
		if said == "" {
			said = fmt.Sprintf("%s: %s said %s to %s on %s.", p.ID, t.actor.Name, n.Answer, p.Version, p.To)
		}
		e := entry{Project: p.Project, Kind: "promotion.signed", Subject: p.Version, Also: []string{p.ID}, involved: asker(p), Sentence: said, Reason: n.Note, After: mine}
		if n.Answer == ladder.HandOver {
			e.involved[notice.Review] = []string{n.To}
		}
		if err := t.note(ctx, e); err != nil {
			return nil, err
		}
		return p, s.settle(ctx, t, l, p, f, false)
	})
}

// NewTick says that someone looked at an item of the checklist.
type NewTick struct {
	Item string `json:"item" required:"true"`
	Rung string `json:"rung,omitempty" description:"whose checklist, where items of two have the same name"`
	Note string `json:"note,omitempty" description:"what was seen; a note or a link is needed"`
	Link string `json:"link,omitempty" description:"address of what shows it"`
}

// Tick writes down that whoever acts looked at an item of a promotion's checklist.
func (s *Service) Tick(ctx context.Context, id string, n NewTick) (*ladder.Promotion, error) {
	stored, err := s.storedFor(ctx, id)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Sign, func(t *tx) (*ladder.Promotion, error) {
		p, number, l, f, err := s.reviewed(ctx, t.Records, id, stored)
		if err != nil {
			return nil, err
		}
		tick := ladder.Tick{Item: n.Item, Rung: n.Rung, Note: n.Note, Link: n.Link, By: t.actor.Name, At: t.now, CandidateDigest: f.Version.Digest, Incumbent: refOf(f.Incumbent)}
		if err := p.Tick(tick, l.Checklist(p)); err != nil {
			return nil, err
		}
		tick = p.Ticks[len(p.Ticks)-1]
		if err := t.PutTick(ctx, number, tick); err != nil {
			return nil, err
		}
		if err := t.note(ctx, entry{Project: p.Project, Kind: "promotion.ticked", Subject: p.Version, Also: []string{p.ID}, Sentence: fmt.Sprintf("%s: %s looked at %s.", p.ID, t.actor.Name, n.Item), Reason: strings.TrimSpace(n.Note + " " + n.Link), After: tick}); err != nil {
			return nil, err
		}
		return p, s.settle(ctx, t, l, p, f, false)
	})
}

// CarryOut carries a promotion out whose gate is met, where that is done by hand.
func (s *Service) CarryOut(ctx context.Context, id string) (*ladder.Promotion, error) {
	stored, err := s.storedFor(ctx, id)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Ask, func(t *tx) (*ladder.Promotion, error) {
		p, _, l, f, err := s.reviewed(ctx, t.Records, id, stored)
		if err != nil {
			return nil, err
		}
		if p.State != ladder.Open {
			return nil, fault.New(fault.Refused, "promotion.closed", "%s is %s", p.ID, p.State.Words()).In("promotion").Do("nothing needs doing")
		}
		if err := s.settle(ctx, t, l, p, f, true); err != nil {
			return nil, err
		}
		if p.State == ladder.Open {
			var open []string
			for _, finding := range p.Findings {
				if finding.State != ladder.Passed {
					open = append(open, finding.Sentence)
				}
			}
			return nil, fault.New(fault.Refused, "promotion.not_met", "the gate is not met: %s", strings.TrimSuffix(strings.Join(open, " "), ".")).In("promotion").Do("see it with: innerladder review %s", p.ID)
		}
		return p, nil
	})
}

// Withdraw takes a promotion back; only the one who asked may.
func (s *Service) Withdraw(ctx context.Context, id, why string) (*ladder.Promotion, error) {
	stored, err := s.storedFor(ctx, id)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Ask, func(t *tx) (*ladder.Promotion, error) {
		p, _, l, f, err := s.reviewed(ctx, t.Records, id, stored)
		if err != nil {
			return nil, err
		}
		switch {
		case p.State == ladder.ToReview:
			return nil, fault.New(fault.Refused, "promotion.to_review", "%s was carried out in an emergency and waits for its review", p.ID).In("promotion").Do("someone else signs it; a no takes the version down again")
		case p.State != ladder.Open:
			return nil, fault.New(fault.Refused, "promotion.closed", "%s is closed already", p.ID).In("promotion").Do("nothing needs doing")
		case p.AskedBy != t.actor.Name:
			return nil, fault.New(fault.Refused, "promotion.not_yours", "%s was asked by %s", p.ID, p.AskedBy).In("promotion").Do("answer it with: innerladder sign %s -no -note WHY", p.ID)
		}
		l.Judge(p, f)
		return p, s.closePromotion(ctx, t, p, ladder.Withdrawn, why)
	})
}

// reviewed reads a promotion with the ladder that judges it and what it is judged by. An
// open one asks from where its version stands now.
func (s *Service) reviewed(ctx context.Context, r store.Records, id string, stored int) (*ladder.Promotion, int, ladder.Revision, ladder.Facts, error) {
	p, number, err := s.promotion(ctx, r, id)
	if err != nil {
		return nil, 0, ladder.Revision{}, ladder.Facts{}, err
	}
	l, f, err := s.judging(ctx, r, p, stored)
	return p, number, l, f, err
}

func (s *Service) judging(ctx context.Context, r store.Records, p *ladder.Promotion, stored int) (ladder.Revision, ladder.Facts, error) {
	l, err := r.Ladder(ctx, p.Project)
	if err != nil {
		return l, ladder.Facts{}, err
	}
	v, err := s.resolve(ctx, r, "version", p.Version)
	if err != nil {
		return l, ladder.Facts{}, err
	}
	f, err := s.facts(ctx, r, v, p.To, stored)
	if p.State == ladder.Open {
		p.Ladder = l.Number
		if l.Height(v.Rung) >= 0 && l.Height(v.Rung) < l.Height(p.To) {
			p.From = v.Rung
		}
	}
	return l, f, err
}

// settle judges a promotion and carries out what follows.
func (s *Service) settle(ctx context.Context, t *tx, l ladder.Revision, p *ladder.Promotion, f ladder.Facts, byHand bool) error {
	if p.State == ladder.Open {
		if err := l.CheckClimb(p.Version, f.Version.Rung, p.To); err != nil {
			// Another promotion was quicker, or it was taken down: nobody climbs by this one.
			p.Findings = []ladder.Finding{}
			why := err.Error()
			if l.Height(f.Version.Rung) >= l.Height(p.To) {
				why = fmt.Sprintf("%s stands on %s already.", p.Version, f.Version.Rung)
			}
			return s.closePromotion(ctx, t, p, ladder.Withdrawn, why)
		}
	}
	was, findings := p.State, p.Findings
	l.Judge(p, f)
	if was == ladder.ToReview {
		p.Findings = findings // they say what was passed by
	}
	switch state := l.Settle(p, byHand); {
	case state == was:
		return nil
	case state == ladder.CarriedOut && was == ladder.Open:
		if err := s.closePromotion(ctx, t, p, state, ""); err != nil {
			return err
		}
		return s.stepUp(ctx, t, l, p, f.Version)
	case state == ladder.Denied && was == ladder.ToReview:
		if err := s.closePromotion(ctx, t, p, state, ""); err != nil {
			return err
		}
		return s.stepBack(ctx, t, l, p, f.Version)
	default:
		return s.closePromotion(ctx, t, p, state, "")
	}
}

// stepUp moves a version to the rung that it was promoted to, and those down that it
// displaces.
func (s *Service) stepUp(ctx context.Context, t *tx, l ladder.Revision, p *ladder.Promotion, v *registry.Version) error {
	if err := t.SetRung(ctx, v.Model, v.Number, p.To, p.ID, t.now); err != nil {
		return err
	}
	return s.displace(ctx, t, l, v, v.Rung, p.To)
}

// displace moves down those whom a version displaces that stepped from one rung to
// another.
func (s *Service) displace(ctx context.Context, t *tx, l ladder.Revision, v *registry.Version, from, to string) error {
	if !l.Rung(to).HoldsOne {
		return nil
	}
	m, err := t.Model(ctx, v.Model)
	if err != nil {
		return err
	}
	answers := map[int][]string{}
	for _, numbers := range m.Standing {
		for _, n := range numbers {
			if answers[n], err = t.EndpointsAnsweredBy(ctx, registry.Ref{Model: v.Model, Number: n}.String()); err != nil {
				return err
			}
		}
	}
	for _, move := range l.Steps(v.Number, from, to, m.Standing, func(n int) bool { return len(answers[n]) > 0 })[1:] {
		down, err := t.Version(ctx, v.Model, move.Number)
		if err != nil {
			return err
		}
		said := fmt.Sprintf("%s stepped down from %s to %s: %s holds one version of a model, and %s came.", down.Ref, move.From, move.To, move.From, v.Ref)
		if len(answers[move.Number]) > 0 {
			said = strings.TrimSuffix(said, ".") + fmt.Sprintf("; it still answers for %s.", strings.Join(answers[move.Number], ", "))
		}
		if _, err := s.step(ctx, t, down, move.To, entry{Kind: "version.stepped_down", Sentence: said, Also: []string{v.Ref}}); err != nil {
			return err
		}
	}
	return nil
}

// stepBack takes a version down again whose emergency was not found right.
func (s *Service) stepBack(ctx context.Context, t *tx, l ladder.Revision, p *ladder.Promotion, v *registry.Version) error {
	if v.RungBy != p.ID || l.Height(p.From) < 0 {
		return nil // it went elsewhere since
	}
	answers, err := t.EndpointsAnsweredBy(ctx, v.Ref)
	if err != nil {
		return err
	}
	said := fmt.Sprintf("%s stepped down from %s to %s: its emergency was not found right.", v.Ref, v.Rung, p.From)
	if len(answers) > 0 {
		said = strings.TrimSuffix(said, ".") + fmt.Sprintf("; it still answers for %s.", strings.Join(answers, ", "))
	}
	from := v.Rung
	if _, err := s.step(ctx, t, v, p.From, entry{Kind: "version.stepped_down", Sentence: said, Also: []string{p.ID}}); err != nil {
		return err
	}
	return s.displace(ctx, t, l, v, from, p.From)
}

// stepDown takes a version that was rolled back down a rung, and voids what was signed for
// it: it must be signed anew.
func (s *Service) stepDown(ctx context.Context, t *tx, e *store.Endpoint, ref string, split int, why string) error {
	v, err := s.resolve(ctx, t.Records, "version", ref)
	if err != nil {
		return err
	}
	l, err := t.Ladder(ctx, v.Project)
	if err != nil {
		return err
	}
	void := fmt.Sprintf("rolled back from %s#%d", e.Name, split)
	n, err := t.VoidAnswers(ctx, v.Ref, void)
	if err != nil {
		return err
	}
	below, ok := l.Below(v.Rung)
	if !ok || l.Height(v.Rung) < l.Height(e.Rung) {
		return nil // it stands lower already
	}
	from := v.Rung
	said := fmt.Sprintf("%s stepped down from %s to %s: it was %s.", v.Ref, from, below, void)
	if n > 0 {
		said = strings.TrimSuffix(said, ".") + "; its sign-offs are void."
	}
	if _, err := s.step(ctx, t, v, below, entry{Kind: "version.stepped_down", Sentence: said, Reason: why, Also: []string{e.Name}}); err != nil {
		return err
	}
	return s.displace(ctx, t, l, v, from, below)
}

func (s *Service) closePromotion(ctx context.Context, t *tx, p *ladder.Promotion, state ladder.PromotionState, why string) error {
	number, err := ladder.ParseID("promotion", p.ID)
	if err != nil {
		return err
	}
	now := t.now
	was := p.State
	p.State, p.ClosedAt, p.Ready = state, &now, false
	if err := t.SetPromotion(ctx, number, p); err != nil {
		return err
	}
	if err := t.Settle(ctx, p.ID, 0, t.now); err != nil {
		return err
	}
	sentence := map[ladder.PromotionState]string{
		ladder.CarriedOut: fmt.Sprintf("%s: %s stepped up to %s.", p.ID, p.Version, p.To),
		ladder.Denied:     fmt.Sprintf("%s: %s to %s was refused.", p.ID, p.Version, p.To),
		ladder.Withdrawn:  fmt.Sprintf("%s: %s to %s was withdrawn.", p.ID, p.Version, p.To),
		ladder.Expired:    fmt.Sprintf("%s: %s to %s expired; nobody answered.", p.ID, p.Version, p.To),
	}[state]
	kind := "promotion." + string(state)
	if was == ladder.ToReview && state == ladder.CarriedOut {
		kind, sentence = "promotion.reviewed", fmt.Sprintf("%s: the emergency of %s on %s was found right.", p.ID, p.Version, p.To)
	}
	return t.note(ctx, entry{Project: p.Project, Kind: kind, Subject: p.Version, Also: []string{p.ID}, involved: asker(p), Sentence: sentence, Reason: why,
		Before: map[string]string{"rung": p.From}, After: map[string]any{"state": state, "rung": map[bool]string{true: p.To, false: p.From}[state == ladder.CarriedOut]}})
}

func refOf(v *registry.Version) string {
	if v == nil {
		return ""
	}
	return v.Ref
}

// facts gathers what the gates look at. The incumbent is the version that stepped last on
// the rung asked for.
func (s *Service) facts(ctx context.Context, r store.Records, v *registry.Version, to string, stored int) (ladder.Facts, error) {
	f := ladder.Facts{Version: v, To: to, StoredArtifacts: stored, Verified: true, Trainers: []string{v.CreatedBy}, Now: s.now()}
	there, err := r.VersionsOnRung(ctx, v.Model, to, 1)
	if err != nil {
		return f, err
	}
	if len(there) > 0 && there[0].Ref != v.Ref {
		if f.Incumbent, err = r.Version(ctx, v.Model, there[0].Number); err != nil {
			return f, err
		}
		if f.IncumbentEvidence, err = r.EvidenceOf(ctx, f.Incumbent.Ref); err != nil {
			return f, err
		}
	}
	if f.Evidence, err = r.EvidenceOf(ctx, v.Ref); err != nil {
		return f, err
	}
	placements, err := r.Placements(ctx, v.Ref)
	if err != nil {
		return f, err
	}
	for _, p := range placements {
		f.Places = append(f.Places, ladder.Place{Environment: p.Environment, Healthy: p.Healthy, Reason: p.Reason()})
	}
	if v.Run != "" {
		n, err := registry.ParseRunRef("run", v.Run)
		if err != nil {
			return f, err
		}
		// Who trained it counts, whoever asks.
		if run, err := r.Unbounded().Run(ctx, n); err == nil {
			f.Trainers = append(f.Trainers, run.By)
		} else if !errors.Is(err, store.ErrNone) {
			return f, err
		}
	}
	return f, nil
}

// storedArtifacts counts the artifacts of a version whose bytes are in the store with
// their digest. It may read them all, so it is done before a transaction, not in it.
func (s *Service) storedArtifacts(v *registry.Version) (n int, err error) {
	for _, a := range v.Artifacts {
		if !a.Stored {
			continue
		}
		ok, err := s.blobs.Verify(a.Digest)
		if err != nil {
			return n, err
		}
		if ok {
			n++
		}
	}
	return n, nil
}

func (s *Service) storedFor(ctx context.Context, promotion string) (int, error) {
	if _, err := may(ctx, access.Read); err != nil {
		return 0, err
	}
	p, _, err := s.promotion(ctx, s.records(ctx), promotion)
	if err != nil {
		return 0, err
	}
	if !p.State.Signable() {
		return 0, nil
	}
	v, err := s.resolve(ctx, s.records(ctx), "version", p.Version)
	if err != nil {
		return 0, err
	}
	return s.storedArtifacts(v)
}

func (s *Service) promotion(ctx context.Context, r store.Records, id string) (*ladder.Promotion, int, error) {
	number, err := ladder.ParseID("promotion", id)
	if err != nil {
		return nil, 0, err
	}
	p, err := r.Promotion(ctx, number)
	if errors.Is(err, store.ErrNone) {
		return nil, 0, fault.New(fault.Unknown, "promotion.unknown", "there is no %s", ladder.ID(number)).In("promotion").Do("see those that wait with: innerladder reviews")
	}
	return p, number, err
}

// Promotion finds a promotion, with what the gate says now if it is open.
func (s *Service) Promotion(ctx context.Context, id string) (*ladder.Promotion, error) {
	if _, err := may(ctx, access.Read); err != nil {
		return nil, err
	}
	p, _, err := s.promotion(ctx, s.records(ctx), id)
	if err != nil || !p.State.Signable() {
		return p, err
	}
	_, err = s.judgeNow(ctx, s.records(ctx), p)
	return p, err
}

func (s *Service) judgeNow(ctx context.Context, r store.Records, p *ladder.Promotion) (ladder.Facts, error) {
	v, err := s.resolve(ctx, r, "version", p.Version)
	if err != nil {
		return ladder.Facts{}, err
	}
	stored, err := s.storedArtifacts(v)
	if err != nil {
		return ladder.Facts{}, err
	}
	l, f, err := s.judging(ctx, r, p, stored)
	if err != nil {
		return f, err
	}
	findings := p.Findings
	l.Judge(p, f)
	if p.State == ladder.ToReview {
		p.Findings = findings
	}
	return f, nil
}

// PromotionSearch narrows promotions down; zero members do not.
type PromotionSearch struct {
	store.PromotionFilter
	// ForMe leaves those that wait for whoever asks.
	ForMe bool
}

// Promotions lists promotions, newest first.
func (s *Service) Promotions(ctx context.Context, search PromotionSearch, p store.Page) (Listed[ladder.Promotion], error) {
	a, err := may(ctx, access.Read)
	if err != nil {
		return Listed[ladder.Promotion]{}, err
	}
	r := s.store.ReadAs(a.sight())
	if search.ForMe {
		return s.promotionsFor(ctx, r, a, search, p)
	}
	items, next, err := r.Promotions(ctx, search.PromotionFilter, p)
	out := Listed[ladder.Promotion]{Items: items, Next: next}
	for i := range out.Items {
		if err == nil && out.Items[i].State.Signable() {
			_, err = s.judgeNow(ctx, r, &out.Items[i])
		}
	}
	return out, err
}

// promotionsFor lists the promotions that wait for whoever acts.
func (s *Service) promotionsFor(ctx context.Context, r store.Records, a Actor, search PromotionSearch, p store.Page) (Listed[ladder.Promotion], error) {
	out := Listed[ladder.Promotion]{Items: []ladder.Promotion{}}
	search.State = "waiting"
	ladders := map[string]ladder.Revision{}
	me, err := r.PersonNamed(ctx, a.Name)
	if err != nil {
		return out, err
	}
	for page := (store.Page{Limit: 200, After: p.After}); ; {
		items, next, err := r.Promotions(ctx, search.PromotionFilter, page)
		if err != nil {
			return out, err
		}
		for i := range items {
			item := &items[i]
			if !a.Rights.May(access.Sign, item.Project) || me.Robot {
				continue
			}
			l, known := ladders[item.Project]
			if !known {
				if l, err = r.Ladder(ctx, item.Project); err != nil {
					return out, err
				}
				ladders[item.Project] = l
			}
			if !ladder.HasRole(l.Rung(item.To).Sign, rolesIn(me, item.Project)) {
				continue
			}
			f, err := s.judgeNow(ctx, r, item)
			if err != nil {
				return out, err
			}
			if !l.Heeds(item, a.Name, rolesIn(me, item.Project), f.Trainers) || !item.Awaits(a.Name, s.now()) || item.Ready {
				continue
			}
			if len(out.Items) == p.Limit {
				out.Next = strings.TrimPrefix(out.Items[p.Limit-1].ID, "P-")
				return out, nil
			}
			out.Items = append(out.Items, *item)
		}
		if next == "" {
			return out, nil
		}
		page.After = next
	}
}

// GateReport is what the gates on the way to a rung say about a version.
type GateReport struct {
	Version   string           `json:"version"`
	From      string           `json:"from"`
	To        string           `json:"to"`
	Incumbent string           `json:"incumbent,omitempty"`
	Promotion string           `json:"promotion,omitempty" description:"the one that asks for it, if there is one"`
	Ladder    int              `json:"ladder" description:"revision of the ladder"`
	Met       bool             `json:"met"`
	Findings  []ladder.Finding `json:"findings"`
}

// Gate says what is met and what is missing for a version to step on a rung; nothing is
// asked for. An empty rung is the next one.
func (s *Service) Gate(ctx context.Context, ref, to string) (GateReport, error) {
	v, err := s.Version(ctx, ref)
	if err != nil {
		return GateReport{}, err
	}
	r := s.records(ctx)
	l, err := r.Ladder(ctx, v.Project)
	if err != nil {
		return GateReport{}, err
	}
	if h := l.Height(v.Rung); to == "" && h >= 0 && h+1 < len(l.Rungs) {
		to = l.Rungs[h+1].Name
	} else if to == "" {
		to = l.Highest()
	}
	if err := l.CheckClimb(v.Ref, v.Rung, to); err != nil {
		return GateReport{}, err
	}
	p, err := r.OpenPromotion(ctx, v.Ref, to)
	if errors.Is(err, store.ErrNone) {
		p, err = &ladder.Promotion{Project: v.Project, Version: v.Ref, State: ladder.Open, To: to}, nil
	}
	if err != nil {
		return GateReport{}, err
	}
	stored, err := s.storedArtifacts(v)
	if err != nil {
		return GateReport{}, err
	}
	f, err := s.facts(ctx, r, v, to, stored)
	if err != nil {
		return GateReport{}, err
	}
	p.From = v.Rung
	l.Judge(p, f)
	return GateReport{Version: v.Ref, From: v.Rung, To: to, Incumbent: p.Incumbent, Promotion: p.ID, Ladder: l.Number, Met: ladder.Met(p.Findings), Findings: p.Findings}, nil
}

// StepPromotions does what time and other changes have brought about for promotions:
// carries out those whose gate is met, reminds reviewers, and ends those that nobody
// answers.
func (s *Service) StepPromotions(ctx context.Context) error {
	ctx = BySelf(ctx)
	r := s.store.Read()
	var failed []error // one that cannot be looked at holds up no other
	for page := (store.Page{Limit: 200}); ; {
		items, next, err := r.Promotions(ctx, store.PromotionFilter{State: "waiting"}, page)
		if err != nil {
			return errors.Join(append(failed, err)...)
		}
		for i := range items {
			if err := s.stepPromotion(ctx, r, &items[i]); err != nil && !errors.Is(err, store.ErrNone) {
				failed = append(failed, fmt.Errorf("looking at %s: %w", items[i].ID, err))
			}
		}
		if next == "" {
			return errors.Join(failed...)
		}
		page.After = next
	}
}

func (s *Service) stepPromotion(ctx context.Context, r store.Records, p *ladder.Promotion) error {
	l, err := r.Ladder(ctx, p.Project)
	if err != nil {
		return err
	}
	if _, err := s.judgeNow(ctx, r, p); err != nil {
		return err
	}
	v, err := s.resolve(ctx, r, "version", p.Version)
	if err != nil {
		return err
	}
	moved := p.State == ladder.Open && l.CheckClimb(p.Version, v.Rung, p.To) != nil
	if !moved && l.Settle(p, false) == p.State && l.DueAt(p, s.now()) == ladder.Nothing {
		return nil
	}
	stored, err := s.storedArtifacts(v)
	if err != nil {
		return err
	}
	_, err = change(ctx, s, access.Sign, func(t *tx) (struct{}, error) {
		none := struct{}{}
		// Read again: someone may have answered meanwhile.
		p, number, l, f, err := s.reviewed(ctx, t.Records, p.ID, stored)
		if err != nil || !p.State.Signable() {
			return none, err
		}
		if err := s.settle(ctx, t, l, p, f, false); err != nil || !p.State.Signable() {
			return none, err
		}
		switch l.DueAt(p, t.now) {
		case ladder.Expire:
			return none, s.closePromotion(ctx, t, p, ladder.Expired, "")
		case ladder.Remind:
			reviewers, err := s.reviewers(ctx, t, p, l, f)
			if err != nil {
				return none, err
			}
			if err := t.SetReminded(ctx, number, t.now); err != nil {
				return none, err
			}
			return none, t.note(ctx, entry{Project: p.Project, Kind: "promotion.reminded", Subject: p.Version, Also: []string{p.ID}, involved: map[notice.Topic][]string{notice.Review: append(reviewers, waitsForAsker(p, reviewers)...)},
				Sentence: fmt.Sprintf("%s: %s to %s still waits%s", p.ID, p.Version, p.To, describeWait(p, reviewers))})
		}
		return none, nil
	})
	return err
}

// waitsForAsker names the one who asked when no reviewer is waited for.
func waitsForAsker(p *ladder.Promotion, reviewers []string) []string {
	if p.Ready || len(reviewers) == 0 {
		return []string{p.AskedBy}
	}
	return nil
}

// describeWait ends the sentence that something still waits.
func describeWait(p *ladder.Promotion, reviewers []string) string {
	if p.Ready {
		return " to be carried out."
	}
	if len(reviewers) > 0 {
		return " for " + strings.Join(reviewers, ", ") + "."
	}
	open := slices.IndexFunc(p.Findings, func(f ladder.Finding) bool { return f.State != ladder.Passed })
	if open < 0 {
		return ", and nobody may sign."
	}
	return ": " + p.Findings[open].Sentence
}
