package ladder

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Promote asks that a version step up to a rung. When every gate on the way is met
// already, it is carried out at once, if the ladder says so.
func (s *Service) Promote(ctx context.Context, by act.Actor, n wire.NewPromotion) (*ladder.Promotion, error) {
	v, err := s.registry.Version(ctx, by, n.Version)
	if err != nil {
		return nil, err
	}
	files, err := s.storedArtifacts(v)
	if err != nil {
		return nil, err
	}
	if n.Emergency && strings.TrimSpace(n.Note) == "" {
		return nil, fault.New(fault.Invalid, "promotion.emergency", "an emergency needs a reason").In("note").
			Do("say why it cannot wait for its gate")
	}
	return act.Change(ctx, s.Base, by, access.Ask, func(t *act.Tx) (*ladder.Promotion, error) {
		// Read again: it may have moved meanwhile.
		v, err := t.Version(ctx, v.Model, v.Number)
		if err != nil {
			return nil, err
		}
		l, err := t.Ladder(ctx, v.Project)
		if err != nil {
			return nil, err
		}
		if err := s.checkAsking(ctx, t, l.Ladder, v, n); err != nil {
			return nil, err
		}
		p := &ladder.Promotion{
			Project: v.Project, Version: v.Ref, From: v.Rung, To: n.To, AskedBy: t.By.Name,
			Note: n.Note, State: ladder.Open, Emergency: n.Emergency,
			Ladder: l.Number, OpenedAt: t.Now, SignOffs: []rule.SignOff{}, Findings: []rule.Finding{},
		}
		f, err := s.facts(ctx, t.View, v, n.To, files)
		if err != nil {
			return nil, err
		}
		p.Incumbent = refOf(f.Incumbent)
		if n.Emergency {
			l.Judge(p, f)
			p.State = ladder.ToReview
		}
		if err := t.AddPromotion(ctx, p); err != nil {
			return nil, err
		}
		number, err := ladder.ParseID("promotion", p.ID)
		if err != nil {
			return nil, err
		}
		h := judged{p, number, l, f}
		reviewers, err := s.reviewers(ctx, t, h)
		if err != nil {
			return nil, err
		}
		if n.Emergency {
			return p, s.override(ctx, t, h, reviewers)
		}
		opened := act.Entry{
			Project: v.Project, Kind: "promotion.opened", Subject: v.Ref, Also: []string{p.ID},
			Sentence: fmt.Sprintf("%s: %s asks for %s to %s.", p.ID, p.AskedBy, v.Ref, n.To), Reason: n.Note, After: p,
		}
		if len(reviewers) > 0 {
			opened.Involved = map[notice.Topic][]string{notice.Review: reviewers}
		}
		if err := t.Note(ctx, opened); err != nil {
			return nil, err
		}
		return p, s.settle(ctx, t, h, false)
	})
}

// checkAsking refuses a promotion that whoever acts may not ask for, or that there is already.
func (s *Service) checkAsking(ctx context.Context, t *act.Tx, l ladder.Ladder, v *registry.Version,
	n wire.NewPromotion,
) error {
	if err := l.CheckClimb(v.Ref, v.Rung, n.To); err != nil &&
		!(n.Emergency && fault.Code(err) == "promotion.skips") {
		return err
	}
	if n.Emergency {
		if err := t.By.Need(access.Override, v.Project); err != nil {
			return err
		}
	}
	roles, err := s.rolesOf(ctx, t.View, t.By, v.Project)
	if err != nil {
		return err
	}
	if rung := l.Rung(n.To); !rule.HasRole(rung.Ask, roles) {
		return fault.New(fault.Forbidden, "promotion.role", "%s is asked for by those with the role %s", n.To,
			strings.Join(rung.Ask, " or ")).In("to").Do("have one of them ask, or ask an owner for the role")
	}
	open, err := t.OpenPromotion(ctx, v.Ref, n.To)
	switch {
	case err == nil:
		return fault.New(fault.Refused, "promotion.open_already", "%s asks for %s to %s already", open.ID, v.Ref,
			n.To).In("version").Do("sign it with: innerladder sign %s -yes", open.ID)
	case !errors.Is(err, records.ErrNone):
		return err
	}
	return nil
}

// override carries a promotion out past its gate.
func (s *Service) override(ctx context.Context, t *act.Tx, h judged, reviewers []string) error {
	p := h.Promotion
	if err := t.SetPromotion(ctx, h.number, p); err != nil {
		return err
	}
	passed := "Its gate was met."
	if open := h.open(); len(open) > 0 {
		passed = "Past its gate: " + strings.Join(open, " ")
	}
	e := act.Entry{
		Project: p.Project, Kind: "promotion.emergency", Subject: p.Version, Also: []string{p.ID},
		Reason: p.Note, Before: map[string]string{"rung": p.From}, After: p,
		Sentence: fmt.Sprintf("EMERGENCY %s: %s put %s on %s. %s", p.ID, p.AskedBy, p.Version, p.To, passed),
	}
	if len(reviewers) > 0 {
		e.Involved = map[notice.Topic][]string{notice.Review: reviewers}
	}
	if err := t.Note(ctx, e); err != nil {
		return err
	}
	return s.stepUp(ctx, t, h)
}

// judged is a promotion with all that it is judged by.
type judged struct {
	*ladder.Promotion
	number int
	ladder ladder.Revision
	facts  rule.Facts
}

// readJudged reads what a promotion is judged by. An open one asks from where its version stands
// now.
func (s *Service) readJudged(ctx context.Context, r records.View, p *ladder.Promotion,
	files stored,
) (h judged, err error) {
	h.Promotion = p
	if h.number, err = ladder.ParseID("promotion", p.ID); err != nil {
		return h, err
	}
	if h.ladder, err = r.Ladder(ctx, p.Project); err != nil {
		return h, err
	}
	v, err := s.registry.Resolve(ctx, r, "version", p.Version)
	if err != nil {
		return h, err
	}
	if h.facts, err = s.facts(ctx, r, v, p.To, files); err != nil {
		return h, err
	}
	if p.State == ladder.Open {
		p.Ladder = h.ladder.Number
		if at := h.ladder.Height(v.Rung); at >= 0 && at < h.ladder.Height(p.To) {
			p.From = v.Rung
		}
	}
	return h, nil
}

// judgedNow reads what a promotion is judged by, and judges it.
func (s *Service) judgedNow(ctx context.Context, r records.View, p *ladder.Promotion) (judged, error) {
	v, err := s.registry.Resolve(ctx, r, "version", p.Version)
	if err != nil {
		return judged{}, err
	}
	files, err := s.storedArtifacts(v)
	if err != nil {
		return judged{}, err
	}
	h, err := s.readJudged(ctx, r, p, files)
	if err != nil {
		return h, err
	}
	h.judge()
	return h, nil
}

// judge says what the gates say now. What an emergency went past stays as it was.
func (h judged) judge() {
	findings := h.Findings
	h.ladder.Judge(h.Promotion, h.facts)
	if h.State == ladder.ToReview {
		h.Findings = findings
	}
}

// open lists what the gates still want, in sentences.
func (h judged) open() []string {
	var out []string
	for _, f := range h.Findings {
		if f.State != rule.Passed {
			out = append(out, f.Sentence)
		}
	}
	return out
}

// answer changes a promotion: do is handed it as it is in the transaction.
func (s *Service) answer(ctx context.Context, by act.Actor, id string, permission access.Permission,
	do func(t *act.Tx, h judged) error,
) (*ladder.Promotion, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	p, err := s.FindPromotion(ctx, s.Read(by), id)
	if err != nil {
		return nil, err
	}
	var files stored
	if p.State.Signable() { // files may be read for this, so not in the transaction
		v, err := s.registry.Resolve(ctx, s.Read(by), "version", p.Version)
		if err != nil {
			return nil, err
		}
		if files, err = s.storedArtifacts(v); err != nil {
			return nil, err
		}
	}
	return act.Change(ctx, s.Base, by, permission, func(t *act.Tx) (*ladder.Promotion, error) {
		p, err := s.FindPromotion(ctx, t.View, id)
		if err != nil {
			return nil, err
		}
		h, err := s.readJudged(ctx, t.View, p, files)
		if err != nil {
			return nil, err
		}
		return p, do(t, h)
	})
}

// settle judges a promotion and carries out what follows.
func (s *Service) settle(ctx context.Context, t *act.Tx, h judged, byHand bool) error {
	was, stands := h.State, h.facts.Version.Rung
	if was == ladder.Open {
		if err := h.ladder.CheckClimb(h.Version, stands, h.To); err != nil {
			// Another promotion was quicker, or it was taken down: nobody climbs by this one.
			h.Findings = []rule.Finding{}
			why := err.Error()
			if h.ladder.Height(stands) >= h.ladder.Height(h.To) {
				why = fmt.Sprintf("%s stands on %s already.", h.Version, stands)
			}
			return s.closePromotion(ctx, t, h, ladder.Withdrawn, why)
		}
	}
	h.judge()
	state := h.ladder.Settle(h.Promotion, byHand)
	if state == was {
		return nil
	}
	if err := s.closePromotion(ctx, t, h, state, ""); err != nil {
		return err
	}
	switch {
	case state == ladder.CarriedOut && was == ladder.Open:
		return s.stepUp(ctx, t, h)
	case state == ladder.Denied && was == ladder.ToReview:
		return s.stepBack(ctx, t, h)
	}
	return nil
}

// CarryOut carries a promotion out whose gate is met, where that is done by hand.
func (s *Service) CarryOut(ctx context.Context, by act.Actor, id string) (*ladder.Promotion, error) {
	return s.answer(ctx, by, id, access.Ask, func(t *act.Tx, h judged) error {
		if h.State != ladder.Open {
			return fault.New(fault.Refused, "promotion.closed", "%s is %s", h.ID, h.State.Words()).In("promotion").
				Do("nothing needs doing")
		}
		if err := s.settle(ctx, t, h, true); err != nil {
			return err
		}
		if h.State == ladder.Open {
			return fault.New(fault.Refused, "promotion.not_met", "the gate is not met: %s",
				strings.TrimSuffix(strings.Join(h.open(), " "), ".")).In("promotion").
				Do("see it with: innerladder review %s", h.ID)
		}
		return nil
	})
}

// Withdraw takes a promotion back; only the one who asked may.
func (s *Service) Withdraw(ctx context.Context, by act.Actor, id, why string) (*ladder.Promotion, error) {
	return s.answer(ctx, by, id, access.Ask, func(t *act.Tx, h judged) error {
		switch {
		case h.State == ladder.ToReview:
			return fault.New(fault.Refused, "promotion.to_review",
				"%s was carried out in an emergency and waits for its review", h.ID).In("promotion").
				Do("someone else signs it; a no takes the version down again")
		case h.State != ladder.Open:
			return fault.New(fault.Refused, "promotion.closed", "%s is closed already", h.ID).In("promotion").
				Do("nothing needs doing")
		case h.AskedBy != t.By.Name:
			return fault.New(fault.Refused, "promotion.not_yours", "%s was asked by %s", h.ID, h.AskedBy).
				In("promotion").Do("answer it with: innerladder sign %s -no -why WHY", h.ID)
		}
		h.judge()
		return s.closePromotion(ctx, t, h, ladder.Withdrawn, why)
	})
}

// closePromotion ends a promotion.
func (s *Service) closePromotion(ctx context.Context, t *act.Tx, h judged, state ladder.PromotionState,
	why string,
) error {
	p, now := h.Promotion, t.Now
	was := p.State
	p.State, p.ClosedAt, p.Ready = state, &now, false
	if err := t.SetPromotion(ctx, h.number, p); err != nil {
		return err
	}
	if err := t.Settle(ctx, p.ID, 0, t.Now); err != nil {
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
		kind, sentence = "promotion.reviewed",
			fmt.Sprintf("%s: the emergency of %s on %s was found right.", p.ID, p.Version, p.To)
	}
	return t.Note(ctx, act.Entry{
		Project: p.Project, Kind: kind, Subject: p.Version, Also: []string{p.ID},
		Involved: asker(p), Sentence: sentence, Reason: why,
		Before: map[string]string{"rung": p.From},
		After: map[string]any{
			"state": state,
			"rung":  map[bool]string{true: p.To, false: p.From}[state == ladder.CarriedOut],
		},
	})
}

func refOf(v *registry.Version) string {
	if v == nil {
		return ""
	}
	return v.Ref
}

// FindPromotion finds a promotion by P-NUMBER.
func (s *Service) FindPromotion(ctx context.Context, r records.View, id string) (*ladder.Promotion, error) {
	number, err := ladder.ParseID("promotion", id)
	if err != nil {
		return nil, err
	}
	p, err := r.Promotion(ctx, number)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "promotion.unknown", "there is no %s", ladder.ID(number)).In("promotion").
			Do("see those that wait with: innerladder reviews")
	}
	return p, err
}

// Promotion finds a promotion, with what the gate says now if it is open.
func (s *Service) Promotion(ctx context.Context, by act.Actor, id string) (*ladder.Promotion, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	p, err := s.FindPromotion(ctx, s.Read(by), id)
	if err != nil || !p.State.Signable() {
		return p, err
	}
	_, err = s.judgedNow(ctx, s.Read(by), p)
	return p, err
}

// PromotionSearch narrows promotions down; zero members do not.
type PromotionSearch struct {
	records.PromotionFilter
	// ForMe leaves those that wait for whoever asks.
	ForMe bool
}

// Unclosed counts the promotions that are not closed, up to a number, by project, rung and state.
func (s *Service) Unclosed(ctx context.Context, by act.Actor, most int) (map[[3]string]int, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	out := map[[3]string]int{}
	r := s.DB.Read(by.Sight())
	items, _, err := r.Promotions(ctx, records.PromotionFilter{State: "waiting"}, records.Page{Limit: most})
	for _, p := range items {
		out[[3]string{p.Project, p.To, string(p.State)}]++
	}
	return out, err
}

// Promotions lists promotions, newest first.
func (s *Service) Promotions(ctx context.Context, by act.Actor, search PromotionSearch,
	p records.Page,
) (wire.Listed[ladder.Promotion], error) {
	if err := by.May(access.Read); err != nil {
		return wire.Listed[ladder.Promotion]{}, err
	}
	r := s.DB.Read(by.Sight())
	if search.ForMe {
		return s.promotionsFor(ctx, r, by, search, p)
	}
	items, next, err := r.Promotions(ctx, search.PromotionFilter, p)
	out := wire.Listed[ladder.Promotion]{Items: items, Next: next}
	for i := range out.Items {
		if err == nil && out.Items[i].State.Signable() {
			_, err = s.judgedNow(ctx, r, &out.Items[i])
		}
	}
	return out, err
}

// promotionsFor lists the promotions that wait for whoever acts.
func (s *Service) promotionsFor(ctx context.Context, r records.View, a act.Actor, search PromotionSearch,
	p records.Page,
) (wire.Listed[ladder.Promotion], error) {
	out := wire.Listed[ladder.Promotion]{Items: []ladder.Promotion{}}
	search.State = "waiting"
	ladders := map[string]ladder.Revision{}
	me, err := r.PersonNamed(ctx, a.Name)
	if err != nil {
		return out, err
	}
	for page := (records.Page{Limit: 200, After: p.After}); ; {
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
			if !rule.HasRole(l.Rung(item.To).Sign, rolesIn(me, item.Project)) {
				continue
			}
			h, err := s.judgedNow(ctx, r, item)
			if err != nil {
				return out, err
			}
			if !l.AnswerCounts(item, a.Name, rolesIn(me, item.Project), h.facts.Trainers) ||
				!item.Awaits(a.Name, s.Now()) ||
				item.Ready {
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
