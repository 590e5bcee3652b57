package act

import (
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/record"
	"innerladder/internal/records"
)

// Itself is the name of the service where it does something that nobody asked for.
const Itself = naming.Service

// Actor is who does something. It is handed down as an argument, from the call or the job
// that begins it to the entry of the record that tells of it.
type Actor struct {
	Name   string
	Rights access.Rights
	// Address is where the call came from, RequestID its id; both are for the record.
	Address, RequestID string
	// Repeat identifies a call that may come twice; its zero value is none.
	Repeat RepeatKey
	// Person is the account, 0 for the service itself.
	Person int64
	// Session is the digest of the console's session; nil when a token was used.
	Session []byte
	// Narrowed is set when a token was used that may less than its owner.
	Narrowed bool
}

// RepeatKey is an Idempotency-Key with the digest of the request it came with.
type RepeatKey struct {
	Key    string
	Digest []byte
}

// BySelf is the service itself, which may do everything.
func BySelf() Actor { return Actor{Name: Itself, Rights: access.All()} }

// WithoutRepeat is the same actor for a change whose answer must not be kept for a repeated
// call, because it shows a secret once, or need not be.
func (a Actor) WithoutRepeat() Actor {
	a.Repeat = RepeatKey{}
	return a
}

// Sight is what the actor may see.
func (a Actor) Sight() records.Sight {
	projects, all := a.Rights.Where(access.Read)
	return records.Sight{All: all, Projects: projects}
}

// Sees reports whether the actor may see an entry at all.
func (a Actor) Sees(e record.Entry) bool { return a.Rights.May(access.Read, e.Project) }

// Where lists the projects in which the actor has a permission, nil for all.
func (a Actor) Where(p access.Permission) []string {
	where, all := a.Rights.Where(p)
	if all {
		return nil
	}
	return where
}

// Signed refuses a call of nobody.
func (a Actor) Signed() error {
	if a.Name == "" {
		return fault.New(fault.Unsigned, "sign_in.needed", "nobody is signed in").
			Do("sign in with: innerladder login")
	}
	return nil
}

// May checks that the actor has a permission in some project. Which one it is about is
// known when the thing has been found; then Need checks it.
func (a Actor) May(p access.Permission) error {
	if err := a.Signed(); err != nil {
		return err
	}
	if p == access.Own && a.Narrowed {
		return fault.New(fault.Forbidden, "token.narrowed",
			"a token that is narrowed down may what it says, and is not for what is %s's own", a.Name).
			Do("sign in to the console, or use a token of full scope")
	}
	if p == access.Administer {
		return a.Need(p, "")
	}
	if !a.Rights.Somewhere(p) {
		return fault.New(fault.Forbidden, "permission.missing", "%s may not %s in any project (%s)", a.Name,
			p, access.What(p)).
			Do("ask an owner for a role with the permission %q", p)
	}
	return nil
}

// Need checks that the actor has a permission in a project; the empty project is the
// service itself.
func (a Actor) Need(p access.Permission, project string) error {
	switch {
	case a.Rights.May(p, project):
		return nil
	case project == "" || project == access.Everywhere:
		return fault.New(fault.Forbidden, "permission.missing", "%s may not %s for the whole service (%s)",
			a.Name, p, access.What(p)).
			Do("ask someone who has the permission %q for all projects", p)
	}
	return fault.New(fault.Forbidden, "permission.missing", "%s may not %s in the project %s (%s)", a.Name,
		p, project, access.What(p)).
		Do("ask an owner of %s for a role with the permission %q", project, p)
}
