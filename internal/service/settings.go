package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/keep"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/traffic"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

func mailSettings(ctx context.Context, r records.View) (notice.MailSettings, error) {
	m := notice.MailSettings{}
	return m, r.Setting(ctx, "mail", &m)
}

// Mail shows how e-mail is sent.
func (s *Service) Mail(ctx context.Context, by act.Actor) (notice.MailSettings, error) {
	if err := by.May(access.Administer); err != nil {
		return notice.MailSettings{}, err
	}
	return mailSettings(ctx, s.DB.Read(records.Everything))
}

// SetMail says how e-mail is sent. A nil password keeps the one that is kept.
func (s *Service) SetMail(ctx context.Context, by act.Actor, m notice.MailSettings,
	password *string,
) (notice.MailSettings, error) {
	if m.TLS == "" {
		m.TLS = "starttls"
	}
	if m.Port == 0 {
		m.Port = map[string]int{"tls": 465, "starttls": 587, "none": 25}[m.TLS]
	}
	switch {
	case !slices.Contains([]string{"starttls", "tls", "none"}, m.TLS):
		return m, fault.New(fault.Invalid, "mail.tls", "%q is no way to secure the connection", m.TLS).In("tls").
			Do("use starttls, tls or none")
	case m.Host != "" && (strings.ContainsAny(m.Host, " /:@") || m.Port < 1 || m.Port > 65535):
		return m, fault.New(fault.Invalid, "mail.host", "%s:%d is no mail server", m.Host, m.Port).In("host").
			Do("give the host's name and a port")
	case m.Host != "" && m.TLS == "none" && m.Host != "localhost" && m.Host != "127.0.0.1" && m.Host != "::1":
		return m, fault.New(fault.Invalid, "mail.open", "e-mail would go to %s in the open", m.Host).In("tls").
			Do("use starttls or tls")
	case m.Host != "" && m.From == "":
		return m, fault.New(fault.Invalid, "mail.from", "no sender is given").In("from").
			Do("give the address that e-mail comes from")
	}
	if err := checkEmail(m.From); err != nil {
		return m, err
	}
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Administer, func(t *act.Tx) (notice.MailSettings, error) {
		before, err := mailSettings(ctx, t.View)
		if err != nil {
			return m, err
		}
		switch {
		case password == nil: // a password is sent to the server that it was given for, and no other
			m.HasPassword = before.HasPassword && before.Host == m.Host
		case *password == "":
			m.HasPassword = false
		default:
			m.HasPassword = true
			err = putSecret(ctx, t.View, s.ring(), mailSecret, []byte(*password), t.By.Name, t.Now)
		}
		if err == nil && !m.HasPassword {
			err = t.RemoveSecret(ctx, mailSecret)
		}
		if err != nil {
			return m, err
		}
		if err := t.PutSetting(ctx, "mail", m, t.By.Name, t.Now); err != nil {
			return m, err
		}
		sentence := "No e-mail is sent any more."
		if m.Host != "" {
			sentence = fmt.Sprintf("E-mail is sent by %s:%d.", m.Host, m.Port)
		}
		return m, t.Note(ctx, act.Entry{
			Kind: "settings.mail", Subject: "mail", Sentence: sentence, Before: before,
			After: m,
		})
	})
}

// usualRetention holds until another is chosen.
func usualRetention() keep.Retention {
	return keep.Retention{
		Minutes: "72h", Hours: "2160h", Days: "9600h", Readings: "720h", Deliveries: "720h",
		Notices: "2160h", Repeats: "48h",
	}
}

// Retention shows how long what grows is kept.
func (s *Service) Retention(ctx context.Context, by act.Actor) (keep.Retention, error) {
	if err := by.May(access.Administer); err != nil {
		return keep.Retention{}, err
	}
	return s.retention(ctx)
}

func (s *Service) retention(ctx context.Context) (keep.Retention, error) {
	r := usualRetention()
	return r, s.DB.Read(records.Everything).Setting(ctx, "retention", &r)
}

// SetRetention says how long what grows is kept; absent members stay as they are.
func (s *Service) SetRetention(ctx context.Context, by act.Actor, n keep.Retention, reason string) (keep.Retention,
	error,
) {
	before, err := s.retention(ctx)
	if err != nil {
		return n, err
	}
	for _, f := range []struct {
		into *string
		was  string
	}{
		{&n.Minutes, before.Minutes},
		{&n.Hours, before.Hours},
		{&n.Days, before.Days},
		{&n.Readings, before.Readings},
		{&n.Deliveries, before.Deliveries},
		{&n.Notices, before.Notices},
		{&n.Repeats, before.Repeats},
	} {
		if *f.into == "" {
			*f.into = f.was
		}
	}
	if _, err := n.Ages(); err != nil {
		return n, err
	}
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (keep.Retention, error) {
		if err := t.PutSetting(ctx, "retention", n, t.By.Name, t.Now); err != nil {
			return n, err
		}
		return n, t.Note(ctx, act.Entry{
			Kind: "settings.retention", Subject: "retention",
			Sentence: "It was changed how long logs and windows are kept.", Reason: reason, Before: before, After: n,
		})
	})
}

// Forget removes what is older than it is kept for. It is called from time to time.
func (s *Service) Forget(ctx context.Context) error {
	r, err := s.retention(ctx)
	if err != nil {
		return err
	}
	ages, err := r.Ages()
	if err != nil {
		return err
	}
	now := s.Now()
	if err := s.DB.Write(ctx, records.Everything, func(r records.View) error {
		return r.Forget(ctx, now.Add(-ages.Deliveries), now.Add(-ages.Notices), now.Add(-ages.Repeats), now)
	}); err != nil {
		return err
	}
	kept := s.signals.Store()
	if kept == nil {
		return nil
	}
	return errors.Join(kept.Forget(ctx, now,
		signals.Ages{Minutes: ages.Minutes, Hours: ages.Hours, Days: ages.Days, Readings: ages.Readings}),
		s.forgetTrials(ctx, kept))
}

// forgetTrials drops the evidence of trials that have ended.
func (s *Service) forgetTrials(ctx context.Context, kept *signals.Store) error {
	r := s.DB.Read(records.Everything)
	endpoints, err := r.Endpoints(ctx)
	if err != nil {
		return err
	}
	return jobs.Each(endpoints, func(e traffic.Endpoint) string { return e.Name }, func(e traffic.Endpoint) error {
		trials, err := s.trialsOf(ctx, r, e)
		if err != nil {
			return err
		}
		var begun []int
		for _, t := range trials {
			begun = append(begun, t.Begun)
		}
		return kept.ForgetTrials(ctx, e.Name, begun)
	})
}

// RollSignals rolls minutes that are over up to hours and days.
func (s *Service) RollSignals(ctx context.Context) error {
	kept := s.signals.Store()
	for more := kept != nil; more; {
		var err error
		if more, err = kept.Roll(ctx, s.Clock()); err != nil {
			return err
		}
	}
	return nil
}
