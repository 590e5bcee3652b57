package notices

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/people"
	"innerladder/internal/records"

	"github.com/wneessen/go-mail"
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
	if err := people.CheckEmail(m.From); err != nil {
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
			err = s.secrets.Put(ctx, t, mailSecret, []byte(*password))
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

// sendMail sends a notice by e-mail.
func (s *Service) sendMail(ctx context.Context, d notice.Delivery) (string, error) {
	r := s.DB.Read(records.Everything)
	p, err := r.PersonNamed(ctx, d.Person)
	if err != nil {
		return "", err
	}
	rights, err := r.RightsOf(ctx, p)
	if err != nil {
		return "", err
	}
	// They may have left since.
	if p.Disabled != nil || p.Email == "" || !rights.May(access.Read, d.Entry.Project) {
		return "", &hopeless{errors.New("it is not for them any more")}
	}
	return s.mail(ctx, p.Email, strings.TrimSuffix(d.Entry.Sentence, "."), s.mailBody(d))
}

// mailBody writes a notice for reading in a mail program.
func (s *Service) mailBody(d notice.Delivery) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\n", d.Entry.Sentence)
	if d.Entry.Reason != "" {
		fmt.Fprintf(&b, "%s wrote:\n\n%s\n\n", d.Entry.Actor, indented(d.Entry.Reason))
	}
	fmt.Fprintf(&b, "%s\n\n", s.address+pageOf(d.Entry))
	why := map[notice.Topic]string{
		notice.Mention: "you are mentioned", notice.Review: "you may sign it",
		notice.Answer: "you asked for it", notice.Comment: "you took part in it",
	}[d.Topic]
	if why == "" {
		why = "you chose to be told of this"
	}
	fmt.Fprintf(&b, "You get this because %s. Choose what reaches you: %s/settings/me\n", why, s.address)
	return b.String()
}

func indented(text string) string { return "  " + strings.ReplaceAll(text, "\n", "\n  ") }

// mail sends one e-mail.
func (s *Service) mail(ctx context.Context, to, subject, body string) (string, error) {
	set, err := mailSettings(ctx, s.DB.Read(records.Everything))
	if err != nil {
		return "", err
	}
	if set.Host == "" {
		return "", errors.New("no mail server is set")
	}
	options := []mail.Option{mail.WithPort(set.Port), mail.WithTimeout(deliveryWait), mail.WithHELO("inner-ladder")}
	switch set.TLS {
	case "tls":
		options = append(options, mail.WithSSL())
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if set.User != "" {
		password, err := s.secrets.Open(ctx, s.DB.Read(records.Everything), mailSecret)
		if err != nil {
			return "", err
		}
		how := mail.SMTPAuthAutoDiscover
		if set.TLS == "none" {
			how = mail.SMTPAuthPlainNoEnc // only ever to this machine
		}
		options = append(options, mail.WithSMTPAuth(how), mail.WithUsername(set.User),
			mail.WithPassword(string(password)))
	}
	c, err := mail.NewClient(set.Host, options...)
	if err != nil {
		return "", fmt.Errorf("the mail server's settings do not hold: %w", err)
	}
	m := mail.NewMsg()
	if err := errors.Join(m.FromFormat("Inner Ladder", set.From), m.To(to)); err != nil {
		return "", &hopeless{err}
	}
	m.Subject(subject)
	m.SetMessageID()
	m.SetDate()
	m.SetBodyString(mail.TypeTextPlain, body)
	if err := c.DialAndSendWithContext(ctx, m); err != nil {
		return "", fmt.Errorf("the mail server did not take it: %w", err)
	}
	return "taken by " + set.Host, nil
}

// TestMail sends an e-mail to whoever asks, to see that the settings hold.
func (s *Service) TestMail(ctx context.Context, by act.Actor) (struct{}, error) {
	if err := by.May(access.Administer); err != nil {
		return struct{}{}, err
	}
	p, err := s.DB.Read(records.Everything).PersonNamed(ctx, by.Name)
	if err != nil {
		return struct{}{}, err
	}
	if p.Email == "" {
		return struct{}{}, fault.New(fault.Refused, "mail.no_address", "you have no e-mail address").
			Do("give yourself one with: innerladder person edit %s -email NAME@HOST", by.Name)
	}
	limited, cancel := context.WithTimeout(ctx, deliveryWait)
	defer cancel()
	if _, err := s.mail(limited, p.Email, "A test from Inner Ladder",
		"If you read this, e-mail from "+s.address+" arrives.\n"); err != nil {
		return struct{}{}, fault.New(fault.Unavailable, "mail.failed", "%v", err).In("host").
			Do("check the settings of the mail server")
	}
	return struct{}{}, nil
}
