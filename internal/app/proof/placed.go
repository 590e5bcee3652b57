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

func demanded(in map[string]bool, environment string) bool { return in[""] || in[environment] }

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
	name := func(p registry.Project) string { return p.Name }
	return jobs.Each(projects, name, func(project registry.Project) error {
		l, err := read.Ladder(ctx, project.Name)
		if err != nil {
			return err
		}
		d := demandsOf(&l.Ladder)
		if len(d.checks)+len(d.robustness) == 0 {
			return nil
		}
		all, err := read.AllCases(ctx, project.Name)
		if err != nil {
			return err
		}
		cases := map[string]*check.Kept{}
		for i := range all {
			cases[all[i].Model] = &all[i]
		}
		places, err := read.PlacementsOfProject(ctx, project.Name)
		if err != nil {
			return err
		}
		of := func(p traffic.Placement) string { return p.Version }
		return jobs.Each(places, of, func(p traffic.Placement) error {
			return s.prove(ctx, &p, d, cases, project.Name, now)
		})
	})
}

// prove puts a version to what is demanded where it is placed.
func (s *Service) prove(ctx context.Context, p *traffic.Placement, d demands, cases map[string]*check.Kept,
	project string, now time.Time,
) error {
	if !p.Healthy || p.Elsewhere {
		return nil
	}
	ref, err := registry.ParseRef("version", p.Version)
	if err != nil {
		return err
	}
	if k := cases[ref.Model]; k != nil && demanded(d.checks, p.Environment) {
		if err := s.checkPlaced(ctx, p, k, now); err != nil {
			return err
		}
	}
	if demanded(d.robustness, p.Environment) {
		return s.disturbPlaced(ctx, p, &registry.Version{Ref: p.Version, Model: ref.Model, Project: project}, now)
	}
	return nil
}

// once does what is done once for a version that is placed, unless it was done before. What is refused is tried again
// after a while: whoever has it done by hand is told why.
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
	if known := (*fault.Fault)(nil); errors.As(err, &known) {
		return nil
	}
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

// disturbPlaced has the robustness of a version tested where it is placed, once for each incumbent. One that answers
// callers there itself is left alone.
func (s *Service) disturbPlaced(ctx context.Context, p *traffic.Placement, v *registry.Version, now time.Time) error {
	read := s.DB.Read(records.Everything)
	used, err := read.EndpointsUsing(ctx, p.Version, p.Environment)
	if err != nil || len(used) > 0 {
		return err
	}
	than, err := incumbent(ctx, read, v)
	if err != nil {
		return err
	}
	return s.once(p.Version+" "+p.Environment+" beside "+than, now, func() (bool, error) {
		return read.RobustnessBefore(ctx, p.Version, p.Environment, than)
	}, func() error {
		_, err := s.Robustness(ctx, act.BySelf(), wire.NewRobustness{Asked: p.Version, Environment: p.Environment})
		return err
	})
}
