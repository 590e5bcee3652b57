package observe

import (
	"context"
	"errors"

	"innerladder/internal/core/guard"
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
