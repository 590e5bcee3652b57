package proof

import (
	"cmp"
	"context"
	"io"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/explain"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/registry"
	"innerladder/internal/scoring"
	"innerladder/internal/wire"
)

// Importance begins a job that finds out on which inputs a version relies, and how its predictions go with each, over
// the rows of a table.
func (s *Service) Importance(ctx context.Context, by act.Actor, in wire.NewImportance, table io.Reader) (*job.Job,
	error,
) {
	if err := by.May(access.Register); err != nil {
		return nil, err
	}
	i := &job.Importance{
		Target: in.Target, Output: in.Output, Class: in.Class, Rows: cmp.Or(in.Rows, explain.UsualRows),
		Rounds: cmp.Or(in.Rounds, explain.UsualRounds),
	}
	switch {
	case i.Rows < explain.LeastRows || i.Rows > explain.MostRows:
		return nil, fault.New(fault.Invalid, "importance.rows", "%d rows cannot be drawn", i.Rows).In("rows").
			Do("draw %d to %d", explain.LeastRows, explain.MostRows)
	case i.Rounds < 1 || i.Rounds > explain.MostRounds:
		return nil, fault.New(fault.Invalid, "importance.rounds", "an input cannot be shuffled %d times",
			i.Rounds).In("rounds").Do("shuffle 1 to %d times", explain.MostRounds)
	}
	in.Keep = ""
	in.Batch = cmp.Or(in.Batch, mostTogether)
	return s.begin(ctx, by, access.Register, in.NewScoring, table, &job.Job{
		Kind: job.ImportanceKind, Importance: i,
	}, nil)
}

// relies carries a job of its kind out. It begins anew each time: the rows are the same.
func (s *Service) relies(ctx context.Context, j *job.Job, g *going) (p job.Progress, err error) {
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return p, err
	}
	if err := s.bring(ctx, j, v); err != nil {
		return p, err
	}
	b, done, err := s.borrow(ctx, j, v, j.Scoring.Environment, j.Scoring.Parallel)
	if err != nil {
		return p, err
	}
	defer done()
	r := &relying{
		asking: &asking{Borrowed: b, output: outputOf(v, j.Importance), together: 1}, of: j.Importance,
		batch: j.Scoring.Batch,
		exact: b.Signature, width: j.Scoring.Parallel, tells: s.tells(j.ID, g),
	}
	if err := r.draw(j.Scoring.Table, scoring.TableIn(s.folder(j.ID))); err != nil {
		return p, err
	}
	out, err := r.all(ctx)
	if err != nil {
		return r.progress, err
	}
	r.describe(out, v)
	out.Data = j.Scoring.Data
	out.Judged = &evidence.Judged{
		Job: j.ID, Version: v.Ref, Table: j.Scoring.Table, Digest: j.Scoring.Digest, Target: j.Importance.Target,
		Output: r.output, By: s.build,
	}
	return r.progress, s.keepReport(j.ID, out)
}

// outputOf is the output that is explained: the one that is named, or whose truth the target is, or the first.
func outputOf(v *registry.Version, i *job.Importance) string {
	switch {
	case i.Output != "":
		return i.Output
	case v.Signature.Output(i.Target) != nil:
		return i.Target
	case v.Signature != nil && len(v.Signature.Outputs) > 0:
		return v.Signature.Outputs[0].Name
	}
	return ""
}
