package observe

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Raise adds an alert, unless one of the kind about the subject at the endpoint is open
// already.
func (s *Service) Raise(ctx context.Context, t *act.Tx, a *watch.Alert) error {
	says, ok := a.Kind.Says()
	if !ok {
		return fmt.Errorf("there is no kind of alert %q", a.Kind)
	}
	if !a.Kind.Repeats() {
		open, err := t.UnresolvedAlerts(ctx, a.Kind, a.Subject)
		if err != nil {
			return err
		}
		for _, o := range open {
			if o.Endpoint == a.Endpoint {
				return nil
			}
		}
	}
	a.RaisedAt = t.Now
	if err := t.AddAlert(ctx, a); err != nil {
		return err
	}
	return t.Note(ctx, act.Entry{
		Project: a.Project, Kind: "alert.raised", Subject: cmp.Or(a.Endpoint, a.Subject),
		Also:     []string{a.ID, a.Subject},
		Sentence: fmt.Sprintf("%s was raised: %s %s.", a.ID, a.Subject, says), After: a,
	})
}

// resolveAlerts resolves the alerts of a kind about a subject by itself.
func (s *Service) resolveAlerts(ctx context.Context, t *act.Tx, kind watch.AlertKind, subject, note string) error {
	return s.resolveAlertsOf(ctx, t, kind, "", subject, note)
}

// resolveAlertsOf resolves those about a subject at one endpoint, at all where it is empty.
func (s *Service) resolveAlertsOf(ctx context.Context, t *act.Tx, kind watch.AlertKind, endpoint, subject,
	note string,
) error {
	open, err := t.UnresolvedAlerts(ctx, kind, subject)
	if err != nil {
		return err
	}
	for i := range open {
		if endpoint != "" && open[i].Endpoint != endpoint {
			continue
		}
		if _, err := s.setAlert(ctx, t, &open[i], "resolved", note); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) setAlert(ctx context.Context, t *act.Tx, a *watch.Alert, state, note string) (*watch.Alert, error) {
	number, err := watch.ParseID("alert", a.ID)
	if err != nil {
		return nil, err
	}
	if err := t.SetAlert(ctx, number, state, t.By.Name, note, t.Now); err != nil {
		return nil, err
	}
	now := t.Now
	before := *a
	a.State, a.HandledBy, a.HandledAt, a.Note = state, t.By.Name, &now, note
	return a, t.Note(ctx, act.Entry{
		Project: a.Project, Kind: "alert." + state, Subject: cmp.Or(a.Endpoint, a.Subject),
		Also: []string{a.ID, a.Subject}, Sentence: fmt.Sprintf("%s was %s by %s.", a.ID, state, t.By.Name),
		Reason: note, Before: before, After: a,
	})
}

// HandleAlert acknowledges or resolves an alert.
func (s *Service) HandleAlert(ctx context.Context, by act.Actor, id, state, note string) (*watch.Alert, error) {
	if state != "acknowledged" && state != "resolved" {
		return nil, fault.New(fault.Invalid, "alert.state", "%q is nothing an alert can be made", state).In("state").
			Do("use acknowledged or resolved")
	}
	return act.Change(ctx, s.Base, by, access.Handle, func(t *act.Tx) (*watch.Alert, error) {
		a, err := s.FindAlert(ctx, t.View, id)
		if err != nil {
			return nil, err
		}
		if a.State == "resolved" || a.State == state {
			return nil, fault.New(fault.Refused, "alert.handled", "%s is %s already, by %s", a.ID, a.State,
				a.HandledBy).In("alert").Do("nothing needs doing")
		}
		return s.setAlert(ctx, t, a, state, note)
	})
}

// Alerts lists alerts, newest first.
func (s *Service) Alerts(ctx context.Context, by act.Actor, state, endpoint string,
	p records.Page,
) (wire.Listed[watch.Alert], error) {
	if !slices.Contains([]string{"", "open", "acknowledged", "resolved", "unresolved"}, state) {
		return wire.Listed[watch.Alert]{}, fault.New(fault.Invalid, "alert.state", "%q is no state of an alert", state).
			In("state").Do("use open, acknowledged, resolved or unresolved")
	}
	return act.List(s.Base, by, func(r records.View) ([]watch.Alert, string, error) {
		return r.Alerts(ctx, state, endpoint, p)
	})
}

// Alert finds an alert.
func (s *Service) Alert(ctx context.Context, by act.Actor, id string) (*watch.Alert, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	return s.FindAlert(ctx, s.Read(by), id)
}

// FindAlert finds an alert by A-NUMBER, or says how to see which there are.
func (s *Service) FindAlert(ctx context.Context, r records.View, id string) (*watch.Alert, error) {
	number, err := watch.ParseID("alert", id)
	if err != nil {
		return nil, err
	}
	a, err := r.Alert(ctx, number)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "alert.unknown", "there is no A-%d", number).In("alert").
			Do("see them with: innerladder alerts")
	}
	return a, err
}
