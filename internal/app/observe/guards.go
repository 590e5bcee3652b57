package observe

import (
	"context"
	"errors"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/recorder"
	"innerladder/internal/signals"
)

// Watching is where the watching of an endpoint's trials stands. It is in memory, so that
// guards go on when the signals are away, and read from there at first.
func (s *Service) Watching(ctx context.Context, endpoint string) (guard.State, error) {
	s.watchMu.Lock()
	state, known := s.watched[endpoint]
	s.watchMu.Unlock()
	if known {
		return state, nil
	}
	kept := s.signals.Store()
	if kept == nil {
		return guard.State{}, nil
	}
	state, err := kept.Watching(ctx, endpoint)
	if errors.Is(err, signals.ErrNone) {
		return guard.State{}, nil
	}
	return state, err
}

// KeepWatching keeps where the watching of an endpoint's trials stands.
func (s *Service) KeepWatching(ctx context.Context, endpoint string, state guard.State) error {
	s.watchMu.Lock()
	s.watched[endpoint] = state
	s.watchMu.Unlock()
	if kept := s.signals.Store(); kept != nil {
		return kept.PutWatching(ctx, endpoint, state)
	}
	return nil
}

// trialKey names a trial.
type trialKey struct {
	endpoint, incumbent, candidate string
	begun                          int
}

const (
	// lookBack is how far before a trial its main lane is looked at.
	lookBack = 24 * time.Hour
	// mostWorst bounds how many trials are remembered.
	mostWorst = 4096
)

// Evidence is what is known of every trial of an endpoint, with what main did before; ready is false while
// some of it is still to come.
func (s *Service) Evidence(ctx context.Context, endpoint string, trials []guard.TrialPair) (guard.Evidence, bool) {
	evidence, ready := s.recorder.Evidence(endpoint)
	for _, t := range trials {
		if pair, known := evidence[t.Candidate]; known && ready {
			pair.Worst = s.worstBefore(ctx, endpoint, t)
			evidence[t.Candidate] = pair
		}
	}
	return evidence, ready
}

// worstBefore is the worst moment of main in the day before a trial began. It is looked up once; while the
// signals are away none is known.
func (s *Service) worstBefore(ctx context.Context, endpoint string, t guard.TrialPair) seqtest.Moment {
	key := trialKey{endpoint, t.Incumbent, t.Candidate, t.Begun}
	s.watchMu.Lock()
	worst, known := s.worst[key]
	s.watchMu.Unlock()
	kept := s.signals.Store()
	if known || kept == nil {
		return worst
	}
	windows, err := kept.Windows(ctx, signals.Query{
		Endpoint: endpoint, Versions: []string{t.Incumbent}, From: t.Since.Add(-lookBack), To: t.Since,
	})
	if err != nil {
		s.Log.Warn("what main did before a trial is not known", "endpoint", endpoint, "error", err)
		return worst
	}
	minutes := map[time.Time]int{}
	var failed, requests []uint64
	for _, w := range windows {
		if w.Lane == recorder.Pinned {
			continue
		}
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
	for _, c := range s.recorder.Seconds(endpoint, t.Incumbent) { // the last minutes are known better
		bursts.Observe(c.Failed()-c.Repeated, c.Requests-c.Repeated)
	}
	worst = bursts.Worst.Worse(seqtest.WorstMinute(failed, requests))
	s.watchMu.Lock()
	defer s.watchMu.Unlock()
	if len(s.worst) >= mostWorst {
		clear(s.worst)
	}
	s.worst[key] = worst
	return worst
}
