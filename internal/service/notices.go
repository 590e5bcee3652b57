package service

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/people"
	"innerladder/internal/core/record"
	"innerladder/internal/credential"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// tell puts an entry into inboxes and on its way to e-mail addresses and webhooks, in the
// transaction of the change: who is to be told is told, however the service ends.
func (t *tx) tell(ctx context.Context, e record.Entry, involved map[notice.Topic][]string) error {
	hooks, err := t.View.Webhooks(ctx)
	if err != nil {
		return err
	}
	for _, w := range hooks {
		if wants(w, e) {
			if err := t.AddDelivery(ctx, w.ID, 0, e.Seq, "", t.now); err != nil {
				return err
			}
		}
	}
	if !notice.Concerns(e, involved) {
		return nil
	}
	people, readers, err := t.everyone(ctx)
	if err != nil {
		return err
	}
	for _, told := range notice.For(e, involved, readers) {
		p := people[told.Name]
		if slices.Contains(told.Channels, notice.Inbox) {
			about := ""
			if told.Topic == notice.Review {
				about = e.Also[0] // the promotion
			}
			if err := t.AddNotice(ctx, p.ID, e.Seq, told.Topic, about); err != nil {
				return err
			}
		}
		if slices.Contains(told.Channels, notice.Mail) && p.Email != "" {
			mail, err := mailSettings(ctx, t.View)
			if err != nil {
				return err
			}
			if mail.Host == "" {
				continue
			}
			if err := t.AddDelivery(ctx, 0, p.ID, e.Seq, told.Topic, t.now); err != nil {
				return err
			}
		}
	}
	return nil
}

// wants reports whether a webhook is told of an entry.
func wants(w notice.Webhook, e record.Entry) bool {
	if w.Project != access.Everywhere && w.Project != e.Project {
		return false
	}
	class, _, _ := strings.Cut(e.Kind, ".")
	return len(w.Kinds) == 0 || slices.Contains(w.Kinds, e.Kind) || slices.Contains(w.Kinds, class)
}

// everyone lists who may be told of anything.
func (t *tx) everyone(ctx context.Context) (map[string]people.Person, []notice.Reader, error) {
	all, err := t.View.People(ctx)
	if err != nil {
		return nil, nil, err
	}
	known := map[string]people.Person{}
	var readers []notice.Reader
	for _, p := range all {
		if p.Robot || p.Disabled != nil {
			continue
		}
		rights, err := t.RightsOf(ctx, &p)
		if err != nil {
			return nil, nil, err
		}
		known[p.Name] = p
		readers = append(readers, notice.Reader{Name: p.Name, Rights: rights, Choices: p.Choices})
	}
	return known, readers, nil
}

func (t *tx) readers(ctx context.Context) ([]notice.Reader, error) {
	_, readers, err := t.everyone(ctx)
	return readers, err
}

// Inbox lists the notices of whoever is signed in, newest first.
func (s *Service) Inbox(ctx context.Context, unread bool, p records.Page) (wire.Listed[notice.Notice], error) {
	a, err := may(ctx, access.Own)
	if err != nil {
		return wire.Listed[notice.Notice]{}, err
	}
	items, next, err := s.db.Read(a.sight()).Inbox(ctx, a.person, unread, p)
	return wire.Listed[notice.Notice]{Items: items, Next: next}, err
}

// MarkRead marks a notice as read, with all before it unless alone. It is nobody else's
// business, so it is no entry of the record.
func (s *Service) MarkRead(ctx context.Context, id int64, alone bool) (struct{}, error) {
	a, err := may(ctx, access.Own)
	if err != nil {
		return struct{}{}, err
	}
	return struct{}{}, s.db.Write(ctx, records.Everything,
		func(r records.View) error { return r.MarkRead(ctx, a.person, id, alone, s.now()) })
}

// Preferences shows what reaches whoever is signed in.
func (s *Service) Preferences(ctx context.Context) (wire.Preferences, error) {
	a, err := may(ctx, access.Own)
	if err != nil {
		return wire.Preferences{}, err
	}
	p, err := s.db.Read(records.Everything).PersonNamed(ctx, a.Name)
	if err != nil {
		return wire.Preferences{}, err
	}
	mail, err := mailSettings(ctx, s.db.Read(records.Everything))
	return wire.Preferences{Choices: p.Choices, Topics: notice.Topics(), Email: p.Email, Mail: mail.Host != ""}, err
}

// SetPreferences chooses what reaches whoever is signed in.
func (s *Service) SetPreferences(ctx context.Context, c notice.Choices) (wire.Preferences, error) {
	if err := c.Check(); err != nil {
		return wire.Preferences{}, err
	}
	if _, err := change(ctx, s, access.Own, func(t *tx) (struct{}, error) {
		p, err := s.person(ctx, t.View, t.actor.Name)
		if err != nil {
			return struct{}{}, err
		}
		if err := t.SetChoices(ctx, p.ID, c); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.note(ctx,
			entry{
				Kind: "person.choices", Subject: p.Name, Sentence: p.Name + " chose what reaches them.",
				Before: p.Choices, After: c,
			})
	}); err != nil {
		return wire.Preferences{}, err
	}
	return s.Preferences(ctx)
}

// AddWebhook adds a webhook.
func (s *Service) AddWebhook(ctx context.Context, n wire.NewWebhook) (wire.MadeWebhook, error) {
	if err := s.fetcher.Check(n.Address); err != nil {
		return wire.MadeWebhook{}, err
	}
	for _, k := range n.Kinds {
		if k == "" || strings.Trim(k, "abcdefghijklmnopqrstuvwxyz_.") != "" {
			return wire.MadeWebhook{}, fault.New(fault.Invalid, "webhook.kind",
				"%q is no kind of entry", k).In("kinds").
				Do("write one such as split.made, or split")
		}
	}
	if n.Kinds == nil {
		n.Kinds = []string{}
	}
	return change(withoutRepeat(ctx), s, access.Manage, func(t *tx) (wire.MadeWebhook, error) {
		if n.Project != access.Everywhere {
			if err := s.checkProject(ctx, t.View, n.Project); err != nil {
				return wire.MadeWebhook{}, err
			}
		}
		raw, _ := credential.Token("")
		secret := "whsec_" + base64.StdEncoding.EncodeToString([]byte(raw)[:32])
		out := wire.MadeWebhook{Webhook: notice.Webhook{
			Project: n.Project, Address: n.Address, Kinds: n.Kinds, MadeBy: t.actor.Name,
			MadeAt: t.now,
		}, Secret: secret}
		if err := t.View.AddWebhook(ctx, &out.Webhook); err != nil {
			return out, err
		}
		if err := putSecret(ctx, t.View, s.ring(), webhookSecret(out.ID), []byte(secret), t.actor.Name,
			t.now); err != nil {
			return out, err
		}
		return out, t.note(ctx, entry{
			Project: everywhereIsNone(n.Project), Kind: "webhook.added",
			Subject: webhookName(out.ID), Sentence: fmt.Sprintf("%s was added: %s.", webhookName(out.ID), n.Address),
			After: out.Webhook,
		})
	})
}

func webhookName(id int64) string { return fmt.Sprintf("webhook-%d", id) }

// Webhooks lists the webhooks of projects that whoever acts keeps.
func (s *Service) Webhooks(ctx context.Context) (wire.Listed[notice.Webhook], error) {
	a, err := may(ctx, access.Manage)
	if err != nil {
		return wire.Listed[notice.Webhook]{}, err
	}
	all, err := s.db.Read(records.Everything).Webhooks(ctx)
	out := wire.Listed[notice.Webhook]{Items: []notice.Webhook{}}
	for _, w := range all {
		if a.Rights.May(access.Manage, w.Project) {
			out.Items = append(out.Items, w)
		}
	}
	return out, err
}

// webhook finds a webhook of a project that whoever acts keeps; others are not found.
func (s *Service) webhook(ctx context.Context, r records.View, a Actor, id int64) (*notice.Webhook, error) {
	w, err := r.Webhook(ctx, id)
	if errors.Is(err, records.ErrNone) || (err == nil && !a.Rights.May(access.Manage, w.Project)) {
		return nil, fault.New(fault.Unknown, "webhook.unknown", "there is no webhook %d", id).In("webhook").
			Do("see them with: innerladder webhooks")
	}
	return w, err
}

// RemoveWebhook ends a webhook.
func (s *Service) RemoveWebhook(ctx context.Context, id int64, reason string) (notice.Webhook, error) {
	return change(ctx, s, access.Manage, func(t *tx) (notice.Webhook, error) {
		w, err := s.webhook(ctx, t.View, t.actor, id)
		if err != nil {
			return notice.Webhook{}, err
		}
		if err := t.EndWebhook(ctx, id, t.now); err != nil {
			return *w, err
		}
		if err := t.RemoveSecret(ctx, webhookSecret(id)); err != nil {
			return *w, err
		}
		return *w, t.note(ctx, entry{
			Project: everywhereIsNone(w.Project), Kind: "webhook.removed",
			Subject: webhookName(id), Sentence: webhookName(id) + " was removed.", Reason: reason, Before: w,
		})
	})
}

// Deliveries lists what went to a webhook, newest first; webhook 0 is e-mail, which those
// see who keep the service.
func (s *Service) Deliveries(ctx context.Context, webhook int64, p records.Page) (wire.Listed[notice.Delivery], error) {
	need := access.Manage
	if webhook == 0 {
		need = access.Administer
	}
	a, err := may(ctx, need)
	if err != nil {
		return wire.Listed[notice.Delivery]{}, err
	}
	if webhook != 0 {
		if _, err := s.webhook(ctx, s.db.Read(records.Everything), a, webhook); err != nil {
			return wire.Listed[notice.Delivery]{}, err
		}
	}
	items, next, err := s.db.Read(records.Everything).Deliveries(ctx, webhook, p)
	return wire.Listed[notice.Delivery]{Items: items, Next: next}, err
}

// SendAgain sends a delivery again at once, whatever became of it.
func (s *Service) SendAgain(ctx context.Context, id int64) (notice.Delivery, error) {
	return change(ctx, s, access.Manage, func(t *tx) (notice.Delivery, error) {
		unknown := fault.New(fault.Unknown, "delivery.unknown", "there is no delivery %d", id).In("delivery").
			Do("see them with: innerladder deliveries WEBHOOK")
		d, err := t.Delivery(ctx, id)
		if errors.Is(err, records.ErrNone) {
			return notice.Delivery{}, unknown
		}
		if err != nil {
			return notice.Delivery{}, err
		}
		project, subject := "", "e-mail"
		if d.Webhook != 0 {
			w, err := s.webhook(ctx, t.View, t.actor, d.Webhook)
			if err != nil {
				return notice.Delivery{}, unknown
			}
			project, subject = everywhereIsNone(w.Project), webhookName(w.ID)
		}
		d.State, d.NextAt, d.DoneAt, d.Tries = "waiting", t.now, nil, 0
		if err := t.SetDelivery(ctx, *d); err != nil {
			return *d, err
		}
		return *d, t.note(ctx, entry{
			Project: project, Kind: "delivery.again", Subject: subject,
			Sentence: fmt.Sprintf("Delivery %d to %s is sent again.", id, subject),
		})
	})
}
