package ladder

import (
	"context"
	"fmt"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
)

// stepUp moves a version to the rung that it was promoted to, and those down that it
// displaces.
func (s *Service) stepUp(ctx context.Context, t *act.Tx, h judged) error {
	v := h.facts.Version
	if err := t.SetRung(ctx, v.Model, v.Number, h.To, h.ID, t.Now); err != nil {
		return err
	}
	return s.displace(ctx, t, h.ladder, v, v.Rung, h.To)
}

// displace moves down those whom a version displaces that stepped from one rung to
// another.
func (s *Service) displace(ctx context.Context, t *act.Tx, l ladder.Revision, v *registry.Version, from,
	to string,
) error {
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
			if answers[n], err = t.EndpointsAnsweredBy(ctx,
				registry.Ref{Model: v.Model, Number: n}.String()); err != nil {
				return err
			}
		}
	}
	for _, move := range l.Steps(v.Number, from, to, m.Standing, func(n int) bool { return len(answers[n]) > 0 })[1:] {
		down, err := t.Version(ctx, v.Model, move.Number)
		if err != nil {
			return err
		}
		said := fmt.Sprintf("%s stepped down from %s to %s: %s holds one version of a model, and %s came.", down.Ref,
			move.From, move.To, move.From, v.Ref)
		if len(answers[move.Number]) > 0 {
			said = strings.TrimSuffix(said, ".") +
				fmt.Sprintf("; it still answers for %s.", strings.Join(answers[move.Number], ", "))
		}
		if _, err := s.registry.Step(ctx, t, down, move.To,
			act.Entry{Kind: "version.stepped_down", Sentence: said, Also: []string{v.Ref}}); err != nil {
			return err
		}
	}
	return nil
}

// stepBack takes a version down again whose emergency was not found right.
func (s *Service) stepBack(ctx context.Context, t *act.Tx, h judged) error {
	v := h.facts.Version
	if v.RungBy != h.ID || h.ladder.Height(h.From) < 0 {
		return nil // it went elsewhere since
	}
	answers, err := t.EndpointsAnsweredBy(ctx, v.Ref)
	if err != nil {
		return err
	}
	said := fmt.Sprintf("%s stepped down from %s to %s: its emergency was not found right.", v.Ref, v.Rung, h.From)
	if len(answers) > 0 {
		said = strings.TrimSuffix(said, ".") + fmt.Sprintf("; it still answers for %s.", strings.Join(answers, ", "))
	}
	from := v.Rung
	if _, err := s.registry.Step(ctx, t, v, h.From,
		act.Entry{Kind: "version.stepped_down", Sentence: said, Also: []string{h.ID}}); err != nil {
		return err
	}
	return s.displace(ctx, t, h.ladder, v, from, h.From)
}

// StepDown takes a version that was rolled back down a rung, and voids what was signed for
// it: it must be signed anew.
func (s *Service) StepDown(ctx context.Context, t *act.Tx, e *traffic.Endpoint, ref string, split int,
	why string,
) error {
	v, err := s.registry.Resolve(ctx, t.View, "version", ref)
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
	if _, err := s.registry.Step(ctx, t, v, below,
		act.Entry{Kind: "version.stepped_down", Sentence: said, Reason: why, Also: []string{e.Name}}); err != nil {
		return err
	}
	return s.displace(ctx, t, l, v, from, below)
}
