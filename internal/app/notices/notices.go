package notices

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
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
func tell(ctx context.Context, t *act.Tx, e record.Entry, involved map[notice.Topic][]string) error {
	hooks, err := t.View.Webhooks(ctx)
	if err != nil {
		return err
	}
	for _, w := range hooks {
		if wants(w, e) {
			if err := t.AddDelivery(ctx, w.ID, 0, e.Seq, "", t.Now); err != nil {
				return err
			}
		}
	}
	if !notice.Concerns(e, involved) {
		return nil
	}
	people, readers, err := Everyone(ctx, t)
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
			if err := t.AddDelivery(ctx, 0, p.ID, e.Seq, told.Topic, t.Now); err != nil {
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

// Everyone lists who may be told of anything.
func Everyone(ctx context.Context, t *act.Tx) (map[string]people.Person, []notice.Reader, error) {
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

// Readers lists the same people as readers of notices.
func Readers(ctx context.Context, t *act.Tx) ([]notice.Reader, error) {
	_, readers, err := Everyone(ctx, t)
	return readers, err
}

// Inbox lists the notices of whoever is signed in, newest first.
func (s *Service) Inbox(ctx context.Context, by act.Actor, unread bool,
	p records.Page,
) (wire.Listed[notice.Notice], error) {
	if err := by.May(access.Own); err != nil {
		return wire.Listed[notice.Notice]{}, err
	}
	items, next, err := s.DB.Read(by.Sight()).Inbox(ctx, by.Person, unread, p)
	return wire.Listed[notice.Notice]{Items: items, Next: next}, err
}

// MarkRead marks a notice as read, with all before it unless alone. It is nobody else's
// business, so it is no entry of the record.
func (s *Service) MarkRead(ctx context.Context, by act.Actor, id int64, alone bool) (struct{}, error) {
	if err := by.May(access.Own); err != nil {
		return struct{}{}, err
	}
	return struct{}{}, s.DB.Write(ctx, records.Everything,
		func(r records.View) error { return r.MarkRead(ctx, by.Person, id, alone, s.Now()) })
}

// Preferences shows what reaches whoever is signed in.
func (s *Service) Preferences(ctx context.Context, by act.Actor) (wire.Preferences, error) {
	if err := by.May(access.Own); err != nil {
		return wire.Preferences{}, err
	}
	p, err := s.DB.Read(records.Everything).PersonNamed(ctx, by.Name)
	if err != nil {
		return wire.Preferences{}, err
	}
	mail, err := mailSettings(ctx, s.DB.Read(records.Everything))
	return wire.Preferences{Choices: p.Choices, Topics: notice.Topics(), Email: p.Email, Mail: mail.Host != ""}, err
}

// SetPreferences chooses what reaches whoever is signed in.
func (s *Service) SetPreferences(ctx context.Context, by act.Actor, c notice.Choices) (wire.Preferences, error) {
	if err := c.Check(); err != nil {
		return wire.Preferences{}, err
	}
	if _, err := act.Change(ctx, s.Base, by, access.Own, func(t *act.Tx) (struct{}, error) {
		p, err := s.people.FindPerson(ctx, t.View, t.By.Name)
		if err != nil {
			return struct{}{}, err
		}
		if err := t.SetChoices(ctx, p.ID, c); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.Note(ctx,
			act.Entry{
				Kind: "person.choices", Subject: p.Name, Sentence: p.Name + " chose what reaches them.",
				Before: p.Choices, After: c,
			})
	}); err != nil {
		return wire.Preferences{}, err
	}
	return s.Preferences(ctx, by)
}

// AddWebhook adds a webhook.
func (s *Service) AddWebhook(ctx context.Context, by act.Actor, n wire.NewWebhook) (wire.MadeWebhook, error) {
	if err := s.fetcher.Check(n.Address); err != nil {
		return wire.MadeWebhook{}, err
	}
	for _, k := range n.Kinds {
		if record.IsKind(k) {
			continue
		}
		class, _, _ := strings.Cut(k, ".")
		some := record.KindsOf(class)
		if len(some) == 0 {
			some = record.Classes()
		}
		return wire.MadeWebhook{}, fault.New(fault.Invalid, "webhook.kind", "%q is no kind of entry", k).In("kinds").
			Do("use some of %s", strings.Join(some, ", "))
	}
	if n.Kinds == nil {
		n.Kinds = []string{}
	}
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Manage, func(t *act.Tx) (wire.MadeWebhook, error) {
		if n.Project != access.Everywhere {
			if err := s.people.CheckProject(ctx, t.View, n.Project); err != nil {
				return wire.MadeWebhook{}, err
			}
		}
		raw, _ := credential.Token("")
		secret := "whsec_" + base64.StdEncoding.EncodeToString([]byte(raw)[:32])
		out := wire.MadeWebhook{Webhook: notice.Webhook{
			Project: n.Project, Address: n.Address, Kinds: n.Kinds, MadeBy: t.By.Name,
			MadeAt: t.Now,
		}, Secret: secret}
		if err := t.View.AddWebhook(ctx, &out.Webhook); err != nil {
			return out, err
		}
		if err := s.secrets.Put(ctx, t, webhookSecret(out.ID), []byte(secret)); err != nil {
			return out, err
		}
		return out, t.Note(ctx, act.Entry{
			Project: n.Project, Kind: "webhook.added",
			Subject: webhookName(out.ID), Sentence: fmt.Sprintf("%s was added: %s.", webhookName(out.ID), n.Address),
			After: out.Webhook,
		})
	})
}

func webhookName(id int64) string { return fmt.Sprintf("webhook-%d", id) }

// Webhooks lists the webhooks of projects that whoever acts keeps.
func (s *Service) Webhooks(ctx context.Context, by act.Actor) (wire.Listed[notice.Webhook], error) {
	if err := by.May(access.Manage); err != nil {
		return wire.Listed[notice.Webhook]{}, err
	}
	all, err := s.DB.Read(records.Everything).Webhooks(ctx)
	out := wire.Listed[notice.Webhook]{Items: []notice.Webhook{}}
	for _, w := range all {
		if by.Rights.May(access.Manage, w.Project) {
			out.Items = append(out.Items, w)
		}
	}
	return out, err
}

// webhook finds a webhook of a project that whoever acts keeps; others are not found.
func (s *Service) webhook(ctx context.Context, r records.View, a act.Actor, id int64) (*notice.Webhook, error) {
	w, err := r.Webhook(ctx, id)
	if errors.Is(err, records.ErrNone) || (err == nil && !a.Rights.May(access.Manage, w.Project)) {
		return nil, fault.New(fault.Unknown, "webhook.unknown", "there is no webhook %d", id).In("webhook").
			Do("see them with: innerladder webhooks")
	}
	return w, err
}

// RemoveWebhook ends a webhook.
func (s *Service) RemoveWebhook(ctx context.Context, by act.Actor, id int64, reason string) (notice.Webhook, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (notice.Webhook, error) {
		w, err := s.webhook(ctx, t.View, t.By, id)
		if err != nil {
			return notice.Webhook{}, err
		}
		if err := t.EndWebhook(ctx, id, t.Now); err != nil {
			return *w, err
		}
		if err := t.RemoveSecret(ctx, webhookSecret(id)); err != nil {
			return *w, err
		}
		return *w, t.Note(ctx, act.Entry{
			Project: w.Project, Kind: "webhook.removed",
			Subject: webhookName(id), Sentence: webhookName(id) + " was removed.", Reason: reason, Before: w,
		})
	})
}

// Deliveries lists what went to a webhook, newest first; webhook 0 is e-mail, which those
// see who keep the service.
func (s *Service) Deliveries(ctx context.Context, by act.Actor, webhook int64,
	p records.Page,
) (wire.Listed[notice.Delivery], error) {
	need := access.Manage
	if webhook == 0 {
		need = access.Administer
	}
	if err := by.May(need); err != nil {
		return wire.Listed[notice.Delivery]{}, err
	}
	if webhook != 0 {
		if _, err := s.webhook(ctx, s.DB.Read(records.Everything), by, webhook); err != nil {
			return wire.Listed[notice.Delivery]{}, err
		}
	}
	items, next, err := s.DB.Read(records.Everything).Deliveries(ctx, webhook, p)
	return wire.Listed[notice.Delivery]{Items: items, Next: next}, err
}

// SendAgain sends a delivery again at once, whatever became of it.
func (s *Service) SendAgain(ctx context.Context, by act.Actor, id int64) (notice.Delivery, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (notice.Delivery, error) {
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
			w, err := s.webhook(ctx, t.View, t.By, d.Webhook)
			if err != nil {
				return notice.Delivery{}, unknown
			}
			project, subject = w.Project, webhookName(w.ID)
		}
		d.State, d.NextAt, d.DoneAt, d.Tries = "waiting", t.Now, nil, 0
		if err := t.SetDelivery(ctx, *d); err != nil {
			return *d, err
		}
		return *d, t.Note(ctx, act.Entry{
			Project: project, Kind: "delivery.again", Subject: subject,
			Sentence: fmt.Sprintf("Delivery %d to %s is sent again.", id, subject),
		})
	})
}

// mailSecret is the name of the secret that is the mail server's password.
const mailSecret = "mail/password"

// webhookSecret is the name of the secret that a webhook is signed with.
func webhookSecret(id int64) string { return fmt.Sprintf("webhook/%d", id) }
