package ladder

import (
	"context"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/app/observe"
	"innerladder/internal/core/compare"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Review gathers what someone reads who reviews a promotion.
func (s *Service) Review(ctx context.Context, by act.Actor, id string) (wire.Review, error) {
	p, err := s.Promotion(ctx, by, id)
	if err != nil {
		return wire.Review{}, err
	}
	r := s.Read(by)
	l, err := r.Ladder(ctx, p.Project)
	if err != nil {
		return wire.Review{}, err
	}
	v, err := s.registry.Resolve(ctx, r, "version", p.Version)
	if err != nil {
		return wire.Review{}, err
	}
	out := wire.Review{
		Promotion: *p, Checklist: l.Checklist(p), CarryOut: l.CarryOut,
		SignRoles: append([]string{}, l.Rung(p.To).Sign...), Candidate: *v, Evidence: []evidence.Evidence{},
		IncumbentEvidence: []evidence.Evidence{}, Measured: []compare.Comparison{},
	}
	if out.Answers, err = r.EndpointsAnsweredBy(ctx, v.Ref); err != nil {
		return out, err
	}
	if out.Evidence, err = newestEvidence(ctx, r, v.Ref); err != nil || p.Incumbent == "" {
		return out, err
	}
	if out.Incumbent, err = s.registry.Resolve(ctx, r, "incumbent", p.Incumbent); fault.Is(err, fault.Unknown) {
		out.Incumbent = nil // deleted since
		return out, nil
	} else if err != nil {
		return out, err
	}
	d := registry.DiffVersions(out.Incumbent, v)
	out.Diff = &d
	if v.ProfileRows > 0 && out.Incumbent.ProfileRows > 0 {
		moved, err := s.registry.CompareProfiles(ctx, by, out.Incumbent.Ref, v.Ref)
		if err != nil {
			return out, err
		}
		out.Moved = &moved
	}
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
		all, err := s.observe.Compare(ctx, by, observe.Question{
			Endpoint: e.Name, Incumbent: p.Incumbent, Candidates: []string{v.Ref},
		})
		if err != nil {
			return out, err
		}
		for _, c := range all {
			if c.IncumbentRequests > 0 && c.CandidateRequests > 0 {
				out.Measured = append(out.Measured, c)
			}
		}
	}
	return out, nil
}

func newestEvidence(ctx context.Context, r records.View, ref string) ([]evidence.Evidence, error) {
	all, err := r.EvidenceOf(ctx, ref)
	out := []evidence.Evidence{}
	for _, e := range all {
		if !slices.ContainsFunc(out, func(o evidence.Evidence) bool { return o.Kind == e.Kind }) {
			out = append(out, e)
		}
	}
	return out, err
}
