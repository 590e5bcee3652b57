package notices

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

	"innerladder/internal/core/ladder"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
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
	secret, err := s.secrets.Open(ctx, r, webhookSecret(d.Webhook))
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

// pageOf is the page of the console about what an entry is about.
func pageOf(e record.Entry) string {
	class, _, _ := strings.Cut(e.Kind, ".")
	for _, also := range append([]string{e.Subject}, e.Also...) {
		if _, err := ladder.ParseID("subject", also); err == nil {
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
