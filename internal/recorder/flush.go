package recorder

import (
	"context"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

// errAway says that there is nowhere to write to.
var errAway = errors.New("the signals are not open")

// Attach gives the recorder a store to write to, nil to take it away. Bins that the store
// has fixed and the recorder has not are taken from it; all others it is told. Until the
// first store is there no bodies are read, so that bins are not chosen twice.
func (r *Recorder) Attach(ctx context.Context, store *signals.Store) error {
	if store == nil {
		r.store.Store(nil)
		return nil
	}
	fixed, err := store.AllBins(ctx)
	if err != nil {
		return fmt.Errorf("reading the bins: %w", err)
	}
	r.flushing.Lock()
	defer r.flushing.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading.Lock()
	defer r.reading.Unlock()
	r.drop(r.scales.attach(fixed))
	for _, e := range r.endpoints {
		for _, t := range e.trials {
			t.incumbent.dirty, t.candidate.dirty = true, true
		}
	}
	r.store.Store(store)
	r.beginOnce.Do(func() { close(r.begun) })
	return nil
}

// Without says that what was stored before will not be had, so that trials go on with what
// this process has seen.
func (r *Recorder) Without() {
	r.beginOnce.Do(func() { close(r.begun) })
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.endpoints {
		for _, t := range e.trials {
			t.known = true
		}
	}
	for _, l := range r.lanes {
		l.known = true
	}
}

// Flush writes everything that has changed. When it fails everything is kept, and tried
// again the next time.
func (r *Recorder) Flush(ctx context.Context) error {
	r.flushing.Lock()
	defer r.flushing.Unlock()
	store := r.store.Load()
	if store == nil {
		return errAway
	}
	if err := r.takeUp(ctx, store); err != nil {
		return fmt.Errorf("reading what was measured before: %w", err)
	}
	batch, written, err := r.batch(ctx, store)
	if err != nil {
		return fmt.Errorf("reading the running minutes: %w", err)
	}
	if len(batch.Bins)+len(batch.Windows)+len(batch.Evidence)+len(batch.Refused)+len(batch.Called) == 0 {
		return nil
	}
	if err := store.Write(ctx, batch); err != nil {
		r.keep(batch, written)
		return fmt.Errorf("writing what was measured: %w", err)
	}
	return nil
}

// takeUp adds what was stored before to the trials and lanes that do not know it yet.
func (r *Recorder) takeUp(ctx context.Context, store *signals.Store) error {
	r.mu.Lock()
	var trials []*trial
	var lanes []*Lane
	for _, e := range r.endpoints {
		for _, t := range e.trials {
			if !t.known {
				trials = append(trials, t)
			}
		}
	}
	for _, l := range r.lanes {
		if !l.known {
			lanes = append(lanes, l)
		}
	}
	r.mu.Unlock()
	for _, t := range trials {
		stored, err := store.Evidence(ctx, t.endpoint, t.TrialPair)
		if err != nil {
			return err
		}
		r.mu.Lock()
		r.reading.Lock()
		for _, e := range stored {
			for _, s := range []*side{t.incumbent, t.candidate} {
				if s.version == e.Version {
					s.counts = s.counts.Plus(e.Counts)
					s.latency.Merge(&e.Latency)
					s.content.Merge(&e.Content)
				}
			}
		}
		t.known = true
		r.reading.Unlock()
		r.mu.Unlock()
	}
	for _, l := range lanes {
		counts, err := store.Counted(ctx, l.Key, time.Now())
		if err != nil {
			return err
		}
		r.mu.Lock()
		l.total, l.known = l.total.Plus(counts), true
		r.mu.Unlock()
	}
	return nil
}

// handed is a window as it was handed to the store.
type handed struct {
	lane   *Lane
	window *window
}

// batch lists everything that has changed, and marks it as written.
func (r *Recorder) batch(ctx context.Context, store *signals.Store) (b signals.Batch, written []handed, err error) {
	if err := r.takeUpMinutes(ctx, store); err != nil {
		return b, nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading.Lock()
	defer r.reading.Unlock()
	b.Bins, b.Refused, b.Called = r.scales.fresh, r.takeRefusals(), r.takeCalls()
	r.scales.fresh = nil
	for _, l := range r.lanes {
		var still []*window
		for _, w := range append(l.closed, l.running) {
			switch {
			case w == nil || !w.dirty:
			case !w.takenUp:
				still = append(still, w) // it turned since; the next time
			default:
				w.dirty = false
				b.Windows = append(b.Windows, signals.Window{Key: l.Key, At: w.at, Summary: w.summary.Clone()})
				written = append(written, handed{l, w})
			}
		}
		l.closed = l.closed[:0:0]
		for _, w := range still {
			if w != l.running {
				l.closed = append(l.closed, w)
			}
		}
	}
	for name, e := range r.endpoints {
		for _, t := range e.trials {
			for _, s := range []*side{t.incumbent, t.candidate} {
				if s.dirty && t.known {
					s.dirty = false
					evidence := signals.Evidence{
						Endpoint: name,
						Trial:    t.TrialPair,
						Version:  s.version,
						Counts:   s.counts,
					}
					evidence.Latency.Merge(&s.latency)
					evidence.Content.Merge(&s.content)
					b.Evidence = append(b.Evidence, evidence)
				}
			}
		}
	}
	return b, written, nil
}

// takeUpMinutes adds to minutes that are about to be written for the first time what is
// stored of them already: from before a restart, or before the clock jumped back.
func (r *Recorder) takeUpMinutes(ctx context.Context, store *signals.Store) error {
	r.mu.Lock()
	var fresh []handed
	for _, l := range r.lanes {
		for _, w := range append(l.closed[:len(l.closed):len(l.closed)], l.running) {
			if w != nil && w.dirty && !w.takenUp {
				fresh = append(fresh, handed{l, w})
			}
		}
	}
	r.mu.Unlock()
	for _, h := range fresh {
		stored, err := store.Window(ctx, h.lane.Key, h.window.at)
		if err != nil && !errors.Is(err, signals.ErrNone) {
			return err
		}
		r.mu.Lock()
		r.reading.Lock()
		if stored != nil {
			h.window.summary.Merge(stored.Summary)
		}
		h.window.takenUp = true
		r.reading.Unlock()
		r.mu.Unlock()
	}
	return nil
}

// keep takes back what could not be written.
func (r *Recorder) keep(b signals.Batch, written []handed) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading.Lock()
	defer r.reading.Unlock()
	r.scales.fresh = append(b.Bins, r.scales.fresh...)
	r.keepRefusals(b.Refused)
	r.keepCalls(b.Called)
	for _, h := range written {
		h.window.dirty = true
		if h.window != h.lane.running {
			h.lane.closed = append(h.lane.closed, h.window)
		}
	}
	for _, e := range b.Evidence {
		for _, t := range r.endpoint(e.Endpoint).trials {
			if t.Key() == e.Trial.Key() {
				t.incumbent.dirty, t.candidate.dirty = true, true
			}
		}
	}
}

// merge adds the outputs of what was read in a lane to a trial: guards look at nothing
// else.
func (s *side) merge(o *sketch.Content) {
	s.content.Merge(&sketch.Content{
		Bodies: o.Bodies, Rows: o.Rows, Unread: o.Unread, Outputs: o.Outputs, Distinct: o.Distinct, Forms: o.Forms,
		Paired: o.Paired,
	})
	s.dirty = true
}
