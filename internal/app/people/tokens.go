package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/people"
	"innerladder/internal/credential"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

const (
	usualTokenLasts = 90 * 24 * time.Hour
	mostTokenLasts  = 366 * 24 * time.Hour
)

// MakeToken makes a token for whoever is signed in, or for a robot.
func (s *Service) MakeToken(ctx context.Context, by act.Actor, n wire.NewToken) (wire.MadeToken, error) {
	if strings.TrimSpace(n.Title) == "" || len(n.Title) > 100 {
		return wire.MadeToken{}, fault.New(fault.Invalid, "token.title", "the token has no title, or a long one").
			In("title").Do("say in a few words what it is for")
	}
	lasts := usualTokenLasts
	if n.Lasts != "" {
		d, err := time.ParseDuration(n.Lasts)
		if err != nil || d < time.Minute || d > mostTokenLasts {
			return wire.MadeToken{}, fault.New(fault.Invalid, "token.lasts",
				"a token cannot last %q", n.Lasts).In("lasts").
				Do("give from 1m to %.0fh, such as 720h", mostTokenLasts.Hours())
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
			return wire.MadeToken{}, err
		}
		n.Permissions = set.List()
	}
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Own, func(t *act.Tx) (wire.MadeToken, error) {
		for _, project := range n.Projects {
			if err := s.CheckProject(ctx, t.View, project); err != nil {
				return wire.MadeToken{}, err
			}
		}
		owner, err := t.PersonNamed(ctx, t.By.Name)
		if n.Robot != "" {
			owner, err = s.robotOf(ctx, t.View, t.By, n.Robot)
		}
		if err != nil {
			return wire.MadeToken{}, err
		}
		secret, digest := credential.Token("il_")
		out := wire.MadeToken{Token: people.Token{
			Owner: owner.Name, Title: n.Title, Hint: credential.Hint(secret), Scope: n.Scope,
			MadeBy: t.By.Name, MadeAt: t.Now, Expires: t.Now.Add(lasts),
		}, Secret: secret}
		if err := t.AddToken(ctx, owner.ID, digest, &out.Token); err != nil {
			return out, err
		}
		return out, t.Note(ctx, act.Entry{
			Kind: "token.made", Subject: owner.Name,
			Sentence: fmt.Sprintf("A token for %s was made: %s.", owner.Name, n.Title), After: out.Token,
		})
	})
}

// robotOf finds a robot that whoever acts keeps: nobody makes tokens that may more than
// they do themselves.
func (s *Service) robotOf(ctx context.Context, r records.View, by act.Actor, name string) (*people.Person, error) {
	p, err := s.Known(ctx, r, by, name)
	if err != nil {
		return nil, err
	}
	if !p.Robot {
		return nil, fault.New(fault.Forbidden, "token.of_person", "%s is a person, who makes tokens for themselves",
			name).In("robot").Do("name a robot")
	}
	rights, err := r.RightsOf(ctx, p)
	if err != nil {
		return nil, err
	}
	for _, m := range p.Memberships {
		if err := by.Need(access.Manage, m.Project); err != nil {
			return nil, err
		}
		if !by.Rights.Covers(rights.In(m.Project), m.Project) {
			return nil, fault.New(fault.Forbidden, "member.more_than_own", "%s may more than %s in %s", name,
				by.Name, whereOf(m)).In("robot").Do("ask someone with that role")
		}
	}
	if len(p.Memberships) == 0 {
		return p, by.Need(access.Administer, "")
	}
	return p, nil
}

// Tokens lists the tokens of whoever is signed in, or of a robot that they keep.
func (s *Service) Tokens(ctx context.Context, by act.Actor, robot string) (wire.Listed[people.Token], error) {
	if err := by.May(access.Own); err != nil {
		return wire.Listed[people.Token]{}, err
	}
	owner, r := by.Name, s.DB.Read(by.Sight())
	if robot != "" {
		p, err := s.robotOf(ctx, r, by, robot)
		if err != nil {
			return wire.Listed[people.Token]{}, err
		}
		owner = p.Name
	}
	items, err := r.Tokens(ctx, owner)
	return wire.Listed[people.Token]{Items: items}, err
}

// EndToken takes a token away: one's own, or a robot's that one keeps. Those who keep
// accounts may take any.
func (s *Service) EndToken(ctx context.Context, by act.Actor, id int64) (people.Token, error) {
	return act.Change(ctx, s.Base, by, access.Own, func(t *act.Tx) (people.Token, error) {
		unknown := fault.New(fault.Unknown, "token.unknown", "there is no token %d of yours", id).In("token").
			Do("see yours with: innerladder tokens")
		tok, err := t.Token(ctx, id)
		if errors.Is(err, records.ErrNone) || (err == nil && tok.EndedAt != nil) {
			return people.Token{}, unknown
		}
		if err != nil {
			return people.Token{}, err
		}
		if tok.Owner != t.By.Name && !t.By.Rights.May(access.Administer, "") {
			if _, err := s.robotOf(ctx, t.View, t.By, tok.Owner); err != nil {
				return people.Token{}, unknown
			}
		}
		return *tok, endToken(ctx, t, tok)
	})
}

func endToken(ctx context.Context, t *act.Tx, tok *people.Token) error {
	if err := t.View.EndToken(ctx, tok.ID, t.Now); err != nil {
		return err
	}
	tok.EndedAt = &t.Now
	return t.Note(ctx, act.Entry{
		Kind: "token.ended", Subject: tok.Owner,
		Sentence: fmt.Sprintf("A token of %s was taken away: %s.", tok.Owner, tok.Title), Before: tok,
	})
}
