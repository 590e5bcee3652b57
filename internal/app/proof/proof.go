// Package proof finds out what versions are worth before anybody relies on them: jobs that ask them about whole tables.
package proof

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/traffic"
	"innerladder/internal/blob"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/notice"
	"innerladder/internal/fetch"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/requestlog"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	registry *registry.Service
	traffic  *traffic.Service
	fetch    *fetch.Fetcher
	blobs    *blob.Store
	signals  *signals.Keeper
	log      *requestlog.Log
	// dir is the folder of all jobs, one for each; empty where none are kept.
	dir string
	// build is what the service was made from, for reports.
	build string

	mu    sync.Mutex
	going map[string]*going
	// waiting are the versions that could not be put to a standing evaluation yet.
	waiting map[string]delayed
	// later is what could not be done yet where a version is placed, with when it is tried again.
	later map[string]time.Time
	wait  sync.WaitGroup
	// turns is held by who takes turns of schedules.
	turns sync.Mutex
	// wake hears of jobs that may begin.
	wake chan struct{}
}

// going is a job that goes on in this process.
type going struct {
	stop     context.CancelCauseFunc
	progress job.Progress
}

const (
	// atOnce is how many jobs go on at the same time.
	atOnce = 2
	// keptFor is how long the files of a job are kept after it has ended.
	keptFor = 30 * 24 * time.Hour
	// patience is how long a model server may be away before a job gives up.
	patience = 5 * time.Minute
)

// New makes a service; dir is the folder of what jobs work with, build what the service was made from.
func New(b *act.Base, registry *registry.Service, traffic *traffic.Service, f *fetch.Fetcher, blobs *blob.Store,
	kept *signals.Keeper, log *requestlog.Log, dir, build string,
) *Service {
	return &Service{
		Base: b, registry: registry, traffic: traffic, fetch: f, blobs: blobs, signals: kept,
		log: log, dir: dir, build: build,
		going: map[string]*going{},
		wake:  make(chan struct{}, 1),
	}
}

// Wake hears of jobs that may begin.
func (s *Service) Wake() <-chan struct{} { return s.wake }

// hurry has jobs begin at once that may; it never waits.
func (s *Service) hurry() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

func (s *Service) folder(id string) string { return filepath.Join(s.dir, id) }

// Jobs lists jobs, newest first; ref narrows it down to those about a version.
func (s *Service) Jobs(ctx context.Context, by act.Actor, ref string, p records.Page) (wire.Listed[job.Job], error) {
	if ref != "" {
		v, err := s.registry.Version(ctx, by, ref)
		if err != nil {
			return wire.Listed[job.Job]{}, err
		}
		ref = v.Ref
	}
	out, err := act.List(s.Base, by, func(r records.View) ([]job.Job, string, error) { return r.Jobs(ctx, ref, p) })
	for i := range out.Items {
		s.refresh(&out.Items[i])
	}
	return out, err
}

// Job finds a job.
func (s *Service) Job(ctx context.Context, by act.Actor, id string) (*job.Job, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	j, _, err := find(ctx, s.Read(by), id)
	if err == nil {
		s.refresh(j)
	}
	return j, err
}

func find(ctx context.Context, r records.View, id string) (*job.Job, int64, error) {
	n, err := job.ParseID("job", id)
	if err != nil {
		return nil, 0, err
	}
	j, err := r.Job(ctx, n)
	if errors.Is(err, records.ErrNone) {
		return nil, 0, fault.New(fault.Unknown, "job.unknown", "there is no %s", job.ID(n)).In("job").
			Do("see which there are with: innerladder jobs")
	}
	return j, n, err
}

// refresh says how far a job is by now.
func (s *Service) refresh(j *job.Job) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if g := s.going[j.ID]; g != nil && !j.Ended() {
		j.Progress = g.progress
	}
}

// Stop ends a job; it can be taken up again.
func (s *Service) Stop(ctx context.Context, by act.Actor, id, reason string) (*job.Job, error) {
	return s.change(ctx, by, id, "job.stopped", "was stopped", reason, func(j *job.Job, now time.Time) error {
		s.refresh(j)
		if err := j.Stop(reason, now); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if g := s.going[j.ID]; g != nil {
			g.stop(errStopped)
		}
		return nil
	})
}

// errStopped is why what goes on ends when somebody stops it.
var errStopped = errors.New("it was stopped")

// Resume takes a job up again that was stopped or failed, where it was.
func (s *Service) Resume(ctx context.Context, by act.Actor, id, reason string) (*job.Job, error) {
	defer s.hurry()
	return s.change(ctx, by, id, "job.resumed", "was taken up again", reason, func(j *job.Job, _ time.Time) error {
		return j.Resume()
	})
}

// change changes a job that somebody is asked about.
func (s *Service) change(ctx context.Context, by act.Actor, id, kind, what, reason string,
	do func(*job.Job, time.Time) error,
) (*job.Job, error) {
	return act.Change(ctx, s.Base, by, access.Inspect, func(t *act.Tx) (*job.Job, error) {
		j, n, err := find(ctx, t.View, id)
		if err == nil {
			err = t.Need(j.Project)
		}
		if err == nil {
			err = do(j, t.Now)
		}
		if err == nil {
			err = t.SetJob(ctx, n, j)
		}
		if err != nil {
			return nil, err
		}
		return j, t.Note(ctx, act.Entry{
			Project: j.Project, Kind: kind, Subject: j.ID, Also: []string{j.Scoring.Version},
			Sentence: fmt.Sprintf("%s %s.", j.ID, what), Reason: reason,
		})
	})
}

// StepJobs begins jobs that wait, as many as may go on at once. It is called from time to time; jobs go on by
// themselves until ctx ends.
func (s *Service) StepJobs(ctx context.Context, now time.Time) error {
	if s.dir == "" {
		return nil
	}
	under, err := s.DB.Read(records.Everything).JobsUnderWay(ctx)
	if err != nil {
		return err
	}
	for _, j := range under {
		s.mu.Lock()
		if s.going[j.ID] != nil || len(s.going) >= atOnce {
			s.mu.Unlock()
			continue
		}
		inside, stop := context.WithCancelCause(ctx)
		g := &going{stop: stop, progress: j.Progress}
		s.going[j.ID] = g
		s.mu.Unlock()
		s.wait.Go(func() { s.carryOut(inside, j, g) })
	}
	return nil
}

// Settle waits until what went on has been brought to where it can be taken up again.
func (s *Service) Settle() { s.wait.Wait() }

// carryOut carries a job out to its end, or until the service stops.
func (s *Service) carryOut(ctx context.Context, j job.Job, g *going) {
	settled := false
	defer func() {
		g.stop(nil)
		s.mu.Lock()
		delete(s.going, j.ID)
		s.mu.Unlock()
		if settled { // else it is tried again at its time
			s.hurry()
		}
	}()
	running := func(_ *act.Tx, j *job.Job) error { j.State = job.Running; return nil }
	if err := s.enter(ctx, j.ID, running); err != nil {
		s.Log.Error("a job could not begin; trying again", "job", j.ID, "error", err)
		return
	}
	p := j.Progress
	_, before := os.Stat(s.logOf(j.ID))
	s.note(j.ID, "%s", begins(p, before == nil))
	err := jobs.Safely(func() (err error) { p, err = s.pursue(ctx, &j, g); return err })
	if cause := context.Cause(ctx); cause != nil { // somebody stopped it, or the service: it is taken up again
		s.note(j.ID, "%s", paused(cause))
		s.keepProgress(context.WithoutCancel(ctx), j.ID, p)
		settled = true
		return
	}
	var made *report
	if err == nil {
		if err = jobs.Safely(func() (err error) { made, err = s.report(ctx, &j); return err }); err != nil {
			made = nil
		}
	}
	if broken := (*jobs.Panic)(nil); errors.As(err, &broken) {
		s.Log.Error("a job broke", "job", j.ID, "error", err)
		err = errors.New("something broke that should not have; the log of the service has it")
	}
	last := s.conclude(ctx, j.ID, p, made, err)
	if last != nil && made != nil { // that it could not be attached is how it ended
		last = s.conclude(ctx, j.ID, p, nil, last)
	}
	s.note(j.ID, "%s", endOf(made, err, last))
	if settled = last == nil; !settled {
		s.Log.Error("it was not written down how a job ended; it is looked at again", "job", j.ID, "error", last)
	}
}

// begins is how the log of a job begins, or goes on where there was one before.
func begins(p job.Progress, before bool) string {
	switch {
	case !before:
		return "begins"
	case p.Rows == 0: // whoever killed the service left no time to note how far it was; its files know
		return "goes on where it was"
	}
	return fmt.Sprintf("goes on after %.0f %%, %d rows", 100*p.Share, p.Rows)
}

// paused is why a job does not go on now.
func paused(cause error) string {
	if errors.Is(cause, errStopped) {
		return "was stopped; it can be taken up again"
	}
	return "the service stops; it goes on when that is there again"
}

// endOf is how a job ended: failed is why it did not get to its end, unwritten why that could not be noted.
func endOf(made *report, failed, unwritten error) string {
	switch {
	case failed != nil:
		return "failed: " + failed.Error()
	case unwritten != nil:
		return "could not be ended: " + unwritten.Error()
	case made != nil:
		return "done; its report of kind " + made.kind + " is attached"
	}
	return "done"
}

// pursue carries out what a job is about, as far as it goes.
func (s *Service) pursue(ctx context.Context, j *job.Job, g *going) (job.Progress, error) {
	switch j.Kind {
	case job.ReplayKind:
		return s.again(ctx, j, g)
	case job.CheckKind:
		return s.checkAll(ctx, j, g)
	case job.RobustnessKind:
		return s.disturb(ctx, j, g)
	case job.ImportanceKind:
		return s.relies(ctx, j, g)
	}
	return s.score(ctx, j, g)
}

// report is evidence that a job makes.
type report struct {
	kind    string
	content any
}

// end is how the file of a report ends.
func (r *report) end() string {
	if r.kind == evidence.CasesKind {
		return ".xml"
	}
	return ".json"
}

// report makes the report of a job that has asked all that it was to ask; nil for a job that makes none.
func (s *Service) report(ctx context.Context, j *job.Job) (*report, error) {
	switch j.Kind {
	case job.EvaluateKind:
		e, err := s.judge(ctx, j)
		return &report{evidence.EvaluationKind, e}, err
	case job.ReplayKind:
		r, err := s.sideBySide(ctx, j)
		return &report{evidence.ReplayKind, r}, err
	case job.CheckKind:
		text, err := os.ReadFile(s.checksIn(j.ID))
		return &report{evidence.CasesKind, text}, err
	case job.RobustnessKind:
		r, err := keptReport[evidence.RobustnessReport](s, j.ID)
		return &report{evidence.RobustnessKind, r}, err
	case job.ImportanceKind:
		r, err := keptReport[evidence.ImportanceReport](s, j.ID)
		return &report{evidence.ImportanceKind, r}, err
	}
	return nil, nil
}

// reportIn is where the report of a job stands until it is attached.
func (s *Service) reportIn(id string) string { return filepath.Join(s.folder(id), "report.json") }

// keepReport keeps the report of a job until it is attached.
func (s *Service) keepReport(id string, r any) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return os.WriteFile(s.reportIn(id), text, 0o600)
}

// keptReport is the report of a job that has asked all.
func keptReport[T any](s *Service, id string) (*T, error) {
	text, err := os.ReadFile(s.reportIn(id))
	if err != nil {
		return nil, err
	}
	r := new(T)
	return r, json.Unmarshal(text, r)
}

// conclude notes how a job ended. Its report is attached with that, so that it is there once.
func (s *Service) conclude(ctx context.Context, id string, p job.Progress, made *report, failed error) error {
	return s.enter(ctx, id, func(t *act.Tx, j *job.Job) error {
		if made != nil {
			e, err := s.registry.AttachOwn(ctx, t, j.Scoring.Version, made.kind, "", j.ID+"-"+made.kind+made.end(),
				made.content)
			if err != nil {
				return err
			}
			j.SetReport(e.ID)
		}
		j.Progress = p
		j.End(failed, t.Now)
		return nil
	})
}

// keepProgress notes how far a job came that goes on another time.
func (s *Service) keepProgress(ctx context.Context, id string, p job.Progress) {
	err := s.DB.Write(ctx, records.Everything, func(r records.View) error {
		j, n, err := find(ctx, r, id)
		if err != nil {
			return err
		}
		j.Progress = p
		return r.SetJob(ctx, n, j)
	})
	if err != nil {
		s.Log.Error("the progress of a job was not written down", "job", id, "error", err)
	}
}

// enter changes a job that the service itself carries out, unless somebody ended it meanwhile.
func (s *Service) enter(ctx context.Context, id string, do func(*act.Tx, *job.Job) error) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Inspect, func(t *act.Tx) (*job.Job, error) {
		j, n, err := find(ctx, t.View, id)
		if err != nil {
			return nil, err
		}
		if j.Ended() {
			return j, nil
		}
		if err := do(t, j); err != nil {
			return nil, err
		}
		if err := t.SetJob(ctx, n, j); err != nil || !j.Ended() {
			return j, err
		}
		entry := act.Entry{
			Project: j.Project, Kind: "job.ended", Subject: j.ID, Also: []string{j.Scoring.Version},
			Sentence: j.Says() + ".", After: j,
		}
		if j.State == job.Failed && j.Evaluating != nil && j.Evaluating.Standing != "" { // nobody waits for it
			v, err := s.registry.Resolve(ctx, t.View, "version", j.Scoring.Version)
			if err != nil {
				return nil, err
			}
			entry.Involved = map[notice.Topic][]string{notice.Job: {v.CreatedBy}}
		}
		return j, t.Note(ctx, entry)
	})
	return err
}

// ForgetJobs removes the files of jobs that ended long ago, which stay known, and tables that never came whole.
func (s *Service) ForgetJobs(ctx context.Context, now time.Time) error {
	if s.dir == "" {
		return nil
	}
	folders, _ := os.ReadDir(s.dir) // there is none before the first job
	for _, f := range folders {
		info, err := f.Info()
		if err == nil && strings.HasPrefix(f.Name(), coming) && now.Sub(info.ModTime()) > comingFor {
			_ = os.RemoveAll(filepath.Join(s.dir, f.Name()))
		}
	}
	ended, err := s.DB.Read(records.Everything).JobsEnded(ctx)
	if err != nil {
		return err
	}
	for _, j := range ended {
		if j.EndedAt == nil || now.Sub(*j.EndedAt) < keptFor {
			continue
		}
		err := s.DB.Write(ctx, records.Everything, func(r records.View) error {
			j, n, err := find(ctx, r, j.ID)
			if err != nil || !j.Ended() {
				return err
			}
			j.Forgotten = true
			return r.SetJob(ctx, n, j)
		})
		if err == nil {
			err = os.RemoveAll(s.folder(j.ID))
		}
		if err != nil {
			return err
		}
	}
	return nil
}
