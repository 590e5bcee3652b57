package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/credential"
	"innerladder/internal/store"

	"golang.org/x/time/rate"
)

// SessionLasts is how long a sign-in to the console holds.
const SessionLasts = 12 * time.Hour

// From is where a sign-in comes from.
type From struct {
	Address string
	Agent   string
}

// attempts limits how often someone may try to sign in: by address, by name, and by both
// together, so that guessing at one name from elsewhere does not lock its owner out soon.
type attempts struct {
	mu    sync.Mutex
	left  map[string]*rate.Limiter
	swept time.Time
}

// Failures that are let pass at once, and how long one is remembered.
const (
	failuresOfBoth, failuresOfAddress, failuresOfName = 5, 20, 50
	forgiven                                          = 30 * time.Second
)

func (a *attempts) keys(name, address string) map[string]int {
	return map[string]int{"both\x00" + name + "\x00" + address: failuresOfBoth, "address\x00" + address: failuresOfAddress, "name\x00" + name: failuresOfName}
}

// check refuses when there were too many failures.
func (a *attempts) check(name, address string, now time.Time) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	for key := range a.keys(name, address) {
		if l := a.left[key]; l != nil && l.TokensAt(now) < 1 {
			return fault.New(fault.TooOften, "sign_in.too_often", "there were too many failed attempts to sign in").Do("wait a minute and try again")
		}
	}
	return nil
}

// failed counts a failure.
func (a *attempts) failed(name, address string, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.left == nil {
		a.left = map[string]*rate.Limiter{}
	}
	for key, most := range a.keys(name, address) {
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
	all, err := s.store.Read().People(ctx)
	if err != nil || len(all) > 0 {
		return "", err
	}
	return change(BySelf(ctx), s, access.Administer, func(t *tx) (string, error) {
		link, err := s.link(ctx, t, nil)
		if err != nil {
			return "", err
		}
		return link, t.note(ctx, entry{Kind: "service.first_link", Sentence: "A link for the first owner was made."})
	})
}

// Welcomed is whom a link would let in.
type Welcomed struct {
	Name  string `json:"name,omitempty" description:"absent for the first owner, who chooses one"`
	First bool   `json:"first"`
}

var errLink = fault.New(fault.Unsigned, "welcome.used", "the link does not hold (any more)").Do("ask an owner for a new one, or start the service again for the first")

// Welcome looks whom a link would let in.
func (s *Service) Welcome(ctx context.Context, secret string, from From) (Welcomed, error) {
	p, err := s.linked(ctx, s.store.Read(), secret, from)
	switch {
	case err != nil:
		return Welcomed{}, err
	case p == nil:
		return Welcomed{First: true}, nil
	}
	return Welcomed{Name: p.Name}, nil
}

func (s *Service) linked(ctx context.Context, r store.Records, secret string, from From) (*store.Person, error) {
	if err := s.attempts.check("", from.Address, s.now()); err != nil {
		return nil, err
	}
	p, err := r.Link(ctx, credential.Digest(secret), s.now())
	if errors.Is(err, store.ErrNone) || (err == nil && p != nil && p.Disabled != nil) {
		s.attempts.failed("", from.Address, s.now())
		return nil, errLink
	}
	return p, err
}

// ComeIn uses a link: the person chooses a password and is signed in. The first owner
// also chooses a name.
func (s *Service) ComeIn(ctx context.Context, secret, name, password string, from From) (session string, p *store.Person, err error) {
	p, err = s.linked(ctx, s.store.Read(), secret, from)
	if err != nil {
		return "", nil, err
	}
	first := p == nil
	if !first {
		name = p.Name
	} else if err := registry.CheckName("name", name); err != nil {
		return "", nil, err
	} else if name == Itself {
		return "", nil, fault.New(fault.Invalid, "person.reserved", "%s is what the service calls itself", name).In("name").Do("choose another name")
	}
	if err := credential.CheckPassword(password, name); err != nil {
		return "", nil, err
	}
	hash, err := credential.HashPassword(ctx, password)
	if err != nil {
		return "", nil, err
	}
	p, err = change(As(ctx, Actor{Name: name, Address: from.Address}), s, access.Own, func(t *tx) (*store.Person, error) {
		p, err := s.linked(ctx, t.Records, secret, from) // it may have been used meanwhile
		if err != nil {
			return nil, err
		}
		if first {
			if err := t.Records.AddPerson(ctx, store.Person{Name: name, AddedBy: Itself, AddedAt: t.now}); err != nil {
				return nil, err
			}
			if p, err = t.PersonNamed(ctx, name); err != nil {
				return nil, err
			}
			m := access.Membership{Project: access.Everywhere, Role: access.Owner}
			if err := t.PutMembership(ctx, p.ID, m, Itself, t.now); err != nil {
				return nil, err
			}
			if err := t.note(ctx, entry{Kind: "person.added", Subject: name, Sentence: name + " was added, the first owner.", After: m}); err != nil {
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
		return p, t.note(ctx, entry{Kind: "person.password", Subject: name, Sentence: name + " chose a password."})
	})
	if err != nil {
		return "", nil, err
	}
	session, err = s.openSession(ctx, p, "link", from)
	return session, p, err
}

// errSignIn does not tell which of the two is wrong.
var errSignIn = fault.New(fault.Unsigned, "sign_in.wrong", "name or password is wrong").Do("try again, or ask an owner for a new link")

// SignIn opens a session of the console for whoever has a name and a password.
func (s *Service) SignIn(ctx context.Context, name, password string, from From) (session string, p *store.Person, err error) {
	if err := s.attempts.check(name, from.Address, s.now()); err != nil {
		return "", nil, err
	}
	p, err = s.store.Read().PersonNamed(ctx, name)
	hash := ""
	switch {
	case errors.Is(err, store.ErrNone):
	case err != nil:
		return "", nil, err
	case p.Disabled == nil:
		hash = p.Password
	}
	fine, err := credential.IsPassword(ctx, password, hash)
	if err != nil {
		return "", nil, err
	}
	if !fine {
		s.attempts.failed(name, from.Address, s.now())
		s.log.Warn("a sign-in failed", "address", from.Address)
		return "", nil, errSignIn
	}
	session, err = s.openSession(ctx, p, "password", from)
	return session, p, err
}

// openSession opens a session and notes it.
func (s *Service) openSession(ctx context.Context, p *store.Person, how string, from From) (string, error) {
	secret, digest := credential.Token("")
	ctx = As(ctx, Actor{Name: p.Name, Address: from.Address})
	if len(from.Agent) > 200 {
		from.Agent = strings.ToValidUTF8(from.Agent[:200], "")
	}
	return change(ctx, s, access.Own, func(t *tx) (string, error) {
		if err := t.EndSession(ctx, nil, t.now); err != nil { // those that are over
			return "", err
		}
		if err := t.AddSession(ctx, p.ID, digest, store.Session{How: how, Address: from.Address, Agent: from.Agent, MadeAt: t.now, Expires: t.now.Add(SessionLasts)}); err != nil {
			return "", err
		}
		return secret, t.note(ctx, entry{Kind: "person.signed_in", Subject: p.Name, Sentence: p.Name + " signed in by " + how + "."})
	})
}

// Vouched is who a provider of sign-ins says that someone is.
type Vouched struct {
	Issuer, Subject string
	// Email counts only when the provider has verified it.
	Email    string
	Verified bool
}

// SignInVouched opens a session for someone that a provider vouches for. The first time
// they are found by their verified e-mail address; after that by the provider's own name
// for them, whatever their address becomes.
func (s *Service) SignInVouched(ctx context.Context, v Vouched, from From) (session string, p *store.Person, err error) {
	r := s.store.Read()
	p, err = r.PersonBySubject(ctx, v.Issuer, v.Subject)
	if errors.Is(err, store.ErrNone) && v.Verified && v.Email != "" {
		p, err = r.PersonByEmail(ctx, v.Email)
		if err == nil && p.Subject != "" { // the address has passed to somebody else
			err = store.ErrNone
		}
		if err == nil && p.Disabled == nil {
			_, err = change(As(ctx, Actor{Name: p.Name, Address: from.Address}), s, access.Own, func(t *tx) (struct{}, error) {
				if err := t.SetSubject(ctx, p.ID, v.Issuer, v.Subject); err != nil {
					return struct{}{}, err
				}
				return struct{}{}, t.note(ctx, entry{Kind: "person.vouched", Subject: p.Name, Sentence: p.Name + " is vouched for by " + v.Issuer + "."})
			})
		}
	}
	switch {
	case errors.Is(err, store.ErrNone) || (err == nil && p.Disabled != nil):
		return "", nil, fault.New(fault.Forbidden, "sign_in.stranger", "the provider knows you, but nobody here has a verified e-mail address of yours").Do("ask an owner to add you with that address")
	case err != nil:
		return "", nil, err
	}
	session, err = s.openSession(ctx, p, "provider", from)
	return session, p, err
}

// ByToken finds who a token belongs to and what it may do.
func (s *Service) ByToken(ctx context.Context, secret string) (Actor, error) {
	r := s.store.Read()
	tok, err := r.TokenByDigest(ctx, credential.Digest(secret))
	now := s.now()
	wrong := fault.New(fault.Unsigned, "token.wrong", "the token does not hold").Do("sign in again with: innerladder login")
	switch {
	case errors.Is(err, store.ErrNone):
		return Actor{}, wrong
	case err != nil:
		return Actor{}, err
	case tok.EndedAt != nil:
		return Actor{}, wrong
	case !tok.Expires.After(now):
		return Actor{}, fault.New(fault.Unsigned, "token.expired", "the token %q expired on %s", tok.Title, tok.Expires.Format("2006-01-02")).Do("make a new one")
	}
	p, err := r.PersonNamed(ctx, tok.Owner)
	if err != nil {
		return Actor{}, err
	}
	if p.Disabled != nil {
		return Actor{}, wrong
	}
	if tok.UsedAt == nil || now.Sub(*tok.UsedAt) > time.Hour {
		if err := s.store.Write(ctx, func(r store.Records) error { return r.UseToken(ctx, tok.ID, now) }); err != nil {
			return Actor{}, err
		}
	}
	rights, err := r.RightsOf(ctx, p)
	return Actor{Name: p.Name, Rights: rights.Within(tok.Scope), person: p.ID, narrowed: len(tok.Scope.Permissions)+len(tok.Scope.Projects) > 0}, err
}

// BySession finds who signed in to a session.
func (s *Service) BySession(ctx context.Context, session string) (Actor, error) {
	r := s.store.Read()
	digest := credential.Digest(session)
	p, err := r.PersonBySession(ctx, digest, s.now())
	if errors.Is(err, store.ErrNone) || (err == nil && p.Disabled != nil) {
		return Actor{}, fault.New(fault.Unsigned, "session.over", "the session is over").Do("sign in again")
	}
	if err != nil {
		return Actor{}, err
	}
	rights, err := r.RightsOf(ctx, p)
	return Actor{Name: p.Name, Rights: rights, person: p.ID, session: digest}, err
}

// Me is who is signed in and what they may do.
type Me struct {
	store.Person
	// May lists permissions by project; * holds in all.
	May map[string][]access.Permission `json:"may" description:"permissions by project; those of * hold in all projects, and administer for the service"`
	// Password reports whether there is one.
	HasPassword bool `json:"has_password"`
	Unread      int  `json:"unread" description:"notices in the inbox that were not read; 100 when there are more"`
}

// WhoAmI says who is signed in.
func (s *Service) WhoAmI(ctx context.Context) (Me, error) {
	a, err := may(ctx, access.Own)
	if err != nil {
		return Me{}, err
	}
	p, err := s.store.Read().PersonNamed(ctx, a.Name)
	if err != nil {
		return Me{}, err
	}
	me := Me{Person: *p, May: map[string][]access.Permission{}, HasPassword: p.Password != ""}
	for _, m := range p.Memberships {
		me.May[m.Project] = a.Rights.In(m.Project).List()
	}
	me.Unread, err = s.store.Read().Unread(ctx, p.ID)
	return me, err
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, session string) error {
	return s.store.Write(ctx, func(r store.Records) error { return r.EndSession(ctx, credential.Digest(session), s.now()) })
}

// ChangePassword changes the password of whoever is signed in and ends all their other
// sessions.
func (s *Service) ChangePassword(ctx context.Context, old, password string) error {
	a, err := may(ctx, access.Own)
	if err != nil {
		return err
	}
	p, err := s.store.Read().PersonNamed(ctx, a.Name)
	if err != nil {
		return err
	}
	if p.Robot || a.session == nil {
		return fault.New(fault.Forbidden, "password.no_session", "a password is changed in the console, by whoever is signed in with it").Do("sign in to the console")
	}
	if err := s.attempts.check(a.Name, a.Address, s.now()); err != nil {
		return err
	}
	if p.Password != "" {
		fine, err := credential.IsPassword(ctx, old, p.Password)
		if err != nil {
			return err
		}
		if !fine {
			s.attempts.failed(a.Name, a.Address, s.now())
			return fault.New(fault.Invalid, "password.old", "the present password is wrong").In("old").Do("try again, or ask an owner for a new link")
		}
	}
	if err := credential.CheckPassword(password, a.Name); err != nil {
		return err
	}
	hash, err := credential.HashPassword(ctx, password)
	if err != nil {
		return err
	}
	_, err = change(withoutRepeat(ctx), s, access.Own, func(t *tx) (struct{}, error) {
		if err := t.SetPassword(ctx, p.ID, hash); err != nil {
			return struct{}{}, err
		}
		if err := t.EndSessionsOf(ctx, p.ID, a.session); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.note(ctx, entry{Kind: "person.password", Subject: a.Name, Sentence: a.Name + " chose another password."})
	})
	return err
}

// Sessions lists where whoever is signed in is signed in.
func (s *Service) Sessions(ctx context.Context) (Listed[store.Session], error) {
	a, err := may(ctx, access.Own)
	if err != nil {
		return Listed[store.Session]{}, err
	}
	items, err := s.store.Read().Sessions(ctx, a.person, s.now())
	return Listed[store.Session]{Items: items}, err
}

// EndOtherSessions signs whoever is signed in out everywhere else.
func (s *Service) EndOtherSessions(ctx context.Context) (struct{}, error) {
	return change(ctx, s, access.Own, func(t *tx) (struct{}, error) {
		if err := t.EndSessionsOf(ctx, t.actor.person, t.actor.session); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.note(ctx, entry{Kind: "person.signed_out", Subject: t.actor.Name, Sentence: t.actor.Name + " signed out everywhere else."})
	})
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
	store.Token
	Secret string `json:"token" description:"shown once; only its digest is kept"`
}

const (
	usualTokenLasts = 90 * 24 * time.Hour
	mostTokenLasts  = 366 * 24 * time.Hour
)

// MakeToken makes a token for whoever is signed in, or for a robot.
func (s *Service) MakeToken(ctx context.Context, n NewToken) (MadeToken, error) {
	if strings.TrimSpace(n.Title) == "" || len(n.Title) > 100 {
		return MadeToken{}, fault.New(fault.Invalid, "token.title", "the token has no title, or a long one").In("title").Do("say in a few words what it is for")
	}
	lasts := usualTokenLasts
	if n.Lasts != "" {
		d, err := time.ParseDuration(n.Lasts)
		if err != nil || d < time.Minute || d > mostTokenLasts {
			return MadeToken{}, fault.New(fault.Invalid, "token.lasts", "a token cannot last %q", n.Lasts).In("lasts").Do("give from 1m to %.0fh, such as 720h", mostTokenLasts.Hours())
		}
		lasts = d
	}
	if len(n.Permissions) > 0 {
		names := make([]string, len(n.Permissions))
		for i, p := range n.Permissions {
			names[i] = string(p)
		}
		set, err := access.ParseSet("permissions", names)
		if err != nil {
			return MadeToken{}, err
		}
		n.Permissions = set.List()
	}
	return change(withoutRepeat(ctx), s, access.Own, func(t *tx) (MadeToken, error) {
		if t.actor.narrowed {
			return MadeToken{}, fault.New(fault.Forbidden, "token.narrowed", "a token that is narrowed down makes no others").Do("sign in to the console, or use a token of full scope")
		}
		for _, project := range n.Projects {
			if err := s.checkProject(ctx, t.Records, project); err != nil {
				return MadeToken{}, err
			}
		}
		owner, err := t.PersonNamed(ctx, t.actor.Name)
		if n.Robot != "" {
			owner, err = s.robotOf(ctx, t, n.Robot)
		}
		if err != nil {
			return MadeToken{}, err
		}
		secret, digest := credential.Token("il_")
		out := MadeToken{store.Token{Owner: owner.Name, Title: n.Title, Hint: credential.Hint(secret), Scope: n.Scope, MadeBy: t.actor.Name, MadeAt: t.now, Expires: t.now.Add(lasts)}, secret}
		if err := t.AddToken(ctx, owner.ID, digest, &out.Token); err != nil {
			return out, err
		}
		return out, t.note(ctx, entry{Kind: "token.made", Subject: owner.Name, Sentence: fmt.Sprintf("A token for %s was made: %s.", owner.Name, n.Title), After: out.Token})
	})
}

// robotOf finds a robot that whoever acts keeps: nobody makes tokens that may more than
// they do themselves.
func (s *Service) robotOf(ctx context.Context, t *tx, name string) (*store.Person, error) {
	p, err := s.person(ctx, t.Records, name)
	if err != nil {
		return nil, err
	}
	if !p.Robot {
		return nil, fault.New(fault.Forbidden, "token.of_person", "%s is a person, who makes tokens for themselves", name).In("robot").Do("name a robot")
	}
	rights, err := t.RightsOf(ctx, p)
	if err != nil {
		return nil, err
	}
	for _, m := range p.Memberships {
		if err := t.actor.need(access.Manage, m.Project); err != nil {
			return nil, err
		}
		if !t.actor.Rights.Covers(rights.In(m.Project), m.Project) {
			return nil, fault.New(fault.Forbidden, "member.more_than_own", "%s may more than %s in %s", name, t.actor.Name, whereOf(m)).In("robot").Do("ask someone with that role")
		}
	}
	if len(p.Memberships) == 0 {
		return p, t.actor.need(access.Administer, "")
	}
	return p, nil
}

// Tokens lists the tokens of whoever is signed in, or of a robot that they keep.
func (s *Service) Tokens(ctx context.Context, robot string) (Listed[store.Token], error) {
	a, err := may(ctx, access.Own)
	if err != nil {
		return Listed[store.Token]{}, err
	}
	owner, r := a.Name, s.store.ReadAs(a.sight())
	if robot != "" {
		p, err := s.robotOf(ctx, &tx{Records: r, actor: a}, robot)
		if err != nil {
			return Listed[store.Token]{}, err
		}
		owner = p.Name
	}
	items, err := r.Tokens(ctx, owner)
	return Listed[store.Token]{Items: items}, err
}

// EndToken takes a token away: one's own, or a robot's that one keeps. Those who keep
// accounts may take any.
func (s *Service) EndToken(ctx context.Context, id int64) (store.Token, error) {
	return change(ctx, s, access.Own, func(t *tx) (store.Token, error) {
		unknown := fault.New(fault.Unknown, "token.unknown", "there is no token %d of yours", id).In("token").Do("see yours with: innerladder tokens")
		tok, err := t.Token(ctx, id)
		if errors.Is(err, store.ErrNone) || (err == nil && tok.EndedAt != nil) {
			return store.Token{}, unknown
		}
		if err != nil {
			return store.Token{}, err
		}
		if tok.Owner != t.actor.Name && !t.actor.Rights.May(access.Administer, "") {
			if _, err := s.robotOf(ctx, t, tok.Owner); err != nil {
				return store.Token{}, unknown
			}
		}
		if err := t.Records.EndToken(ctx, id, t.now); err != nil {
			return *tok, err
		}
		tok.EndedAt = &t.now
		return *tok, t.note(ctx, entry{Kind: "token.ended", Subject: tok.Owner, Sentence: fmt.Sprintf("A token of %s was taken away: %s.", tok.Owner, tok.Title), Before: tok})
	})
}

// projectFor is the project of something new: the one that is named, else the default if
// whoever acts may do so there, else the only one where they may.
func (s *Service) projectFor(ctx context.Context, t *tx, named string) (string, error) {
	if named != "" {
		return named, s.checkProject(ctx, t.Records, named)
	}
	if t.actor.Rights.May(t.permission, DefaultProject) {
		return DefaultProject, nil
	}
	if where, _ := t.actor.Rights.Where(t.permission); len(where) == 1 {
		return where[0], nil
	} else if len(where) > 1 {
		slices.Sort(where)
		return "", fault.New(fault.Invalid, "project.which", "no project is named").In("project").Do("name one of %s", strings.Join(where, ", "))
	}
	return "", t.need(DefaultProject)
}

// Nobody reports whether there is nobody yet who could sign in.
func (s *Service) Nobody(ctx context.Context) (bool, error) {
	all, err := s.store.Read().People(ctx)
	return len(all) == 0, err
}

// Address is how people reach the console.
func (s *Service) Address() string { return s.address }
