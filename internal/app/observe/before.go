package observe

import (
	"context"
	"slices"
	"sync"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

// trialKey names a trial.
type trialKey struct {
	endpoint string
	guard.TrialKey
}

const (
	// lookBack is how far before a trial its main lane is looked at.
	lookBack = 24 * time.Hour
	// hourBefore is how much of what a version did before another took over counts.
	hourBefore = time.Hour
	// mostKnown bounds how many trials are remembered.
	mostKnown = 4096
)

// past is what was found out about the incumbents of trials, each once.
type past[K comparable, T any] struct {
	mu    sync.Mutex
	known map[K]T
}

// get is what is known of a trial, or what is found now; whole says whether that is all, and to be kept.
func (p *past[K, T]) get(key K, find func() (found T, whole bool)) T {
	p.mu.Lock()
	known, has := p.known[key]
	p.mu.Unlock()
	if has {
		return known
	}
	found, whole := find()
	if !whole {
		return found
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.known == nil || len(p.known) >= mostKnown {
		p.known = map[K]T{}
	}
	p.known[key] = found
	return found
}

// before looks up what the incumbent of a trial did as main before that began.
type before struct {
	*Service
	endpoint string
	guard.TrialPair
	// mains is which version was main with which split; nil while that is not known.
	mains map[int]string
}

func (b *before) key() trialKey { return trialKey{b.endpoint, b.Key()} }

// shows reports whether what a lane did shows what the incumbent usually does as main: what it did while it was
// on trial itself, or was main until it was taken away, does not.
func (b *before) shows(k recorder.Key) bool {
	return k.Endpoint == b.endpoint && k.Version == b.Incumbent && k.Dealt() && k.Split < b.Begun &&
		b.mains[k.Split] == b.Incumbent
}

// find reads which version was main with which split.
func (b *before) find(ctx context.Context) error {
	if b.mains != nil {
		return nil
	}
	history, _, err := b.DB.Read(records.Everything).Splits(ctx, b.endpoint, records.Page{Limit: traffic.LookBack})
	if err == nil {
		b.mains = traffic.Mains(history)
	}
	return err
}

// windows are those of the incumbent from a time on that show what it usually does.
func (b *before) windows(ctx context.Context, q signals.Query) ([]signals.Window, error) {
	if err := b.find(ctx); err != nil {
		return nil, err
	}
	q.Endpoint, q.Versions, q.To = b.endpoint, []string{b.Incumbent}, b.Since.Add(time.Minute)
	windows, err := b.recorder.Windows(ctx, q)
	return slices.DeleteFunc(windows, func(w signals.Window) bool { return !b.shows(w.Key) }), err
}

// all is what the incumbent did before another version took over from it: in the hour before with all that is
// known, and in parts of the day before. While the signals are away it is what the last minutes were, and not whole.
func (b *before) all(ctx context.Context) (out guard.Pair, whole bool) {
	var sum sketch.Summary
	windows, err := b.windows(ctx, signals.Query{
		From: b.Since.Add(-hourBefore).Truncate(time.Minute), Latency: true, Content: true,
	})
	for _, w := range windows {
		sum.Merge(w.Summary)
	}
	if err != nil {
		for _, r := range b.recorder.Recent(b.endpoint, b.Since.Add(-inMemory), b.Since) {
			if b.shows(r.Key) {
				sum.Traffic.Merge(r.Traffic)
			}
		}
	}
	out.Incumbent = guard.Lane{
		Counts: sum.Counts, Latency: sum.Latency.Clone(), Outputs: sum.Content.Outputs, Forms: sum.Content.Forms,
		Bodies: sum.Content.Bodies, Rows: sum.Content.Rows, Distinct: sum.Content.Distinct.Count(),
	}
	if err == nil {
		out.Day, out.Hours, err = b.parts(ctx)
	}
	return out, err == nil
}

// parts is the day before a version took over in parts, and its latency by the hour.
func (b *before) parts(ctx context.Context) (parts []sketch.Counts, hours []*sketch.Quantiles, err error) {
	q := signals.Query{From: b.Since.Add(-lookBack).Truncate(time.Hour), Longest: signals.Minute}
	minutes, err := b.windows(ctx, q)
	if err != nil {
		return nil, nil, err
	}
	var counts []sketch.Counts
	for _, w := range minutes {
		counts = append(counts, w.Summary.Counts)
	}
	q.Longest, q.Latency = signals.Hour, true
	windows, err := b.windows(ctx, q)
	if err != nil {
		return nil, nil, err
	}
	byHour := map[time.Time]*sketch.Quantiles{}
	for _, w := range windows {
		at := w.At.Truncate(time.Hour)
		if byHour[at] == nil {
			byHour[at] = &sketch.Quantiles{}
			hours = append(hours, byHour[at])
		}
		byHour[at].Merge(&w.Summary.Latency)
	}
	return guard.Parts(counts), hours, nil
}

// worst is the worst moment of the incumbent in the day before a trial began. While the signals are away none is
// known.
func (b *before) worst(ctx context.Context) (worst seqtest.Moment, whole bool) {
	if b.signals.Store() == nil {
		return worst, false
	}
	windows, err := b.windows(ctx, signals.Query{From: b.Since.Add(-lookBack)})
	if err != nil {
		b.Log.Warn("what main did before a trial is not known", "endpoint", b.endpoint, "error", err)
		return worst, false
	}
	minutes := map[time.Time]int{}
	var failed, requests []uint64
	for _, w := range windows {
		i, there := minutes[w.At]
		if !there {
			i = len(failed)
			minutes[w.At] = i
			failed, requests = append(failed, 0), append(requests, 0)
		}
		c := w.Summary.Counts
		failed[i] += c.Failed() - c.Repeated
		requests[i] += c.Requests - c.Repeated
	}
	var bursts seqtest.Bursts
	for _, c := range b.recorder.Seconds(b.shows) { // the last minutes are known better
		bursts.Observe(c.Failed()-c.Repeated, c.Requests-c.Repeated)
	}
	return bursts.Worst.Worse(seqtest.WorstMinute(failed, requests)), true
}
