package ladder

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/notice"
	"innerladder/internal/records"
)

// StepPromotions does what time and other changes have brought about for promotions:
// carries out those whose gate is met, reminds reviewers, and ends those that nobody
// answers. Only those are looked at for which something may have changed.
func (s *Service) StepPromotions(ctx context.Context) error {
	by := act.BySelf()
	r, now := s.DB.Read(records.Everything), s.Now()
	w := s.attention.take(now)
	var failed []error // one that cannot be looked at holds up no other
	step := func(p *ladder.Promotion) {
		next, err := s.stepPromotion(ctx, by, r, p)
		if err != nil && !errors.Is(err, records.ErrNone) {
			failed = append(failed, fmt.Errorf("looking at %s: %w", p.ID, err))
			next = now // with the next step
		}
		s.attention.at(p.ID, next)
	}
	for _, f := range w.filters() {
		waiting, err := s.waiting(ctx, r, f)
		if err == nil {
			waiting, err = s.promising(ctx, r, waiting)
		}
		if err != nil {
			s.attention.again(w)
			return errors.Join(append(failed, err)...)
		}
		for i := range waiting {
			step(&waiting[i])
		}
	}
	for _, id := range w.ids {
		p, err := s.FindPromotion(ctx, r, id)
		if err != nil {
			failed = append(failed, err)
			s.attention.at(id, now)
		} else if p.State.Signable() {
			step(p)
		}
	}
	return errors.Join(failed...)
}

// waiting lists the promotions that can still be answered.
func (s *Service) waiting(ctx context.Context, r records.View, f records.PromotionFilter) ([]ladder.Promotion, error) {
	f.State = "waiting"
	var out []ladder.Promotion
	for page := (records.Page{Limit: 1000}); ; {
		items, next, err := r.Promotions(ctx, f, page)
		if err != nil {
			return nil, err
		}
		out = append(out, items...)
		if next == "" {
			return out, nil
		}
		page.After = next
	}
}

// manyWaiting is from how many promotions of a project on their facts are read in bulk.
const manyWaiting = 20

// promising leaves out those of many promotions for which nothing would change, as a look at the
// facts in bulk tells. Files are not read for that, so what it leaves in may still have to wait.
func (s *Service) promising(ctx context.Context, r records.View, all []ladder.Promotion) ([]ladder.Promotion, error) {
	byProject := map[string][]ladder.Promotion{}
	for _, p := range all {
		byProject[p.Project] = append(byProject[p.Project], p)
	}
	var out []ladder.Promotion
	now := s.Now()
	for project, waiting := range byProject {
		if len(waiting) < manyWaiting {
			out = append(out, waiting...)
			continue
		}
		l, err := r.Ladder(ctx, project)
		if err != nil {
			return nil, err
		}
		versions, err := r.JudgedVersions(ctx, project, needsOf(l.Ladder))
		if err != nil {
			return nil, err
		}
		there, err := s.answeringNow(ctx, r, project)
		if err != nil {
			return nil, err
		}
		facts := s.factsInBulk(l.Ladder, versions, there, now)
		for _, p := range waiting {
			if f, known := facts(p.Version, p.To); known && !wouldMove(l.Ladder, p, f, now) {
				s.attention.at(p.ID, l.NextAt(&p, *f.Frozen, now))
				continue
			}
			out = append(out, p)
		}
	}
	return out, nil
}

// wouldMove reports whether something would become of a promotion with some facts.
func wouldMove(l ladder.Ladder, p ladder.Promotion, f rule.Facts, now time.Time) bool {
	if p.State == ladder.Open && l.CheckClimb(p.Version, f.Version.Rung, p.To) != nil {
		return true
	}
	before := p.Findings
	if p.State == ladder.Open {
		p.From = f.Version.Rung
	}
	l.Judge(&p, f)
	if p.State == ladder.ToReview {
		p.Findings = before
	}
	return l.Settle(&p, false) != p.State || l.DueAt(&p, now) != ladder.Nothing
}

// stepPromotion does what has to be done for a promotion, and says when its own time comes next.
func (s *Service) stepPromotion(ctx context.Context, by act.Actor, r records.View,
	p *ladder.Promotion,
) (next time.Time, err error) {
	h, err := s.judgedNow(ctx, r, p)
	if err != nil {
		return next, err
	}
	now := s.Now()
	next = h.ladder.NextAt(p, h.ladder.Frozen(now), now)
	moved := h.State == ladder.Open && h.ladder.CheckClimb(h.Version, h.facts.Version.Rung, h.To) != nil
	if !moved && h.ladder.Settle(p, false) == h.State && h.ladder.DueAt(p, now) == ladder.Nothing {
		return next, nil
	}
	_, err = s.answer(ctx, by, p.ID, access.Sign, func(t *act.Tx, h judged) error {
		if !h.State.Signable() {
			return nil // someone was quicker
		}
		if err := s.settle(ctx, t, h, false); err != nil || !h.State.Signable() {
			return err
		}
		switch h.ladder.DueAt(h.Promotion, t.Now) {
		case ladder.Expire:
			return s.closePromotion(ctx, t, h, ladder.Expired, "")
		case ladder.Remind:
			return s.remind(ctx, t, h)
		}
		return nil
	})
	return next, err
}

func (s *Service) remind(ctx context.Context, t *act.Tx, h judged) error {
	reviewers, err := s.reviewers(ctx, t, h)
	if err != nil {
		return err
	}
	if err := t.SetReminded(ctx, h.number, t.Now); err != nil {
		return err
	}
	told := reviewers
	if h.Ready || len(reviewers) == 0 {
		told = []string{h.AskedBy} // nobody else can do anything
	}
	return t.Note(ctx, act.Entry{
		Project: h.Project, Kind: "promotion.reminded", Subject: h.Version, Also: []string{h.ID},
		Involved: map[notice.Topic][]string{notice.Review: told},
		Sentence: fmt.Sprintf("%s: %s to %s still waits%s", h.ID, h.Version, h.To, h.waitsFor(reviewers)),
	})
}

// waitsFor ends the sentence that something still waits.
func (h judged) waitsFor(reviewers []string) string {
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
