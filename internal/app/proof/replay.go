package proof

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/replay"
	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/requestlog"
	"innerladder/internal/scoring"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

const (
	// usualRate is how many requests a second are asked again where nothing is said, mostRate at most.
	usualRate = 50
	mostRate  = 10_000
	// readAtOnce is how many requests of the log are read at once.
	readAtOnce = 500
	// longestReplay is how long a span may be.
	longestReplay = 400 * 24 * time.Hour
)

// Replay begins a job that asks a version what callers asked another before, from the log of an endpoint. No lane
// counts it, and nobody acts on the answers.
func (s *Service) Replay(ctx context.Context, by act.Actor, in wire.NewReplay) (*job.Job, error) {
	if err := by.May(access.Register); err != nil {
		return nil, err
	}
	e, err := s.traffic.EndpointFor(ctx, by, access.Inspect, in.Endpoint)
	if err != nil {
		return nil, err
	}
	r := &job.Replaying{
		Endpoint: e.Name, AnsweredBy: cmp.Or(in.AnsweredBy, e.MainVersion()), Where: in.Where,
		Most: cmp.Or(in.Most, replay.UsualMost), Rate: cmp.Or(in.Rate, usualRate),
		Tolerance: cmp.Or(in.Tolerance, traffic.UsualTolerance),
	}
	if r.AnsweredBy == "" {
		return nil, fault.New(fault.Refused, "endpoint.empty", "nothing answers for %s yet", e.Name).In("endpoint").
			Do("say with answered_by whose requests are meant")
	}
	then, err := s.registry.Version(ctx, by, r.AnsweredBy)
	if err != nil {
		return nil, err
	}
	r.AnsweredBy = then.Ref
	if err := s.spanOf(r, in); err != nil {
		return nil, err
	}
	for _, text := range in.Where {
		if _, err := request.ParseCondition(text); err != nil {
			return nil, err
		}
	}
	switch {
	case r.Most < 1 || r.Most > replay.Most:
		return nil, fault.New(fault.Invalid, "replay.most", "%d requests cannot be asked again", r.Most).In("most").
			Do("ask 1 to %d", replay.Most)
	case !(r.Rate > 0 && r.Rate <= mostRate):
		return nil, fault.New(fault.Invalid, "replay.rate", "%v requests a second cannot be sent", r.Rate).In("rate").
			Do("give a rate up to %d", mostRate)
	case !(r.Tolerance >= 0 && r.Tolerance <= 1):
		return nil, fault.New(fault.Invalid, "replay.tolerance", "the tolerance is %v", r.Tolerance).In("tolerance").
			Do("give a share from 0 to 1, such as 0.05")
	}
	if r.Limits, err = limitsOf(in.AtMost, in.AtLeast); err != nil {
		return nil, err
	}
	return s.begin(ctx, by, access.Register, wire.NewScoring{
		Asked: in.To, Environment: in.Environment, Name: "requests of " + e.Name, Batch: 1, Parallel: in.Parallel,
	}, nil, &job.Job{Kind: job.ReplayKind, Replaying: r}, nil)
}

// spanOf finds out from when to when requests are meant.
func (s *Service) spanOf(r *job.Replaying, in wire.NewReplay) error {
	now := s.Now().UTC()
	bad := func(text string) error {
		return fault.New(fault.Invalid, "replay.since", "%q is not how far back", text).In("since").
			Do("give a duration such as 24h, or yesterday; or a from and an until")
	}
	r.From, r.Until = in.From.UTC(), in.Until.UTC()
	if in.Until.IsZero() {
		r.Until = now
	}
	switch {
	case !in.From.IsZero() && in.Since != "":
		return bad(in.Since)
	case in.Since == "yesterday":
		r.Until = now.Truncate(24 * time.Hour)
		r.From = r.Until.Add(-24 * time.Hour)
	case in.From.IsZero():
		back, err := time.ParseDuration(cmp.Or(in.Since, "24h"))
		if err != nil || back <= 0 || back > longestReplay {
			return bad(in.Since)
		}
		r.From = r.Until.Add(-back)
	}
	return request.Filter{From: r.From, To: r.Until}.Check()
}

// answeredByAnother refuses to ask a version again what it answered itself.
func answeredByAnother(j *job.Job, v *registry.Version) error {
	if r := j.Replaying; r != nil && r.AnsweredBy == v.Ref {
		return fault.New(fault.Refused, "replay.itself", "%s answered those requests itself", v.Ref).In("answered_by").
			Do("say with answered_by whose requests are meant")
	}
	return nil
}

// gather draws the requests of a job from the log into its folder, unless it has done so before.
func (s *Service) gather(ctx context.Context, j *job.Job) error {
	there, r := scoring.TableIn(s.folder(j.ID)), j.Replaying
	if _, err := os.Stat(there); j.Scoring.Digest != "" {
		if errors.Is(err, fs.ErrNotExist) {
			return errors.New("its requests are not in the data directory; backups do not contain what jobs work with")
		}
		return err
	} // else what stands there was not noted, and nothing was asked yet
	if s.log == nil {
		return errors.New("no requests are kept")
	}
	e, err := s.traffic.EndpointFor(ctx, act.BySelf(), access.Inspect, r.Endpoint)
	if err != nil {
		return err
	}
	f := request.Filter{From: r.From, To: r.Until, Version: r.AnsweredBy}
	for _, text := range r.Where {
		c, err := request.ParseCondition(text)
		if err != nil {
			return err
		}
		f.Where = append(f.Where, c)
	}
	sample := replay.Sample{Most: r.Most}
	for part := (requestlog.Part{Limit: readAtOnce}); ; {
		found, err := s.log.Search(ctx, e.ID, f, part)
		if err != nil {
			return err
		}
		for i := range found.Items {
			sample.Offer(&found.Items[i])
		}
		if part.Before = found.Next; found.Next == "" {
			break
		}
	}
	all := sample.Taken()
	r.Found, r.Taken, r.LeftOut = sample.Found, int64(len(all)), sample.LeftOut
	if len(all) == 0 {
		why := ""
		for reason, n := range r.LeftOut {
			why = fmt.Sprintf("; %d are there, but: %s", n, reason)
		}
		return fmt.Errorf("the log of %s has no request of %s from %s to %s that can be asked again%s", r.Endpoint,
			r.AnsweredBy, r.From.Format(time.DateTime), r.Until.Format(time.DateTime), why)
	}
	return s.keepRequests(ctx, j, all, there)
}

// keepRequests writes requests into the folder of a job, and notes which they are.
func (s *Service) keepRequests(ctx context.Context, j *job.Job, all []replay.Recorded, there string) error {
	if err := os.MkdirAll(s.folder(j.ID), 0o700); err != nil {
		return err
	}
	coming := there + ".coming"
	if err := scoring.WriteRequests(coming, all); err != nil {
		return err
	}
	f, err := os.Open(coming)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if j.Scoring.Size, err = io.Copy(sum, f); err != nil {
		return err
	}
	j.Scoring.Digest = hex.EncodeToString(sum.Sum(nil))
	if err := os.Rename(coming, there); err != nil {
		return err
	}
	return s.enter(ctx, j.ID, func(_ *act.Tx, kept *job.Job) error {
		kept.Scoring, kept.Replaying = j.Scoring, j.Replaying
		return nil
	})
}

// again carries a job of its kind out.
func (s *Service) again(ctx context.Context, j *job.Job, g *going) (p job.Progress, err error) {
	p = j.Progress
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return p, err
	}
	if err := s.gather(ctx, j); err != nil {
		return p, err
	}
	b, done, err := s.borrow(ctx, j, v, j.Scoring.Environment, j.Scoring.Parallel)
	if err != nil {
		return p, err
	}
	defer done()
	return scoring.Replay(ctx, scoring.ReplayOptions{
		Dir: s.folder(j.ID), Count: j.Replaying.Taken, Rate: j.Replaying.Rate, Parallel: j.Scoring.Parallel,
		Tolerance: j.Replaying.Tolerance, Ask: b.Ask, Patience: patience, Told: s.tells(j.ID, g),
	})
}

// sideBySide makes the report of what was answered then and now.
func (s *Service) sideBySide(ctx context.Context, j *job.Job) (*evidence.ReplayReport, error) {
	r := j.Replaying
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return nil, err
	}
	h := &replay.Judging{Tolerance: r.Tolerance}
	if v.Signature != nil && len(v.Signature.Outputs) > 0 {
		h.Output, h.Unit = v.Signature.Outputs[0].Name, v.Signature.Outputs[0].Unit
	}
	if h.Truth, err = s.truthOf(ctx, j); err != nil {
		return nil, err
	}
	if err := scoring.Replayed(s.folder(j.ID), func(rec *replay.Recorded, a *replay.Answered) error {
		h.Take(rec, a)
		return nil
	}); err != nil {
		return nil, err
	}
	out, err := h.Report(r.AnsweredBy, r.Limits)
	if err != nil {
		return nil, err
	}
	if err := evidence.CheckLimits(r.Limits, out.Values()); err != nil {
		return nil, err
	}
	out.Endpoint, out.From, out.Until, out.Found, out.LeftOut = r.Endpoint, &r.From, &r.Until, r.Found, r.LeftOut
	out.Judged = &evidence.Judged{
		Job: j.ID, Version: v.Ref, Table: j.Scoring.Table, Digest: j.Scoring.Digest, Output: h.Output, By: s.build,
	}
	return out, nil
}

// truthOf is what is known by now of what was true of the requests of a job.
func (s *Service) truthOf(ctx context.Context, j *job.Job) (map[string][]outcome.Pair, error) {
	kept := s.signals.Store()
	if kept == nil {
		return nil, nil
	}
	var ids []uuid.UUID
	if err := scoring.EachRequest(s.folder(j.ID), 0, func(_ int64, r *replay.Recorded) error {
		if id, err := uuid.Parse(r.ID); err == nil {
			ids = append(ids, id)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	pairs, err := kept.OutcomesOf(ctx, j.Replaying.Endpoint, ids)
	out := map[string][]outcome.Pair{}
	for _, p := range pairs {
		out[p.Request] = append(out[p.Request], p)
	}
	return out, err
}
