package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"innerladder/internal/core/access"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/notice"
	"innerladder/internal/records"
)

// StepPromotions does what time and other changes have brought about for promotions:
// carries out those whose gate is met, reminds reviewers, and ends those that nobody
// answers.
func (s *Service) StepPromotions(ctx context.Context) error {
	ctx = BySelf(ctx)
	r := s.db.Read(records.Everything)
	var failed []error // one that cannot be looked at holds up no other
	for page := (records.Page{Limit: 200}); ; {
		items, next, err := r.Promotions(ctx, records.PromotionFilter{State: "waiting"}, page)
		if err != nil {
			return errors.Join(append(failed, err)...)
		}
		for i := range items {
			if err := s.stepPromotion(ctx, r, &items[i]); err != nil && !errors.Is(err, records.ErrNone) {
				failed = append(failed, fmt.Errorf("looking at %s: %w", items[i].ID, err))
			}
		}
		if next == "" {
			return errors.Join(failed...)
		}
		page.After = next
	}
}

func (s *Service) stepPromotion(ctx context.Context, r records.View, p *ladder.Promotion) error {
	h, err := s.hearNow(ctx, r, p)
	if err != nil {
		return err
	}
	moved := h.State == ladder.Open && h.ladder.CheckClimb(h.Version, h.facts.Version.Rung, h.To) != nil
	if !moved && h.ladder.Settle(p, false) == h.State && h.ladder.DueAt(p, s.now()) == ladder.Nothing {
		return nil
	}
	_, err = s.answer(ctx, p.ID, access.Sign, func(t *tx, h hearing) error {
		if !h.State.Signable() {
			return nil // someone was quicker
		}
		if err := s.settle(ctx, t, h, false); err != nil || !h.State.Signable() {
			return err
		}
		switch h.ladder.DueAt(h.Promotion, t.now) {
		case ladder.Expire:
			return s.closePromotion(ctx, t, h, ladder.Expired, "")
		case ladder.Remind:
			return s.remind(ctx, t, h)
		}
		return nil
	})
	return err
}

func (s *Service) remind(ctx context.Context, t *tx, h hearing) error {
	reviewers, err := s.reviewers(ctx, t, h)
	if err != nil {
		return err
	}
	if err := t.SetReminded(ctx, h.number, t.now); err != nil {
		return err
	}
	told := reviewers
	if h.Ready || len(reviewers) == 0 {
		told = []string{h.AskedBy} // nobody else can do anything
	}
	return t.note(ctx, entry{
		Project: h.Project, Kind: "promotion.reminded", Subject: h.Version, Also: []string{h.ID},
		involved: map[notice.Topic][]string{notice.Review: told},
		Sentence: fmt.Sprintf("%s: %s to %s still waits%s", h.ID, h.Version, h.To, h.waitsFor(reviewers)),
	})
}

// waitsFor ends the sentence that something still waits.
func (h hearing) waitsFor(reviewers []string) string {
	switch open := h.open(); {
	case h.Ready:
		return " to be carried out."
	case len(reviewers) > 0:
		return " for " + strings.Join(reviewers, ", ") + "."
	case len(open) > 0:
		return ": " + open[0]
	}
	return ", and nobody may sign."
}
