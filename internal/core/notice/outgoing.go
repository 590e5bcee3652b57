package notice

import (
	"time"

	"innerladder/internal/core/record"
)

// MailSettings say how e-mail is sent.
type MailSettings struct {
	Host string `json:"host" description:"of the SMTP server; empty sends no e-mail"`
	Port int    `json:"port,omitempty"`
	TLS  string `json:"tls,omitempty" enum:"starttls,tls,none" description:"starttls when not given; none only on this machine"`
	User string `json:"user,omitempty"`
	From string `json:"from,omitempty" description:"the sender's address"`
	// HasPassword reports whether a password is kept; the password itself is never shown.
	HasPassword bool `json:"has_password" description:"whether a password is kept; it is never shown"`
}

// Notice is an entry of the record that someone is told of.
type Notice struct {
	ID    int64        `json:"id"`
	Topic Topic        `json:"topic" enum:"mention,review,answer,comment,alert,split,version"`
	Entry record.Entry `json:"entry"`
	Read  *time.Time   `json:"read_at,omitempty"`
}

// Webhook is an address that is told of what happens.
type Webhook struct {
	ID      int64  `json:"id"`
	Project string `json:"project" description:"a project's name, or * for all"`
	Address string `json:"address"`
	// Kinds narrow down what it is told of: kinds such as split.made, or classes of them
	// such as split.
	Kinds  []string  `json:"kinds" description:"such as split.made, or split for all that begin so; everything when empty"`
	MadeBy string    `json:"made_by"`
	MadeAt time.Time `json:"made_at"`
}

// Delivery is an entry on its way to a webhook or to someone's e-mail address.
type Delivery struct {
	ID      int64        `json:"id"`
	Webhook int64        `json:"webhook,omitempty"`
	Person  string       `json:"person,omitempty"`
	Topic   Topic        `json:"topic,omitempty"`
	Entry   record.Entry `json:"entry"`
	State   string       `json:"state" enum:"waiting,delivered,failed"`
	Tries   int          `json:"tries"`
	NextAt  time.Time    `json:"next_at" description:"when it is tried next, while it waits"`
	Answer  string       `json:"answer" description:"what came back last, or why nothing did"`
	MadeAt  time.Time    `json:"made_at"`
	DoneAt  *time.Time   `json:"done_at,omitempty"`
	// Email is where it goes when it goes to a person.
	Email string `json:"-"`
}
