package rollouts

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/incident"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
)

// Step looks at every endpoint where something is watched or moved. What goes wrong with one stops no
// other.
func (s *Service) Step(ctx context.Context) error {
	endpoints, err := s.traffic.Endpoints(ctx, act.BySelf())
	if err != nil {
		return err
	}
	name := func(e traffic.Endpoint) string { return e.Name }
	return jobs.Each(endpoints.Items, name, func(e traffic.Endpoint) error {
		if e.Split == nil {
			return nil
		}
		return s.stepEndpoint(ctx, &e)
	})
}

// stepEndpoint moves the guards of one endpoint on, and the rollout that moves it.
func (s *Service) stepEndpoint(ctx context.Context, e *traffic.Endpoint) error {
	r := s.DB.Read(records.Everything)
	pairs, err := s.traffic.PairsOf(ctx, r, *e)
	if err != nil {
		return err
	}
	last, err := s.observe.Watching(ctx, e.Name)
	if err != nil {
		return err
	}
	if len(pairs) == 0 && e.Rollout == "" {
		if len(last.Trials) > 0 && last.Split == e.Split.Number { // the time for which it was watched is over
			return errors.Join(s.traffic.Reroute(ctx, e.Name),
				s.observe.KeepWatching(ctx, e.Name, guard.State{Split: e.Split.Number, At: s.Now()}))
		}
		return nil
	}
	var moving *rollout.Rollout
	if e.Rollout != "" {
		if moving, err = r.RolloutOf(ctx, e.Name); err != nil {
			return err
		}
	}
	evidence, ready := s.observe.EvidenceFor(ctx, e, pairs, moving.Terms(e.Terms))
	state, actions := last, []guard.Action(nil)
	if ready {
		state, actions = guard.Step(moving.Terms(e.Terms), e.Split.Number, pairs, last, evidence, s.Now())
	}
	for _, a := range actions {
		s.Log.Warn("a guard fired", "endpoint", e.Name, "split", e.Split.Number, "version", a.Pair.Candidate, "signal",
			a.Signal, "then", a.Then, "why", a.Sentence)
	}
	if len(actions) > 0 {
		s.observe.KeepReadings(ctx, e.Name, state)
	}
	mine, others := ofRollout(moving, actions)
	if moving != nil {
		seen, err := s.see(ctx, r, e, moving, pairs, evidence, state)
		if err != nil {
			return err
		}
		seen.Ready, seen.Actions = ready, mine
		if later, err := s.stepRollout(ctx, e, moving, seen); err != nil || later {
			return err
		}
	}
	for _, a := range others {
		// The state is not kept, so the guard fires again until what it did is recorded.
		if later, err := s.respond(ctx, e, a); err != nil || later {
			return err
		}
	}
	if !ready || len(pairs) == 0 {
		return nil
	}
	return s.observe.KeepWatching(ctx, e.Name, state)
}

// ofRollout tells the actions of guards that are about a rollout from others: a version that took over by hand may
// still be watched while a rollout waits for its time.
func ofRollout(o *rollout.Rollout, actions []guard.Action) (mine, others []guard.Action) {
	for _, a := range actions {
		if o != nil && a.Pair.Candidate == o.Candidate && a.Pair.Incumbent == o.Incumbent {
			mine = append(mine, a)
		} else {
			others = append(others, a)
		}
	}
	return mine, others
}

// see gathers what there is to see of a rollout.
func (s *Service) see(ctx context.Context, r records.View, e *traffic.Endpoint, o *rollout.Rollout,
	pairs []guard.TrialPair, evidence guard.Evidence, state guard.State,
) (seen rollout.Seen, err error) {
	seen = rollout.Seen{Ready: true, Split: e.Split.Number, PairSince: o.Since}
	for _, p := range pairs {
		if p.Candidate != o.Candidate || p.Incumbent != o.Incumbent {
			continue
		}
		pair := evidence[p.Key()]
		seen.PairSince, seen.Candidate, seen.Incumbent = p.Since, pair.Candidate.Counts, pair.Incumbent.Counts
		for _, t := range state.Trials {
			if t.Key() == p.Key() {
				seen.Readings, seen.Verdict = t.Readings, t.Verdict
			}
		}
	}
	if seen.CandidateHealthy, err = s.traffic.HealthyAddresses(ctx, r, o.Candidate, e.Environment); err != nil {
		return seen, err
	}
	if seen.IncumbentHealthy, err = s.traffic.HealthyAddresses(ctx, r, o.Incumbent, e.Environment); err != nil {
		return seen, err
	}
	if seen.Frozen, err = s.traffic.Frozen(ctx, r, e.Project); err != nil {
		return seen, err
	}
	if o.Phase == rollout.Waiting {
		if seen.Lacking, err = s.lackingNow(ctx, r, e, o); err != nil {
			return seen, err
		}
	}
	if o.Phase == rollout.Warming && o.Copies == 0 {
		seen.Warmed, seen.Cold = s.warm(ctx, o, e.Environment)
	}
	return seen, nil
}

// lackingNow lists what keeps a rollout from beginning, its known answers included, for which its addresses are asked.
func (s *Service) lackingNow(ctx context.Context, r records.View, e *traffic.Endpoint, o *rollout.Rollout,
) ([]string, error) {
	if main := e.Split.Main().Version; main != o.Incumbent {
		return []string{
			fmt.Sprintf("%s answers main now, and it was to move away from %s: end it, and start another", main,
				o.Incumbent),
		}, nil
	}
	out, err := s.traffic.Lacking(ctx, r, e, o.Candidate, o.Plan.Capacity, o.Plan.Kind == rollout.Shadow)
	var f *fault.Fault
	if errors.As(err, &f) { // it was deleted meanwhile
		return []string{f.Detail}, nil
	}
	if err != nil || len(out) > 0 || (o.StartsAt != nil && s.Now().Before(*o.StartsAt)) {
		return out, err
	}
	if told := s.prove(ctx, o, e.Environment); told != "" {
		out = append(out, told)
	}
	return out, nil
}

// askAgain is after how long a candidate is asked for its known answers once more that did not give them.
const askAgain = 5 * time.Second

// prove asks the candidate for its known answers beside the job, and says what is wrong with them; empty when
// nothing is.
func (s *Service) prove(ctx context.Context, o *rollout.Rollout, environment string) string {
	s.warmMu.Lock()
	now, asked := s.warmed[o.ID]
	s.warmMu.Unlock()
	if asked && (now.cold == "" || s.Now().Sub(now.at) < askAgain) {
		return now.cold
	}
	ctx = context.WithoutCancel(ctx)
	s.warming.Start(o.ID, func() {
		told := s.traffic.ProvesEverywhere(ctx, o.Candidate, environment)
		s.warmMu.Lock()
		s.warmed[o.ID] = warmth{cold: told, at: s.Now()}
		s.warmMu.Unlock()
	})
	if asked {
		return now.cold
	}
	return "the known answers of " + o.Candidate + ", for which it is being asked"
}

// warmth is how far the warming of a candidate has come.
type warmth struct {
	answered int
	// cold is what went wrong the last time, at that time.
	cold string
	at   time.Time
}

// inOneGo is how many sample requests are sent before it is said how many were answered.
const inOneGo = 10

// warm sends a candidate sample requests beside the job, and says how many it has answered.
func (s *Service) warm(ctx context.Context, o *rollout.Rollout, environment string) (answered int, cold string) {
	s.warmMu.Lock()
	now := s.warmed[o.ID]
	s.warmMu.Unlock()
	if left := o.Plan.Warm - now.answered; left > 0 {
		ctx := context.WithoutCancel(ctx)
		s.warming.Start(o.ID, func() {
			for left > 0 {
				n, why := s.traffic.Warm(ctx, o.Candidate, environment, min(inOneGo, left))
				left -= n
				s.warmMu.Lock()
				s.warmed[o.ID] = warmth{o.Plan.Warm - left, why, s.Now()}
				s.warmMu.Unlock()
				if why != "" {
					return
				}
			}
		})
	}
	return now.answered, now.cold
}

// stepRollout steps one rollout and carries out what it decides. What takes the candidate's share away is in
// force first and recorded beside; later reports that.
func (s *Service) stepRollout(ctx context.Context, e *traffic.Endpoint, o *rollout.Rollout,
	seen rollout.Seen,
) (later bool, err error) {
	next, d := rollout.Step(*o, seen, s.Now())
	if d == nil && reflect.DeepEqual(next, o.State) {
		return false, nil
	}
	if d != nil && next.Share == 0 && o.Share > 0 && next.Phase != rollout.Finished {
		s.first(ctx, e, o.Lanes(0, 0), func(ctx context.Context) error {
			changed, decided := *o, *d
			return s.carryOut(ctx, act.BySelf(), &changed, next, &decided)
		})
		return true, nil
	}
	return false, s.forward(ctx, o, seen, next, d)
}

// first puts lanes in force at the gateway at once, and records that beside the job: a database that is locked
// or full keeps no trial in force, and no other endpoint waiting.
func (s *Service) first(ctx context.Context, e *traffic.Endpoint, lanes []traffic.Lane,
	write func(context.Context) error,
) {
	if err := s.traffic.Divert(ctx, e, lanes); err != nil {
		s.Log.Error("a way back waits for its record", "endpoint", e.Name, "error", err)
	}
	ctx = context.WithoutCancel(ctx)
	s.recording.Start(e.Name, func() {
		if err := jobs.Safely(func() error { return write(ctx) }); err != nil {
			s.Log.Error("a way back is in force and cannot be recorded yet; trying again", "endpoint", e.Name, "error",
				err)
		}
	})
}

// forward carries out what a rollout decides that takes nothing away.
func (s *Service) forward(ctx context.Context, o *rollout.Rollout, seen rollout.Seen, next rollout.State,
	d *rollout.Decision,
) error {
	copied := *o
	err := s.carryOut(ctx, act.BySelf(), &copied, next, d)
	var f *fault.Fault
	if errors.As(err, &f) && f.Kind == fault.Refused && d != nil &&
		(next.Share > o.Share || next.Copies > o.Copies) {
		// What was there a moment ago is not any more: it waits where it is, and says why.
		next, d = rollout.Stopped(*o, seen, f.Detail, s.Now())
		return s.carryOut(ctx, act.BySelf(), o, next, d)
	}
	return err
}

// carryOut stores the next state of a rollout, with the split, the line of its log, and whatever else follows
// from it, in one transaction. Where it stands otherwise by then, nothing is done.
func (s *Service) carryOut(ctx context.Context, by act.Actor, o *rollout.Rollout, next rollout.State,
	d *rollout.Decision,
) error {
	_, err := act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (struct{}, error) {
		return struct{}{}, s.apply(ctx, t, o, next, d)
	})
	if err == nil && next.Phase.Over() {
		s.warmMu.Lock()
		delete(s.warmed, o.ID)
		s.warmMu.Unlock()
	}
	return err
}

func (s *Service) apply(ctx context.Context, t *act.Tx, o *rollout.Rollout, next rollout.State,
	d *rollout.Decision,
) error {
	number, err := rollout.ParseID("rollout", o.ID)
	if err != nil {
		return err
	}
	is, err := t.Rollout(ctx, number)
	if err != nil {
		return err
	}
	if is.EndedAt != nil || is.Phase != o.Phase || is.Share != o.Share ||
		is.Copies != o.Copies || is.Split != o.Split ||
		(is.Held == nil) != (o.Held == nil) {
		return nil // somebody was quicker; the next look begins from there
	}
	e, err := s.traffic.FindEndpoint(ctx, t.View, o.Endpoint)
	if err != nil {
		return err
	}
	if o.Phase == rollout.Copying && next.Phase.Over() && d != nil {
		if next.Evidence, err = s.attach(ctx, t, e, o, next.Phase); err != nil {
			return err
		}
		if next.Evidence != "" {
			d.Did += fmt.Sprintf(" What they showed is %s.", next.Evidence)
		} else {
			d.Did += " None could be compared, so there is no report."
		}
	}
	var made *traffic.Split
	if d != nil && (next.Share != o.Share || next.Copies != o.Copies) {
		why := fmt.Sprintf("%s: %s", o.ID, d.Did)
		if next.Share == 0 && o.Share > 0 && next.Phase != rollout.Finished {
			why = strings.TrimSpace(d.Seen + " " + d.Means)
		}
		if made, err = s.move(ctx, t, e, o, next, why); err != nil {
			return err
		}
		next.Split, d.Split = made.Number, made.Number
	}
	o.State = next
	if next.Phase.Over() {
		now := t.Now
		o.EndedAt = &now
	}
	if err := t.SetRollout(ctx, o); err != nil {
		return err
	}
	if d == nil {
		return nil
	}
	d.At = t.Now
	if err := t.AddDecision(ctx, o.ID, d); err != nil {
		return err
	}
	kind := "rollout." + string(next.Phase)
	if next.Held != nil {
		kind = "rollout.held"
	}
	if err := t.Note(ctx, act.Entry{
		Project: o.Project, Kind: kind, Subject: o.Endpoint, Also: []string{o.ID, o.Candidate, o.Incumbent},
		Sentence: fmt.Sprintf("%s: %s", o.ID, d.Did), Reason: strings.TrimSpace(d.Seen + " " + d.Means), After: d,
	}); err != nil {
		return err
	}
	return s.follow(ctx, t, e, o, d, made)
}

// follow does what follows from a decision beyond the split: a version that was rolled back steps down,
// and somebody is told.
func (s *Service) follow(ctx context.Context, t *act.Tx, e *traffic.Endpoint, o *rollout.Rollout, d *rollout.Decision,
	made *traffic.Split,
) error {
	left := e.Split
	// Of copies nobody got an answer, so there is no incident where they end.
	touched := made != nil && (len(left.Trials()) > 0 || made.Main().Version != left.Main().Version)
	kind := watch.GuardFired
	switch {
	case o.Phase == rollout.RolledBack:
		kind = watch.RolledBack
		if err := s.ladder.StepDown(ctx, t, e, o.Candidate, left.Number, d.Seen); err != nil {
			return err
		}
	case o.Phase == rollout.Ended && made != nil && touched:
		return s.open(ctx, t, e, left, made, incident.Incident{Candidate: o.Candidate, Rollout: o.ID, Why: d.Means})
	case !d.Alarm:
		return nil
	case o.Held != nil:
		kind = watch.RolloutHeld
	case o.Phase == rollout.Refused:
		kind = watch.RolloutRefused
	}
	alert := &watch.Alert{
		Kind: kind, Project: o.Project, Endpoint: o.Endpoint, Subject: o.Candidate, Signal: d.Signal,
		Sentence: fmt.Sprintf("%s: %s", o.ID, d.Sentence()),
	}
	if err := s.observe.Raise(ctx, t, alert); err != nil || o.Phase != rollout.RolledBack || made == nil {
		return err
	}
	return s.open(ctx, t, e, left, made, incident.Incident{
		Candidate: o.Candidate, Rollout: o.ID, Alert: alert.ID, Signal: d.Signal, Why: d.Seen,
	})
}

// move puts the lanes in force that give the candidate a share, or copies.
func (s *Service) move(ctx context.Context, t *act.Tx, e *traffic.Endpoint, o *rollout.Rollout, to rollout.State,
	why string,
) (*traffic.Split, error) {
	next := traffic.Split{Endpoint: e.Name, Lanes: o.Lanes(to.Share, to.Copies)}
	if to.Share == 0 && (o.Share == 0 || to.Phase == rollout.Finished) ||
		to.Share == traffic.Whole && o.Share == traffic.Whole {
		// Main stays what it is, so that nothing is asked of anybody but for copies, and nothing is gone back from.
		next.Reason, next.Rollout, next.Contract = why, o.ID, e.Split.Contract
		next.Rules = o.Rules(e.Split.Rules, next.Lanes)
		if to.Copies == 0 {
			return s.traffic.PutInForce(ctx, t, e, &next)
		}
		return s.traffic.Move(ctx, t, e, &next)
	}
	if to.Share == 0 {
		history, err := s.traffic.History(ctx, t.View, e.Name)
		if err != nil {
			return nil, err
		}
		next = traffic.Return(history, o.Incumbent)
		next.Reason, next.Rollout = why, o.ID
		return s.traffic.PutInForce(ctx, t, e, &next)
	}
	next.Reason, next.Rollout, next.Rules = why, o.ID, o.Rules(e.Split.Rules, next.Lanes)
	return s.traffic.Move(ctx, t, e, &next)
}

// respond does what a guard's response is where no rollout moves the endpoint.
func (s *Service) respond(ctx context.Context, e *traffic.Endpoint, a guard.Action) (later bool, err error) {
	if a.Then != guard.RollBack {
		return false, s.tell(ctx, e, a, "Nothing was changed: no rollout moves it.")
	}
	if a.Pair.Copies {
		return false, s.endCopies(ctx, e, a)
	}
	main := e.Split.Main().Version
	if a.Pair.After {
		main = a.Pair.Incumbent
		healthy, err := s.traffic.HealthyAddresses(ctx, s.DB.Read(records.Everything), a.Pair.Incumbent, e.Environment)
		if err != nil {
			return false, err
		}
		if healthy == 0 {
			why := fmt.Sprintf("%s is not healthy anywhere in %s, so nothing can take over.", a.Pair.Incumbent,
				e.Environment)
			return false, errors.Join(s.tell(ctx, e, a, why), errors.New(why)) // it is tried again
		}
	}
	lanes := []traffic.Lane{{Kind: traffic.Main, Version: main, Share: traffic.Whole}}
	s.first(ctx, e, lanes, func(ctx context.Context) error { return s.RollBack(ctx, e.Name, e.Split.Number, a) })
	return true, nil
}

// tell raises an alert about a guard that changes nothing.
func (s *Service) tell(ctx context.Context, e *traffic.Endpoint, a guard.Action, did string) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Route, func(t *act.Tx) (struct{}, error) {
		return struct{}{}, s.observe.Raise(ctx, t, &watch.Alert{
			Kind: watch.GuardFired, Project: e.Project, Endpoint: e.Name, Subject: a.Pair.Candidate, Signal: a.Signal,
			Sentence: a.Sentence + " " + did,
		})
	})
	return err
}

// RollBack ends the trial of a version, or takes main away from one that took over, because a guard fired. It
// does nothing when the split it is about is not in force any more.
func (s *Service) RollBack(ctx context.Context, endpoint string, split int, a guard.Action) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Route, func(t *act.Tx) (struct{}, error) {
		none := struct{}{}
		e, err := s.traffic.FindEndpoint(ctx, t.View, endpoint)
		if err != nil || e.Split == nil || e.Split.Number != split {
			return none, err
		}
		history, err := s.traffic.History(ctx, t.View, endpoint)
		if err != nil {
			return none, err
		}
		next := traffic.Without(history)
		if a.Pair.After {
			next = traffic.Return(history, a.Pair.Incumbent)
		}
		next.Reason = a.Sentence
		made, err := s.traffic.PutInForce(ctx, t, e, &next)
		if err != nil {
			return none, err
		}
		if err := s.ladder.StepDown(ctx, t, e, a.Pair.Candidate, split, a.Sentence); err != nil {
			return none, err
		}
		alert := &watch.Alert{
			Kind: watch.RolledBack, Project: e.Project, Endpoint: e.Name, Subject: a.Pair.Candidate, Signal: a.Signal,
			Sentence: fmt.Sprintf("%s Rolled back from #%d to %s by #%d.", a.Sentence, split, made, made.Number),
		}
		if err := s.observe.Raise(ctx, t, alert); err != nil {
			return none, err
		}
		return none, s.open(ctx, t, e, e.Split, made, incident.Incident{
			Candidate: a.Pair.Candidate, Alert: alert.ID, Signal: a.Signal, Why: a.Sentence,
		})
	})
	return err
}

// recently is how much of the past a forecast rests on.
const recently = time.Hour

// trafficOf is what an endpoint's main lane had lately, as forecasts need it.
func (s *Service) trafficOf(ctx context.Context, e *traffic.Endpoint, p rollout.Plan) rollout.Traffic {
	guards := slices.Clone(p.Guards)
	if c := p.Compare.Contest(); c.OfValues() { // what is decided comes later, as what guards on values watch
		guards = append(guards, guard.Guard{Signal: c.Signal})
	}
	return s.observe.Lately(ctx, e, guards, recently)
}
