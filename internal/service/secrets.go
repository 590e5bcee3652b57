package service

import (
	"context"
	"errors"
	"fmt"
	"net/textproto"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/traffic"
	"innerladder/internal/credential"
	"innerladder/internal/oip"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/wire"
)

// The names of secrets.
const (
	requestIDsSecret = "request ids"
	signingSecret    = "signing"
	mailSecret       = "mail/password"
)

func headerSecret(environment, header string) string {
	return "environment/" + environment + "/" + header
}

func webhookSecret(id int64) string { return fmt.Sprintf("webhook/%d", id) }

// Unlocked are the keys that only this installation has.
type Unlocked struct {
	RequestIDs *traffic.RequestIDs
	Signer     seal.Signer
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

func (s *Service) ring() *seal.Ring {
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
	old := s.ring()
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

// Headers lists the headers of an environment, without their values.
func (s *Service) Headers(ctx context.Context, by act.Actor, environment string) (wire.Listed[wire.Header], error) {
	if err := by.May(access.Administer); err != nil {
		return wire.Listed[wire.Header]{}, err
	}
	r := s.DB.Read(records.Everything)
	if err := s.checkEnvironment(ctx, r, environment); err != nil {
		return wire.Listed[wire.Header]{}, err
	}
	out := wire.Listed[wire.Header]{Items: []wire.Header{}}
	all, err := r.Secrets(ctx, headerSecret(environment, ""))
	for _, h := range all {
		out.Items = append(out.Items, wire.Header{
			Name: strings.TrimPrefix(h.Name, headerSecret(environment, "")), SetBy: h.SetBy,
			SetAt: h.SetAt,
		})
	}
	return out, err
}

// ownHeaders are set by the gateway or say something about a connection.
var ownHeaders = []string{
	"Host", "Content-Length", "Content-Type", "Transfer-Encoding", "Connection", "Te", "Trailer",
	"Upgrade", "Keep-Alive", "Accept-Encoding",
}

func checkHeader(name string) (string, error) {
	canonical := textproto.CanonicalMIMEHeaderKey(name)
	if name == "" || len(name) > 100 || strings.ContainsFunc(name, func(r rune) bool {
		return r > 0x7e || r < 0x21 || strings.ContainsRune(`()<>@,;:\"/[]?={}`, r)
	}) || slices.Contains(ownHeaders, canonical) || strings.HasPrefix(canonical, "Inner-Ladder-") {
		return "", fault.New(fault.Invalid, "header.name", "%q cannot be set", name).In("header").
			Do("name a header such as Authorization or X-Api-Key")
	}
	return canonical, nil
}

// SetHeader sets a header that is sent to all model servers of an environment, or takes
// it away when value is nil.
func (s *Service) SetHeader(ctx context.Context, by act.Actor, environment, name string, value *string) (wire.Header,
	error,
) {
	name, err := checkHeader(name)
	if err != nil {
		return wire.Header{}, err
	}
	if value != nil && (*value == "" || len(*value) > 8<<10 ||
		strings.ContainsFunc(*value, func(r rune) bool { return r < 0x20 || r == 0x7f })) {
		return wire.Header{}, fault.New(fault.Invalid, "header.value",
			"the value is empty, too long, or has line breaks").
			In("value").Do("give one line of at most 8 KiB")
	}
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Administer, func(t *act.Tx) (wire.Header, error) {
		if err := s.checkEnvironment(ctx, t.View, environment); err != nil {
			return wire.Header{}, err
		}
		out := wire.Header{Name: name, SetBy: t.By.Name, SetAt: t.Now}
		e := act.Entry{
			Kind: "secret.set", Subject: environment,
			Sentence: fmt.Sprintf("The header %s for %s was set.", name, environment),
		}
		if value != nil {
			err = putSecret(ctx, t.View, s.ring(), headerSecret(environment, name), []byte(*value), t.By.Name,
				t.Now)
		} else {
			e.Kind, e.Sentence = "secret.removed",
				fmt.Sprintf("The header %s for %s was taken away.", name, environment)
			err = t.RemoveSecret(ctx, headerSecret(environment, name))
		}
		if err != nil {
			return out, err
		}
		return out, t.Note(ctx, e)
	})
}

// headersOf opens the headers of an environment.
func (s *Service) headersOf(ctx context.Context, r records.View, environment string) ([]traffic.Header, error) {
	all, err := r.Secrets(ctx, headerSecret(environment, ""))
	if err != nil {
		return nil, err
	}
	var out []traffic.Header
	keys := s.ring()
	for _, h := range all {
		value, err := keys.Open(h.Name, h.Sealed)
		if err != nil {
			return nil, err
		}
		out = append(out, traffic.Header{
			Name:  strings.TrimPrefix(h.Name, headerSecret(environment, "")),
			Value: string(value),
		})
	}
	return out, nil
}

// serversIn asks model servers in an environment, with its headers.
func (s *Service) serversIn(ctx context.Context, environment string) (*oip.Client, error) {
	headers, err := s.headersOf(ctx, s.DB.Read(records.Everything), environment)
	if err != nil || len(headers) == 0 {
		return s.servers, err
	}
	return s.servers.With(headers), nil
}

// AddCaller gives a program a key to an endpoint, which from then on answers nobody
// without one.
func (s *Service) AddCaller(ctx context.Context, by act.Actor, endpoint, name string) (wire.MadeCaller, error) {
	if err := naming.Check("name", name); err != nil {
		return wire.MadeCaller{}, err
	}
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Route, func(t *act.Tx) (wire.MadeCaller, error) {
		e, err := s.endpoint(ctx, t.View, endpoint)
		if err != nil {
			return wire.MadeCaller{}, err
		}
		there, err := t.Callers(ctx, endpoint)
		if err != nil {
			return wire.MadeCaller{}, err
		}
		if slices.ContainsFunc(there, func(c traffic.Caller) bool { return c.Name == name }) {
			return wire.MadeCaller{}, fault.New(fault.Refused, "caller.exists", "%s has a key to %s already", name,
				endpoint).In("name").Do("take it away first, or choose another name and let both hold while the " +
				"program changes over")
		}
		key, digest := credential.Token("ilc_")
		out := wire.MadeCaller{Caller: traffic.Caller{
			Name: name, Hint: credential.Hint(key), MadeBy: t.By.Name, MadeAt: t.Now,
			Digest: digest,
		}, Key: key}
		if err := t.View.AddCaller(ctx, endpoint, out.Caller); err != nil {
			return out, err
		}
		sentence := fmt.Sprintf("%s was given a key to %s.", name, endpoint)
		if !e.Keyed {
			sentence += " From now on callers need one."
			if err := t.SetKeyed(ctx, endpoint, true); err != nil {
				return out, err
			}
		}
		return out, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "caller.added", Subject: endpoint, Sentence: sentence,
			After: out.Caller,
		})
	})
}

// Callers lists who has a key to an endpoint.
func (s *Service) Callers(ctx context.Context, by act.Actor, endpoint string) (wire.Listed[traffic.Caller], error) {
	e, err := s.Endpoint(ctx, by, endpoint)
	if err != nil {
		return wire.Listed[traffic.Caller]{}, err
	}
	err = by.May(access.Route)
	if err == nil {
		err = by.Need(access.Route, e.Project)
	}
	if err != nil {
		return wire.Listed[traffic.Caller]{}, err
	}
	items, err := s.Read(by).Callers(ctx, endpoint)
	return wire.Listed[traffic.Caller]{Items: items}, err
}

// EndCaller takes a caller's key away. The endpoint goes on to need one.
func (s *Service) EndCaller(ctx context.Context, by act.Actor, endpoint, name, reason string) (struct{}, error) {
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (struct{}, error) {
		e, err := s.endpoint(ctx, t.View, endpoint)
		if err != nil {
			return struct{}{}, err
		}
		there, err := t.View.EndCaller(ctx, endpoint, name, t.Now)
		if err != nil {
			return struct{}{}, err
		}
		if !there {
			return struct{}{}, fault.New(fault.Unknown, "caller.unknown", "%s has no key to %s", name, endpoint).
				In("caller").Do("see who has with: innerladder callers %s", endpoint)
		}
		return struct{}{}, t.Note(ctx,
			act.Entry{
				Project: e.Project, Kind: "caller.removed", Subject: endpoint,
				Sentence: fmt.Sprintf("The key of %s to %s was taken away.", name, endpoint), Reason: reason,
			})
	})
}

// SetKeyed says whether an endpoint answers only callers that have a key.
func (s *Service) SetKeyed(ctx context.Context, by act.Actor, endpoint string, keyed bool,
	reason string,
) (*traffic.Endpoint, error) {
	if err := naming.CheckReason(reason, "say why callers need a key, or none any more"); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Endpoint, error) {
		e, err := s.endpoint(ctx, t.View, endpoint)
		if err != nil {
			return nil, err
		}
		if e.Keyed == keyed {
			return e, nil
		}
		if err := t.View.SetKeyed(ctx, endpoint, keyed); err != nil {
			return nil, err
		}
		before := map[string]bool{"keyed": e.Keyed}
		e.Keyed = keyed
		sentence := endpoint + " answers anyone who can reach the gateway."
		if keyed {
			sentence = endpoint + " answers only callers that have a key."
		}
		return e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "endpoint.keyed", Subject: endpoint, Sentence: sentence,
			Reason: reason, Before: before, After: map[string]bool{"keyed": keyed},
		})
	})
}
