package rollouts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/ladder"
	"innerladder/internal/app/observe"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/incident"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// open opens the incident about a way back from a split to a version, with which the candidate lost what it
// had. Where the split did not have the candidate there is none.
func (s *Service) open(ctx context.Context, t *act.Tx, e *traffic.Endpoint, left *traffic.Split, made *traffic.Split,
	i incident.Incident,
) error {
	i.Project, i.Endpoint, i.Left, i.For, i.At, i.By = e.Project, e.Name, left.Number, made.Number, t.Now, t.By.Name
	i.Incumbent = made.Main().Version
	if i.Candidate == "" {
		i.Candidate = worstOf(left, made)
	}
	if i.Candidate == "" || i.Candidate == i.Incumbent {
		return nil
	}
	history, err := s.traffic.History(ctx, t.View, e.Name)
	if err != nil {
		return err
	}
	i.Begun = begunOf(history, left.Number, i.Candidate)
	if err := t.AddIncident(ctx, &i); err != nil {
		return err
	}
	return t.Note(ctx, act.Entry{
		Project: e.Project, Kind: "incident.opened", Subject: i.ID,
		Also:     []string{e.Name, i.Candidate, i.Incumbent, i.Rollout, i.Alert},
		Sentence: fmt.Sprintf("%s was opened: %s.", i.ID, i.Title()), Reason: i.Why,
	})
}

// worstOf is the version that a way back takes something from: main, or else the largest trial lane.
func worstOf(left, made *traffic.Split) string {
	if left.Main().Version != made.Main().Version {
		return left.Main().Version
	}
	share, version := 0, ""
	for _, l := range left.Trials() {
		if l.Share > share {
			share, version = l.Share, l.Version
		}
	}
	return version
}

// begunOf is when a version got its first share in the run of splits that ends with one. The history is in
// ascending order.
func begunOf(history []traffic.Split, last int, version string) (begun time.Time) {
	for _, split := range history {
		if split.Number > last {
			break
		}
		has := false
		for _, l := range split.Lanes {
			has = has || l.Version == version
		}
		switch {
		case !has:
			begun = time.Time{}
		case begun.IsZero():
			begun = split.MadeAt
		}
	}
	return begun
}

// settled is how long after a way back the report is written: by then the last answers are counted.
const settled = 2500 * time.Millisecond

// WriteIncidents writes the reports about the incidents that wait for theirs.
func (s *Service) WriteIncidents(ctx context.Context) error {
	waiting, err := s.DB.Read(records.Everything).UnwrittenIncidents(ctx)
	if err != nil {
		return err
	}
	return jobs.Each(waiting, func(i incident.Incident) string { return i.ID }, func(i incident.Incident) error {
		if s.Now().Sub(i.At) < settled {
			return nil
		}
		return s.writeIncident(ctx, &i)
	})
}

func (s *Service) writeIncident(ctx context.Context, i *incident.Incident) error {
	number, err := incident.ParseID("incident", i.ID)
	if err != nil {
		return err
	}
	report := incident.Write(i, s.gather(ctx, i), s.Now())
	_, err = act.Change(ctx, s.Base, act.BySelf(), access.Route, func(t *act.Tx) (struct{}, error) {
		if err := t.WriteIncident(ctx, number, report); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.Note(ctx, act.Entry{
			Project: i.Project, Kind: "incident.written", Subject: i.ID,
			Also:     []string{i.Endpoint, i.Candidate, i.Incumbent},
			Sentence: fmt.Sprintf("%s: %s", i.ID, report.Sentence),
		})
	})
	return err
}

// gather gathers what the report is written from. What cannot be had is missing in it.
func (s *Service) gather(ctx context.Context, i *incident.Incident) (m incident.Material) {
	by, r := act.BySelf(), s.DB.Read(records.Everything)
	missing := func(what string, err error) bool {
		if err != nil {
			s.Log.Warn("an incident is written without something", "incident", i.ID, "what", what, "error", err)
		}
		return err != nil
	}
	var err error
	m.Candidate, err = s.registry.Version(ctx, by, i.Candidate)
	missing("the version", err)
	m.Incumbent, err = s.registry.Version(ctx, by, i.Incumbent)
	missing("the version that answers again", err)
	if number, err := rollout.ParseID("rollout", i.Rollout); err == nil {
		m.Rollout, err = r.Rollout(ctx, number)
		missing("the rollout", err)
		m.Decisions, err = r.Decisions(ctx, i.Rollout)
		missing("the decisions", err)
	}
	window := max(time.Minute, i.At.Sub(i.Begun)+time.Minute)
	all, err := s.observe.Compare(ctx, by, observe.Question{
		Endpoint: i.Endpoint, Incumbent: i.Incumbent, Candidates: []string{i.Candidate}, Window: window,
		Until: i.At.Add(time.Second),
	})
	if !missing("the comparison", err) && len(all) > 0 {
		m.Comparison = &all[0]
	}
	m.Requests, m.Failed, m.Callers = s.observe.Did(ctx, i.Endpoint, i.Candidate, i.Begun, i.At)
	m.Kept, err = s.requests.Of(ctx, i.Endpoint, i.Candidate, i.Begun, i.At.Add(time.Second))
	missing("its requests", err)
	m.Curve, err = s.observe.Curve(ctx, i.Endpoint, i.Candidate, i.Begun, i.At.Add(time.Second))
	missing("the evidence", err)
	if p, err := s.registry.CompareProfiles(ctx, by, i.Incumbent, i.Candidate); err == nil {
		m.Profiles = &p
	}
	if e, err := s.registry.EvidenceOf(ctx, by, i.Candidate); !missing("the reports", err) {
		m.Evidence = e.Items
	}
	search := ladder.PromotionSearch{PromotionFilter: records.PromotionFilter{Version: i.Candidate}}
	if p, err := s.ladder.Promotions(ctx, by, search, records.Page{Limit: 20}); !missing("the promotions", err) {
		m.Promotions = p.Items
	}
	if l, err := r.Ladder(ctx, i.Project); err == nil {
		m.LookedAtData = l.Asks("data_looked_at")
	}
	return m
}

// Incidents lists incidents without their reports, newest first.
func (s *Service) Incidents(ctx context.Context, by act.Actor, endpoint, version, state string,
	p records.Page,
) (wire.Listed[incident.Incident], error) {
	if version != "" {
		v, err := s.registry.Version(ctx, by, version)
		if err != nil {
			return wire.Listed[incident.Incident]{}, err
		}
		version = v.Ref
	}
	return act.List(s.Base, by, func(r records.View) ([]incident.Incident, string, error) {
		return r.Incidents(ctx, endpoint, version, state, p)
	})
}

// Incident shows an incident with its report.
func (s *Service) Incident(ctx context.Context, by act.Actor, id string) (wire.ShownIncident, error) {
	if err := by.May(access.Read); err != nil {
		return wire.ShownIncident{}, err
	}
	i, err := s.findIncident(ctx, s.Read(by), id)
	if err != nil {
		return wire.ShownIncident{}, err
	}
	return wire.ShownIncident{Incident: *i, Title: i.Title(), Markdown: i.Markdown()}, nil
}

func (s *Service) findIncident(ctx context.Context, r records.View, id string) (*incident.Incident, error) {
	number, err := incident.ParseID("incident", id)
	if err != nil {
		return nil, err
	}
	i, err := r.Incident(ctx, number)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "incident.unknown", "there is no I-%d", number).In("incident").
			Do("see them with: innerladder incidents")
	}
	return i, err
}

// HandleIncident adds what somebody has to say about an incident: a note, its cause, something to do, or that it is
// closed.
func (s *Service) HandleIncident(ctx context.Context, by act.Actor, id string,
	h wire.HandleIncident,
) (wire.ShownIncident, error) {
	_, err := act.Change(ctx, s.Base, by, access.Handle, func(t *act.Tx) (struct{}, error) {
		none := struct{}{}
		i, err := s.findIncident(ctx, t.View, id)
		if err != nil {
			return none, err
		}
		said, reason, err := handle(ctx, t, i, h)
		if err != nil {
			return none, err
		}
		return none, t.Note(ctx, act.Entry{
			Project: i.Project, Kind: "incident.changed", Subject: i.ID, Also: []string{i.Endpoint, i.Candidate},
			Sentence: fmt.Sprintf("%s: %s.", i.ID, said), Reason: reason, After: h,
		})
	})
	if err != nil {
		return wire.ShownIncident{}, err
	}
	return s.Incident(ctx, by, id)
}

// handle writes what somebody says about an incident, and says what that was.
func handle(ctx context.Context, t *act.Tx, i *incident.Incident, h wire.HandleIncident,
) (said, reason string, err error) {
	number, err := incident.ParseID("incident", i.ID)
	if err != nil {
		return "", "", err
	}
	var parts []string
	if h.Note != "" {
		if err := incident.CheckText("note", h.Note); err != nil {
			return "", "", err
		}
		parts, reason = append(parts, "a note was added"), h.Note
		if err := t.AddIncidentNote(ctx, number, incident.Note{At: t.Now, By: t.By.Name, Text: h.Note}); err != nil {
			return "", "", err
		}
	}
	if f := h.FollowUp; f != nil {
		err := errors.Join(incident.CheckText("follow_up.text", f.Text), incident.CheckDue(f.Due))
		if err != nil {
			return "", "", err
		}
		parts, reason = append(parts, "something is to be done"), f.Text
		if err := t.AddFollowUp(ctx, number, incident.FollowUp{
			Text: f.Text, Who: f.Who, Due: f.Due, MadeBy: t.By.Name, MadeAt: t.Now,
		}); err != nil {
			return "", "", err
		}
	}
	if h.Done != 0 {
		if h.Done < 0 || h.Done > len(i.FollowUps) || i.FollowUps[h.Done-1].DoneAt != nil {
			return "", "", fault.New(fault.Invalid, "incident.done", "%d is no follow-up that is still to be done",
				h.Done).
				In("done").
				Do("see them with: innerladder incident show %s", i.ID)
		}
		parts, reason = append(parts, "something was done"), i.FollowUps[h.Done-1].Text
		if err := t.DoFollowUp(ctx, number, h.Done, t.By.Name, t.Now); err != nil {
			return "", "", err
		}
	}
	if h.Cause != nil {
		if err := incident.CheckText("cause", *h.Cause); err != nil {
			return "", "", err
		}
		i.Cause, reason = *h.Cause, *h.Cause
		parts = append(parts, "its cause was found")
	}
	switch {
	case h.State == "":
	case h.State != "open" && h.State != "closed":
		return "", "", fault.New(fault.Invalid, "incident.state", "%q is no state of an incident", h.State).
			In("state").
			Do("use open or closed")
	case h.State == i.State:
		return "", "", fault.New(fault.Refused, "incident.state", "%s is %s already", i.ID, i.State).In("state").
			Do("nothing needs doing")
	default:
		i.State, i.ClosedBy, i.ClosedAt = h.State, "", nil
		if now := t.Now; h.State == "closed" {
			i.ClosedBy, i.ClosedAt = t.By.Name, &now
		}
		parts = append(parts, "it is "+h.State)
	}
	if len(parts) == 0 {
		return "", "", fault.New(fault.Invalid, "incident.nothing", "nothing is said about it").In("body").
			Do("give a note, a cause, a follow_up, done or a state")
	}
	return strings.Join(parts, ", "), reason, t.SetIncident(ctx, number, i)
}
