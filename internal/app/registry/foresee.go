package registry

import (
	"context"
	"errors"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Draft is a version as it would be registered.
type Draft struct {
	registry.Version
	// Known is the version that has the same content already; empty when there is none.
	Known   string
	Remarks []string
	// Reports are those that come with it, newest first as those of a version are.
	Reports []evidence.Evidence
}

// Foresee says what a registration would make, and changes nothing. Files come from uploads; those
// at addresses are not fetched for it.
func (s *Service) Foresee(ctx context.Context, by act.Actor, reg wire.Registration) (*Draft, error) {
	files, release, err := s.given(ctx, by, reg, nil)
	defer release()
	if err != nil {
		return nil, err
	}
	g, err := s.gather(reg, files)
	if err != nil {
		return nil, err
	}
	r := s.Read(by)
	d := &Draft{Version: *g.version, Remarks: g.remarks}
	if err := s.trace(ctx, r, reg, &d.Version); err != nil {
		return nil, err
	}
	d.Digest, d.CreatedBy, d.CreatedAt, d.Number = d.Identity(), by.Name, s.Now(), 1
	if err := s.standsIn(ctx, by, r, reg, d); err != nil {
		return nil, err
	}
	d.Ref = registry.Ref{Model: reg.Model, Number: d.Number}.String()
	for _, read := range g.reports {
		read.ID, read.Version, read.Project = read.Name, d.Ref, d.Project
		read.AddedBy, read.AddedAt = by.Name, d.CreatedAt
		d.Reports = append(d.Reports, read.Evidence)
		d.measure(read.Evidence)
	}
	slices.Reverse(d.Reports)
	return d, nil
}

// standsIn finds the project of a draft, its number, and whether its content is known.
func (s *Service) standsIn(ctx context.Context, by act.Actor, r records.View, reg wire.Registration, d *Draft) error {
	m, err := r.Model(ctx, reg.Model)
	switch {
	case errors.Is(err, records.ErrNone):
		if err := act.NameFree(ctx, r, "models", reg.Model); err != nil {
			return err
		}
		if d.Project, err = s.people.ChooseProject(ctx, r, by, access.Register, reg.Project); err != nil {
			return err
		}
	case err != nil:
		return err
	default:
		d.Project, d.Number = m.Project, m.Newest+1
		known, err := r.VersionByDigest(ctx, m.Name, d.Digest)
		if err == nil {
			d.Known = known.Ref
		} else if !errors.Is(err, records.ErrNone) {
			return err
		}
		means, err := r.Meanings(ctx, m.Name)
		if err != nil {
			return err
		}
		if d.Meanings, err = means.With("metric_meanings", reg.Meanings); err != nil {
			return err
		}
	}
	return by.Need(access.Register, d.Project)
}

// measure has what a report measured count in place of what is claimed, as it will.
func (d *Draft) measure(e evidence.Evidence) {
	metrics, data := e.Measures()
	if d.Measured == nil && len(metrics) > 0 {
		d.Measured = map[string]metric.Measured{}
	}
	for name, value := range metrics {
		before, measured := d.Measured[name]
		claimed := before.Claimed
		if x, said := d.Metrics[name]; said && !measured {
			claimed = &x
		}
		d.Metrics[name], d.Measured[name] = value, metric.Took(value, claimed, e.ID, data, e.AddedAt)
	}
}
