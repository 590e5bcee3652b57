package people

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/people"
	"innerladder/internal/credential"
	"innerladder/internal/records"
	"innerladder/internal/wire"

	"golang.org/x/time/rate"
)

// attempts limits how often someone may try to sign in: by address, by name, and by both
// together, so that guessing at one name from elsewhere does not lock its owner out soon. An
// attempt counts from when it begins, so that many at once are no more than one after the other.
type attempts struct {
	mu    sync.Mutex
	left  map[string]*rate.Limiter
	going map[string]int
	swept time.Time
}

// Failures that are let pass at once, and how long one is remembered.
const (
	failuresOfBoth, failuresOfAddress, failuresOfName = 5, 20, 50
	forgiven                                          = 30 * time.Second
)

// ofSignIn are the limits of an attempt to sign in with a password, ofLink those of one with a
// link: guessing at one does not use up the other.
func ofSignIn(name, address string) map[string]int {
	return map[string]int{
		"both\x00" + name + "\x00" + address: failuresOfBoth,
		"address\x00" + address:              failuresOfAddress, "name\x00" + name: failuresOfName,
	}
}

func ofLink(address string) map[string]int {
	return map[string]int{"link\x00" + address: failuresOfAddress}
}

// begin counts an attempt, or refuses it when there were too many failures. end says how it
// ended: one that failed goes on to count.
func (a *attempts) begin(limits map[string]int, now time.Time) (end func(failed bool), err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for key, most := range limits {
		left := float64(most)
		if l := a.left[key]; l != nil {
			left = l.TokensAt(now)
		}
		if left-float64(a.going[key]) < 1 {
			return nil, fault.New(fault.TooOften, "sign_in.too_often",
				"there were too many failed attempts to sign in").Do("wait a minute and try again")
		}
	}
	if a.going == nil {
		a.going = map[string]int{}
	}
	for key := range limits {
		a.going[key]++
	}
	return func(failed bool) {
		a.mu.Lock()
		defer a.mu.Unlock()
		for key := range limits {
			if a.going[key]--; a.going[key] == 0 {
				delete(a.going, key)
			}
		}
		if failed {
			a.failed(limits, now)
		}
	}, nil
}

// failed counts a failure.
func (a *attempts) failed(limits map[string]int, now time.Time) {
	if a.left == nil {
		a.left = map[string]*rate.Limiter{}
	}
	for key, most := range limits {
		l := a.left[key]
		if l == nil {
			l = rate.NewLimiter(rate.Every(forgiven), most)
			a.left[key] = l
		}
		l.AllowN(now, 1)
	}
	if now.Sub(a.swept) > time.Hour { // those that are full again say nothing
		a.swept = now
		for key, l := range a.left {
			if l.TokensAt(now) >= float64(l.Burst()) {
				delete(a.left, key)
			}
		}
	}
}

// FirstLink makes a link for the first owner while there is nobody; it is empty when
// there is somebody. An earlier one ends.
func (s *Service) FirstLink(ctx context.Context) (link string, err error) {
	all, err := s.DB.Read(records.Everything).People(ctx)
	if err != nil || len(all) > 0 {
		return "", err
	}
	return act.Change(ctx, s.Base, act.BySelf(), access.Administer, func(t *act.Tx) (string, error) {
		link, err := s.link(ctx, t, nil)
		if err != nil {
			return "", err
		}
		return link, t.Note(ctx, act.Entry{
			Kind:     "service.first_link",
			Sentence: "A link for the first owner was made.",
		})
	})
}

var errLink = fault.New(fault.Unsigned, "welcome.used",
	"the link is not valid: it is unknown, expired or was used").
	Do("ask an owner for a new one, or start the service again for the first")

// Welcome looks whom a link would let in.
func (s *Service) Welcome(ctx context.Context, secret string, from people.From) (wire.Welcomed, error) {
	p, err := s.linked(ctx, s.DB.Read(records.Everything), secret, from)
	switch {
	case err != nil:
		return wire.Welcomed{}, err
	case p == nil:
		return wire.Welcomed{First: true}, nil
	}
	return wire.Welcomed{Name: p.Name}, nil
}

func (s *Service) linked(ctx context.Context, r records.View, secret string, from people.From) (*people.Person, error) {
	end, err := s.attempts.begin(ofLink(from.Address), s.Now())
	if err != nil {
		return nil, err
	}
	p, err := r.Link(ctx, credential.Digest(secret), s.Now())
	wrong := errors.Is(err, records.ErrNone) || (err == nil && p != nil && p.Disabled != nil)
	end(wrong)
	if wrong {
		return nil, errLink
	}
	return p, err
}

// ComeIn uses a link: the person chooses a password and is signed in. The first owner
// also chooses a name.
func (s *Service) ComeIn(ctx context.Context, secret, name, password string,
	from people.From,
) (session string, p *people.Person, err error) {
	p, err = s.linked(ctx, s.DB.Read(records.Everything), secret, from)
	if err != nil {
		return "", nil, err
	}
	first := p == nil
	if !first {
		name = p.Name
	} else if err := naming.Check("name", name); err != nil {
		return "", nil, err
	} else if name == act.Itself {
		return "", nil, fault.New(fault.Invalid, "person.reserved", "%s is what the service calls itself", name).
			In("name").Do("choose another name")
	}
	names := []string{name}
	if !first {
		names = append(names, mailbox(p.Email))
	}
	if err := credential.CheckPassword(password, names...); err != nil {
		return "", nil, err
	}
	hash, err := s.hashPassword(ctx, from.Address, password)
	if err != nil {
		return "", nil, err
	}
	p, err = act.Change(ctx, s.Base, act.Actor{Name: name, Address: from.Address}, access.Own,
		func(t *act.Tx) (*people.Person, error) {
			p, err := s.linked(ctx, t.View, secret, from) // it may have been used meanwhile
			if err != nil {
				return nil, err
			}
			if first {
				if err := t.View.AddPerson(ctx,
					people.Person{Name: name, AddedBy: act.Itself, AddedAt: t.Now}); err != nil {
					return nil, err
				}
				if p, err = t.PersonNamed(ctx, name); err != nil {
					return nil, err
				}
				m := access.Membership{Project: access.Everywhere, Role: access.Owner}
				if err := t.PutMembership(ctx, p.ID, m, act.Itself, t.Now); err != nil {
					return nil, err
				}
				if err := t.Note(ctx, act.Entry{
					Kind: "person.added", Subject: name,
					Sentence: name + " was added, the first owner.", After: m,
				}); err != nil {
					return nil, err
				}
			}
			if err := t.EndLink(ctx, credential.Digest(secret)); err != nil {
				return nil, err
			}
			if err := t.SetPassword(ctx, p.ID, hash); err != nil {
				return nil, err
			}
			if err := t.EndSessionsOf(ctx, p.ID, nil); err != nil {
				return nil, err
			}
			return p, t.Note(ctx, act.Entry{
				Kind: "person.password", Subject: name,
				Sentence: name + " chose a password.",
			})
		})
	if err != nil {
		return "", nil, err
	}
	session, err = s.openSession(ctx, p, "link", from)
	return session, p, err
}

// errSignIn does not tell which of the two is wrong.
var errSignIn = fault.New(fault.Unsigned, "sign_in.wrong", "name or password is wrong").
	Do("try again, or ask an owner for a new link")

// SignIn opens a session of the console for whoever has a name and a password.
func (s *Service) SignIn(ctx context.Context, name, password string,
	from people.From,
) (session string, p *people.Person, err error) {
	p, err = s.DB.Read(records.Everything).PersonNamed(ctx, name)
	hash := ""
	switch {
	case errors.Is(err, records.ErrNone):
	case err != nil:
		return "", nil, err
	case p.Disabled == nil:
		hash = p.Password
	}
	fine, err := s.isPassword(ctx, name, from.Address, password, hash)
	if err != nil {
		return "", nil, err
	}
	if !fine {
		s.Log.Warn("a sign-in failed", "address", from.Address)
		return "", nil, errSignIn
	}
	session, err = s.openSession(ctx, p, "password", from)
	return session, p, err
}

// isPassword takes a turn and reports whether a password is the one that a hash was made of. The
// attempt begins with its turn; too many that failed refuse it.
func (s *Service) isPassword(ctx context.Context, name, address, password, hash string) (fine bool, err error) {
	done, err := s.turns.Take(ctx, address)
	if err != nil {
		return false, err
	}
	defer done()
	end, err := s.attempts.begin(ofSignIn(name, address), s.Now())
	if err != nil {
		return false, err
	}
	defer func() { end(err == nil && !fine) }()
	return credential.IsPassword(password, hash)
}

// hashPassword takes a turn and makes what is kept of a password.
func (s *Service) hashPassword(ctx context.Context, address, password string) (string, error) {
	done, err := s.turns.Take(ctx, address)
	if err != nil {
		return "", err
	}
	defer done()
	return credential.HashPassword(password), nil
}

// openSession opens a session and notes it.
func (s *Service) openSession(ctx context.Context, p *people.Person, how string, from people.From) (string, error) {
	secret, digest := credential.Token("")
	by := act.Actor{Name: p.Name, Address: from.Address}
	if len(from.Agent) > 200 {
		from.Agent = strings.ToValidUTF8(from.Agent[:200], "")
	}
	return act.Change(ctx, s.Base, by, access.Own, func(t *act.Tx) (string, error) {
		if err := t.EndSession(ctx, nil, t.Now); err != nil { // those that are over
			return "", err
		}
		if err := t.AddSession(ctx, p.ID, digest,
			people.Session{
				How: how, Address: from.Address, Agent: from.Agent, MadeAt: t.Now,
				Expires: t.Now.Add(people.SessionLasts),
			}); err != nil {
			return "", err
		}
		return secret, t.Note(ctx, act.Entry{
			Kind: "person.signed_in", Subject: p.Name,
			Sentence: p.Name + " signed in by " + how + ".",
		})
	})
}

// SignInVouched opens a session for someone that a provider vouches for. The first time
// they are found by their verified e-mail address; after that by the provider's own name
// for them, whatever their address becomes.
func (s *Service) SignInVouched(ctx context.Context, v people.Vouched,
	from people.From,
) (session string, p *people.Person, err error) {
	r := s.DB.Read(records.Everything)
	p, err = r.PersonBySubject(ctx, v.Issuer, v.Subject)
	if errors.Is(err, records.ErrNone) && v.Verified && v.Email != "" {
		p, err = r.PersonByEmail(ctx, v.Email)
		if err == nil && p.Subject != "" { // the address has passed to somebody else
			err = records.ErrNone
		}
		if err == nil && p.Disabled == nil {
			_, err = act.Change(ctx, s.Base, act.Actor{Name: p.Name, Address: from.Address}, access.Own,
				func(t *act.Tx) (struct{}, error) {
					if err := t.SetSubject(ctx, p.ID, v.Issuer, v.Subject); err != nil {
						return struct{}{}, err
					}
					return struct{}{}, t.Note(ctx,
						act.Entry{
							Kind: "person.vouched", Subject: p.Name,
							Sentence: p.Name + " is vouched for by " + v.Issuer + ".",
						})
				})
		}
	}
	switch {
	case errors.Is(err, records.ErrNone) || (err == nil && p.Disabled != nil):
		return "", nil, fault.New(fault.Forbidden, "sign_in.stranger",
			"the provider knows you, but nobody here has a verified e-mail address of yours").
			Do("ask an owner to add you with that address")
	case err != nil:
		return "", nil, err
	}
	if v.Mapped != nil {
		if err := s.followGroups(ctx, p, v, from); err != nil {
			return "", nil, err
		}
	}
	session, err = s.openSession(ctx, p, "provider", from)
	return session, p, err
}

// byProvider is who gives the roles that groups of the provider give. It is no name that anybody can have.
const byProvider = "provider of sign-ins"

// followGroups gives someone the roles that their groups at the provider give, and takes those away that these gave
// before and do not give any more. What people gave them stays.
func (s *Service) followGroups(ctx context.Context, p *people.Person, v people.Vouched, from people.From) error {
	_, err := act.Change(ctx, s.Base, act.Actor{Name: p.Name, Address: from.Address}, access.Own,
		func(t *act.Tx) (struct{}, error) {
			none := struct{}{}
			before, err := t.GivenBy(ctx, p.ID, byProvider)
			if err != nil {
				return none, err
			}
			now := v.Mapped.Of(v.Groups)
			for _, m := range now {
				if slices.Contains(p.Memberships, m) {
					continue
				}
				if why := s.cannotBe(ctx, t, m); why != "" {
					s.Log.Warn("a group of the provider gives a role that there is not", "person", p.Name, "role",
						m.Role, "project", m.Project, "why", why)
					continue
				}
				if err := t.PutMembership(ctx, p.ID, m, byProvider, t.Now); err != nil {
					return none, err
				}
				if err := t.Note(ctx, act.Entry{
					Needs: access.Own, Project: projectOf(m), Kind: "member.added", Subject: p.Name, After: m,
					Sentence: fmt.Sprintf("%s became %s of %s, by their groups at the provider.", p.Name, m.Role,
						whereOf(m)),
				}); err != nil {
					return none, err
				}
			}
			for _, m := range before {
				if slices.Contains(now, m) {
					continue
				}
				if err := t.RemoveMembership(ctx, p.ID, m); err != nil {
					return none, err
				}
				if err := t.Note(ctx, act.Entry{
					Needs: access.Own, Project: projectOf(m), Kind: "member.removed", Subject: p.Name, Before: m,
					Sentence: fmt.Sprintf("%s is no longer %s of %s, by their groups at the provider.", p.Name, m.Role,
						whereOf(m)),
				}); err != nil {
					return none, err
				}
			}
			if len(before) == 0 {
				return none, nil
			}
			return none, s.someoneKeepsTheService(ctx, t)
		})
	return err
}

// projectOf is the project that an entry about a membership belongs to: none for one in all of them.
func projectOf(m access.Membership) string {
	if m.Project == access.Everywhere {
		return ""
	}
	return m.Project
}

// cannotBe says why there can be no membership; empty when it can.
func (s *Service) cannotBe(ctx context.Context, t *act.Tx, m access.Membership) string {
	if _, err := roleNamed(ctx, t.View.Within(records.Everything), m.Role); err != nil {
		return err.Error()
	}
	if m.Project == access.Everywhere {
		return ""
	}
	if err := s.CheckProject(ctx, t.View.Within(records.Everything), m.Project); err != nil {
		return err.Error()
	}
	return ""
}

// ByToken finds who a token belongs to and what it may do.
func (s *Service) ByToken(ctx context.Context, secret string) (act.Actor, error) {
	r := s.DB.Read(records.Everything)
	tok, err := r.TokenByDigest(ctx, credential.Digest(secret))
	now := s.Now()
	wrong := fault.New(fault.Unsigned, "token.wrong",
		"the token is not valid: it is unknown, or was ended").
		Do("sign in again with: innerladder login")
	switch {
	case errors.Is(err, records.ErrNone):
		return act.Actor{}, wrong
	case err != nil:
		return act.Actor{}, err
	case tok.EndedAt != nil:
		return act.Actor{}, wrong
	case !tok.Expires.After(now):
		return act.Actor{}, fault.New(fault.Unsigned, "token.expired", "the token %q expired on %s", tok.Title,
			tok.Expires.Format("2006-01-02")).Do("make a new one")
	}
	p, err := r.PersonNamed(ctx, tok.Owner)
	if err != nil {
		return act.Actor{}, err
	}
	if p.Disabled != nil {
		return act.Actor{}, wrong
	}
	if tok.UsedAt == nil || now.Sub(*tok.UsedAt) > time.Hour {
		if err := s.DB.ByTheWay(func() error {
			return s.DB.Write(ctx, records.Everything, func(r records.View) error {
				return r.UseToken(ctx, tok.ID, now)
			})
		}); err != nil {
			return act.Actor{}, err
		}
	}
	rights, err := r.RightsOf(ctx, p)
	return act.Actor{
		Name: p.Name, Rights: rights.Within(tok.Scope), Person: p.ID,
		Narrowed: len(tok.Scope.Permissions)+len(tok.Scope.Projects) > 0,
	}, err
}

// BySession finds who signed in to a session.
func (s *Service) BySession(ctx context.Context, session string) (act.Actor, error) {
	r := s.DB.Read(records.Everything)
	digest := credential.Digest(session)
	p, err := r.PersonBySession(ctx, digest, s.Now())
	if errors.Is(err, records.ErrNone) || (err == nil && p.Disabled != nil) {
		return act.Actor{}, fault.New(fault.Unsigned, "session.over", "the session is over").Do("sign in again")
	}
	if err != nil {
		return act.Actor{}, err
	}
	rights, err := r.RightsOf(ctx, p)
	return act.Actor{Name: p.Name, Rights: rights, Person: p.ID, Session: digest}, err
}

// WhoAmI says who is signed in.
func (s *Service) WhoAmI(ctx context.Context, by act.Actor) (wire.Me, error) {
	if err := by.May(access.SignedIn); err != nil {
		return wire.Me{}, err
	}
	p, err := s.DB.Read(records.Everything).PersonNamed(ctx, by.Name)
	if err != nil {
		return wire.Me{}, err
	}
	if by.Narrowed {
		*p = shown(*p, by)
	}
	me := wire.Me{Person: *p, May: map[string][]access.Permission{}, HasPassword: p.Password != "", Project: p.Project}
	for _, m := range p.Memberships {
		me.May[m.Project] = by.Rights.In(m.Project).List()
	}
	if by.Narrowed {
		return me, nil // its owner's inbox is not for it
	}
	me.Unread, err = s.DB.Read(records.Everything).Unread(ctx, p.ID)
	return me, err
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, session string) error {
	return s.DB.Write(ctx, records.Everything, func(r records.View) error {
		return r.EndSession(ctx, credential.Digest(session),
			s.Now())
	})
}

// mailbox is what stands before the @ of an address, which is mostly a name.
func mailbox(email string) string {
	box, _, _ := strings.Cut(email, "@")
	return box
}

// ChangePassword changes the password of whoever is signed in and ends all their other sessions, and their tokens if
// that is asked for.
func (s *Service) ChangePassword(ctx context.Context, by act.Actor, old, password string, endTokens bool) error {
	if err := by.May(access.Own); err != nil {
		return err
	}
	p, err := s.DB.Read(records.Everything).PersonNamed(ctx, by.Name)
	if err != nil {
		return err
	}
	if p.Robot || by.Session == nil {
		return fault.New(fault.Forbidden, "password.no_session",
			"a password is changed in the console, by whoever is signed in with it").Do("sign in to the console")
	}
	if p.Password != "" {
		fine, err := s.isPassword(ctx, by.Name, by.Address, old, p.Password)
		if err != nil {
			return err
		}
		if !fine {
			return fault.New(fault.Invalid, "password.old", "the present password is wrong").In("old").
				Do("try again, or ask an owner for a new link")
		}
	}
	if err := credential.CheckPassword(password, by.Name, mailbox(p.Email)); err != nil {
		return err
	}
	hash, err := s.hashPassword(ctx, by.Address, password)
	if err != nil {
		return err
	}
	_, err = act.Change(ctx, s.Base, by.WithoutRepeat(), access.Own, func(t *act.Tx) (struct{}, error) {
		if err := t.SetPassword(ctx, p.ID, hash); err != nil {
			return struct{}{}, err
		}
		if err := t.EndSessionsOf(ctx, p.ID, by.Session); err != nil {
			return struct{}{}, err
		}
		if err := t.Note(ctx, act.Entry{
			Kind: "person.password", Subject: by.Name, Sentence: by.Name + " chose another password.",
		}); err != nil || !endTokens {
			return struct{}{}, err
		}
		tokens, err := t.Tokens(ctx, by.Name)
		for i := 0; err == nil && i < len(tokens); i++ {
			err = endToken(ctx, t, &tokens[i])
		}
		return struct{}{}, err
	})
	return err
}

// Sessions lists where whoever is signed in is signed in.
func (s *Service) Sessions(ctx context.Context, by act.Actor) (wire.Listed[people.Session], error) {
	if err := by.May(access.Own); err != nil {
		return wire.Listed[people.Session]{}, err
	}
	items, err := s.DB.Read(records.Everything).Sessions(ctx, by.Person, s.Now())
	return wire.Listed[people.Session]{Items: items}, err
}

// EndOtherSessions signs whoever is signed in out everywhere else.
func (s *Service) EndOtherSessions(ctx context.Context, by act.Actor) (struct{}, error) {
	return act.Change(ctx, s.Base, by, access.Own, func(t *act.Tx) (struct{}, error) {
		if err := t.EndSessionsOf(ctx, t.By.Person, t.By.Session); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.Note(ctx,
			act.Entry{
				Kind: "person.signed_out", Subject: t.By.Name,
				Sentence: t.By.Name + " signed out everywhere else.",
			})
	})
}

// Nobody reports whether the service has no person yet who could sign in.
func (s *Service) Nobody(ctx context.Context) (bool, error) {
	all, err := s.DB.Read(records.Everything).People(ctx)
	return len(all) == 0, err
}

// Address is how people reach the console.
func (s *Service) Address() string { return s.address }
