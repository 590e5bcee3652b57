package rollouts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// blamed is how long after it came into force a split can be what a watch has seen.
const blamed = 24 * time.Hour

// AnswerWatch does what a watch asks for beside an alert, and says what was done. It holds or ends the rollout that
// moves the endpoint; where there is none, it goes back from a split that can be to blame. What cannot be done is said,
// and not tried again.
func (s *Service) AnswerWatch(ctx context.Context, endpoint string, st watch.Stand) (did string, err error) {
	r := s.DB.Read(records.Everything)
	e, err := s.traffic.FindEndpoint(ctx, r, endpoint)
	if err != nil {
		return "", err
	}
	o, err := r.RolloutOf(ctx, endpoint)
	switch none := errors.Is(err, records.ErrNone); {
	case err != nil && !none:
		return "", err
	case none && st.Then == guard.Hold:
		return "Nothing was held: no rollout moves it.", nil
	case none:
		return s.backFor(ctx, e, st)
	}
	if st.Then == guard.RollBack && st.Began.Before(o.AskedAt.Add(-watch.Every)) {
		return fmt.Sprintf("%s goes on: it began before that.", o.ID), nil
	}
	change := wire.ChangeRollout{Do: rollout.ToHold, Reason: reasonOf(st)}
	did = o.ID + " is held."
	if st.Then == guard.RollBack {
		change.Do, did = rollout.ToEnd, o.ID+" was ended, and its endpoint answers as before."
	}
	_, err = s.Do(ctx, act.BySelf(), o.ID, change)
	return unlessRefused(did, err)
}

// backFor leaves the split in force because of a watch, if that can be to blame.
func (s *Service) backFor(ctx context.Context, e *traffic.Endpoint, st watch.Stand) (did string, err error) {
	switch split := e.Split; {
	case split == nil:
		return "Nothing was changed: nothing answers.", nil
	case split.Elsewhere:
		return fmt.Sprintf("Nothing was changed: %s answers where the gateway does not reach.", e.Name), nil
	case split.ReturnsTo > 0:
		return fmt.Sprintf("Nothing was changed: #%d is a way back already.", split.Number), nil
	case st.Began.Before(split.MadeAt.Add(-watch.Every)):
		return fmt.Sprintf("Nothing was changed: it began before #%d came into force.", split.Number), nil
	case s.Now().Sub(split.MadeAt) > blamed:
		return fmt.Sprintf("Nothing was changed: #%d is in force for longer than a day.", split.Number), nil
	}
	made, err := s.Back(ctx, act.BySelf(), e.Name, 0, reasonOf(st), e.Split.Number, false)
	if err != nil {
		return unlessRefused("", err)
	}
	return fmt.Sprintf("#%d was left for %s.", e.Split.Number, made), nil
}

// reasonOf is why something is done because of a watch.
func reasonOf(st watch.Stand) string {
	return fmt.Sprintf("The watch %s fired: %s", st.Signal, st.Sentence)
}

// unlessRefused says why something was refused, in place of what was done; other errors stay errors.
func unlessRefused(did string, err error) (string, error) {
	var f *fault.Fault
	if errors.As(err, &f) {
		return "Nothing was changed: " + strings.TrimSuffix(f.Detail, ".") + ".", nil
	}
	return did, err
}
