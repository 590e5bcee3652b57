package traffic

import (
	"context"
	"fmt"
	"net/textproto"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

func headerSecret(environment, header string) string {
	return "environment/" + environment + "/" + header
}

// Headers lists the headers of an environment, without their values.
func (s *Service) Headers(ctx context.Context, by act.Actor, environment string) (wire.Listed[wire.Header], error) {
	if err := by.May(access.Manage); err != nil {
		return wire.Listed[wire.Header]{}, err
	}
	e, err := s.findEnvironment(ctx, s.Read(by), environment)
	if err != nil {
		return wire.Listed[wire.Header]{}, err
	}
	if err := by.Need(access.Manage, e.Project); err != nil {
		return wire.Listed[wire.Header]{}, err
	}
	out := wire.Listed[wire.Header]{Items: []wire.Header{}}
	all, err := s.Read(by).Secrets(ctx, headerSecret(environment, ""))
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
func (s *Service) SetHeader(ctx context.Context, by act.Actor, environment, name string,
	value *string,
) (wire.Header, error) {
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
	return act.Change(ctx, s.Base, by.WithoutRepeat(), access.Manage, func(t *act.Tx) (wire.Header, error) {
		place, _, err := s.kept(ctx, t, environment)
		if err != nil {
			return wire.Header{}, err
		}
		if place.Headers++; value != nil && len(place.Allowed) == 0 {
			return wire.Header{}, place.CheckAddress("")
		}
		out := wire.Header{Name: name, SetBy: t.By.Name, SetAt: t.Now}
		e := act.Entry{
			Project: place.Project, Kind: "secret.set", Subject: environment,
			Sentence: fmt.Sprintf("The header %s for %s was set.", name, environment),
		}
		if value != nil {
			err = s.secrets.Put(ctx, t, headerSecret(environment, name), []byte(*value))
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
	keys := s.secrets.Ring()
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

// serversIn asks model servers at an address in an environment, with its headers: they go only
// where its rules allow.
func (s *Service) serversIn(ctx context.Context, environment, address string) (*oip.Client, error) {
	r := s.DB.Read(records.Everything)
	e, err := s.findEnvironment(ctx, r, environment)
	if err != nil {
		return nil, err
	}
	if err := e.CheckAddress(address); err != nil {
		return nil, err
	}
	headers, err := s.headersOf(ctx, r, environment)
	if err != nil || len(headers) == 0 {
		return s.servers, err
	}
	return s.servers.With(headers...), nil
}
