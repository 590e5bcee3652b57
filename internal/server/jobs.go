package server

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"innerladder/internal/app"
	"innerladder/internal/core/watch"
	"innerladder/internal/gateway"
	"innerladder/internal/jobs"
	"innerladder/internal/recorder"
	"innerladder/internal/requestlog"
	"innerladder/internal/signals"
)

// withoutAfter is how long the signals may take to be opened at a start before trials go on
// with what this process has seen.
const withoutAfter = 30 * time.Second

// Jobs lists everything that is done without anybody asking.
func Jobs(s *app.App, g *gateway.Gateway, rec *recorder.Recorder, requests *requestlog.Log,
	keeper *signals.Keeper, hurry <-chan struct{},
	log *slog.Logger,
) *jobs.Set {
	set := jobs.New(log)
	ask := func(run func(context.Context) error) func(context.Context, time.Time) error {
		return func(ctx context.Context, _ time.Time) error { return run(ctx) }
	}
	// wrote is how writing to the signals ended the last time.
	var wrote atomic.Pointer[error]
	begun := time.Now()
	// counted is told when a second has been counted.
	counted := make(chan struct{}, 1)
	every := func(name string, pace time.Duration, run func(context.Context, time.Time) error) {
		set.Add(jobs.Job{Name: name, Every: pace, Run: run})
	}
	set.Add(
		jobs.Job{
			Name:        "count",
			OnTheSecond: true,
			Run: func(_ context.Context, now time.Time) error {
				rec.Tick(now)
				requests.Tick()
				select {
				case counted <- struct{}{}:
				default: // it is being looked at
				}
				return nil
			},
		},
	)
	every("tidy the gateway", time.Second, func(_ context.Context, now time.Time) error { g.Tidy(now); return nil })
	every("keep signals", time.Second, func(ctx context.Context, _ time.Time) error {
		if keeper.Store() == nil {
			return nil // that is said by the job that opens it
		}
		err := rec.Flush(ctx)
		wrote.Store(&err)
		return err
	})
	every("open signals", time.Second, func(ctx context.Context, now time.Time) error {
		var last error
		p := wrote.Load()
		if p != nil {
			last = *p
		}
		err := keeper.Look(ctx, now, last)
		if err == nil {
			wrote.CompareAndSwap(p, nil) // it was of a file that has been set aside
		}
		if keeper.Store() == nil && now.Sub(begun) > withoutAfter {
			rec.Without()
		}
		return err
	})
	every("watch signals", time.Second, ask(s.Observe.WatchSignals))
	every("watch records", 5*time.Second, ask(s.Observe.WatchRecords))
	every("watches", watch.Every, ask(s.Observe.StepWatches))
	every("roll signals up", time.Minute, ask(s.Observe.RollSignals))
	set.Add(jobs.Job{Name: "health", Every: time.Second, Wake: hurry, Run: ask(s.Observe.CheckHealth)})
	every("runners", time.Second, s.Traffic.StepRunners)
	set.Add(jobs.Job{Name: "jobs", Every: 5 * time.Second, Wake: s.Proof.Wake(), Run: s.Proof.StepJobs})
	every("schedules", 2*time.Second, s.Proof.StepSchedules)
	every("standing evaluations", 2*time.Second, s.Proof.StepStanding)
	every("what gates ask of what is placed", 2*time.Second, s.Proof.StepPlaced)
	every("forgetting jobs", time.Hour, s.Proof.ForgetJobs)
	every("routes", time.Second, ask(s.Traffic.RerouteMissing))
	// What a second has shown is decided on as soon as it is counted.
	set.Add(jobs.Job{Name: "rollouts", Every: 2 * time.Second, Wake: counted, Run: ask(s.Rollouts.Step)})
	every("incidents", time.Second, ask(s.Rollouts.WriteIncidents))
	every("complete the record", time.Second, ask(s.Rollouts.CompleteRecord))
	every("promotions", time.Second, ask(s.Ladder.StepPromotions))
	every("deliveries", time.Second, ask(s.Notices.Deliver))
	every("index of the record", time.Second, ask(s.Record.IndexRecord))
	every("forgetting requests", time.Minute, ask(s.Keep.ForgetRequests))
	every("forgetting", time.Hour, ask(s.Keep.Forget))
	return set
}
