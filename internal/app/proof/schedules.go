package proof

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/schedule"
	"innerladder/internal/core/score"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/wire"

	"github.com/adhocore/gronx"
)

// usualRetries is how often a turn that failed is tried again where nothing is said.
const usualRetries = 2

// times finds the turns of a schedule. They are reckoned by the clock on the wall: a time that a day does not have is
// the next that it has, and one that it has twice counts once.
func times(cron string, zone *time.Location) func(time.Time) (time.Time, error) {
	return func(after time.Time) (time.Time, error) {
		at := after.In(zone)
		wall := time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), 0, time.UTC)
		for {
			next, err := gronx.NextTickAfter(cron, wall, false)
			if err != nil {
				return time.Time{}, err
			}
			then := time.Date(next.Year(), next.Month(), next.Day(), next.Hour(), next.Minute(), 0, 0, zone)
			if then.After(after) {
				return then.UTC(), nil
			}
			wall = next
		}
	}
}

// timesOf are those of a schedule that was checked.
func timesOf(s *schedule.Schedule) func(time.Time) (time.Time, error) {
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		zone = time.UTC
	}
	return times(s.Cron, zone)
}

// SetSchedule has something scored again and again, in the place of what was set under the same name.
func (s *Service) SetSchedule(ctx context.Context, by act.Actor, n wire.NewSchedule) (*schedule.Schedule, error) {
	if err := by.May(access.Inspect); err != nil {
		return nil, err
	}
	zone, err := time.LoadLocation(cmp.Or(n.Zone, "UTC"))
	if err != nil || n.Zone == "Local" {
		return nil, fault.New(fault.Invalid, "schedule.zone", "%q is no time zone", n.Zone).In("zone").
			Do("name one such as Europe/Oslo")
	}
	set := &schedule.Schedule{
		Name: n.Name, Cron: n.Cron, Zone: zone.String(), Missed: cmp.Or(n.Missed, schedule.Once), Retries: usualRetries,
		Score: n.Score, By: by.Name, SetAt: s.Now(), Turns: []schedule.Turn{},
	}
	if n.Retries != nil {
		set.Retries = *n.Retries
	}
	if err := set.Check(s.Now(), times(n.Cron, zone)); err != nil {
		return nil, err
	}
	batch, parallel := cmp.Or(n.Score.Batch, score.UsualBatch), cmp.Or(n.Score.Parallel, score.UsualParallel)
	if err := score.CheckPace(batch, parallel); err != nil {
		return nil, err
	}
	v, _, err := s.traffic.Named(ctx, by, n.Score.Asked, n.Score.Environment)
	if err != nil {
		return nil, err
	}
	if n.Score.Data != "" {
		if _, err := s.registry.FindDataSet(ctx, s.Read(by), "data", n.Score.Data); err != nil {
			return nil, err
		}
	}
	set.Project = v.Project
	return act.Change(ctx, s.Base, by, access.Inspect, func(t *act.Tx) (*schedule.Schedule, error) {
		before, err := t.Within(records.Everything).Schedule(ctx, set.Name)
		switch {
		case err == nil && before.Project != set.Project:
			return nil, fault.New(fault.Refused, "name.taken", "the name %s is not free", set.Name).In("name").
				Do("choose another name")
		case err == nil:
			set.Turns = before.Turns
		case !errors.Is(err, records.ErrNone):
			return nil, err
		}
		set.Rest(false, t.Now, timesOf(set))
		if err := t.PutSchedule(ctx, set); err != nil {
			return nil, err
		}
		return set, t.Note(ctx, act.Entry{
			Project: set.Project, Kind: "schedule.set", Subject: set.Name, Also: []string{v.Ref},
			Sentence: fmt.Sprintf("%s asks %s at %q in %s.", set.Name, set.Score.Asked, set.Cron, set.Zone),
			Reason:   n.Reason, Before: before, After: set,
		})
	})
}

func findSchedule(ctx context.Context, r records.View, name string) (*schedule.Schedule, error) {
	found, err := r.Schedule(ctx, name)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "schedule.unknown", "there is no schedule %q", name).In("name").
			Do("see which there are with: innerladder schedules")
	}
	return found, err
}

// Schedules lists all schedules by name.
func (s *Service) Schedules(ctx context.Context, by act.Actor) (wire.Listed[schedule.Schedule], error) {
	return act.List(s.Base, by, func(r records.View) ([]schedule.Schedule, string, error) {
		all, err := r.Schedules(ctx)
		for i := range all {
			err = errors.Join(err, seen(ctx, r, &all[i]))
		}
		return all, "", err
	})
}

// Schedule finds a schedule.
func (s *Service) Schedule(ctx context.Context, by act.Actor, name string) (*schedule.Schedule, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	r := s.Read(by)
	found, err := findSchedule(ctx, r, name)
	if err == nil {
		err = seen(ctx, r, found)
	}
	return found, err
}

// seen brings the last turn of a schedule to how its job is by now.
func seen(ctx context.Context, r records.View, x *schedule.Schedule) error {
	j, err := lastJob(ctx, r, x)
	if j != nil {
		x.Seen(j)
	}
	return err
}

// lastJob is the job of the last turn of a schedule; nil where there is none.
func lastJob(ctx context.Context, r records.View, x *schedule.Schedule) (*job.Job, error) {
	if len(x.Turns) == 0 || x.Turns[0].Job == "" {
		return nil, nil
	}
	j, _, err := find(ctx, r, x.Turns[0].Job)
	var none *fault.Fault
	if errors.As(err, &none) {
		return nil, nil
	}
	return j, err
}

// changeSchedule changes a schedule that is there.
func (s *Service) changeSchedule(ctx context.Context, by act.Actor, name, kind, what, reason string,
	do func(*act.Tx, *schedule.Schedule) error,
) (*schedule.Schedule, error) {
	return act.Change(ctx, s.Base, by, access.Inspect, func(t *act.Tx) (*schedule.Schedule, error) {
		found, err := findSchedule(ctx, t.View, name)
		if err == nil {
			err = t.Need(found.Project)
		}
		if err == nil {
			err = do(t, found)
		}
		if err != nil {
			return nil, err
		}
		return found, t.Note(ctx, act.Entry{
			Project: found.Project, Kind: kind, Subject: name, Sentence: fmt.Sprintf("The schedule %s %s.", name, what),
			Reason: reason,
		})
	})
}

// RemoveSchedule takes a schedule away; a job that it has begun goes on.
func (s *Service) RemoveSchedule(ctx context.Context, by act.Actor, name, reason string) (*schedule.Schedule, error) {
	return s.changeSchedule(ctx, by, name, "schedule.removed", "was taken away", reason,
		func(t *act.Tx, found *schedule.Schedule) error { return t.RemoveSchedule(ctx, found.Name) })
}

// PauseSchedule has a schedule rest, or go on: what was missed meanwhile is not caught up.
func (s *Service) PauseSchedule(ctx context.Context, by act.Actor, name string, paused bool, reason string,
) (*schedule.Schedule, error) {
	kind, what := "schedule.resumed", "goes on"
	if paused {
		kind, what = "schedule.paused", "rests"
	}
	return s.changeSchedule(ctx, by, name, kind, what, reason, func(t *act.Tx, found *schedule.Schedule) error {
		found.Rest(paused, t.Now, timesOf(found))
		return t.PutSchedule(ctx, found)
	})
}

// TurnNow has a turn of a schedule taken at once.
func (s *Service) TurnNow(ctx context.Context, by act.Actor, name, reason string) (*schedule.Schedule, error) {
	s.turns.Lock()
	defer s.turns.Unlock()
	found, err := s.changeSchedule(ctx, by, name, "schedule.now", "is done at once", reason,
		func(t *act.Tx, found *schedule.Schedule) error {
			if err := seen(ctx, t.View, found); err != nil {
				return err
			}
			if err := found.Now(t.Now); err != nil {
				return err
			}
			return t.PutSchedule(ctx, found)
		})
	if err != nil {
		return nil, err
	}
	return found, s.turn(ctx, found)
}

// StepSchedules does what is due. It is called from time to time.
func (s *Service) StepSchedules(ctx context.Context, now time.Time) error {
	if s.dir == "" {
		return nil
	}
	s.turns.Lock()
	defer s.turns.Unlock()
	read := s.DB.Read(records.Everything)
	all, err := read.Schedules(ctx)
	if err != nil {
		return err
	}
	return jobs.Each(all, func(x schedule.Schedule) string { return x.Name }, func(x schedule.Schedule) error {
		last, err := lastJob(ctx, read, &x)
		if err != nil {
			return err
		}
		do, changed := x.Step(now, last, timesOf(&x))
		if !changed {
			return nil
		}
		if err := s.keepTurn(ctx, &x, do); errors.Is(err, errChanged) {
			return nil // how it is by now is looked at the next time
		} else if err != nil {
			return err
		}
		switch {
		case do.Begin:
			return s.turn(ctx, &x)
		case do.Resume != "":
			_, err := s.Resume(ctx, act.BySelf(), do.Resume, "the schedule "+x.Name+" tries again")
			return err
		}
		return nil
	})
}

// keepTurn keeps how a schedule is by now, unless it is gone or another by now; that a turn has failed for good is
// told.
func (s *Service) keepTurn(ctx context.Context, x *schedule.Schedule, do schedule.Act) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Inspect, func(t *act.Tx) (*schedule.Schedule, error) {
		if err := unchanged(ctx, t, x); err != nil {
			return nil, err
		}
		if err := t.PutSchedule(ctx, x); err != nil || !do.Failed {
			return x, err
		}
		last := x.Turns[0]
		return x, t.Note(ctx, act.Entry{
			Project: x.Project, Kind: "schedule.failed", Subject: x.Name, Also: []string{last.Job},
			Sentence: fmt.Sprintf("The turn of %s of %s failed after %d tries: %s.", x.Name,
				last.Due.Format("2006-01-02 15:04 MST"), last.Tries, last.Why),
			Involved: map[notice.Topic][]string{notice.Job: {x.By}},
		})
	})
	return err
}

// errChanged is said where somebody changed a schedule, or took it away, while something was done for it.
var errChanged = errors.New("the schedule was changed meanwhile")

// unchanged refuses to go on with a schedule that is gone, or another by now.
func unchanged(ctx context.Context, t *act.Tx, x *schedule.Schedule) error {
	there, err := t.Within(records.Everything).Schedule(ctx, x.Name)
	if errors.Is(err, records.ErrNone) || err == nil && (!there.SetAt.Equal(x.SetAt) || there.Paused != x.Paused) {
		return errChanged
	}
	return err
}

// turn begins the job of a turn; where it cannot be begun, it is tried again.
func (s *Service) turn(ctx context.Context, x *schedule.Schedule) error {
	of, was := x.Score, x.Turns[0]
	_, err := s.begin(ctx, act.BySelf(), access.Inspect, wire.NewScoring{
		Asked: of.Asked, Environment: of.Environment, From: of.From, Data: of.Data, Keep: of.Keep, Batch: of.Batch,
		Parallel: of.Parallel,
	}, nil, &job.Job{Kind: job.ScoreKind}, x)
	if err == nil || errors.Is(err, errChanged) {
		return nil
	}
	x.Turns[0] = was // whatever was noted was not kept
	var known *fault.Fault
	if !errors.As(err, &known) {
		s.Log.Error("a turn of a schedule could not be begun", "schedule", x.Name, "error", err)
	}
	if err = s.keepTurn(ctx, x, x.Fail(s.Now(), err.Error())); errors.Is(err, errChanged) {
		return nil
	}
	return err
}
