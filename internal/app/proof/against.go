package proof

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/judge"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/standing"
	"innerladder/internal/records"
	"innerladder/internal/scoring"

	"github.com/tidwall/gjson"
)

// otherIn is the folder with the answers of the other version, which the first is held against.
func otherIn(dir string) string { return filepath.Join(dir, "against") }

// incumbent is who answers main for the model of a version, or stands on the highest rung where nothing answers; empty
// where there is nobody else.
func incumbent(ctx context.Context, r records.View, v *registry.Version) (string, error) {
	answering, err := r.Answering(ctx, v.Project, v.Model)
	if err != nil {
		return "", err
	}
	l, err := r.Ladder(ctx, v.Project)
	if err != nil {
		return "", err
	}
	there, err := r.VersionsOnRung(ctx, v.Model, l.Highest(), 1)
	if err != nil {
		return "", err
	}
	stands := ""
	if len(there) > 0 {
		stands = there[0].Ref
	}
	return ladder.Incumbent(v.Ref, answering[v.Model], stands), nil
}

// beside finds out whom a job holds its version against, and where that one is asked.
func (s *Service) beside(ctx context.Context, by act.Actor, j *job.Job, v *registry.Version) error {
	e := j.Evaluating
	if e == nil || e.Against == "" {
		return nil
	}
	asked := e.Against
	switch {
	case asked == standing.Incumbent:
		found, err := incumbent(ctx, s.DB.Read(records.Everything), v)
		if err != nil {
			return err
		}
		if found == "" && e.Standing != "" {
			e.Against = ""
			return nil // the first of a model is held against nobody
		}
		if found == "" {
			return fault.New(fault.Refused, "evaluate.against", "nobody but %s answers for %s, or stands on its "+
				"highest rung", v.Ref, v.Model).In("against").Do("name a version")
		}
		asked = found
	case strings.HasPrefix(asked, "@"):
		asked = v.Model + asked
	}
	other, environment, err := s.traffic.Named(ctx, by, asked, j.Scoring.Environment)
	if err != nil && j.Scoring.Environment != "" { // it is not where the first is
		other, environment, err = s.traffic.Named(ctx, by, asked, "")
	}
	var known *fault.Fault
	switch {
	case errors.As(err, &known):
		return known.In("against")
	case err != nil:
		return err
	case other.Ref == v.Ref:
		return fault.New(fault.Refused, "evaluate.against", "%s cannot be held against itself", v.Ref).In("against").
			Do("name another version")
	}
	e.Against, e.AgainstEnvironment = other.Ref, environment
	return nil
}

// passOther asks the other version about the rows that the first was asked about, whose progress is p.
func (s *Service) passOther(ctx context.Context, j *job.Job, p job.Progress, told func(job.Progress),
) (job.Progress, error) {
	e, dir := j.Evaluating, otherIn(s.folder(j.ID))
	both := func(second job.Progress) job.Progress {
		out := p
		out.Share, out.Rate, out.Left, out.Trouble = 0.5+second.Share/2, second.Rate, second.Left, second.Trouble
		return out
	}
	v, err := s.registry.Version(ctx, act.BySelf(), e.Against)
	if err == nil {
		err = os.MkdirAll(dir, 0o700)
	}
	if err == nil {
		err = os.Link(scoring.TableIn(s.folder(j.ID)), scoring.TableIn(dir))
		if errors.Is(err, fs.ErrExist) {
			err = nil
		}
	}
	if err != nil {
		return both(job.Progress{}), err
	}
	second, err := s.pass(ctx, j, v, e.AgainstEnvironment, dir, []string{}, func(p job.Progress) { told(both(p)) })
	if err != nil {
		err = fmt.Errorf("%s: %w", e.Against, err)
	}
	return both(second), err
}

// others are what the other version answered, row by row.
type others struct {
	number []int64
	judge.Other
	at int
	// next are its answers in the order of the rows that are judged.
	next judge.Other
}

// readOthers reads what the other version answered, of the output that is judged and of its scores.
func (g *judging) readOthers(dir, output string, scores []string) error {
	if g.Against == "" {
		return nil
	}
	g.others = &others{}
	o, at, scoreAt := g.others, -1, []int(nil)
	return scoring.Each(otherIn(dir), func(c scoring.Columns) error {
		place := func(name string) int { return 1 + len(c.Kept) + slices.Index(c.Outputs, name) }
		if len(c.Outputs) == 0 {
			return fmt.Errorf("%s answered no row", g.Against)
		}
		if at = place(output); at == len(c.Kept) {
			return fmt.Errorf("%s gives no %s: it gives %s", g.Against, output, strings.Join(c.Outputs, ", "))
		}
		for _, name := range scores {
			if i := place(name); i > len(c.Kept) {
				scoreAt = append(scoreAt, i)
			}
		}
		if len(scoreAt) < len(scores) {
			scoreAt = nil
		}
		return nil
	}, func(values []gjson.Result) error {
		o.number = append(o.number, values[0].Int())
		x := math.NaN()
		if values[at].Type == gjson.Number {
			x = values[at].Num
		}
		o.Predicted, o.PredictedClass = append(o.Predicted, x), append(o.PredictedClass, values[at].String())
		if scoreAt != nil {
			row := make([]float64, len(scoreAt))
			for k, i := range scoreAt {
				row[k] = values[i].Num
			}
			o.Scores = append(o.Scores, row)
		}
		return nil
	})
}

// pair finds what the other version answered to a row that is judged; rows come in order.
func (o *others) pair(number int64, classes bool) {
	for o.at < len(o.number) && o.number[o.at] < number {
		o.at++
	}
	there := o.at < len(o.number) && o.number[o.at] == number && (classes || !math.IsNaN(o.Other.Predicted[o.at]))
	o.next.Has = append(o.next.Has, there)
	x, class, scores := 0.0, "", []float64(nil)
	if there {
		x, class = o.Other.Predicted[o.at], o.Other.PredictedClass[o.at]
		if o.Other.Scores != nil {
			scores = o.Other.Scores[o.at]
		}
	}
	o.next.Predicted, o.next.PredictedClass = append(o.next.Predicted, x), append(o.next.PredictedClass, class)
	if o.Other.Scores != nil {
		o.next.Scores = append(o.next.Scores, scores)
	}
}

// beside compares what is judged with what the other version answered.
func (g *judging) beside() (judge.Other, bool) {
	if g.others == nil {
		return judge.Other{}, false
	}
	o := g.others.next
	o.Version = g.Against
	if g.rows.Scores == nil || !g.scoresFit(o) {
		o.Scores = nil
	}
	return o, true
}

// scoresFit reports whether the scores of the other can be those of the same classes: shares of one.
func (g *judging) scoresFit(o judge.Other) bool {
	for i, row := range o.Scores {
		if !o.Has[i] {
			continue
		}
		sum := 0.0
		for _, p := range row {
			if sum += p; !(p >= 0 && p <= 1) {
				return false
			}
		}
		if math.Abs(sum-1) > 1e-3 {
			return false
		}
	}
	return len(o.Scores) > 0
}
