package api

import (
	"context"
	"crypto/subtle"
	"net/http"
	"strings"
	"sync"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/people"
	"innerladder/internal/credential"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Provider vouches for people by OpenID Connect: the authorization code flow, with PKCE.
type Provider struct {
	// Title is what the provider is called on the sign-in page.
	Title string
	// Issuer is its address, ClientID and ClientSecret what it knows us by.
	Issuer, ClientID, ClientSecret string
	// Groups says which roles its groups give, nil where they give none; GroupsIn is the claim that names them.
	Groups   people.GroupRoles
	GroupsIn string
	// Scopes are asked for beside the usual, where the provider names groups only then.
	Scopes []string

	mu    sync.Mutex
	found *oidc.Provider
}

// providerWait is how long the provider may take to answer us.
const providerWait = 10 * time.Second

// discover asks the provider about itself, once that has succeeded never again. The
// service can so be started before it.
func (p *Provider) discover(ctx context.Context) (*oidc.Provider, context.Context, error) {
	// The provider's keys are fetched again later, so the client must outlive the call.
	client := &http.Client{Timeout: providerWait}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found == nil {
		found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), client), p.Issuer)
		if err != nil {
			return nil, nil, fault.New(fault.Unavailable, "provider.unreachable",
				"the provider %s does not answer as it should: %v", p.Issuer, err).
				Do("try again later, or sign in with a password")
		}
		p.found = found
	}
	return p.found, oidc.ClientContext(ctx, client), nil
}

func (p *Provider) config(found *oidc.Provider, back string) *oauth2.Config {
	return &oauth2.Config{
		ClientID: p.ClientID, ClientSecret: p.ClientSecret, Endpoint: found.Endpoint(),
		RedirectURL: back, Scopes: append([]string{oidc.ScopeOpenID, "email", "profile"}, p.Scopes...),
	}
}

// Begin makes the address to which a browser is sent, and what it must bring back.
func (p *Provider) Begin(ctx context.Context, back string) (address, kept string, err error) {
	found, _, err := p.discover(ctx)
	if err != nil {
		return "", "", err
	}
	state, _ := credential.Token("")
	nonce, _ := credential.Token("")
	verifier := oauth2.GenerateVerifier()
	return p.config(found, back).AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier)),
		strings.Join([]string{state, nonce, verifier}, "."), nil
}

// End checks what a browser brought back, and asks the provider who it is.
func (p *Provider) End(ctx context.Context, back, kept string, in backIn) (people.Vouched, error) {
	refuse := func(why string, err error) (people.Vouched, error) {
		if err != nil {
			why += ": " + err.Error()
		}
		return people.Vouched{}, fault.New(fault.Forbidden, "provider.refused", "%s", why).
			Do("begin again at the sign-in")
	}
	parts := strings.Split(kept, ".")
	switch {
	case in.Error != "":
		return refuse("the provider said "+in.Error, nil)
	case len(parts) != 3 || subtle.ConstantTimeCompare([]byte(parts[0]), []byte(in.State)) != 1:
		return refuse("this browser did not begin the sign-in, or too long ago", nil)
	}
	found, ctx, err := p.discover(ctx)
	if err != nil {
		return people.Vouched{}, err
	}
	token, err := p.config(found, back).Exchange(ctx, in.Code, oauth2.VerifierOption(parts[2]))
	if err != nil {
		return refuse("the provider did not take its own code", nil)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.ClientID}).Verify(ctx, raw)
	if err != nil {
		return refuse("the token of the provider is not valid", err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(parts[1])) != 1 {
		return refuse("the provider's token is of another sign-in", nil)
	}
	var claims struct {
		Email    string `json:"email"`
		Verified bool   `json:"email_verified"`
	}
	if err := id.Claims(&claims); err != nil {
		return refuse("the provider's token cannot be read", err)
	}
	groups, named := p.groupsOf(id.Claims)
	if claims.Email == "" || p.Groups != nil && !named { // some tell it only when asked
		info, err := found.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err == nil && info.Subject == id.Subject {
			if claims.Email == "" {
				claims.Email, claims.Verified = info.Email, info.EmailVerified
			}
			if !named {
				groups, named = p.groupsOf(info.Claims)
			}
		}
	}
	v := people.Vouched{
		Issuer: id.Issuer, Subject: id.Subject, Email: claims.Email, Verified: claims.Verified, Groups: groups,
	}
	if p.Groups != nil && named {
		v.Mapped = p.Groups // a provider that says nothing of groups changes no role
	}
	return v, nil
}

// groupsOf reads the groups that somebody is in; named is false where the provider says nothing of them.
func (p *Provider) groupsOf(claims func(any) error) (groups []string, named bool) {
	all := map[string]any{}
	if p.Groups == nil || claims(&all) != nil {
		return nil, false
	}
	switch said := all[p.GroupsIn].(type) {
	case string: // some write a single one so
		return []string{said}, true
	case []any:
		for _, one := range said {
			if name, is := one.(string); is {
				groups = append(groups, name)
			}
		}
		return groups, true
	}
	return nil, false
}
