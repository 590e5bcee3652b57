// Package jobs does what must be done again and again without anybody asking: named jobs,
// each on a goroutine of its own, each with a pace. A job that fails or panics is tried
// again at its next turn and stops no other. Of many items that a job goes through, each
// has its own error.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"go.opentelemetry.io/otel/trace"

	"innerladder/internal/tracing"
)

// Job is something to be done again and again.
type Job struct {
	Name string
	// Every is the time from one beginning to the next.
	Every time.Duration
	// OnTheSecond makes it begin when a second of the clock does.
	OnTheSecond bool
	// Wake makes it begin at once; it may be nil.
	Wake <-chan struct{}
	// Run does it once, at a time.
	Run func(ctx context.Context, now time.Time) error
}

// Report is how a job has fared.
type Report struct {
	Name string
	// Runs and Failures count; Last is how long it took the last time, Spent in all.
	Runs, Failures uint64
	Last, Spent    time.Duration
	// Error is how it ended the last time; empty when well.
	Error string
}

// Set runs jobs. Its zero value has none.
type Set struct {
	// Traces exports a span for some of the turns; nil for none.
	Traces *tracing.Tracer

	log     *slog.Logger
	jobs    []Job
	mu      sync.Mutex
	reports map[string]*Report
}

// New makes a set that says in a log what goes wrong.
func New(log *slog.Logger) *Set { return &Set{log: log, reports: map[string]*Report{}} }

// Add adds a job; it must be called before Run.
func (s *Set) Add(j Job) {
	s.jobs = append(s.jobs, j)
	s.reports[j.Name] = &Report{Name: j.Name}
}

// Run runs all jobs until ctx is done, and returns when each has ended.
func (s *Set) Run(ctx context.Context) {
	var wait sync.WaitGroup
	for _, j := range s.jobs {
		wait.Go(func() { s.loop(ctx, j) })
	}
	wait.Wait()
}

func (s *Set) loop(ctx context.Context, j Job) {
	timer := time.NewTimer(j.first(time.Now()))
	defer timer.Stop()
	for {
		select {
		case <-timer.C:
		case <-j.Wake:
		case <-ctx.Done():
			return
		}
		begin := time.Now()
		s.once(ctx, j, begin)
		timer.Reset(j.pause(begin, time.Now()))
	}
}

// first is how long a job waits before its first turn.
func (j Job) first(now time.Time) time.Duration {
	if j.OnTheSecond {
		return now.Truncate(time.Second).Add(time.Second).Sub(now)
	}
	return 0
}

// pause is how long a job waits that began and ended at some time. What took longer than
// its pace begins again after a tenth of it, so that others get their turn.
func (j Job) pause(begin, end time.Time) time.Duration {
	if j.OnTheSecond {
		return j.first(end)
	}
	return max(j.Every-end.Sub(begin), j.Every/10)
}

func (s *Set) once(ctx context.Context, j Job, begin time.Time) {
	err := Safely(func() error { return j.Run(ctx, begin) })
	if ctx.Err() != nil {
		err = nil // we are stopping; that says nothing about the job
	}
	took := time.Since(begin)
	s.traced(j, begin, took, err)
	s.mu.Lock()
	r := s.reports[j.Name]
	before := r.Error
	r.Runs++
	r.Last, r.Spent, r.Error = took, r.Spent+took, ""
	if err != nil {
		r.Failures++
		r.Error = err.Error()
	}
	after := r.Error
	s.mu.Unlock()
	if after != before && err != nil { // the same error is said once
		s.log.Error("a job was not finished; trying again", "job", j.Name, "error", err)
	} else if before != "" && after == "" {
		s.log.Info("a job goes well again", "job", j.Name)
	}
}

func (s *Set) traced(j Job, begin time.Time, took time.Duration, err error) {
	at := s.Traces.Begin(nil)
	if !s.Traces.Wants(&at) {
		return
	}
	span := tracing.Span{Name: "job " + j.Name, Kind: trace.SpanKindInternal, Begin: begin, End: begin.Add(took)}
	if err != nil {
		span.Failed = err.Error()
	}
	s.Traces.Put(at, span)
}

// Reports lists how all jobs have fared, by name.
func (s *Set) Reports() []Report {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []Report
	for _, r := range s.reports {
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b Report) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Panic is an error that was a panic.
type Panic struct {
	Value any
	Stack []byte
}

// Error says what broke, and where.
func (p *Panic) Error() string { return fmt.Sprintf("panic: %v\n%s", p.Value, p.Stack) }

// Safely runs fn and turns a panic into an error, a *Panic.
func Safely(fn func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Panic{p, debug.Stack()}
		}
	}()
	return fn()
}

// Each does something with every item. What goes wrong with one stops no other; all errors
// come back together, each with the name of its item.
func Each[T any](items []T, name func(T) string, do func(T) error) error {
	var all []error
	for _, item := range items {
		if err := Safely(func() error { return do(item) }); err != nil {
			all = append(all, fmt.Errorf("%s: %w", name(item), err))
		}
	}
	return errors.Join(all...)
}

// Busy does things beside each other, of each name one at a time. Its zero value does
// nothing yet.
type Busy struct {
	mu    sync.Mutex
	names map[string]bool
	all   sync.WaitGroup
}

// Start does something unless that of the same name still goes on.
func (b *Busy) Start(name string, do func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.names[name] {
		return
	}
	if b.names == nil {
		b.names = map[string]bool{}
	}
	b.names[name] = true
	b.all.Go(func() {
		defer func() {
			b.mu.Lock()
			delete(b.names, name)
			b.mu.Unlock()
		}()
		do()
	})
}

// Wait waits until nothing goes on.
func (b *Busy) Wait() { b.all.Wait() }
