package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/wneessen/go-mail"
)

const (
	// deliveriesAtOnce is how many deliveries are sent at the same time.
	deliveriesAtOnce = 8
	// deliveryWait is how long the other side may take.
	deliveryWait = 15 * time.Second
)

// Deliver sends what is due to webhooks and e-mail addresses. What fails is tried again
// later; a crash between sending and noting it sends it again, with the same id.
func (s *Service) Deliver(ctx context.Context) error {
	due, err := s.DB.Read(records.Everything).DueDeliveries(ctx, s.Now(), 4*deliveriesAtOnce)
	if err != nil || len(due) == 0 {
		return err
	}
	turn := make(chan struct{}, deliveriesAtOnce)
	var wait sync.WaitGroup
	for _, d := range due {
		turn <- struct{}{}
		wait.Go(func() {
			defer func() { <-turn }()
			s.deliver(ctx, d)
		})
	}
	wait.Wait()
	return nil
}

func (s *Service) deliver(ctx context.Context, d notice.Delivery) {
	limited, cancel := context.WithTimeout(ctx, deliveryWait)
	defer cancel()
	answer, err := s.send(limited, d)
	if ctx.Err() != nil {
		return // we are stopping; it is sent after the next start
	}
	now := s.Now()
	d.Tries++
	d.State, d.Answer, d.DoneAt = "delivered", answer, &now
	if err != nil {
		d.State, d.Answer = "failed", err.Error()
		var hopeless *hopeless
		if wait, again := notice.Retry(d.Tries, d.ID); again && !errors.As(err, &hopeless) {
			d.State, d.NextAt, d.DoneAt = "waiting", now.Add(wait), nil
		}
	}
	if len(d.Answer) > 500 {
		d.Answer = strings.ToValidUTF8(d.Answer[:500], "") + "…"
	}
	err = s.DB.Write(ctx, records.Everything, func(r records.View) error { return r.SetDelivery(ctx, d) })
	if err != nil {
		s.Log.Error("it was not noted what became of a delivery; it is sent again", "delivery", d.ID, "error", err)
	}
}

// hopeless is an error that trying again does not mend.
type hopeless struct{ error }

func (s *Service) send(ctx context.Context, d notice.Delivery) (answer string, err error) {
	if d.Webhook != 0 {
		return s.sendWebhook(ctx, d)
	}
	return s.sendMail(ctx, d)
}

// sendWebhook posts an entry as a CloudEvent, signed as the Standard Webhooks
// specification says.
func (s *Service) sendWebhook(ctx context.Context, d notice.Delivery) (string, error) {
	r := s.DB.Read(records.Everything)
	w, err := r.Webhook(ctx, d.Webhook)
	if err != nil {
		return "", &hopeless{errors.New("the webhook was removed")}
	}
	secret, err := openSecret(ctx, r, s.ring(), webhookSecret(d.Webhook))
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(d.Entry.Event(s.address))
	if err != nil {
		return "", err
	}
	h, err := SignWebhook(string(secret), strconv.FormatInt(d.ID, 10), s.Now(), body)
	if err != nil {
		return "", err
	}
	h.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	h.Set("User-Agent", "inner-ladder")
	status, said, err := s.fetcher.Post(ctx, w.Address, h, body)
	if err != nil {
		return "", fmt.Errorf("it was not reached: %w", err)
	}
	answer := strings.TrimSpace(fmt.Sprintf("%d %s %s", status, http.StatusText(status), firstLine(said)))
	if status == http.StatusGone {
		return "", &hopeless{errors.New(answer)}
	}
	if status < 200 || status > 299 {
		return "", errors.New(answer)
	}
	return answer, nil
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return line
}

// SignWebhook makes the headers that prove to a receiver who sent a body and when:
// HMAC-SHA256 over id, time and body, with the webhook's secret.
func SignWebhook(secret, id string, at time.Time, body []byte) (http.Header, error) {
	w, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		return nil, fmt.Errorf("reading a webhook's secret: %w", err)
	}
	signature, err := w.Sign(id, at, body)
	if err != nil {
		return nil, fmt.Errorf("signing what is sent to a webhook: %w", err)
	}
	h := http.Header{}
	h.Set(standardwebhooks.HeaderWebhookID, id)
	h.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
	h.Set(standardwebhooks.HeaderWebhookSignature, signature)
	return h, nil
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

// pageOf is the page of the console about what an entry is about.
func pageOf(e record.Entry) string {
	class, _, _ := strings.Cut(e.Kind, ".")
	for _, also := range append([]string{e.Subject}, e.Also...) {
		if promotionForm.MatchString(also) {
			return "/reviews#" + also
		}
	}
	ref, notVersion := registry.ParseRef("subject", e.Subject)
	model, _ := naming.Thing(e.Subject)
	switch {
	case class == "split" || class == "alert" || class == "endpoint" || class == "caller":
		return "/endpoints/" + e.Subject
	case notVersion == nil && ref.Number > 0:
		return "/models/" + ref.Model + "/versions/" + strconv.Itoa(ref.Number)
	case notVersion == nil || class == "model":
		return "/models/" + model
	}
	return "/activity?subject=" + e.Subject
}

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
		password, err := openSecret(ctx, s.DB.Read(records.Everything), s.ring(), mailSecret)
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
