package recorder

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

// fresh is how old what is reported may be that watches look at: older tells nothing of now.
const fresh = 3 * time.Minute

// Report takes a batch of an agent: it is kept first, for good, and then seen by whoever looks at what goes on now.
// Columns that were counted on other bins than ours cannot be added; they are left out and named. rows are the hashes
// of the rows of each window.
func (r *Recorder) Report(ctx context.Context, b signals.Reported, rows []elsewhere.Hashes, now time.Time,
) (taken bool, left []string, err error) {
	store := r.store.Load()
	if store == nil {
		return false, nil, Away()
	}
	// Bins are written first, since columns are numbered by them; and nobody reads what is stored between the two
	// halves of this, which would count it twice.
	if err := r.Flush(ctx); err != nil {
		return false, nil, fmt.Errorf("writing what was measured before: %w", err)
	}
	r.flushing.Lock()
	defer r.flushing.Unlock()
	left = r.leaveOut(b)
	if taken, err = store.Report(ctx, b); err != nil || !taken {
		return taken, left, err
	}
	for i, w := range b.Windows {
		if w.At.After(now.Add(-fresh - time.Minute)) {
			r.see(w, rows[i], now)
		}
	}
	return true, left, nil
}

// leaveOut takes columns out of a batch that are counted on bins other than ours, and names them.
func (r *Recorder) leaveOut(b signals.Reported) (left []string) {
	r.reading.Lock()
	defer r.reading.Unlock()
	gone := map[string]bool{}
	for _, w := range b.Windows {
		for side, columns := range map[string]map[string]*sketch.Column{
			signals.Input: w.Summary.Content.Inputs, signals.Output: w.Summary.Content.Outputs,
		} {
			maps.DeleteFunc(columns, func(name string, c *sketch.Column) bool {
				bins, known := r.scales.bins[signals.Column{Endpoint: b.Endpoint, Side: side, Name: name}]
				other := !known || !bins.Equal(c.Bins)
				if other {
					gone[side+" "+name] = true
				}
				return other
			})
		}
	}
	return slices.Sorted(maps.Keys(gone))
}

// see counts what was reported as of this second, for watches and for whoever looks on.
func (r *Recorder) see(w signals.Window, rows elsewhere.Hashes, now time.Time) {
	l := r.Lane(w.Key)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading.Lock()
	defer r.reading.Unlock()
	s := w.Summary.Clone()
	l.started.Merge(&s.Traffic)
	if l.known { // else it is read with all that is stored
		l.total = l.total.Plus(s.Counts)
	}
	s.Traffic.Callers = sketch.Distinct{}
	l.past = append(l.past, second{now.Unix(), s.Traffic})
	l.last = now.UTC().Truncate(time.Second)
	l.of.lately.Content.Merge(&s.Content)
	rows.Each(func(h uint64) {
		if l.of.known.isNew(h) {
			l.of.lately.Fresh++
		}
	})
}

// Propose chooses the bins of columns that have none yet, and says on which all columns of an endpoint are counted.
// What is chosen is written down before anybody counts on it.
func (r *Recorder) Propose(ctx context.Context, endpoint, source string, proposed map[signals.Column]sketch.Bins,
) (map[signals.Column]sketch.Bins, error) {
	if r.store.Load() == nil {
		return nil, Away()
	}
	has := len(r.Bins(endpoint))
	for c, bins := range proposed {
		if has >= mostColumns {
			break
		}
		if !r.FixBins(c, bins, source) {
			return nil, Away()
		}
		has++
	}
	if err := r.Flush(ctx); err != nil {
		return nil, fmt.Errorf("writing the bins of columns: %w", err)
	}
	return r.Bins(endpoint), nil
}
