package proof

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/robust"
	"innerladder/internal/core/signature"
	"innerladder/internal/oip"
	"innerladder/internal/records"
	"innerladder/internal/scoring"
	"innerladder/internal/wire"

	"golang.org/x/sync/errgroup"
)

const (
	// rowWait is how long an answer may take.
	rowWait = 20 * time.Second
	// backWithin is how long a server that went away may take to be back, backPause between two looks.
	backWithin = 45 * time.Second
	backPause  = 200 * time.Millisecond
	// mostLost is how many rows of a trial may be lost or late; then the rest of it is not asked.
	mostLost = 3
	// mostTries is how often a server is asked that has too much to do.
	mostTries = 5
	// mostTogether is how many rows are asked with one request, unless that is on trial.
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
				"troubles it may trouble its callers", v.Ref, strings.Join(used, ", "), environment).In("environment").
				Do("place it elsewhere for that, or say that it may be troubled where it answers (-answering)")
		}
	}
	r := &job.Robustness{Rows: cmp.Or(in.Rows, robust.UsualRows), Output: in.Output, Named: in.Like != ""}
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

// troubleIn is where the report of a job stands until it is attached.
func (s *Service) troubleIn(id string) string { return filepath.Join(s.folder(id), "robustness.json") }

// troubled is the report of a job that has asked all.
func (s *Service) troubled(j *job.Job) (*evidence.RobustnessReport, error) {
	text, err := os.ReadFile(s.troubleIn(j.ID))
	r := new(evidence.RobustnessReport)
	if err == nil {
		err = json.Unmarshal(text, r)
	}
	return r, err
}

// trouble carries a job of its kind out. It begins anew each time: the rows are the same, and the answers are to be.
func (s *Service) trouble(ctx context.Context, j *job.Job, g *going) (p job.Progress, err error) {
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return p, err
	}
	b, err := s.traffic.Borrow(ctx, v, j.Scoring.Environment, widest)
	if err != nil {
		return p, err
	}
	defer b.Return()
	plan, like, err := s.planOf(ctx, v, b.Signature, j.Robustness)
	if err != nil {
		return p, err
	}
	t := &troubling{Borrowed: b, plan: plan, output: j.Robustness.Output, told: s.tells(g), together: 1}
	if t.output == "" && v.Signature != nil && len(v.Signature.Outputs) > 0 {
		t.output = v.Signature.Outputs[0].Name
	}
	judging := &robust.Judging{Reference: like.Columns[t.output]}
	if err := t.all(ctx, judging); err != nil {
		return t.progress, err
	}
	r := judging.Report()
	r.Like, r.Output, r.Kept, r.Environment = j.Robustness.Like, t.output, plan.Kept, j.Scoring.Environment
	r.Named, r.Incumbent = j.Robustness.Named, j.Robustness.Incumbent
	if c := v.Signature.Output(t.output); c != nil {
		r.Unit = c.Unit
	}
	r.Limits = r.Allowed()
	maps.Copy(r.Limits, j.Robustness.Limits)
	for name := range r.Limits {
		if _, there := r.Values()[name]; !there {
			return t.progress, fmt.Errorf("there is no %s to hold the limit against", name)
		}
	}
	r.Judged = &evidence.Judged{
		Job: j.ID, Version: v.Ref, Table: j.Scoring.Table, Output: t.output, By: s.build,
	}
	text, err := json.Marshal(r)
	if err == nil {
		err = os.WriteFile(s.troubleIn(j.ID), text, 0o600)
	}
	return t.progress, err
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

// troubling asks a borrowed version when things are not as they should be.
type troubling struct {
	*traffic.Borrowed
	plan     *robust.Plan
	output   string
	told     func(job.Progress)
	progress job.Progress
	// together is how many rows are asked with one request: as many as were answered so.
	together int
}

// all asks everything.
func (t *troubling) all(ctx context.Context, judging *robust.Judging) error {
	got, took, err := t.rows(ctx, t.plan.Base, 1)
	if err != nil {
		return err
	}
	answered := judging.Base(got, took)
	if len(answered) == 0 {
		return nil // the report says that nothing usual is answered
	}
	for i := range t.plan.Len() {
		one := t.plan.Trial(i, answered)
		batch := cmp.Or(one.Batch, t.together)
		if one.AtOnce > 1 {
			got, took, err = t.atOnce(ctx, one.Rows, one.AtOnce)
		} else {
			got, took, err = t.rows(ctx, one.Rows, batch)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", strings.TrimSuffix(fmt.Sprintf("%s %s", one.Trouble, one.Input), " "), err)
		}
		judging.Take(&one, got, took, batch)
		if one.Trouble == evidence.TroubleBatch && batch <= mostTogether && judging.Held() {
			t.together = batch
		}
		t.progress.Rows++
		t.progress.Answered++
		t.progress.Share = float64(t.progress.Rows) / float64(t.plan.Len())
		t.told(t.progress)
	}
	return nil
}

// rows asks rows, so many with one request. Where such a request is not answered well, and it is not itself on trial,
// each of its rows is asked alone.
func (t *troubling) rows(ctx context.Context, rows []signature.Row, batch int) (out []robust.Answer, took time.Duration,
	err error,
) {
	lost, onTrial := 0, batch > t.together
	for chunk := range slices.Chunk(rows, batch) {
		got, spent, err := t.some(ctx, chunk)
		if err != nil {
			return nil, 0, err
		}
		took += spent
		silent := slices.ContainsFunc(got, func(a robust.Answer) bool { return len(a.Values) == 0 })
		if len(chunk) > 1 && !onTrial && silent {
			one, spent, err := t.rows(ctx, chunk, 1)
			if err != nil {
				return nil, 0, err
			}
			got, took = one, took+spent
		}
		out = append(out, got...)
		for _, a := range got {
			if a.Status == 0 {
				lost++
			}
		}
		if lost >= mostLost {
			break
		}
	}
	return out, took, nil
}

// atOnce asks rows one by one, so many at the same time.
func (t *troubling) atOnce(ctx context.Context, rows []signature.Row, width int) ([]robust.Answer, time.Duration,
	error,
) {
	out := make([]robust.Answer, len(rows))
	g, inside := errgroup.WithContext(ctx)
	g.SetLimit(width)
	begun := time.Now()
	for i := range rows {
		g.Go(func() error {
			status, answer, err := t.once(inside, rows[i:i+1])
			if context.Cause(ctx) != nil {
				return context.Cause(ctx)
			}
			out[i] = t.read(status, answer, err, 1)[0]
			return nil
		})
	}
	err := g.Wait()
	took := time.Since(begun)
	if err == nil {
		err = t.back(ctx)
	}
	return out, took, err
}

// once sends one request.
func (t *troubling) once(ctx context.Context, rows []signature.Row) (int, []byte, error) {
	inside, cancel := context.WithTimeout(ctx, rowWait)
	defer cancel()
	status, answer, err := t.Ask(inside, signature.Together(rows))
	if err != nil && ctx.Err() == nil && inside.Err() != nil {
		err = errors.New(oip.NoAnswerInTime)
	}
	return status, answer, err
}

// some sends one request of several rows. A server that cannot be reached, or has too much to do, is waited for; one
// that went away at the request is asked once more when it is back, because it may have gone for another reason.
func (t *troubling) some(ctx context.Context, rows []signature.Row) ([]robust.Answer, time.Duration, error) {
	for tries := 1; ; tries++ {
		begun := time.Now()
		status, answer, err := t.once(ctx, rows)
		took := time.Since(begun)
		switch {
		case context.Cause(ctx) != nil:
			return nil, 0, context.Cause(ctx)
		case err != nil && err.Error() != oip.NoAnswerInTime:
			if err := t.back(ctx); err != nil {
				return nil, 0, err
			}
			if tries == 1 {
				continue
			}
		case err == nil && tries < mostTries && (status == http.StatusTooManyRequests ||
			status == http.StatusServiceUnavailable):
			if err := pause(ctx, backPause); err != nil {
				return nil, 0, err
			}
			continue
		}
		return t.read(status, answer, err, len(rows)), took, nil
	}
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// back waits until a row as it is gets any answer.
func (t *troubling) back(ctx context.Context) error {
	for begun := time.Now(); ; {
		_, _, err := t.once(ctx, t.plan.Base[:1])
		switch {
		case context.Cause(ctx) != nil:
			return context.Cause(ctx)
		case err == nil:
			return nil
		case time.Since(begun) > backWithin:
			return fmt.Errorf("the model server went away and did not come back within %v: %w", backWithin, err)
		}
		if err := pause(ctx, backPause); err != nil {
			return err
		}
	}
}

// read takes the answer to so many rows apart.
func (t *troubling) read(status int, answer []byte, err error, rows int) []robust.Answer {
	out := make([]robust.Answer, rows)
	all := func(a robust.Answer) []robust.Answer {
		for i := range out {
			out[i] = a
		}
		return out
	}
	switch {
	case err != nil:
		return all(robust.Answer{Why: err.Error()})
	case status != http.StatusOK:
		return all(robust.Answer{Status: status, Why: scoring.SaidIn(answer)})
	}
	tensors, err := oip.AnyTensors(answer, "outputs")
	if err != nil {
		return all(robust.Answer{Status: status, Why: "the answer cannot be read: " + err.Error()})
	}
	i := slices.IndexFunc(tensors, func(o oip.Tensor) bool { return o.Name == t.output || t.output == "" })
	if i < 0 {
		return all(robust.Answer{Status: status, Why: "the answer has no " + t.output})
	}
	data := tensors[i].Data
	wide := len(data) / rows
	if wide == 0 || len(data)%rows != 0 {
		return all(robust.Answer{Status: status, Why: fmt.Sprintf("the answer has %d values of %s for %d rows",
			len(data), tensors[i].Name, rows)})
	}
	for k := range out {
		out[k] = robust.Answer{Status: status, Values: data[k*wide : (k+1)*wide]}
	}
	return out
}
