package people

import (
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/notice"
)

// SigningKey is a key with which a person signs.
type SigningKey struct {
	Fingerprint string     `json:"fingerprint"`
	Owner       string     `json:"owner"`
	Title       string     `json:"title,omitempty"`
	Public      []byte     `json:"public" description:"the Ed25519 public key, in base64"`
	AddedAt     time.Time  `json:"added_at,omitzero"`
	EndedAt     *time.Time `json:"ended_at,omitempty" description:"since when it signs nothing any more"`
}

// Person is someone who may sign in, or a robot that works with tokens.
type Person struct {
	Name     string     `json:"name"`
	Robot    bool       `json:"robot,omitempty"`
	Email    string     `json:"email,omitempty"`
	AddedBy  string     `json:"added_by"`
	AddedAt  time.Time  `json:"added_at"`
	Disabled *time.Time `json:"disabled_at,omitempty" description:"since when the person may not sign in any more"`
	// Memberships are the roles the person has in projects that may be seen.
	Memberships []access.Membership `json:"memberships"`

	// ID, Password, Issuer and Subject are for signing in.
	ID       int64          `json:"-"`
	Password string         `json:"-"`
	Issuer   string         `json:"-"`
	Subject  string         `json:"-"`
	Choices  notice.Choices `json:"-"`
	// Project is where what the person adds goes when they name none; their own business.
	Project string `json:"-"`
}

// Token lets a person or robot call the API. The token itself is not kept.
type Token struct {
	ID    int64  `json:"id"`
	Owner string `json:"owner"`
	Title string `json:"title"`
	// Hint is how the token ends.
	Hint    string       `json:"hint" description:"how it ends"`
	Scope   access.Scope `json:"scope"`
	MadeBy  string       `json:"made_by"`
	MadeAt  time.Time    `json:"made_at"`
	Expires time.Time    `json:"expires_at"`
	UsedAt  *time.Time   `json:"used_at,omitempty" description:"when it was last used, to the hour"`
	EndedAt *time.Time   `json:"ended_at,omitempty" description:"when it was taken away"`
}

// Session is a sign-in to the console that still holds.
type Session struct {
	ID      int64     `json:"id"`
	How     string    `json:"how" description:"password, link or the provider"`
	Address string    `json:"address"`
	Agent   string    `json:"agent" description:"what the browser calls itself"`
	MadeAt  time.Time `json:"made_at"`
	Expires time.Time `json:"expires_at"`
}
