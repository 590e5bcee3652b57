// Package recorder turns observations into summaries, summaries into windows, and
// windows into rows of the store. Counts and latency are complete; bodies are a random
// sample under a budget, read by one goroutine behind a bounded queue.
package recorder

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/rollout"
	"innerladder/internal/core/sketch"
	"innerladder/internal/store"
)

// queueLength is how many pairs of bodies may wait to be read.
const queueLength = 4096

// Recorder records the traffic of all lanes.
type Recorder struct {
	signals *store.Signals
	log     *slog.Logger
	budget  int
	queue   chan bodies
	unread  atomic.Uint64

	// flushing keeps an older state of a window from being written over a newer one.
	flushing sync.Mutex

	mu    sync.Mutex
	lanes map[store.LaneKey]*Lane
	// kept are the lanes that the gateway may record on at any moment.
	kept map[*Lane]bool
	// gone holds the traffic of lanes that are no longer kept in memory.
	gone map[Total]*sketch.Traffic

	scales struct {
		sync.Mutex
		bins    map[store.Column]sketch.Bins
		pending map[store.Column]*pending
		// columns counts the columns of each endpoint.
		columns map[string]int
		// fresh are bins that wait to be written.
		fresh []store.FixedBins
	}
}

// Total names whose traffic a running total is of, over all splits.
type Total struct{ Endpoint, Lane, Version string }

// New makes a recorder that reads the bodies of about budget requests a second of each
// lane.
func New(ctx context.Context, signals *store.Signals, log *slog.Logger, budget int) (*Recorder, error) {
	r := &Recorder{signals: signals, log: log, budget: max(1, budget), queue: make(chan bodies, queueLength),
		lanes: map[store.LaneKey]*Lane{}, gone: map[Total]*sketch.Traffic{}}
	r.scales.bins = map[store.Column]sketch.Bins{}
	r.scales.pending = map[store.Column]*pending{}
	r.scales.columns = map[string]int{}
	all, err := signals.AllBins(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the bins: %w", err)
	}
	for _, b := range all {
		r.scales.bins[b.Column] = b.Bins
	}
	return r, nil
}

// Run reads bodies and writes windows every second until ctx is done, then writes what
// is left.
func (r *Recorder) Run(ctx context.Context) {
	reader := make(chan struct{})
	go func() {
		defer close(reader)
		r.readBodies(ctx)
	}()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case now := <-tick.C:
			r.flush(ctx, now)
			r.forget(now)
		case <-ctx.Done():
			<-reader
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
			defer cancel()
			r.flush(last, time.Now())
			return
		}
	}
}

// readBodies reads what is offered until ctx is done, then what is still queued.
func (r *Recorder) readBodies(ctx context.Context) {
	for {
		select {
		case b := <-r.queue:
			r.read(b)
			continue
		case <-ctx.Done():
		}
		select {
		case b := <-r.queue:
			r.read(b)
		default:
			return
		}
	}
}

// flush writes all windows that changed, and bins that were chosen.
func (r *Recorder) flush(ctx context.Context, now time.Time) {
	r.flushing.Lock()
	defer r.flushing.Unlock()
	r.scales.Lock()
	fresh := r.scales.fresh
	r.scales.fresh = nil
	r.scales.Unlock()
	for i, b := range fresh {
		if err := r.signals.PutBins(ctx, b.Column, b.Source, b.Bins); err != nil {
			r.log.Error("bins were not written; trying again", "endpoint", b.Endpoint, "column", b.Name, "error", err)
			r.scales.Lock()
			r.scales.fresh = append(r.scales.fresh, fresh[i:]...)
			r.scales.Unlock()
			break
		}
	}
	var windows []store.Window
	for _, l := range r.all() {
		windows = append(windows, l.windows(now)...)
	}
	if len(windows) == 0 {
		return
	}
	if err := r.signals.PutWindows(ctx, windows); err != nil {
		r.log.Error("windows were not written; trying again", "windows", len(windows), "error", err)
		r.mu.Lock()
		defer r.mu.Unlock()
		for _, w := range windows {
			if l := r.lanes[w.LaneKey]; l != nil {
				l.takeBack(w)
			}
		}
	}
}

// Keep says which lanes the gateway records on from now on; they stay in memory however
// quiet they are.
func (r *Recorder) Keep(lanes map[*Lane]bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.kept = lanes
}

// forget drops lanes from memory that nobody records on any more, and that nothing has
// been recorded on for as long as their seconds are kept.
func (r *Recorder) forget(now time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for key, l := range r.lanes {
		if !r.kept[l] && l.idleSince(now.Add(-keptSeconds*time.Second)) {
			add(r.gone, key, &l.started)
			delete(r.lanes, key)
		}
	}
}

func (r *Recorder) all() []*Lane {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]*Lane, 0, len(r.lanes))
	for _, l := range r.lanes {
		out = append(out, l)
	}
	return out
}

// Lane returns the recorder of one lane, taking up what was written of it before: its
// counts since the split came into force and, when content is asked for, the summaries
// of its bodies too.
func (r *Recorder) Lane(ctx context.Context, key store.LaneKey, since time.Time, content bool) (*Lane, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if l := r.lanes[key]; l != nil {
		return l, nil
	}
	now := time.Now()
	l := &Lane{rec: r, Key: key, minute: &sketch.Summary{}, minuteAt: now.Truncate(time.Minute)}
	if err := l.takeUp(ctx, r.signals, since, now, content); err != nil {
		return nil, fmt.Errorf("taking up the traffic of %s: %w", key.Endpoint, err)
	}
	r.lanes[key] = l
	return l, nil
}

// FixBins chooses the bins of a column before any traffic, from a reference profile;
// bins that are chosen already stay.
func (r *Recorder) FixBins(c store.Column, b sketch.Bins, source string) {
	r.scales.Lock()
	defer r.scales.Unlock()
	if _, ok := r.scales.bins[c]; !ok {
		r.choose(nil, c, b, source)
	}
}

// Evidence is what the lanes of a split did since it came into force.
func (r *Recorder) Evidence(endpoint string, split int) rollout.Evidence {
	out := rollout.Evidence{}
	for _, l := range r.all() {
		if l.Key.Endpoint != endpoint || l.Key.Split != split || l.Key.Lane == Pinned {
			continue
		}
		l.mu.Lock()
		outputs := map[string]*sketch.Column{}
		for name, c := range l.total.Content.Outputs {
			outputs[name] = c.Clone()
		}
		out[l.Key.Version] = rollout.Lane{Requests: l.total.Counts.Requests, Failed: l.total.Counts.Failed(),
			Outputs: outputs, Distinct: l.total.Content.Distinct.Count()}
		l.mu.Unlock()
	}
	return out
}

// Counts are those of the lanes of a split since it came into force, by version.
func (r *Recorder) Counts(endpoint string, split int) map[string]sketch.Counts {
	out := map[string]sketch.Counts{}
	for _, l := range r.all() {
		if l.Key.Endpoint == endpoint && l.Key.Split == split && l.Key.Lane != Pinned {
			l.mu.Lock()
			out[l.Key.Version] = l.total.Counts
			l.mu.Unlock()
		}
	}
	return out
}

// Pinned is the lane of requests whose caller named the version; they are kept apart
// because nobody drew them.
const Pinned = "pinned"

// Recent is what one lane did lately.
type Recent struct {
	store.LaneKey
	Traffic *sketch.Traffic
}

// Recent merges the seconds of an endpoint's lanes in [from, to), for all splits in
// that time, in a stable order.
func (r *Recorder) Recent(endpoint string, from, to time.Time) []Recent {
	var out []Recent
	for _, l := range r.all() {
		if l.Key.Endpoint == endpoint {
			if t := l.recent(from.Unix(), to.Unix()); t.Counts != (sketch.Counts{}) {
				out = append(out, Recent{l.Key, t})
			}
		}
	}
	slices.SortFunc(out, func(a, b Recent) int { return compareKeys(a.LaneKey, b.LaneKey) })
	return out
}

// Totals are the traffic of all lanes since the service started, up to the last whole
// second, and how many sampled bodies were not read.
func (r *Recorder) Totals() (traffic map[Total]*sketch.Traffic, unread uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	traffic = map[Total]*sketch.Traffic{}
	for t, g := range r.gone {
		traffic[t] = &sketch.Traffic{}
		traffic[t].Merge(g)
	}
	for key, l := range r.lanes {
		l.mu.Lock()
		add(traffic, key, &l.started)
		l.mu.Unlock()
	}
	return traffic, r.unread.Load()
}

// add merges what a lane did into the totals.
func add(totals map[Total]*sketch.Traffic, key store.LaneKey, t *sketch.Traffic) {
	id := Total{key.Endpoint, key.Lane, key.Version}
	if totals[id] == nil {
		totals[id] = &sketch.Traffic{}
	}
	totals[id].Merge(t)
}

// Windows are the minutes of an endpoint in [from, to], the running one as it is now.
func (r *Recorder) Windows(ctx context.Context, endpoint string, from, to time.Time) ([]store.Window, error) {
	r.flush(ctx, time.Now())
	return r.signals.Windows(ctx, endpoint, from, to)
}

func compareKeys(a, b store.LaneKey) int {
	return cmp.Or(cmp.Compare(a.Split, b.Split), cmp.Compare(a.Lane, b.Lane), cmp.Compare(a.Version, b.Version))
}
