package api

import (
	"html/template"
	"strings"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/people"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

// signInOperations lists the routes by which people come in.
func signInOperations() []operation {
	return []operation{
		{
			method: "GET", path: "/session/ways", id: "waysIn", summary: "How one can sign in to the console",
			status: 200,
			in:     new(none), out: new(waysIn), handle: open((*API).waysIn),
		},
		{
			method: "POST", path: "/session", id: "signIn", summary: "Sign in to the console; sets a cookie",
			status: 200,
			in:     new(signInIn), out: new(signedIn), handle: open((*API).signIn),
		},
		op("GET", "/session", "whoAmI", "Who is signed in, and what they may do", access.SignedIn, 200,
			func(c call, _ *none) (wire.Me, error) { return c.app.People.WhoAmI(c, c.by) }),
		{
			method: "DELETE", path: "/session", id: "signOut", summary: "Sign out of the console",
			permission: access.Own,
			status:     204, in: new(none), handle: open((*API).signOut),
		},
		{
			method: "GET", path: "/session/provider", id: "signInByProvider",
			summary: "Send a browser to the provider of sign-ins (OpenID Connect)", status: 303, in: new(none),
			handle: open((*API).toProvider),
		},
		{
			method: "GET", path: "/session/provider/back", id: "backFromProvider",
			summary: "Where the provider sends the browser back to", status: 200, in: new(backIn),
			produces: "text/html", handle: open((*API).fromProvider),
		},
		{
			method: "POST", path: "/welcome/look", id: "lookAtLink", summary: "Whom a link would let in", status: 200,
			in: new(linkIn), out: new(wire.Welcomed), handle: open((*API).lookAtLink),
		},
		{
			method: "POST", path: "/welcome", id: "comeIn",
			summary: "Use a link: choose a password, and for the first owner a name; sets a cookie", status: 200,
			in: new(comeInIn), out: new(signedIn), handle: open((*API).comeIn),
		},
	}
}

type waysIn struct {
	Password bool   `json:"password"`
	Provider string `json:"provider,omitempty" description:"what the provider of sign-ins is called; absent when there is none"`
	// Empty reports that there is nobody yet.
	Empty bool `json:"empty,omitempty" description:"there is nobody yet; the service printed a link for the first owner"`
}

func (a *API) waysIn(c fiber.Ctx) error {
	w := waysIn{Password: true}
	if a.provider != nil {
		w.Provider = a.provider.Title
	}
	empty, err := a.app.People.Nobody(c.Context())
	if err != nil {
		return err
	}
	w.Empty = empty
	return c.JSON(w)
}

type signInIn struct {
	Name     string `json:"name" required:"true"`
	Password string `json:"password" required:"true"`
}

type linkIn struct {
	Secret string `json:"secret" required:"true" description:"what follows # in the link"`
}

type comeInIn struct {
	linkIn
	Name     string `json:"name,omitempty" description:"of the first owner only"`
	Password string `json:"password" required:"true"`
}

// signedIn is who came in.
type signedIn struct {
	Name string `json:"name"`
}

// sessionCookie holds the session of the console.
const sessionCookie = "innerladder_session"

func (a *API) from(c fiber.Ctx) people.From {
	return people.From{Address: a.address(c), Agent: c.Get(fiber.HeaderUserAgent)}
}

// begin sets the cookie of a session.
func (a *API) begin(c fiber.Ctx, session string) {
	c.Cookie(&fiber.Cookie{
		Name: sessionCookie, Value: session, Path: "/", HTTPOnly: true,
		SameSite: fiber.CookieSameSiteStrictMode,
		Secure:   a.secure(c), MaxAge: int(people.SessionLasts.Seconds()),
	})
}

// secure reports whether people reach the console by TLS, here or at a proxy before us.
func (a *API) secure(c fiber.Ctx) bool {
	return c.Secure() || strings.HasPrefix(a.app.People.Address(), "https://")
}

func (a *API) signIn(c fiber.Ctx) error {
	var in signInIn
	if err := read(c, &in); err != nil {
		return err
	}
	if err := sameSite(c); err != nil {
		return err
	}
	session, person, err := a.app.People.SignIn(c.Context(), in.Name, in.Password, a.from(c))
	return a.came(c, session, person, err)
}

func (a *API) came(c fiber.Ctx, session string, p *people.Person, err error) error {
	if err != nil {
		return err
	}
	a.begin(c, session)
	return c.JSON(signedIn{p.Name})
}

func (a *API) signOut(c fiber.Ctx) error {
	if err := a.app.People.SignOut(c.Context(), c.Cookies(sessionCookie)); err != nil {
		return err
	}
	c.Cookie(&fiber.Cookie{
		Name: sessionCookie, Path: "/", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode,
		Secure: a.secure(c), Expires: time.Unix(1, 0),
	})
	return c.SendStatus(fiber.StatusNoContent)
}

func (a *API) lookAtLink(c fiber.Ctx) error {
	var in linkIn
	if err := read(c, &in); err != nil {
		return err
	}
	w, err := a.app.People.Welcome(c.Context(), in.Secret, a.from(c))
	if err != nil {
		return err
	}
	return c.JSON(w)
}

func (a *API) comeIn(c fiber.Ctx) error {
	var in comeInIn
	if err := read(c, &in); err != nil {
		return err
	}
	if err := sameSite(c); err != nil {
		return err
	}
	session, person, err := a.app.People.ComeIn(c.Context(), in.Secret, in.Name, in.Password, a.from(c))
	return a.came(c, session, person, err)
}

// providerCookie holds what must come back from the provider as it was sent.
const providerCookie = "innerladder_provider"

// providerLasts is how long someone may take at the provider.
const providerLasts = 10 * time.Minute

func (a *API) toProvider(c fiber.Ctx) error {
	if a.provider == nil {
		return noProvider()
	}
	address, kept, err := a.provider.Begin(c.Context(), a.app.People.Address()+base+"/session/provider/back")
	if err != nil {
		return err
	}
	// Lax, because the provider's site sends the browser back here.
	c.Cookie(&fiber.Cookie{
		Name: providerCookie, Value: kept, Path: base + "/session/provider", HTTPOnly: true,
		SameSite: fiber.CookieSameSiteLaxMode, Secure: a.secure(c), MaxAge: int(providerLasts.Seconds()),
	})
	return c.Redirect().Status(fiber.StatusSeeOther).To(address)
}

func noProvider() error {
	return fault.New(fault.Unknown, "provider.none", "there is no provider of sign-ins").
		Do("sign in with a password, or start the service with -oidc-issuer")
}

type backIn struct {
	Code  string `query:"code" json:"-"`
	State string `query:"state" json:"-"`
	Error string `query:"error" json:"-"`
}

// onward is shown when somebody came back from the provider. The session's cookie is not
// sent along a redirect that another site began, so the page itself leads on.
var onward = template.Must(template.New("onward").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Inner Ladder</title>
{{if .}}<p>You could not be signed in: {{.}}</p><p><a href="/sign-in">Back to the sign-in</a></p>{{else}}<meta http-equiv="refresh" content="0; url=/"><p><a href="/">On to the console</a></p>{{end}}</html>`))

func (a *API) fromProvider(c fiber.Ctx) error {
	if a.provider == nil {
		return noProvider()
	}
	var in backIn
	if err := read(c, &in); err != nil {
		return err
	}
	kept := c.Cookies(providerCookie)
	c.Cookie(&fiber.Cookie{
		Name: providerCookie, Path: base + "/session/provider", HTTPOnly: true,
		SameSite: fiber.CookieSameSiteLaxMode, Secure: a.secure(c), Expires: time.Unix(1, 0),
	})
	why := ""
	vouched, err := a.provider.End(c.Context(), a.app.People.Address()+base+"/session/provider/back", kept, in)
	if err == nil {
		var session string
		if session, _, err = a.app.People.SignInVouched(c.Context(), vouched, a.from(c)); err == nil {
			a.begin(c, session)
		}
	}
	if err != nil {
		a.log.Warn("a sign-in by the provider failed", "error", err)
		why = err.Error()
		c.Status(fiber.StatusForbidden)
	}
	c.Set(fiber.HeaderContentType, fiber.MIMETextHTMLCharsetUTF8)
	return onward.Execute(c, why)
}
