package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"strings"
	"time"

	"github.com/emersion/go-smtp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Letter is an e-mail that the stand-in mail server received.
type Letter struct {
	From, To, Subject, Body string
}

// Mail is a stand-in mail server: it takes every e-mail, keeps none, and tells of each.
type Mail struct {
	// Received is told of each e-mail, one at a time.
	Received func(Letter)
}

// Serve takes e-mails on a listener until ctx is done.
func (m *Mail) Serve(ctx context.Context, l net.Listener) error {
	s := smtp.NewServer(m)
	s.Domain, s.MaxMessageBytes, s.ReadTimeout, s.WriteTimeout = "standin", 1<<20, time.Minute, time.Minute
	stop := context.AfterFunc(ctx, func() { _ = s.Close() })
	defer stop()
	if err := s.Serve(l); err != nil && ctx.Err() == nil {
		return err
	}
	return nil
}

// NewSession begins to take e-mails of one connection.
func (m *Mail) NewSession(*smtp.Conn) (smtp.Session, error) { return &letters{mail: m}, nil }

// letters takes the e-mails of one connection.
type letters struct {
	mail     *Mail
	from, to string
}

// Mail notes the sender.
func (l *letters) Mail(from string, _ *smtp.MailOptions) error { l.from = from; return nil }

// Rcpt notes the receiver.
func (l *letters) Rcpt(to string, _ *smtp.RcptOptions) error { l.to = to; return nil }

// Data reads the e-mail.
func (l *letters) Data(r io.Reader) error {
	msg, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(msg.Header.Get("Subject"))
	if err != nil {
		return err
	}
	body := msg.Body
	if strings.EqualFold(msg.Header.Get("Content-Transfer-Encoding"), "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	l.mail.Received(Letter{l.from, l.to, subject, strings.ReplaceAll(string(text), "\r\n", "\n")})
	return nil
}

// Reset forgets sender and receiver.
func (l *letters) Reset() { l.from, l.to = "", "" }

// Logout ends the connection.
func (*letters) Logout() error { return nil }

// CheckHook reports why a delivery to a webhook is not one that the holder of the secret
// sent just now; nil when it is. It follows the Standard Webhooks specification.
func CheckHook(secret string, h http.Header, body []byte, now time.Time) error {
	w, err := standardwebhooks.NewWebhook(strings.TrimSpace(secret))
	if err != nil {
		return fmt.Errorf("the secret is not base64: %w", err)
	}
	if err := w.VerifyIgnoringTimestamp(body, h); err != nil {
		return fmt.Errorf("it was not sent by the holder of the secret: %w", err)
	}
	var seconds int64
	if _, err := fmt.Sscan(h.Get(standardwebhooks.HeaderWebhookTimestamp), &seconds); err != nil {
		return errors.New("it does not say when it was sent")
	}
	if age := now.Sub(time.Unix(seconds, 0)); age > 5*time.Minute || age < -5*time.Minute {
		return errors.New("it is too old or from the future")
	}
	return nil
}

// Hook is a stand-in receiver of webhooks: it checks each delivery and tells of it.
type Hook struct {
	// Secret gives the secret that deliveries are signed with.
	Secret func() string
	// Received is told of each delivery that was right, with its id.
	Received func(id string, body []byte)
}

// ServeHTTP takes one delivery.
func (k *Hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err == nil {
		err = CheckHook(k.Secret(), r.Header, body, time.Now())
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnauthorized)
		return
	}
	k.Received(r.Header.Get("Webhook-Id"), body)
	_, _ = io.WriteString(w, "thank you\n")
}
