package service

import (
	"context"
	"slices"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/store"
)

// Review is everything that someone reads who reviews a promotion.
type Review struct {
	Promotion ladder.Promotion  `json:"promotion"`
	Checklist []ladder.Listed   `json:"checklist"`
	CarryOut  string            `json:"carry_out" enum:"at_once,by_hand"`
	SignRoles []string          `json:"sign_roles" description:"roles that may sign; everyone with the permission when there are none"`
	Candidate registry.Version  `json:"candidate"`
	Incumbent *registry.Version `json:"incumbent,omitempty"`
	Diff      *registry.Diff    `json:"diff,omitempty" description:"from the incumbent to the candidate"`
	// Evidence has the newest report of each kind.
	Evidence          []registry.Evidence `json:"evidence" description:"the newest of each kind"`
	IncumbentEvidence []registry.Evidence `json:"incumbent_evidence" description:"the newest of each kind"`
	// Measured is how the two behaved where both answered, over the last day.
	Measured []compare.Comparison `json:"measured" description:"how both behaved where both answered, over the last day"`
	Answers  []string             `json:"answers" description:"endpoints that the candidate answers for now"`
}

// measuredOver is how far back a review looks at behaviour.
const measuredOver = 24 * time.Hour

// Review gathers what someone reads who reviews a promotion.
func (s *Service) Review(ctx context.Context, id string) (Review, error) {
	p, err := s.Promotion(ctx, id)
	if err != nil {
		return Review{}, err
	}
	r := s.records(ctx)
	l, err := r.Ladder(ctx, p.Project)
	if err != nil {
		return Review{}, err
	}
	v, err := s.resolve(ctx, r, "version", p.Version)
	if err != nil {
		return Review{}, err
	}
	out := Review{
		Promotion: *p, Checklist: l.Checklist(p), CarryOut: l.CarryOut,
		SignRoles: append([]string{}, l.Rung(p.To).Sign...), Candidate: *v, Evidence: []registry.Evidence{},
		IncumbentEvidence: []registry.Evidence{}, Measured: []compare.Comparison{},
	}
	if out.Answers, err = r.EndpointsAnsweredBy(ctx, v.Ref); err != nil {
		return out, err
	}
	if out.Evidence, err = newestEvidence(ctx, r, v.Ref); err != nil || p.Incumbent == "" {
		return out, err
	}
	if out.Incumbent, err = s.resolve(ctx, r, "incumbent", p.Incumbent); fault.Is(err, fault.Unknown) {
		out.Incumbent = nil // deleted since
		return out, nil
	} else if err != nil {
		return out, err
	}
	d := registry.DiffVersions(out.Incumbent, v)
	out.Diff = &d
	if out.IncumbentEvidence, err = newestEvidence(ctx, r, p.Incumbent); err != nil {
		return out, err
	}
	endpoints, err := r.Endpoints(ctx)
	if err != nil {
		return out, err
	}
	for _, e := range endpoints {
		if e.Model != v.Model {
			continue
		}
		c, err := s.Compare(ctx, e.Name, p.Incumbent, v.Ref, measuredOver)
		if err != nil {
			return out, err
		}
		if c.IncumbentRequests > 0 && c.CandidateRequests > 0 {
			out.Measured = append(out.Measured, c)
		}
	}
	return out, nil
}

func newestEvidence(ctx context.Context, r store.Records, ref string) ([]registry.Evidence, error) {
	all, err := r.EvidenceOf(ctx, ref)
	out := []registry.Evidence{}
	for _, e := range all {
		if !slices.ContainsFunc(out, func(o registry.Evidence) bool { return o.Kind == e.Kind }) {
			out = append(out, e)
		}
	}
	return out, err
}
