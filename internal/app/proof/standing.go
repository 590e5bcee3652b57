package proof

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/standing"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// SetStanding has every new version of a model evaluated, on a table that comes as a file, or is fetched each time.
func (s *Service) SetStanding(ctx context.Context, by act.Actor, in wire.NewStanding, table io.Reader,
) (*standing.Standing, error) {
	if err := by.May(access.Manage); err != nil {
		return nil, err
	}
	m, err := s.registry.Model(ctx, by, in.Model)
	if err == nil {
		err = by.Need(access.Manage, m.Project)
	}
	if err != nil {
		return nil, err
	}
	how, err := judgingOf(in.Judging)
	if err != nil {
		return nil, err
	}
	e := &standing.Standing{
		Model: m.Name, Project: m.Project, Data: in.Data, From: in.From, Judging: how, By: by.Name,
	}
	if strings.HasPrefix(e.Against, "@") {
		e.Against = m.Name + e.Against
	}
	if e.Data != "" {
		d, err := s.dataAt(ctx, s.Read(by), e.Data)
		if err != nil {
			return nil, err
		}
		e.Data = d.Ref
	}
	keep := func() error { return nil }
	if e.Data == "" && e.From == "" {
		u, err := s.blobs.Receive(table)
		if err != nil {
			return nil, err
		}
		defer u.Discard()
		if u.Size > 0 {
			e.Digest, e.Name, keep = u.Digest, in.Name, u.Keep
			if e.Name == "" {
				e.Name = "table"
			}
		}
	}
	if err := e.Check(); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (*standing.Standing, error) {
		if err := t.Need(m.Project); err != nil {
			return nil, err
		}
		e.SetAt, e.After = t.Now, 0
		newest, _, err := t.Versions(ctx, m.Name, records.Page{Limit: 1})
		if err != nil {
			return nil, err
		}
		if len(newest) > 0 {
			e.After = newest[0].Number
		}
		if err := keep(); err != nil {
			return nil, err
		}
		if err := t.PutStanding(ctx, e); err != nil {
			return nil, err
		}
		return e, t.Note(ctx, act.Entry{
			Project: m.Project, Kind: "standing.set", Subject: m.Name, After: e, Reason: in.Reason,
			Sentence: fmt.Sprintf("New versions of %s are evaluated on %s, by %s.", m.Name, e.Rows(), e.ID()),
		})
	})
}

// findStanding finds what new versions of a model are evaluated on, or says that there is nothing.
func (s *Service) findStanding(ctx context.Context, r records.View, model string) (*standing.Standing, error) {
	if _, err := s.registry.FindModel(ctx, r, "model", model); err != nil {
		return nil, err
	}
	e, err := r.Standing(ctx, model)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "standing.unknown", "%s has no standing evaluation", model).In("model").
			Do("set one with: innerladder standing %s FILE -target COLUMN", model)
	}
	return e, err
}

// Standing shows what new versions of a model are evaluated on, and how far each is.
func (s *Service) Standing(ctx context.Context, by act.Actor, model string) (wire.StandingShown, error) {
	if err := by.May(access.Read); err != nil {
		return wire.StandingShown{}, err
	}
	r := s.Read(by)
	e, err := s.findStanding(ctx, r, model)
	if err != nil {
		return wire.StandingShown{}, err
	}
	out := wire.StandingShown{Standing: *e, Runs: []standing.Candidate{}}
	without, err := r.WithoutStanding(ctx, e)
	if err != nil {
		return out, err
	}
	for _, ref := range without {
		s.mu.Lock()
		why := s.waiting[ref].why
		s.mu.Unlock()
		out.Runs = append(out.Runs, standing.Candidate{Version: ref, State: standing.Waiting, Why: why})
	}
	there, err := r.StandingJobs(ctx, e)
	if err != nil {
		return out, err
	}
	for i := range there {
		c := standing.Of(&there[i])
		if n, err := evidence.ParseID("evidence", c.Evidence); err == nil {
			e, err := r.Evidence(ctx, n)
			if err != nil {
				return out, err
			}
			c.Verdict = e.Verdict
		}
		out.Runs = append(out.Runs, c)
	}
	return out, nil
}

// RemoveStanding has new versions of a model evaluated on nothing.
func (s *Service) RemoveStanding(ctx context.Context, by act.Actor, model, reason string,
) (*standing.Standing, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (*standing.Standing, error) {
		e, err := s.findStanding(ctx, t.View, model)
		if err == nil {
			err = t.Need(e.Project)
		}
		if err == nil {
			err = t.RemoveStanding(ctx, model)
		}
		if err != nil {
			return nil, err
		}
		return e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "standing.removed", Subject: model, Before: e, Reason: reason,
			Sentence: fmt.Sprintf("New versions of %s are evaluated on nothing any more.", model),
		})
	})
}

// RunStanding puts a version to the standing evaluation of its model, whether it was before or not.
func (s *Service) RunStanding(ctx context.Context, by act.Actor, ref string) (*job.Job, error) {
	if err := by.May(access.Register); err != nil {
		return nil, err
	}
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return nil, err
	}
	e, err := s.findStanding(ctx, s.Read(by), v.Model)
	if err != nil {
		return nil, err
	}
	return s.beginStanding(ctx, by, v, e)
}

func (s *Service) beginStanding(ctx context.Context, by act.Actor, v *registry.Version, e *standing.Standing,
) (*job.Job, error) {
	environment, err := s.traffic.Somewhere(ctx, v)
	if err != nil {
		return nil, err
	}
	how := e.Judging
	how.Segments = slices.Clone(how.Segments) // the job finds out its own
	return s.begin(ctx, by, access.Register, wire.NewScoring{
		Asked: v.Ref, Environment: environment, Name: e.Rows(), Data: e.Data, From: e.From,
	}, nil, &job.Job{Kind: job.EvaluateKind, Scoring: &job.Scoring{Digest: e.Digest}, Evaluating: &job.Evaluating{
		Judging: how, Standing: e.ID(),
	}}, nil)
}

// delayed is a version that could not be put to its standing evaluation yet.
type delayed struct {
	why   string
	again time.Time
}

// askAgain is how long it is before such a version is looked at again.
const askAgain = 10 * time.Second

// StepStanding puts new versions to the standing evaluations of their models, as soon as they can be asked.
func (s *Service) StepStanding(ctx context.Context, now time.Time) error {
	if s.dir == "" {
		return nil
	}
	read := s.DB.Read(records.Everything)
	all, err := read.AllStanding(ctx, "")
	if err != nil {
		return err
	}
	waits := map[string]delayed{}
	err = jobs.Each(all, func(e standing.Standing) string { return e.Model }, func(e standing.Standing) error {
		refs, err := read.WithoutStanding(ctx, &e)
		if err != nil {
			return err
		}
		for _, ref := range refs {
			s.mu.Lock()
			d, there := s.waiting[ref]
			s.mu.Unlock()
			if !there || !now.Before(d.again) {
				v, err := s.registry.Version(ctx, act.BySelf(), ref)
				if err == nil {
					_, err = s.beginStanding(ctx, act.BySelf(), v, &e)
				}
				if err == nil {
					continue
				}
				if known := (*fault.Fault)(nil); !errors.As(err, &known) {
					s.Log.Error("a standing evaluation could not be begun", "version", ref, "error", err)
				}
				d = delayed{err.Error(), now.Add(askAgain)}
			}
			waits[ref] = d
		}
		return nil
	})
	s.mu.Lock()
	s.waiting = waits
	s.mu.Unlock()
	return err
}
