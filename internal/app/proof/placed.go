package proof

import (
	"context"
	"errors"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/check"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// demands are the environments in which gates ask for something that the service does by itself; "" is any.
type demands struct{ checks, robustness map[string]bool }

func demandsOf(l *ladder.Ladder) demands {
	d := demands{map[string]bool{}, map[string]bool{}}
	for _, r := range l.Rungs {
		for _, q := range r.Gate {
			switch q := q.Rule.(type) {
			case rule.Checked:
				d.checks[q.Environment] = true
			case rule.Robust:
				d.robustness[q.Environment] = true
			}
		}
	}
	return d
}

func in(demanded map[string]bool, environment string) bool {
	return demanded[""] || demanded[environment]
}

// StepPlaced puts versions that are placed and healthy to what gates of their project ask for, once each.
func (s *Service) StepPlaced(ctx context.Context, now time.Time) error {
	if s.dir == "" {
		return nil
	}
	read := s.DB.Read(records.Everything)
	projects, err := read.Projects(ctx)
	if err != nil {
		return err
	}
	return jobs.Each(projects, func(p registry.Project) string { return p.Name }, func(p registry.Project) error {
		l, err := read.Ladder(ctx, p.Name)
		if err != nil {
			return err
		}
		d := demandsOf(&l.Ladder)
		if len(d.checks)+len(d.robustness) == 0 {
			return nil
		}
		all, err := read.AllCases(ctx, p.Name)
		if err != nil {
			return err
		}
		cases := map[string]*check.Kept{}
		for i := range all {
			cases[all[i].Model] = &all[i]
		}
		places, err := read.PlacementsOfProject(ctx, p.Name)
		if err != nil {
			return err
		}
		of := func(p traffic.Placement) string { return p.Version }
		return jobs.Each(places, of, func(p traffic.Placement) error { return s.prove(ctx, &p, d, cases, now) })
	})
}

// prove puts a version to what is demanded where it is placed.
func (s *Service) prove(ctx context.Context, p *traffic.Placement, d demands, cases map[string]*check.Kept,
	now time.Time,
) error {
	if !p.Healthy || p.Elsewhere {
		return nil
	}
	ref, err := registry.ParseRef("version", p.Version)
	if err != nil {
		return err
	}
	if k := cases[ref.Model]; k != nil && in(d.checks, p.Environment) {
		if err := s.checkPlaced(ctx, p, k, now); err != nil {
			return err
		}
	}
	if in(d.robustness, p.Environment) {
		return s.troublePlaced(ctx, p, now)
	}
	return nil
}

// once does what is done once for a version that is placed, and says when it cannot be done that it is tried again
// later. Before reports whether it was done.
func (s *Service) once(key string, now time.Time, before func() (bool, error), do func() error) error {
	s.mu.Lock()
	again := s.later[key]
	s.mu.Unlock()
	if now.Before(again) {
		return nil
	}
	done, err := before()
	if err != nil || done {
		return err
	}
	if err = do(); err == nil {
		return nil
	}
	s.mu.Lock()
	if s.later == nil || len(s.later) > 1000 {
		s.later = map[string]time.Time{}
	}
	s.later[key] = now.Add(askAgain)
	s.mu.Unlock()
	return err
}

// checkPlaced has a version checked where it is placed, once for the cases as they are.
func (s *Service) checkPlaced(ctx context.Context, p *traffic.Placement, k *check.Kept, now time.Time) error {
	return s.once(p.Version+" "+p.Environment+" "+k.ID(), now, func() (bool, error) {
		return s.DB.Read(records.Everything).CheckedBefore(ctx, p.Version, p.Environment, k)
	}, func() error {
		_, err := s.beginCheck(ctx, act.BySelf(), p.Version, p.Environment, k.ID(), []byte(k.Text))
		return err
	})
}

// troublePlaced has a version put to trouble where it is placed, once for who answers callers now. One that answers
// callers there itself is left alone.
func (s *Service) troublePlaced(ctx context.Context, p *traffic.Placement, now time.Time) error {
	read := s.DB.Read(records.Everything)
	used, err := read.EndpointsUsing(ctx, p.Version, p.Environment)
	if err != nil || len(used) > 0 {
		return err
	}
	v, err := s.registry.Version(ctx, act.BySelf(), p.Version)
	if err != nil {
		return err
	}
	than, err := incumbent(ctx, read, v)
	if err != nil {
		return err
	}
	like, err := s.like(ctx, act.BySelf(), v, "", than)
	if known := (*fault.Fault)(nil); errors.As(err, &known) {
		return nil // there is no reference profile to draw from, as who begins it by hand is told
	}
	if err != nil {
		return err
	}
	return s.once(p.Version+" "+p.Environment+" like "+like, now, func() (bool, error) {
		return read.TroubledBefore(ctx, p.Version, p.Environment, like)
	}, func() error {
		_, err := s.Robustness(ctx, act.BySelf(), wire.NewRobustness{
			Asked: p.Version, Environment: p.Environment,
		})
		return err
	})
}
