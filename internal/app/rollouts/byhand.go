package rollouts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/incident"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Rollouts lists rollouts, newest first.
func (s *Service) Rollouts(ctx context.Context, by act.Actor, endpoint, candidate string, open bool,
	p records.Page,
) (wire.Listed[rollout.Rollout], error) {
	if candidate != "" {
		v, err := s.registry.Version(ctx, by, candidate)
		if err != nil {
			return wire.Listed[rollout.Rollout]{}, err
		}
		candidate = v.Ref
	}
	return act.List(s.Base, by, func(r records.View) ([]rollout.Rollout, string, error) {
		return r.Rollouts(ctx, endpoint, candidate, open, p)
	})
}

// Rollout shows a rollout as it looks now.
func (s *Service) Rollout(ctx context.Context, by act.Actor, id string) (wire.ShownRollout, error) {
	if err := by.May(access.Read); err != nil {
		return wire.ShownRollout{}, err
	}
	r := s.Read(by)
	o, err := s.find(ctx, r, id)
	if err != nil {
		return wire.ShownRollout{}, err
	}
	out := wire.ShownRollout{Rollout: *o, Guards: []guard.Reading{}}
	if out.Decisions, err = r.Decisions(ctx, o.ID); err != nil {
		return out, err
	}
	if o.Phase.Over() {
		if out.Incident, err = r.IncidentOf(ctx, o.ID); err != nil {
			return out, err
		}
	}
	seen, err := s.look(ctx, o)
	if err != nil {
		return out, err
	}
	until := s.Now()
	out.Standing = rollout.Look(*o, seen, until)
	if out.Verdict = seen.Verdict; o.Phase.Over() {
		out.Verdict = o.Verdict
	}
	if out.Copies, err = s.copiesOf(ctx, by, o); err != nil {
		return out, err
	}
	if o.EndedAt != nil {
		until = o.EndedAt.Add(time.Second)
	}
	out.Curve, err = s.observe.Curve(ctx, o.Endpoint, o.Candidate, o.AskedAt, until)
	out.Guards = append(out.Guards, seen.Readings...)
	return out, err
}

// look gathers what there is to see of a rollout now; nothing when it is over.
func (s *Service) look(ctx context.Context, o *rollout.Rollout) (rollout.Seen, error) {
	if o.Phase.Over() {
		return rollout.Seen{Ready: true}, nil
	}
	r := s.DB.Read(records.Everything)
	e, err := s.traffic.FindEndpoint(ctx, r, o.Endpoint)
	if err != nil {
		return rollout.Seen{}, err
	}
	pairs, err := s.traffic.PairsOf(ctx, r, *e)
	if err != nil {
		return rollout.Seen{}, err
	}
	evidence, ready := s.observe.EvidenceFor(ctx, e, pairs, o.Terms(e.Terms))
	state, err := s.observe.WatchingNow(ctx, e, o.Terms(e.Terms), pairs)
	if err != nil {
		return rollout.Seen{}, err
	}
	seen, err := s.see(ctx, r, e, o, pairs, evidence, state)
	seen.Ready = ready
	return seen, err
}

// find finds a rollout by R-NUMBER, or says how to see which there are.
func (s *Service) find(ctx context.Context, r records.View, id string) (*rollout.Rollout, error) {
	number, err := rollout.ParseID("rollout", id)
	if err != nil {
		return nil, err
	}
	o, err := r.Rollout(ctx, number)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "rollout.unknown", "there is no R-%d", number).In("rollout").
			Do("see them with: innerladder rollouts")
	}
	return o, err
}

// Do does something with a rollout by hand. To end or to hold it is meant wherever it stands, so where it moved on at
// that moment it is done from there.
func (s *Service) Do(ctx context.Context, by act.Actor, id string, change wire.ChangeRollout,
) (shown wire.ShownRollout, err error) {
	for range 3 {
		shown, err = s.doOnce(ctx, by, id, change)
		if fault.Code(err) != movedOn || change.Do != rollout.ToEnd && change.Do != rollout.ToHold {
			break
		}
	}
	return shown, err
}

// movedOn is the code of what was decided about a rollout that stands elsewhere by now.
const movedOn = "rollout.moved"

func (s *Service) doOnce(ctx context.Context, by act.Actor, id string, change wire.ChangeRollout,
) (wire.ShownRollout, error) {
	if err := by.May(access.Route); err != nil {
		return wire.ShownRollout{}, err
	}
	o, err := s.find(ctx, s.Read(by), id)
	if err != nil {
		return wire.ShownRollout{}, err
	}
	seen, err := s.look(ctx, o)
	if err != nil {
		return wire.ShownRollout{}, err
	}
	if err := by.Need(access.Route, o.Project); err != nil {
		return wire.ShownRollout{}, err
	}
	write := func(ctx context.Context) error { return s.act(ctx, by, o, seen, change) }
	if change.Do != rollout.ToEnd || o.Share == 0 {
		if err := write(ctx); err != nil {
			return wire.ShownRollout{}, err
		}
		return s.Rollout(ctx, by, id)
	}
	e, err := s.traffic.FindEndpoint(ctx, s.Read(by), o.Endpoint)
	if err != nil {
		return wire.ShownRollout{}, err
	}
	if _, err := s.byHandFirst(ctx, by, e, o.Lanes(0, 0), write); err != nil {
		return wire.ShownRollout{}, err
	}
	return s.Rollout(ctx, by, id)
}

// byHandFirst puts the lanes of a person's way back in force at the gateway and then writes it down. What cannot be
// written now is kept and written as soon as it can be; recorded is false then. What is refused leaves everything
// as it was.
func (s *Service) byHandFirst(ctx context.Context, by act.Actor, e *traffic.Endpoint, lanes []traffic.Lane,
	write func(context.Context) error,
) (recorded bool, err error) {
	diverted := s.traffic.Divert(ctx, e, lanes) == nil
	err = write(ctx)
	var f *fault.Fault
	switch {
	case err == nil:
		return true, nil
	case errors.As(err, &f) || !diverted:
		s.traffic.Undivert(ctx, e.Name)
		return false, err
	}
	s.Log.Error("a way back is in force and cannot be recorded yet; trying again", "endpoint", e.Name, "by", by.Name,
		"error", err)
	s.owe(e.Name, write)
	return false, nil
}

// act writes down what a person does with a rollout.
func (s *Service) act(ctx context.Context, by act.Actor, o *rollout.Rollout, seen rollout.Seen,
	change wire.ChangeRollout,
) error {
	_, err := act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (struct{}, error) {
		none := struct{}{}
		next, d, err := rollout.ByHand(*o, seen, change.Do, t.By.Name, change.Reason, t.Now)
		if err != nil {
			return none, err
		}
		changed := *o
		before := len(t.Entries)
		if err := s.apply(ctx, t, &changed, next, d); err != nil {
			return none, err
		}
		if len(t.Entries) == before {
			return none, fault.New(fault.Stale, movedOn, "%s moved on at this moment", o.ID).In("rollout").
				Do("look at it, and decide again")
		}
		if !change.StepDown || changed.Phase != rollout.Ended || o.Share == 0 {
			return none, nil
		}
		return none, s.stepDown(ctx, t, o.Endpoint, o.Candidate, o.Split, change.Reason)
	})
	return err
}

// stepDown takes a version down a rung that a person took back: it must be signed anew.
func (s *Service) stepDown(ctx context.Context, t *act.Tx, endpoint, version string, split int, why string) error {
	e, err := s.traffic.FindEndpoint(ctx, t.View, endpoint)
	if err != nil {
		return err
	}
	return s.ladder.StepDown(ctx, t, e, version, split, why)
}

// Back leaves the split in force for a reason and returns to an earlier one: to the given revision, or for 0 to
// where the way back leads by itself. It ends the rollout that moves the endpoint: then the way back leads to
// what that moves away from.
func (s *Service) Back(ctx context.Context, by act.Actor, endpoint string, to int, reason string,
	based int, stepDown bool,
) (*traffic.Split, error) {
	if err := by.May(access.Route); err != nil {
		return nil, err
	}
	if err := naming.CheckReason(reason, "say why with -why"); err != nil {
		return nil, err
	}
	e, next, err := s.traffic.WayTo(ctx, s.Read(by), endpoint, to, reason, based)
	if err != nil {
		return nil, err
	}
	if err := by.Need(access.Route, e.Project); err != nil {
		return nil, err
	}
	var made *traffic.Split
	recorded, err := s.byHandFirst(ctx, by, e, next.Lanes, func(ctx context.Context) (err error) {
		made, err = s.back(ctx, by, endpoint, to, reason, e.Split.Number, stepDown)
		return err
	})
	if recorded || err != nil {
		return made, err
	}
	next.Number, next.Author, next.MadeAt, next.Unrecorded = e.Split.Number+1, by.Name, s.Now(), true
	return next, nil
}

// back writes down a way back that a person takes.
func (s *Service) back(ctx context.Context, by act.Actor, endpoint string, to int, reason string,
	based int, stepDown bool,
) (*traffic.Split, error) {
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Split, error) {
		e, next, err := s.traffic.WayTo(ctx, t.View, endpoint, to, reason, based)
		if err != nil {
			return nil, err
		}
		made, err := s.traffic.PutInForce(ctx, t, e, next)
		if err != nil {
			return nil, err
		}
		if left := worstOf(e.Split, made); stepDown && left != "" {
			if err := s.ladder.StepDown(ctx, t, e, left, e.Split.Number, reason); err != nil {
				return nil, err
			}
		}
		o, err := t.RolloutOf(ctx, endpoint)
		if errors.Is(err, records.ErrNone) {
			return made, s.open(ctx, t, e, e.Split, made, incident.Incident{Why: reason})
		}
		if err != nil {
			return nil, err
		}
		if err := s.open(ctx, t, e, e.Split, made, incident.Incident{Rollout: o.ID, Why: reason}); err != nil {
			return nil, err
		}
		state, d := rollout.Left(*o, t.By.Name, reason, made.Number, t.Now)
		return made, s.apply(ctx, t, o, state, d)
	})
}

// owe keeps what must be written down as soon as it can be.
func (s *Service) owe(endpoint string, write func(context.Context) error) {
	s.owedMu.Lock()
	defer s.owedMu.Unlock()
	s.owed[endpoint] = write
}

// CompleteRecord writes down what was done before it could be recorded.
func (s *Service) CompleteRecord(ctx context.Context) error {
	s.owedMu.Lock()
	owed := maps.Clone(s.owed)
	s.owedMu.Unlock()
	var all []error
	for endpoint, write := range owed {
		err := write(ctx)
		var f *fault.Fault
		if err != nil && !errors.As(err, &f) {
			all = append(all, fmt.Errorf("the way back of %s: %w", endpoint, err))
			continue
		}
		if err != nil { // something else was decided meanwhile
			s.Log.Error("a way back cannot be recorded any more", "endpoint", endpoint, "error", err)
			s.traffic.Undivert(ctx, endpoint)
		}
		s.owedMu.Lock()
		delete(s.owed, endpoint)
		s.owedMu.Unlock()
	}
	return errors.Join(all...)
}
