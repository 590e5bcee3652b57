package proof

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/robust"
	"innerladder/internal/core/signature"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

const (
	// mostTogether is how many rows are asked with one request, unless that is what is tested.
	mostTogether = 64
	// widest is how many are asked at the same time.
	widest = 16
)

// Robustness begins a job that asks a version when things are not as they should be, with rows as its callers send
// them: drawn from the reference profile of who answers them now, or its own.
func (s *Service) Robustness(ctx context.Context, by act.Actor, in wire.NewRobustness) (*job.Job, error) {
	if err := by.May(access.Register); err != nil {
		return nil, err
	}
	v, environment, err := s.traffic.Named(ctx, by, in.Asked, in.Environment)
	if err != nil {
		return nil, err
	}
	if err := by.Need(access.Register, v.Project); err != nil {
		return nil, err
	}
	read := s.DB.Read(records.Everything)
	if environment != "" && !in.Answering {
		used, err := read.EndpointsUsing(ctx, v.Ref, environment)
		if err != nil {
			return nil, err
		}
		if len(used) > 0 {
			return nil, fault.New(fault.Refused, "robustness.answering", "%s answers for %s in %s, and what "+
				"disturbs it may disturb its callers", v.Ref, strings.Join(used, ", "), environment).In("environment").
				Do("place it elsewhere for that, or say that it may be disturbed where it answers (-answering)")
		}
	}
	r := &job.Robustness{Rows: cmp.Or(in.Rows, robust.UsualRows), Output: in.Output}
	if err := robust.CheckRows(r.Rows); err != nil {
		return nil, err
	}
	if v.Signature.Output(r.Output) == nil && r.Output != "" {
		return nil, fault.New(fault.Invalid, "robustness.output", "%s has no output %q", v.Ref, r.Output).In("output").
			Do("leave it out, or name one that it has")
	}
	if r.Limits, err = limitsOf(in.AtMost, ""); err != nil {
		return nil, err
	}
	known := evidence.RobustnessMeasures()
	for name := range r.Limits {
		if !slices.Contains(known, name) {
			return nil, fault.New(fault.Invalid, "robustness.limit", "there is no measure %q", name).In("at_most").
				Do("use %s", strings.Join(known, ", "))
		}
	}
	r.Named = in.Like != ""
	if r.Incumbent, err = incumbent(ctx, read, v); err != nil {
		return nil, err
	}
	if r.Like, err = s.like(ctx, by, v, in.Like, r.Incumbent); err != nil {
		return nil, err
	}
	return s.begin(ctx, by, access.Register, wire.NewScoring{
		Asked: v.Ref, Environment: environment, Name: "rows like those of " + r.Like, Batch: 1, Parallel: 1,
	}, nil, &job.Job{Kind: job.RobustnessKind, Robustness: r}, nil)
}

// like finds out from whose reference profile rows are drawn: of who is named, else of the incumbent, else of the
// version itself.
func (s *Service) like(ctx context.Context, by act.Actor, v *registry.Version, named, incumbent string) (string,
	error,
) {
	read := s.DB.Read(records.Everything)
	none := func(ref string) error {
		return fault.New(fault.Refused, "robustness.no_profile", "%s has no reference profile", ref).In("like").
			Do("name a version that was registered with sample rows")
	}
	has := func(v *registry.Version) (bool, error) {
		p, err := read.Profile(ctx, v.Model, v.Number)
		return p != nil && len(p.Columns) > 0, err
	}
	if strings.HasPrefix(named, "@") {
		named = v.Model + named
	}
	for asked := cmp.Or(named, incumbent, v.Ref); ; asked = v.Ref { // the incumbent may have none
		of, err := s.registry.Version(ctx, by, asked)
		var there bool
		if err == nil {
			there, err = has(of)
		}
		var known *fault.Fault
		switch {
		case errors.As(err, &known):
			return "", known.In("like")
		case err != nil:
			return "", err
		case there:
			return of.Ref, nil
		case named != "" || asked == v.Ref:
			return "", none(of.Ref)
		}
	}
}

// disturb carries a job of its kind out. It begins anew each time: the rows are the same, and the answers are to be.
func (s *Service) disturb(ctx context.Context, j *job.Job, g *going) (p job.Progress, err error) {
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return p, err
	}
	b, done, err := s.borrow(ctx, j, v, j.Scoring.Environment, widest)
	if err != nil {
		return p, err
	}
	defer done()
	plan, like, err := s.planOf(ctx, v, b.Signature, j.Robustness)
	if err != nil {
		return p, err
	}
	t := &disturbing{plan: plan, told: s.tells(j.ID, g), asking: &asking{
		Borrowed: b, first: plan.Base[0], output: j.Robustness.Output, together: 1,
	}}
	if t.output == "" && v.Signature != nil && len(v.Signature.Outputs) > 0 {
		t.output = v.Signature.Outputs[0].Name
	}
	judging := &robust.Judging{Reference: like.Columns[t.output]}
	if err := t.all(ctx, judging); err != nil {
		return t.progress, err
	}
	r := judging.Report()
	r.Likeness, r.Output, r.Kept, r.Environment = j.Robustness.Likeness, t.output, plan.Kept, j.Scoring.Environment
	r.Aside = v.Signature != nil && len(v.Signature.Outputs) > 0 && v.Signature.Outputs[0].Name != t.output
	if c := v.Signature.Output(t.output); c != nil {
		r.Unit = c.Unit
	}
	r.Limits = r.Allowed()
	if r.Answered > 0 { // else nothing was disturbed that limits could be about, and the report fails anyway
		maps.Copy(r.Limits, j.Robustness.Limits)
	}
	if err := evidence.CheckLimits(r.Limits, r.Values()); err != nil {
		return t.progress, err
	}
	r.Judged = &evidence.Judged{
		Job: j.ID, Version: v.Ref, Table: j.Scoring.Table, Output: t.output, By: s.build,
	}
	return t.progress, s.keepReport(j.ID, r)
}

// planOf says what is asked of a version.
func (s *Service) planOf(ctx context.Context, v *registry.Version, exact *signature.Signature, r *job.Robustness,
) (*robust.Plan, *profile.Profile, error) {
	like, err := s.registry.Version(ctx, act.BySelf(), r.Like)
	if err != nil {
		return nil, nil, err
	}
	p, err := s.DB.Read(records.Everything).Profile(ctx, like.Model, like.Number)
	if err != nil {
		return nil, nil, err
	}
	if p == nil || exact == nil {
		return nil, nil, fmt.Errorf("%s has no reference profile, or %s no signature", like.Ref, v.Ref)
	}
	sample := exact.SampleAfter(v.SampleRequest)
	if sample == nil {
		return nil, nil, fmt.Errorf("the protocol cannot carry in JSON what %s takes", v.Ref)
	}
	plan, err := robust.NewPlan(robust.Source{
		Profile: p, Exact: exact, Declared: v.Signature, Request: sample, Rows: r.Rows, Seed: uint64(v.Number),
	})
	return plan, p, err
}

// disturbing asks a borrowed version when things are not as they should be.
type disturbing struct {
	*asking
	plan     *robust.Plan
	told     func(job.Progress)
	progress job.Progress
}

// all asks everything.
func (t *disturbing) all(ctx context.Context, judging *robust.Judging) error {
	got, took, err := t.rows(ctx, t.plan.Base, 1)
	if err != nil {
		return err
	}
	answered := judging.Base(got, took)
	if len(answered) == 0 {
		return nil // the report says that nothing usual is answered
	}
	for i := range t.plan.Len() {
		one := t.plan.Test(i, answered)
		batch := cmp.Or(one.Batch, t.together)
		if one.AtOnce > 1 {
			got, took, err = t.atOnce(ctx, one.Rows, one.AtOnce)
		} else {
			got, took, err = t.rows(ctx, one.Rows, batch)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", strings.TrimSuffix(fmt.Sprintf("%s %s", one.Disturbance, one.Input), " "), err)
		}
		judging.Take(&one, got, took, batch)
		if one.Disturbance == evidence.DisturbanceBatch && batch <= mostTogether && judging.Held() {
			t.together = batch
		}
		t.progress.Rows++
		t.progress.Answered++
		t.progress.Share = float64(t.progress.Rows) / float64(t.plan.Len())
		t.told(t.progress)
	}
	return nil
}
