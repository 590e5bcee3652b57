package registry

import (
	"context"
	"fmt"

	"innerladder/internal/app/act"
	"innerladder/internal/core/answers"
	"innerladder/internal/core/registry"
)

// knowAnswers enters what a version must answer, where that is known.
func (s *Service) knowAnswers(ctx context.Context, t *act.Tx, v *registry.Version) error {
	k := v.KnownAnswers
	if k == nil {
		return nil
	}
	k.By, k.At = t.By.Name, t.Now
	return s.EnterAnswers(ctx, t, v, "")
}

// EnterAnswers enters the known answers of a version, which are complete.
func (s *Service) EnterAnswers(ctx context.Context, t *act.Tx, v *registry.Version, reason string) error {
	k := v.KnownAnswers
	if err := t.AddKnownAnswers(ctx, v.Ref, k); err != nil {
		return err
	}
	return t.Note(ctx, act.Entry{
		Project: v.Project, Kind: "version.answers", Subject: v.Ref,
		Sentence: fmt.Sprintf("%d known answers of %s were %s.", len(k.Cases), v.Ref, k.Origin), Reason: reason,
		After: struct {
			Cases     int            `json:"cases"`
			Tolerance float64        `json:"tolerance"`
			Origin    answers.Origin `json:"origin"`
		}{len(k.Cases), k.Tolerance, k.Origin},
	})
}
