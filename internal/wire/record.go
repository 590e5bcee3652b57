package wire

import (
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
)

// Preferences are what reaches someone, with what there is to choose from.
type Preferences struct {
	Choices notice.Choices     `json:"choices"`
	Topics  []notice.Described `json:"topics"`
	Email   string             `json:"email" description:"where e-mail goes; empty when none is known"`
	Mail    bool               `json:"mail" description:"whether the service can send e-mail"`
}

// NewWebhook says what a webhook is told.
type NewWebhook struct {
	Project string   `json:"project" required:"true" description:"a project's name, or * for all and the service itself"`
	Address string   `json:"address" required:"true" description:"https://…; http:// only to private networks that the operator allows"`
	Kinds   []string `json:"kinds,omitempty" description:"such as split.made, or split for all that begin so; everything when empty"`
}

// MadeWebhook is a webhook with the secret that is shown once.
type MadeWebhook struct {
	notice.Webhook
	Secret string `json:"secret" description:"signs what is sent; shown once"`
}

// Happening is something that happened, with what people say about it.
type Happening struct {
	record.Entry
	Comments []record.Entry `json:"comments,omitempty"`
}

// Said is a comment, and who it does not reach.
type Said struct {
	record.Entry
	Unreached []string `json:"unreached,omitempty" description:"names that are mentioned, of nobody or of people who may not see this"`
}
