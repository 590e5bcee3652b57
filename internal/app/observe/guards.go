package observe

import (
	"context"
	"errors"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"
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

// KeepReadings keeps what the guards said at the moment at which one fired: where they stand is kept when what
// follows is recorded.
func (s *Service) KeepReadings(ctx context.Context, endpoint string, state guard.State) {
	if kept := s.signals.Store(); kept != nil {
		if err := kept.PutReadings(ctx, endpoint, state); err != nil {
			s.Log.Warn("what the guards said is not kept", "endpoint", endpoint, "error", err)
		}
	}
}

// Evidence is what is known of every trial of an endpoint, with what main did before; ready is false while
// some of it is still to come.
func (s *Service) Evidence(ctx context.Context, endpoint string, trials []guard.TrialPair) (guard.Evidence, bool) {
	evidence, ready := s.recorder.Evidence(endpoint)
	for _, t := range trials {
		pair, known := evidence[t.Key()]
		if !known || !ready {
			continue
		}
		b := &before{Service: s, endpoint: endpoint, TrialPair: t}
		pair.Worst = s.worst.get(b.key(), func() (seqtest.Moment, bool) { return b.worst(ctx) })
		if t.After {
			was := s.was.get(b.key(), func() (guard.Pair, bool) { return b.all(ctx) })
			pair.Incumbent, pair.Day, pair.Hours = was.Incumbent, was.Day, was.Hours
		}
		evidence[t.Key()] = pair
	}
	return evidence, ready
}
