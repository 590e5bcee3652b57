package wire

import (
	"innerladder/internal/core/access"
	"innerladder/internal/core/people"
)

// NewPerson says who is added.
type NewPerson struct {
	Name  string `json:"name" required:"true"`
	Email string `json:"email,omitempty" description:"for sign-in by the provider, and for notices"`
	Robot bool   `json:"robot,omitempty" description:"a robot works with tokens and cannot sign in"`
	// Memberships are the roles to begin with.
	Memberships []access.Membership `json:"memberships,omitempty" description:"the roles to begin with"`
}

// AddedPerson is a person with the link that lets them in.
type AddedPerson struct {
	people.Person
	Link string `json:"link,omitempty" description:"lets the person in once, to choose a password; shown once. Absent for robots"`
}

// PersonEdit changes an account; absent members stay as they are.
type PersonEdit struct {
	Email    *string `json:"email,omitempty"`
	Disabled *bool   `json:"disabled,omitempty" description:"true shuts the person out, false lets them in again"`
	Reason   string  `json:"reason,omitempty"`
}

// Welcomed is whom a link would let in.
type Welcomed struct {
	Name  string `json:"name,omitempty" description:"absent for the first owner, who chooses one"`
	First bool   `json:"first"`
}

// Me is who is signed in and what they may do.
type Me struct {
	people.Person
	// May lists permissions by project; * holds in all.
	May map[string][]access.Permission `json:"may" description:"permissions by project; those of * hold in all projects, and administer for the service"`
	// Password reports whether there is one.
	HasPassword bool `json:"has_password"`
	// Project is where what they add goes when they name none.
	Project string `json:"project,omitempty" description:"where what you add goes when you name no project"`
	Unread  int    `json:"unread" description:"notices in the inbox that were not read; 100 when there are more"`
}

// NewToken says what a token is for.
type NewToken struct {
	Title string `json:"title" required:"true" description:"what it is for"`
	// Robot is whose it is; yours when empty.
	Robot string `json:"robot,omitempty" description:"the robot it is for; yours when not given"`
	access.Scope
	Lasts string `json:"lasts,omitempty" description:"such as 720h; 2160h (90 days) when not given, at most 8784h"`
}

// MadeToken is a token that is shown once.
type MadeToken struct {
	people.Token
	Secret string `json:"token" description:"shown once; only its digest is kept"`
}
