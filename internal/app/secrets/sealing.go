package secrets

import (
	"context"
	"crypto/hkdf"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/wire"
)

// The names of secrets.
const (
	requestIDsSecret = "request ids"
	signingSecret    = "signing"
)

// Unlocked are the keys that only this installation has.
type Unlocked struct {
	RequestIDs *traffic.RequestIDs
	// Columns keys the hashes of columns of requests.
	Columns []byte
	Signer  seal.Signer
}

// Unlock opens the keys of an installation, makes those that are missing, seals what was
// sealed with an earlier key anew, and has the record signed.
func Unlock(ctx context.Context, db *records.DB, keys *seal.Ring, now time.Time) (Unlocked, error) {
	var out Unlocked
	var ids, seed []byte
	err := db.Write(ctx, records.Everything, func(r records.View) error {
		if old, err := r.Key(ctx, requestIDsSecret); err == nil { // from before there were secrets
			if err := errors.Join(putSecret(ctx, r, keys, requestIDsSecret, old, act.Itself, now),
				r.RemoveKey(ctx, requestIDsSecret)); err != nil {
				return err
			}
		} else if !errors.Is(err, records.ErrNone) {
			return err
		}
		if err := reseal(ctx, r, keys, now); err != nil {
			return err
		}
		var err error
		if ids, err = openSecret(ctx, r, keys, requestIDsSecret); err != nil {
			return err
		}
		if seed, err = openSecret(ctx, r, keys, signingSecret); err == nil && seed == nil {
			seed = seal.NewSeed()
			err = putSecret(ctx, r, keys, signingSecret, seed, act.Itself, now)
		}
		return err
	})
	if err != nil {
		return out, err
	}
	if out.RequestIDs, err = traffic.NewRequestIDs(ids); err != nil {
		return out, err
	}
	if out.Columns, err = hkdf.Key(sha256.New, ids, nil, "columns of requests", sha256.Size); err != nil {
		return out, err
	}
	out.Signer = seal.NewSigner(seed)
	return out, db.SignWith(ctx, out.Signer)
}

// reseal seals with the present key what was sealed with another.
func reseal(ctx context.Context, r records.View, keys *seal.Ring, now time.Time) error {
	all, err := r.Secrets(ctx, "")
	if err != nil {
		return err
	}
	for _, s := range all {
		if keys.Current(s.Sealed) {
			continue
		}
		plain, err := keys.Open(s.Name, s.Sealed)
		if errors.Is(err, seal.ErrKey) {
			return fmt.Errorf("%w; give the key file that belongs to this data directory with -key-file", err)
		}
		if err != nil {
			return err
		}
		if err := putSecret(ctx, r, keys, s.Name, plain, s.SetBy, s.SetAt); err != nil {
			return err
		}
	}
	return nil
}

// Put seals a secret under a name, in place of the one that was there.
func (s *Service) Put(ctx context.Context, t *act.Tx, name string, plain []byte) error {
	return putSecret(ctx, t.View, s.Ring(), name, plain, t.By.Name, t.Now)
}

// Open opens a secret; nil when there is none.
func (s *Service) Open(ctx context.Context, r records.View, name string) ([]byte, error) {
	return openSecret(ctx, r, s.Ring(), name)
}

// SigningSeed opens the seed of what the record is signed with; nil when nothing was ever
// signed.
func SigningSeed(ctx context.Context, r records.View, keys *seal.Ring) ([]byte, error) {
	return openSecret(ctx, r, keys, signingSecret)
}

func putSecret(ctx context.Context, r records.View, keys *seal.Ring, name string, plain []byte, by string,
	at time.Time,
) error {
	return r.PutSecret(ctx, records.Secret{Name: name, Sealed: keys.Seal(name, plain), SetBy: by, SetAt: at})
}

// openSecret opens a secret; nil when there is none.
func openSecret(ctx context.Context, r records.View, keys *seal.Ring, name string) ([]byte, error) {
	all, err := r.Secrets(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		if s.Name == name {
			return keys.Open(name, s.Sealed)
		}
	}
	return nil, nil
}

// Ring is the keys that seal secrets now.
func (s *Service) Ring() *seal.Ring {
	s.keysMu.Lock()
	defer s.keysMu.Unlock()
	return s.keys
}

// RotateKey makes a new sealing key and seals all secrets anew. The key file has both
// keys until that is confirmed, so that a crash in between loses nothing.
func (s *Service) RotateKey(ctx context.Context, by act.Actor, reason string) (wire.Rotated, error) {
	if err := by.May(access.Administer); err != nil {
		return wire.Rotated{}, err
	}
	s.rotating.Lock()
	defer s.rotating.Unlock()
	old := s.Ring()
	if !old.FromFile() {
		return wire.Rotated{}, fault.New(fault.Refused, "key.environment",
			"the sealing key comes from the environment").
			In("key").Do("start the service with INNERLADDER_SEALING_KEYS=NEW,OLD; it seals everything anew by " +
			"itself, and OLD can go")
	}
	both := old.With(seal.NewKey())
	if err := both.Write(); err != nil {
		return wire.Rotated{}, err
	}
	// Whatever is sealed from here on is sealed with the new key.
	s.keysMu.Lock()
	s.keys = both
	s.keysMu.Unlock()
	out, err := act.Change(context.WithoutCancel(ctx), s.Base, by, access.Administer,
		func(t *act.Tx) (wire.Rotated, error) {
			all, err := t.Secrets(ctx, "")
			if err != nil {
				return wire.Rotated{}, err
			}
			if err := reseal(ctx, t.View, both, t.Now); err != nil {
				return wire.Rotated{}, err
			}
			return wire.Rotated{Secrets: len(all)}, t.Note(ctx,
				act.Entry{
					Kind: "key.rotated", Subject: "sealing key",
					Sentence: fmt.Sprintf("%d secrets were sealed with a new key.", len(all)), Reason: reason,
				})
		})
	if err != nil {
		return out, err
	}
	present := both.Present()
	s.keysMu.Lock()
	s.keys = present
	s.keysMu.Unlock()
	return out, present.Write()
}
