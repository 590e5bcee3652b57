package ladder

import (
	"context"
	"errors"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Gate says what is met and what is missing for a version to step on a rung; nothing is
// asked for. An empty rung is the next one. Nothing is missing for a rung that it stands
// on or above.
func (s *Service) Gate(ctx context.Context, by act.Actor, ref, to string) (wire.GateReport, error) {
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return wire.GateReport{}, err
	}
	r := s.Read(by)
	l, err := r.Ladder(ctx, v.Project)
	if err != nil {
		return wire.GateReport{}, err
	}
	if h := l.Height(v.Rung); to == "" && h >= 0 && h+1 < len(l.Rungs) {
		to = l.Rungs[h+1].Name
	} else if to == "" {
		to = l.Highest()
	}
	if err := l.CheckRung("to", to); err != nil {
		return wire.GateReport{}, err
	}
	if l.Height(v.Rung) >= l.Height(to) {
		return wire.GateReport{
			Version: v.Ref, From: v.Rung, To: to, Ladder: l.Number, Met: true,
			Findings: []rule.Finding{},
		}, nil
	}
	if err := l.CheckClimb(v.Ref, v.Rung, to); err != nil {
		return wire.GateReport{}, err
	}
	p, err := r.OpenPromotion(ctx, v.Ref, to)
	if errors.Is(err, records.ErrNone) {
		p, err = &ladder.Promotion{Project: v.Project, Version: v.Ref, State: ladder.Open, To: to}, nil
	}
	if err != nil {
		return wire.GateReport{}, err
	}
	files, err := s.storedArtifacts(v)
	if err != nil {
		return wire.GateReport{}, err
	}
	f, err := s.facts(ctx, r, v, to, files)
	if err != nil {
		return wire.GateReport{}, err
	}
	p.From = v.Rung
	l.Judge(p, f)
	return wire.GateReport{
		Version: v.Ref, From: v.Rung, To: to, Incumbent: p.Incumbent, Promotion: p.ID, Ladder: l.Number,
		Met: rule.Met(p.Findings), Findings: p.Findings,
	}, nil
}

// Foresee says what a registration would make, and what the gates up to the highest rung would say of
// it. Nothing is changed.
func (s *Service) Foresee(ctx context.Context, by act.Actor, reg wire.Registration) (wire.Foreseen, error) {
	d, err := s.registry.Foresee(ctx, by, reg)
	if err != nil {
		return wire.Foreseen{}, err
	}
	out := wire.Foreseen{Known: d.Known, Remarks: d.Remarks, Changes: []signature.Change{}}
	r := s.Read(by)
	l, err := r.Ladder(ctx, d.Project)
	if err != nil {
		return out, err
	}
	to := l.Highest()
	d.Rung, d.RungSince = l.Lowest(), d.CreatedAt
	f, err := s.facts(ctx, r, &d.Version, to, stored{count: len(d.Artifacts), readAt: d.CreatedAt})
	if err != nil {
		return out, err
	}
	f.Evidence = d.Reports
	p := &ladder.Promotion{
		Project: d.Project, Version: d.Ref, State: ladder.Open, From: d.Rung, To: to, AskedBy: by.Name,
	}
	l.Judge(p, f)
	out.Version = d.Version
	out.Gate = wire.GateReport{
		Version: d.Ref, From: d.Rung, To: to, Incumbent: p.Incumbent, Ladder: l.Number, Met: rule.Met(p.Findings),
		Findings: p.Findings,
	}
	out.Compatibility = signature.NotKnown
	if f.Incumbent != nil {
		out.Signature = f.Incumbent.Signature
		out.Changes, out.Compatibility = signature.Diff(f.Incumbent.Signature, d.Signature)
	}
	return out, nil
}

// incumbent finds the version that a candidate for a rung is compared with; nil when there is
// none.
func (s *Service) incumbent(ctx context.Context, r records.View, v *registry.Version,
	to string,
) (*registry.Version, error) {
	answering, err := r.Answering(ctx, v.Project, v.Model)
	if err != nil {
		return nil, err
	}
	there, err := r.VersionsOnRung(ctx, v.Model, to, 1)
	if err != nil {
		return nil, err
	}
	onRung := ""
	if len(there) > 0 {
		onRung = there[0].Ref
	}
	ref := ladder.Incumbent(v.Ref, answering[v.Model], onRung)
	if ref == "" {
		return nil, nil
	}
	return s.registry.Resolve(ctx, r, "incumbent", ref)
}

// facts gathers what the gates look at.
func (s *Service) facts(ctx context.Context, r records.View, v *registry.Version, to string,
	files stored,
) (rule.Facts, error) {
	f := rule.Facts{
		Version: v, To: to, StoredArtifacts: files.count, ReadAt: files.readAt, Trainers: []string{v.CreatedBy},
		Now: s.Now(),
	}
	var err error
	if f.Incumbent, err = s.incumbent(ctx, r, v, to); err != nil {
		return f, err
	}
	contracts, err := r.ContractsToKeep(ctx, v.Project, v.Model)
	if err != nil {
		return f, err
	}
	f.Contracts = contracts[v.Model]
	if f.Incumbent != nil {
		answers, err := r.EndpointsAnsweredBy(ctx, f.Incumbent.Ref)
		if err != nil {
			return f, err
		}
		f.IncumbentAnswers = len(answers) > 0
	}
	if f.Standing, err = r.Standing(ctx, v.Model); err != nil && !errors.Is(err, records.ErrNone) {
		return f, err
	}
	cases, err := r.Cases(ctx, v.Model)
	if err != nil && !errors.Is(err, records.ErrNone) {
		return f, err
	}
	if cases != nil {
		f.Cases = cases.ID()
	}
	if f.Evidence, err = r.EvidenceOf(ctx, v.Ref); err != nil {
		return f, err
	}
	placements, err := r.Placements(ctx, v.Ref)
	if err != nil {
		return f, err
	}
	for _, p := range placements {
		f.Places = append(f.Places, rule.Place{
			Environment: p.Environment, Healthy: p.Healthy, Reason: p.Reason(), Declared: p.Declared,
		})
	}
	if v.Run != "" {
		n, err := lineage.ParseRunRef("run", v.Run)
		if err != nil {
			return f, err
		}
		// Who trained it counts, whoever asks.
		if run, err := r.Within(records.Everything).Run(ctx, n); err == nil {
			f.Trainers = append(f.Trainers, run.By)
		} else if !errors.Is(err, records.ErrNone) {
			return f, err
		}
	}
	return f, nil
}

// readLasts is how long it counts that the bytes of a file were read, while the file is not
// written to.
const readLasts = 24 * time.Hour

// stored is what was found when the artifacts of a version were read: how many have their
// digest, and when the first of them was read.
type stored struct {
	count  int
	readAt time.Time
}

// storedArtifacts reads the artifacts of a version that were not read for a day. That takes
// its time, so it is done before a transaction, not in it.
func (s *Service) storedArtifacts(v *registry.Version) (out stored, err error) {
	now := s.Now()
	for _, a := range v.Artifacts {
		if !a.Stored {
			continue
		}
		r, err := s.blobs.LastReading(a.Digest, now.Add(-readLasts), now)
		if err != nil {
			return out, err
		}
		if r.Digest == a.Digest {
			out.count++
		}
		if out.readAt.IsZero() || r.At.Before(out.readAt) {
			out.readAt = r.At
		}
	}
	return out, nil
}
