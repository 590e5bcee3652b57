package service

import (
	"context"
	"errors"
	"fmt"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/store"
)

// Promote asks that a version step up to a rung. When every gate on the way is met
// already, it is carried out at once.
func (s *Service) Promote(ctx context.Context, ref, to, note string) (*ladder.Promotion, error) {
	v, err := s.Version(ctx, ref)
	if err != nil {
		return nil, err
	}
	stored, err := s.storedArtifacts(v)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Ask, func(t *tx) (*ladder.Promotion, error) {
		// Read again: it may have moved meanwhile.
		v, err := t.Version(ctx, v.Model, v.Number)
		if err != nil {
			return nil, err
		}
		if err := s.ladder.CheckClimb(v.Ref, v.Rung, to); err != nil {
			return nil, err
		}
		if open, err := t.OpenPromotion(ctx, v.Ref, to); err == nil {
			return nil, fault.New(fault.Refused, "promotion.open_already", "%s asks for %s to %s already", open.ID, v.Ref, to).In("version").
				Do("sign it with: innerladder sign %s -yes", open.ID)
		} else if !errors.Is(err, store.ErrNone) {
			return nil, err
		}
		p := &ladder.Promotion{Project: v.Project, Version: v.Ref, From: v.Rung, To: to, AskedBy: t.actor.Name, Note: note, State: ladder.Open, OpenedAt: t.now, SignOffs: []ladder.SignOff{}}
		c, err := s.candidate(ctx, t.Records, p, stored)
		if err != nil {
			return nil, err
		}
		if c.Incumbent != nil {
			p.Incumbent = c.Incumbent.Ref
		}
		if err := t.AddPromotion(ctx, p); err != nil {
			return nil, err
		}
		if err := t.note(ctx, entry{Project: v.Project, Kind: "promotion.opened", Subject: v.Ref, Also: []string{p.ID}, Sentence: fmt.Sprintf("%s: %s asks for %s to %s.", p.ID, p.AskedBy, v.Ref, to), Reason: note, After: p}); err != nil {
			return nil, err
		}
		return p, s.settle(ctx, t, p, c)
	})
}

// Sign adds the answer of whoever acts to a promotion, which is carried out or refused
// when that decides it.
func (s *Service) Sign(ctx context.Context, id string, answer ladder.Answer, note string) (*ladder.Promotion, error) {
	stored, err := s.storedFor(ctx, id)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Sign, func(t *tx) (*ladder.Promotion, error) {
		p, number, err := s.promotion(ctx, t.Records, id)
		if err != nil {
			return nil, err
		}
		c, err := s.candidate(ctx, t.Records, p, stored)
		if err != nil {
			return nil, err
		}
		mine := ladder.SignOff{By: t.actor.Name, Answer: answer, Note: note, At: t.now, CandidateDigest: c.Version.Digest, Incumbent: refOf(c.Incumbent)}
		if err := p.Sign(mine); err != nil {
			return nil, err
		}
		if err := t.PutSignOff(ctx, number, mine); err != nil {
			return nil, err
		}
		if err := t.Settle(ctx, p.ID, t.actor.person, t.now); err != nil {
			return nil, err
		}
		if err := t.note(ctx, entry{Project: p.Project, Kind: "promotion.signed", Subject: p.Version, Also: []string{p.ID}, involved: asker(p), Sentence: fmt.Sprintf("%s: %s said %s to %s on %s.", p.ID, t.actor.Name, answer, p.Version, p.To), Reason: note, After: mine}); err != nil {
			return nil, err
		}
		return p, s.settle(ctx, t, p, c)
	})
}

// Withdraw takes a promotion back; only the one who asked may.
func (s *Service) Withdraw(ctx context.Context, id, why string) (*ladder.Promotion, error) {
	stored, err := s.storedFor(ctx, id)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Ask, func(t *tx) (*ladder.Promotion, error) {
		p, _, err := s.promotion(ctx, t.Records, id)
		if err != nil {
			return nil, err
		}
		switch {
		case p.State != ladder.Open:
			return nil, fault.New(fault.Refused, "promotion.closed", "%s is closed already", p.ID).In("promotion").Do("nothing needs doing")
		case p.AskedBy != t.actor.Name:
			return nil, fault.New(fault.Refused, "promotion.not_yours", "%s was asked by %s", p.ID, p.AskedBy).In("promotion").Do("answer it with: innerladder sign %s -no -note WHY", p.ID)
		}
		c, err := s.candidate(ctx, t.Records, p, stored)
		if err != nil {
			return nil, err
		}
		s.judge(p, c)
		return p, s.closePromotion(ctx, t, p, ladder.Withdrawn, why)
	})
}

// settle judges an open promotion and carries out what follows.
func (s *Service) settle(ctx context.Context, t *tx, p *ladder.Promotion, c ladder.Candidate) error {
	s.judge(p, c)
	if s.ladder.Height(c.Version.Rung) >= s.ladder.Height(p.To) {
		// Another promotion was quicker, and nobody climbs down by one.
		return s.closePromotion(ctx, t, p, ladder.Withdrawn, fmt.Sprintf("%s stands on %s already.", p.Version, c.Version.Rung))
	}
	switch state := ladder.Settle(p.Findings); state {
	case ladder.CarriedOut:
		if err := t.SetRung(ctx, c.Version.Model, c.Version.Number, p.To, t.now); err != nil {
			return err
		}
		return s.closePromotion(ctx, t, p, state, "")
	case ladder.Denied:
		return s.closePromotion(ctx, t, p, state, "")
	}
	return nil
}

func (s *Service) closePromotion(ctx context.Context, t *tx, p *ladder.Promotion, state ladder.PromotionState, why string) error {
	number, err := ladder.ParseID("promotion", p.ID)
	if err != nil {
		return err
	}
	now := t.now
	p.State, p.ClosedAt = state, &now
	if err := t.ClosePromotion(ctx, number, p); err != nil {
		return err
	}
	if err := t.Settle(ctx, p.ID, 0, t.now); err != nil {
		return err
	}
	sentence := map[ladder.PromotionState]string{
		ladder.CarriedOut: fmt.Sprintf("%s: %s stepped up to %s.", p.ID, p.Version, p.To),
		ladder.Denied:     fmt.Sprintf("%s: %s to %s was refused.", p.ID, p.Version, p.To),
		ladder.Withdrawn:  fmt.Sprintf("%s: %s to %s was withdrawn.", p.ID, p.Version, p.To),
	}[state]
	return t.note(ctx, entry{Project: p.Project, Kind: "promotion." + string(state), Subject: p.Version, Also: []string{p.ID}, involved: asker(p), Sentence: sentence, Reason: why,
		Before: map[string]string{"rung": p.From}, After: map[string]any{"state": state, "rung": map[bool]string{true: p.To, false: p.From}[state == ladder.CarriedOut]}})
}

// judge sets what the gate says now, and which sign-offs are stale.
func (s *Service) judge(p *ladder.Promotion, c ladder.Candidate) {
	p.MarkStale(c.Version.Digest, refOf(c.Incumbent))
	p.Findings = s.ladder.Evaluate(p, c)
}

func refOf(v *registry.Version) string {
	if v == nil {
		return ""
	}
	return v.Ref
}

// candidate gathers what the gates look at. The incumbent is the version that stepped
// last on the rung asked for.
func (s *Service) candidate(ctx context.Context, r store.Records, p *ladder.Promotion, stored int) (ladder.Candidate, error) {
	v, err := s.resolve(ctx, r, "version", p.Version)
	if err != nil {
		return ladder.Candidate{}, err
	}
	c := ladder.Candidate{Version: v, StoredArtifacts: stored}
	there, err := r.VersionsOnRung(ctx, v.Model, p.To, 1)
	if err == nil && len(there) > 0 && there[0].Ref != v.Ref {
		c.Incumbent, err = r.Version(ctx, v.Model, there[0].Number)
	}
	return c, err
}

// storedArtifacts counts the artifacts of a version whose bytes are in the store with
// their digest. It reads them all, so it is done before a transaction, not in it.
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
	if err != nil || p.State != ladder.Open {
		return p, err
	}
	return p, s.judgeNow(ctx, p)
}

func (s *Service) judgeNow(ctx context.Context, p *ladder.Promotion) error {
	stored, err := s.storedFor(ctx, p.ID)
	if err != nil {
		return err
	}
	c, err := s.candidate(ctx, s.records(ctx), p, stored)
	if err != nil {
		return err
	}
	s.judge(p, c)
	return nil
}

// Promotions lists promotions, newest first.
func (s *Service) Promotions(ctx context.Context, state, model string, p store.Page) (Listed[ladder.Promotion], error) {
	out, err := list(ctx, func(r store.Records) ([]ladder.Promotion, string, error) { return r.Promotions(ctx, state, model, p) }, s)
	if err != nil {
		return out, err
	}
	for i := range out.Items {
		if out.Items[i].State == ladder.Open {
			if err := s.judgeNow(ctx, &out.Items[i]); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}
