package people

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/people"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/wire"
)

// AddSigningKey makes a key known with which whoever acts signs.
func (s *Service) AddSigningKey(ctx context.Context, by act.Actor, public, title string) (people.SigningKey, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(public))
	if err != nil || len(raw) != ed25519.PublicKeySize {
		return people.SigningKey{}, fault.New(fault.Invalid, "signing_key.form", "this is no Ed25519 public key").
			In("public").Do("give its 32 bytes in base64")
	}
	if len(title) > 100 {
		return people.SigningKey{}, fault.New(fault.Invalid, "signing_key.title", "the title is long").In("title").
			Do("use at most 100 characters")
	}
	return act.Change(ctx, s.Base, by, access.Own, func(t *act.Tx) (people.SigningKey, error) {
		me, err := t.PersonNamed(ctx, t.By.Name)
		if err != nil {
			return people.SigningKey{}, err
		}
		if me.Robot || t.By.Narrowed {
			return people.SigningKey{}, fault.New(fault.Forbidden, "signing_key.who",
				"robots and narrow tokens make no signing keys known").
				Do("sign in as a person, with a token of full scope")
		}
		k := people.SigningKey{
			Fingerprint: seal.Fingerprint(raw), Owner: me.Name, Title: title, Public: raw,
			AddedAt: t.Now,
		}
		all, err := t.SigningKeys(ctx, "")
		if err != nil {
			return k, err
		}
		for _, other := range all {
			if other.Fingerprint == k.Fingerprint {
				return k, fault.New(fault.Refused, "signing_key.exists", "the key %s is known already", k.Fingerprint).
					In("public").Do("make a new one with: innerladder signing-key make FILE")
			}
		}
		if err := t.View.AddSigningKey(ctx, me.ID, k); err != nil {
			return k, err
		}
		return k, t.Note(ctx, act.Entry{
			Kind: "signing_key.added", Subject: me.Name,
			Sentence: fmt.Sprintf("%s signs with the key %s.", me.Name, k.Fingerprint), After: k,
		})
	})
}

// SigningKeys lists the keys with which whoever acts and the service sign. Those of others
// come with what they signed.
func (s *Service) SigningKeys(ctx context.Context, by act.Actor) (wire.Listed[people.SigningKey], error) {
	if err := by.May(access.Own); err != nil {
		return wire.Listed[people.SigningKey]{}, err
	}
	all, err := s.KeysOf(ctx, by.Name)
	return wire.Listed[people.SigningKey]{Items: all}, err
}

// KeysOf lists the service's key and those of everyone, or of one person.
func (s *Service) KeysOf(ctx context.Context, owner string) ([]people.SigningKey, error) {
	all, err := s.DB.Read(records.Everything).SigningKeys(ctx, owner)
	own := people.SigningKey{
		Fingerprint: seal.Fingerprint(s.signer.Public()), Owner: act.Itself, Title: "the service's key",
		Public: s.signer.Public(),
	}
	return append([]people.SigningKey{own}, all...), err
}

// EndSigningKey says that a key of whoever acts signs nothing any more; what it signed
// stays signed.
func (s *Service) EndSigningKey(ctx context.Context, by act.Actor, fingerprint string) (people.SigningKey, error) {
	return act.Change(ctx, s.Base, by, access.Own, func(t *act.Tx) (people.SigningKey, error) {
		mine, err := t.SigningKeys(ctx, t.By.Name)
		if err != nil {
			return people.SigningKey{}, err
		}
		i := slices.IndexFunc(mine, func(k people.SigningKey) bool {
			return k.Fingerprint == fingerprint &&
				k.EndedAt == nil
		})
		if i < 0 {
			return people.SigningKey{}, fault.New(fault.Unknown, "signing_key.unknown", "%s has no key %s in use",
				t.By.Name, fingerprint).In("key").Do("see yours with: innerladder signing-keys")
		}
		if err := t.View.EndSigningKey(ctx, fingerprint, t.Now); err != nil {
			return people.SigningKey{}, err
		}
		k := mine[i]
		now := t.Now
		k.EndedAt = &now
		return k, t.Note(ctx, act.Entry{
			Kind: "signing_key.ended", Subject: t.By.Name,
			Sentence: fmt.Sprintf("The key %s of %s signs nothing any more.", fingerprint, t.By.Name),
			Before:   mine[i],
		})
	})
}
