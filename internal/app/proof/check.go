package proof

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/access"
	"innerladder/internal/core/answers"
	"innerladder/internal/core/check"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"
	"innerladder/internal/oip"
	"innerladder/internal/records"
	"innerladder/internal/scoring"
	"innerladder/internal/wire"
)

const (
	// largestCases is how long a file of cases may be.
	largestCases = 64 << 10
	// checkPatience is how long a server that cannot be reached is waited for, checkPause between two tries.
	checkPatience = 10 * time.Second
	checkPause    = 200 * time.Millisecond
	// mostAway is how many requests one after the other may not reach the server, which a request may have ended.
	mostAway = 3
)

// Check begins a job that asks a version what must come back: its known answers, and cases, those of its model where
// none are given.
func (s *Service) Check(ctx context.Context, by act.Actor, in wire.NewCheck, cases io.Reader) (*job.Job, error) {
	if err := by.May(access.Register); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(cases, largestCases+1))
	if err != nil {
		return nil, err
	}
	name := cmp.Or(in.Name, "cases.yaml")
	if len(bytes.TrimSpace(text)) == 0 {
		v, _, err := s.traffic.Named(ctx, by, in.Asked, in.Environment)
		if err != nil {
			return nil, err
		}
		k, err := s.Cases(ctx, by, v.Model)
		if err != nil {
			return nil, err
		}
		text, name = []byte(k.Text), k.ID()
	}
	return s.beginCheck(ctx, by, in.Asked, in.Environment, name, text)
}

func (s *Service) beginCheck(ctx context.Context, by act.Actor, asked, environment, name string, text []byte,
) (*job.Job, error) {
	if _, err := intake.Cases(text); err != nil {
		return nil, err
	}
	return s.begin(ctx, by, access.Register, wire.NewScoring{
		Asked: asked, Environment: environment, Name: name, Batch: 1, Parallel: 1,
	}, bytes.NewReader(text), &job.Job{Kind: job.CheckKind, Checking: &job.Checking{Cases: name}}, nil)
}

// checksIn is where the report of a job stands until it is attached.
func (s *Service) checksIn(id string) string { return filepath.Join(s.folder(id), "checks.xml") }

// checkAll carries a job of its kind out. It begins anew each time: asking twice does no harm.
func (s *Service) checkAll(ctx context.Context, j *job.Job, g *going) (p job.Progress, err error) {
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return p, err
	}
	text, err := os.ReadFile(scoring.TableIn(s.folder(j.ID)))
	if err != nil {
		return p, errors.New("its cases are not in the data directory; backups do not contain what jobs work with")
	}
	cases, err := intake.Cases(text)
	if err != nil {
		return p, err
	}
	b, done, err := s.borrow(ctx, j, v, j.Scoring.Environment, 1)
	if err != nil {
		return p, err
	}
	defer done()
	c := &checking{Borrowed: b, version: v, told: s.tells(j.ID, g), all: len(cases.Cases)}
	var suites []evidence.Suite
	if v.KnownAnswers != nil {
		c.all += len(v.KnownAnswers.Cases)
		suites = append(suites, evidence.Suite{Name: "known answers of " + v.Ref, Results: c.known(ctx)})
	}
	suites = append(suites, evidence.Suite{Name: "cases " + j.Checking.Cases, Results: c.cases(ctx, &cases)})
	switch {
	case ctx.Err() != nil:
		return c.progress, context.Cause(ctx)
	case c.away >= mostAway:
		return c.progress, fmt.Errorf("the model server is away: %s", c.why)
	}
	out, err := evidence.JUnit("checks of "+v.Ref, &evidence.Checked{
		Job: j.ID, Version: v.Ref, Environment: j.Scoring.Environment, Cases: j.Checking.Cases,
		Digest: j.Scoring.Digest, By: s.build,
	}, suites...)
	if err == nil {
		err = os.WriteFile(s.checksIn(j.ID), out, 0o600)
	}
	return c.progress, err
}

// checking asks a borrowed version.
type checking struct {
	*traffic.Borrowed
	version  *registry.Version
	told     func(job.Progress)
	all      int
	progress job.Progress
	// away is how many requests one after the other did not reach the server, and why the last did not.
	away int
	why  string
}

// over reports whether nothing more is asked.
func (c *checking) over(ctx context.Context) bool { return ctx.Err() != nil || c.away >= mostAway }

// done notes that another case has ended.
func (c *checking) done(r evidence.Result) {
	p := &c.progress
	p.Rows++
	p.Answered++
	p.Share = float64(p.Rows) / float64(max(1, c.all))
	c.told(*p)
}

// known asks for the known answers.
func (c *checking) known(ctx context.Context) (out []evidence.Result) {
	k := c.version.KnownAnswers
	for i, one := range k.Cases {
		r := evidence.Result{Name: fmt.Sprintf("known answer %d", i+1)}
		if request := one.Of(c.exact()); request == nil {
			r.Why, r.Broken = "the protocol cannot carry its inputs", true
		} else {
			a := c.ask(ctx, request)
			r.Took = a.Took
			if a.Status != http.StatusOK {
				r.Why = fmt.Sprintf("status %d: %s", a.Status, a.Why)
			} else if parts := k.Differences(one, a.Outputs); len(parts) > 0 {
				r.Why = answers.Told(map[int][]string{i + 1: saidOf(parts)})
			}
		}
		if c.over(ctx) {
			return out
		}
		out = append(out, r)
		c.done(r)
	}
	return out
}

func saidOf(all []answers.Difference) (out []string) {
	for _, d := range all {
		out = append(out, d.String())
	}
	return out
}

// exact is what the version takes, as exactly as is known.
func (c *checking) exact() *signature.Signature {
	if c.Signature == nil {
		return &signature.Signature{}
	}
	return c.Signature
}

// cases asks all cases, one after the other: how long an answer takes is part of them.
func (c *checking) cases(ctx context.Context, cases *check.Cases) (out []evidence.Result) {
	sample := c.exact().SampleAfter(c.version.SampleRequest)
	for i := range cases.Cases {
		one := &cases.Cases[i]
		r := evidence.Result{Name: one.Name}
		requests, err := cases.Requests(i, c.exact(), sample)
		if err != nil {
			r.Why, r.Broken = "it cannot be asked: "+err.Error(), true
		} else {
			var got []check.Answer
			for _, request := range requests {
				if c.over(ctx) {
					return out
				}
				a := c.ask(ctx, request)
				got, r.Took = append(got, a), r.Took+a.Took
			}
			r.Why = one.Judge(got)
		}
		if c.over(ctx) {
			return out
		}
		out = append(out, r)
		c.done(r)
	}
	return out
}

// ask sends one request; a server that cannot be reached is waited for.
func (c *checking) ask(ctx context.Context, request []byte) (a check.Answer) {
	for begun := time.Now(); ; {
		sent := time.Now()
		status, answer, err := c.Ask(ctx, request)
		a = check.Answer{Status: status, Took: time.Since(sent)}
		if err != nil {
			a.Status, a.Why = 0, err.Error()
			if err.Error() != oip.NoAnswerInTime && time.Since(begun) < checkPatience && ctx.Err() == nil {
				_ = pause(ctx, checkPause) // when it ends, the next question says so
				continue
			}
			if err.Error() != oip.NoAnswerInTime {
				c.away, c.why = c.away+1, err.Error()
			}
			return a
		}
		c.away = 0
		if status != http.StatusOK {
			a.Why = scoring.SaidIn(answer)
			return a
		}
		if tensors, err := oip.AnyTensors(answer, "outputs"); err == nil {
			a.Outputs = oip.Values(tensors)
		}
		return a
	}
}

// SetCases sets what every version of a model must answer.
func (s *Service) SetCases(ctx context.Context, by act.Actor, model, text, reason string) (*check.Kept, error) {
	if err := by.May(access.Manage); err != nil {
		return nil, err
	}
	cases, err := intake.Cases([]byte(text))
	if err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (*check.Kept, error) {
		m, err := s.registry.FindModel(ctx, t.View, "model", model)
		if err == nil {
			err = t.Need(m.Project)
		}
		if err != nil {
			return nil, err
		}
		k := &check.Kept{
			Model: m.Name, Project: m.Project, Text: text, Count: len(cases.Cases), By: t.By.Name, SetAt: t.Now,
		}
		if err := t.PutCases(ctx, k); err != nil {
			return nil, err
		}
		return k, t.Note(ctx, act.Entry{
			Project: m.Project, Kind: "cases.set", Subject: m.Name, After: k, Reason: reason,
			Sentence: fmt.Sprintf("Versions of %s must answer the %d cases %s.", m.Name, k.Count, k.ID()),
		})
	})
}

// Cases shows what every version of a model must answer.
func (s *Service) Cases(ctx context.Context, by act.Actor, model string) (*check.Kept, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	return s.findCases(ctx, s.Read(by), model)
}

func (s *Service) findCases(ctx context.Context, r records.View, model string) (*check.Kept, error) {
	if _, err := s.registry.FindModel(ctx, r, "model", model); err != nil {
		return nil, err
	}
	k, err := r.Cases(ctx, model)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "cases.unknown", "%s has no cases", model).In("model").
			Do("set them with: innerladder cases %s FILE", model)
	}
	return k, err
}

// RemoveCases takes the cases of a model away.
func (s *Service) RemoveCases(ctx context.Context, by act.Actor, model, reason string) (*check.Kept, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (*check.Kept, error) {
		k, err := s.findCases(ctx, t.View, model)
		if err == nil {
			err = t.Need(k.Project)
		}
		if err == nil {
			err = t.RemoveCases(ctx, model)
		}
		if err != nil {
			return nil, err
		}
		return k, t.Note(ctx, act.Entry{
			Project: k.Project, Kind: "cases.removed", Subject: model, Before: k, Reason: reason,
			Sentence: fmt.Sprintf("Versions of %s need to answer no cases any more.", model),
		})
	})
}
