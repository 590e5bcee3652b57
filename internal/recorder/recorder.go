// Package recorder turns observations into summaries, summaries into windows, and windows
// into rows of the signals. Counts and latency are complete; bodies are a random sample
// under a budget, read by one goroutine behind a bounded queue.
//
// Three things go on beside each other and share no lock for long: the request path
// observes into cells that are sharded; Tick empties the cells once a second; the reader
// takes bodies apart. Flush writes what they have made, and may fail: then it is tried
// again, and nobody waits for it.
package recorder

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

// Key names whose traffic a lane records.
type Key = signals.Key

// Pinned is the lane of requests whose caller named the version; they are kept apart
// because nobody drew them.
const Pinned = signals.Pinned

const (
	// queueLength is how many pairs of bodies may wait to be read, mostQueued how many
	// bytes they may have.
	queueLength = 4096
	mostQueued  = 64 << 20
)

// Recorder records the traffic of all lanes.
type Recorder struct {
	log    *slog.Logger
	budget int
	shards int
	// born is when the recorder was made: what began later was never stored by another.
	born   time.Time
	queue  chan bodies
	queued atomic.Int64

	// store is where windows go; nil while there is none.
	store atomic.Pointer[signals.Store]
	// begun is closed when bodies may be read: bins that were stored are known by then.
	begun     chan struct{}
	beginOnce sync.Once
	// flushing lets one flush go on at a time.
	flushing sync.Mutex

	// mu guards what Tick makes. When both are needed, it is locked before reading.
	mu        sync.Mutex
	lanes     map[Key]*Lane
	endpoints map[string]*endpoint
	refusals  map[string]*Refusals
	// calls are minutes of what callers asked, by endpoint and name, that wait to be written.
	calls map[string]map[time.Time]map[string]request.Calls
	// gone holds the traffic of lanes that are no longer kept in memory.
	gone map[Total]*sketch.Traffic
	// unread counts bodies that were to be read and were not.
	unread uint64

	// reading guards what the reader makes: contents and bins.
	reading sync.Mutex
	scales  scales
}

// endpoint is what the lanes of an endpoint have in common.
type endpoint struct {
	sampler *sampler
	// kept are the lanes that the gateway may record on at any moment.
	kept   map[*Lane]bool
	trials []*trial
	// lately is what was read of answered requests since it was taken last, known the rows that came; the reader's lock
	// guards both.
	lately Lately
	known  remembered
}

// trial is the evidence of one trial.
type trial struct {
	guard.TrialPair
	endpoint             string
	incumbent, candidate *side
	// known is set when what was stored of it is in it.
	known bool
}

// side is what one version did in a trial.
type side struct {
	version string
	// counts and latency belong to the recorder's lock, content to the reader's.
	counts  sketch.Counts
	latency sketch.Quantiles
	content sketch.Content
	dirty   bool
}

// Total names whose traffic a running total is of, over all splits.
type Total struct{ Endpoint, Lane, Version string }

// New makes a recorder that reads about so many bodies a second of each endpoint.
func New(log *slog.Logger, budget int) *Recorder {
	r := &Recorder{
		log:       log,
		budget:    max(1, budget),
		shards:    2 * runtime.GOMAXPROCS(0),
		born:      time.Now(),
		queue:     make(chan bodies, queueLength),
		begun:     make(chan struct{}),
		lanes:     map[Key]*Lane{},
		endpoints: map[string]*endpoint{},
		refusals:  map[string]*Refusals{},
		calls:     map[string]map[time.Time]map[string]request.Calls{},
		gone:      map[Total]*sketch.Traffic{},
	}
	r.scales.reset()
	return r
}

// Lane returns the recorder of one lane, the same for the same key. What was stored of it
// is added when the signals are there.
func (r *Recorder) Lane(key Key) *Lane {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.lanes[key]
	if l == nil {
		e := r.endpoint(key.Endpoint)
		l = &Lane{Key: key, rec: r, sampler: e.sampler, of: e, cells: make([]cell, r.shards)}
		for i := range l.cells {
			l.cells[i].spare = &sketch.Traffic{}
		}
		r.lanes[key] = l
	}
	return l
}

// endpoint is what the lanes of an endpoint have in common. The recorder is locked.
func (r *Recorder) endpoint(name string) *endpoint {
	e := r.endpoints[name]
	if e == nil {
		e = &endpoint{sampler: newSampler(r.budget), kept: map[*Lane]bool{}}
		r.endpoints[name] = e
	}
	return e
}

// Follow says on which lanes of an endpoint the gateway records from now on, and which
// trials it has. Those lanes stay in memory however quiet they are. A trial that goes on
// keeps its evidence.
func (r *Recorder) Follow(name string, lanes []*Lane, trials []guard.TrialPair) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading.Lock()
	defer r.reading.Unlock()
	e := r.endpoint(name)
	e.kept = map[*Lane]bool{}
	var now []*trial
	for _, pair := range trials {
		i := slices.IndexFunc(e.trials, func(t *trial) bool { return t.Key() == pair.Key() })
		if i >= 0 {
			now = append(now, e.trials[i])
			continue
		}
		now = append(now, &trial{
			TrialPair: pair, endpoint: name,
			incumbent: &side{version: pair.Incumbent}, candidate: &side{version: pair.Candidate},
			known: pair.Since.After(r.born), // nothing can be stored of it
		})
	}
	e.trials = now
	for _, l := range lanes {
		e.kept[l] = true
	}
	for _, l := range r.lanes {
		if l.Endpoint == name {
			l.sides = e.sidesOf(l)
		}
	}
}

// sidesOf lists the trials that what a lane does is evidence of.
func (e *endpoint) sidesOf(l *Lane) (out []*side) {
	if l.Lane == Pinned {
		return nil
	}
	for _, t := range e.trials {
		if l.Split < t.Begun {
			continue
		}
		if t.incumbent.version == l.Version && l.Dealt() {
			out = append(out, t.incumbent)
		}
		if t.candidate.version == l.Version && l.Dealt() != t.Copies {
			out = append(out, t.candidate)
		}
	}
	return out
}

// Tick counts what was observed since it was called last, as the second that has just
// ended at now. It is called once a second.
func (r *Recorder) Tick(now time.Time) {
	at := now.UTC().Add(-time.Second / 2).Truncate(time.Second)
	r.mu.Lock()
	defer r.mu.Unlock()
	answered := map[string]uint64{}
	for key, l := range r.lanes {
		t := l.drain(at)
		if t == nil && l.running != nil && l.running.at.Equal(at.Truncate(time.Minute)) && l.skipped.Load() == 0 &&
			!l.pairs.any() {
			l.forgetSeconds(at)
			continue
		}
		r.reading.Lock()
		l.turn(at)
		if t != nil {
			l.count(at, t)
			n := t.Counts.Requests - t.Counts.Failed() - t.Counts.CallerErrors
			answered[key.Endpoint] += n
			l.running.summary.Content.Ask(t.Counts.Requests, l.sampler.probability())
			for _, s := range l.sides {
				s.counts = s.counts.Plus(t.Counts)
				s.latency.Merge(&t.Latency)
				s.dirty = true
			}
		}
		l.takeContent()
		r.reading.Unlock()
		l.forgetSeconds(at)
	}
	for name, e := range r.endpoints {
		e.sampler.next(answered[name])
	}
	for _, f := range r.refusals {
		f.tick(at)
	}
	r.forget(at)
}

// forget drops a lane from memory once no route leads to it and its last observation is older
// than the seconds that are kept. The recorder is locked.
func (r *Recorder) forget(at time.Time) {
	for key, l := range r.lanes {
		if l.last.IsZero() {
			l.last = at // it is new, and whoever asked for it is about to use it
		}
		e := r.endpoints[key.Endpoint]
		if e.kept[l] || at.Sub(l.last) < keptSeconds*time.Second || len(l.closed) > 0 ||
			(l.running != nil && l.running.dirty) {
			continue
		}
		add(r.gone, key, &l.started)
		delete(r.lanes, key)
	}
}

// RunReader reads bodies until ctx is done, then what is still queued.
func (r *Recorder) RunReader(ctx context.Context) {
	select {
	case <-r.begun:
	case <-ctx.Done():
	}
	for {
		select {
		case b := <-r.queue:
			r.readSafely(b)
			continue
		case <-ctx.Done():
		}
		select {
		case b := <-r.queue:
			r.readSafely(b)
		default:
			return
		}
	}
}

// readSafely reads bodies; whatever they hold, it only concerns them.
func (r *Recorder) readSafely(b bodies) {
	defer r.queued.Add(-int64(len(b.request) + len(b.answer)))
	defer func() {
		if p := recover(); p != nil {
			r.log.Error(
				"bodies could not be read",
				"endpoint",
				b.lane.Endpoint,
				"version",
				b.lane.Version,
				"panic",
				p,
			)
			b.lane.Skip()
		}
	}()
	r.read(b)
}

// Evidence is what is known of every trial of an endpoint; ready is false while what was
// stored of one is still to come.
func (r *Recorder) Evidence(name string) (out guard.Evidence, ready bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading.Lock()
	defer r.reading.Unlock()
	out, ready = guard.Evidence{}, true
	for _, t := range r.endpoint(name).trials {
		pair := guard.Pair{Incumbent: t.incumbent.evidence(), Candidate: t.candidate.evidence()}
		if t.Copies {
			pair.Paired = &sketch.Paired{}
			pair.Paired.Merge(&t.candidate.content.Paired)
		}
		out[t.Key()] = pair
		ready = ready && t.known
	}
	return out, ready
}

func (s *side) evidence() guard.Lane {
	outputs := map[string]*sketch.Column{}
	for name, c := range s.content.Outputs {
		outputs[name] = c.Clone()
	}
	var forms sketch.Forms
	forms.Merge(&s.content.Forms)
	return guard.Lane{
		Counts: s.counts, Latency: s.latency.Clone(), Forms: forms, Outputs: outputs, Bodies: s.content.Bodies,
		Rows: s.content.Rows, Distinct: s.content.Distinct.Count(),
	}
}

// LastCalled is when something was counted last at an endpoint, to the second; the zero time for never in this process.
func (r *Recorder) LastCalled(endpoint string) (last time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, l := range r.lanes {
		if l.Endpoint == endpoint && l.started.Counts.Requests > 0 && l.last.After(last) && l.Lane != signals.Shadow {
			last = l.last
		}
	}
	return last
}

// Counts are those of the lanes of a split since it came into force, by version.
func (r *Recorder) Counts(endpoint string, split int) map[string]sketch.Counts {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string]sketch.Counts{}
	for _, l := range r.lanes {
		if l.Endpoint == endpoint && l.Split == split && l.Lane != Pinned {
			out[l.Version] = l.total
		}
	}
	return out
}

// Recent is what one lane did lately.
type Recent struct {
	Key
	Traffic *sketch.Traffic
}

// Recent merges the seconds of an endpoint's lanes in [from, to), for all splits in
// that time, in a stable order.
func (r *Recorder) Recent(endpoint string, from, to time.Time) []Recent {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []Recent
	for _, l := range r.lanes {
		if l.Endpoint == endpoint {
			if t := l.recent(from.Unix(), to.Unix()); t.Counts != (sketch.Counts{}) {
				out = append(out, Recent{l.Key, t})
			}
		}
	}
	slices.SortFunc(out, func(a, b Recent) int {
		return cmp.Or(cmp.Compare(a.Split, b.Split), cmp.Compare(a.Lane, b.Lane), cmp.Compare(a.Version, b.Version))
	})
	return out
}

// Seconds are the counts by the second of the lanes that are wanted, in the order of time, as far back as seconds
// are kept.
func (r *Recorder) Seconds(wanted func(Key) bool) []sketch.Counts {
	r.mu.Lock()
	defer r.mu.Unlock()
	at := map[int64]sketch.Counts{}
	for _, l := range r.lanes {
		if wanted(l.Key) {
			for i := range l.past {
				s := &l.past[i]
				at[s.at] = at[s.at].Plus(s.traffic.Counts)
			}
		}
	}
	var out []sketch.Counts
	for _, s := range slices.Sorted(maps.Keys(at)) {
		out = append(out, at[s])
	}
	return out
}

// Minutes are the counts of an endpoint in the minutes before a moment, the oldest first, of all whom callers are dealt
// to: as many as are asked for, as far back as seconds are kept.
func (r *Recorder) Minutes(endpoint string, to time.Time, n int) []sketch.Counts {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := make([]sketch.Counts, n)
	for _, l := range r.lanes {
		if l.Endpoint != endpoint || !l.Dealt() {
			continue
		}
		for i := range l.past {
			s := &l.past[i]
			if ago := to.Unix() - 1 - s.at; ago >= 0 && ago < int64(60*n) {
				at := &out[n-1-int(ago/60)]
				*at = at.Plus(s.traffic.Counts)
			}
		}
	}
	return out
}

// Totals are the traffic of all lanes since the service started, up to the last whole
// second, and how many bodies that were to be read were not.
func (r *Recorder) Totals() (traffic map[Total]*sketch.Traffic, unread uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	traffic = map[Total]*sketch.Traffic{}
	for t, g := range r.gone {
		traffic[t] = &sketch.Traffic{}
		traffic[t].Merge(g)
	}
	for key, l := range r.lanes {
		add(traffic, key, &l.started)
	}
	return traffic, r.unread
}

// add merges what a lane did into the totals.
func add(totals map[Total]*sketch.Traffic, key Key, t *sketch.Traffic) {
	id := Total{key.Endpoint, key.Lane, key.Version}
	if totals[id] == nil {
		totals[id] = &sketch.Traffic{}
	}
	totals[id].Merge(t)
}

// Away refuses what needs what was measured while that cannot be read.
func Away() error {
	return fault.New(fault.Unavailable, "signals.away",
		"what was measured cannot be read now; requests are answered all the same").
		Do("see /readyz for the reason, and try again")
}

// Windows reads windows, of the running minute what has been counted so far.
func (r *Recorder) Windows(ctx context.Context, q signals.Query) ([]signals.Window, error) {
	store := r.store.Load()
	if store == nil {
		return nil, Away()
	}
	if err := r.Flush(ctx); err != nil && !errors.Is(err, errAway) {
		r.log.Warn("the last seconds are missing from what is read", "error", err)
	}
	windows, err := store.Windows(ctx, q)
	if err != nil {
		return nil, fmt.Errorf("reading windows: %w", err)
	}
	return windows, nil
}
