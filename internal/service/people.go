package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/store"
)

// The roles.
const (
	Owner  = "owner"
	Member = "member"
)

// SessionLasts is how long a sign-in to the console holds.
const SessionLasts = 12 * time.Hour

// newSecret makes a random secret and the digest under which it is stored. A secret has
// 256 random bits, so a plain digest of it cannot be guessed back.
func newSecret(prefix string) (secret string, digest []byte) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	secret = prefix + base64.RawURLEncoding.EncodeToString(b)
	return secret, digestOf(secret)
}

func digestOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// NewPerson is a person with the token that is shown once.
type NewPerson struct {
	store.Person
	Token string `json:"token" description:"shown once; it is stored as a digest only"`
}

// AddPerson gives someone access.
func (s *Service) AddPerson(ctx context.Context, name, role string) (NewPerson, error) {
	if err := registry.CheckName("name", name); err != nil {
		return NewPerson{}, err
	}
	if name == Itself {
		return NewPerson{}, fault.New(fault.Invalid, "person.reserved", "%s is what the service calls itself", name).In("name").Do("choose another name")
	}
	if role == "" {
		role = Member
	}
	if role != Owner && role != Member {
		return NewPerson{}, fault.New(fault.Invalid, "person.role", "%q is no role", role).In("role").Do("use owner or member")
	}
	token, digest := newSecret("il_")
	// The token itself must not be kept for repeated calls: an Idempotency-Key does not
	// apply here, and a repeated name is refused anyway.
	ctx = withoutRepeat(ctx)
	p, err := change(ctx, s, AddPeople, func(t *tx) (store.Person, error) {
		p := store.Person{Name: name, Role: role, AddedBy: t.actor.Name, AddedAt: t.now}
		if _, err := t.PersonNamed(ctx, name); err == nil {
			return p, fault.New(fault.Refused, "person.exists", "there is a person %s already", name).In("name").Do("choose another name")
		} else if !errors.Is(err, store.ErrNone) {
			return p, err
		}
		if err := t.Records.AddPerson(ctx, p, digest); err != nil {
			return p, err
		}
		return p, t.note(ctx, entry{Kind: "person.added", Subject: name, Sentence: name + " was added as " + role + ".", After: p})
	})
	return NewPerson{p, token}, err
}

func withoutRepeat(ctx context.Context) context.Context {
	a, _ := ctx.Value(actorKey{}).(Actor)
	a.Repeat = RepeatKey{}
	return As(ctx, a)
}

// FirstPerson adds an owner when there is nobody yet and returns the token; it is empty
// when there was somebody.
func (s *Service) FirstPerson(ctx context.Context, name string) (token string, err error) {
	people, err := s.store.Read().People(ctx)
	if err != nil || len(people) > 0 {
		return "", err
	}
	p, err := s.AddPerson(As(ctx, Actor{Name: Itself}), name, Owner)
	return p.Token, err
}

// People lists everyone.
func (s *Service) People(ctx context.Context) (Listed[store.Person], error) {
	return list(ctx, func(r store.Records) ([]store.Person, string, error) {
		people, err := r.People(ctx)
		return people, "", err
	}, s)
}

// ByToken finds who a token belongs to.
func (s *Service) ByToken(ctx context.Context, token string) (store.Person, error) {
	return s.known(s.store.Read().PersonByToken(ctx, digestOf(token)))
}

// BySession finds who signed in to a session.
func (s *Service) BySession(ctx context.Context, session string) (store.Person, error) {
	return s.known(s.store.Read().PersonBySession(ctx, digestOf(session), s.now()))
}

func (s *Service) known(p store.Person, err error) (store.Person, error) {
	if errors.Is(err, store.ErrNone) {
		return p, fault.New(fault.Unsigned, "sign_in.wrong", "the token or session is not valid").Do("sign in again with a token that was given to you")
	}
	return p, err
}

// SignIn opens a session of the console for whoever has a token.
func (s *Service) SignIn(ctx context.Context, token string) (session string, p store.Person, err error) {
	if p, err = s.ByToken(ctx, token); err != nil {
		return "", p, err
	}
	session, digest := newSecret("")
	return session, p, s.store.Write(ctx, func(r store.Records) error {
		return r.AddSession(ctx, p.Name, digest, s.now().Add(SessionLasts))
	})
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, session string) error {
	return s.store.Write(ctx, func(r store.Records) error { return r.EndSession(ctx, digestOf(session), s.now()) })
}
