package api

import (
	"context"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"innerladder/internal/app/act"
	"innerladder/internal/core/fault"
)

// hosted turns away calls to names that are not ours. A page of somebody else whose name has just been pointed at this
// machine would be the same site to a browser, with whatever may be reached from there.
func (a *API) hosted(c fiber.Ctx) error {
	host := strings.TrimSuffix(strings.ToLower(HostOf("//"+c.Host())), ".")
	if _, err := netip.ParseAddr(host); err == nil || c.Host() == "" || host == "localhost" ||
		slices.ContainsFunc(a.hosts, func(ours string) bool {
			ours = strings.ToLower(ours)
			under, all := strings.CutPrefix(ours, "*")
			return host == ours || (all && strings.HasPrefix(under, ".") && strings.HasSuffix(host, under))
		}) {
		return c.Next()
	}
	return plain{
		fiber.StatusMisdirectedRequest,
		fault.New(fault.Refused, "host.unknown", "the service is not known as %q", c.Host()).In("Host").
			Do("use the address that it was given with -address, or start it with -hosts NAME"),
	}
}

// byTLS has browsers that came by TLS come so from now on.
func (a *API) byTLS(c fiber.Ctx) error {
	if a.secure(c) {
		c.Set(fiber.HeaderStrictTransportSecurity, "max-age=2592000") // 30 days
	}
	return c.Next()
}

// HostOf is the name or address of a URL's host, without its port; empty when it has none.
func HostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

// admit finds out who calls; nobody where an operation needs no sign-in.
func (a *API) admit(c fiber.Ctx, o operation) (act.Actor, error) {
	id := requestID(c)
	if o.permission == "" {
		return act.Actor{}, nil
	}
	by, err := a.caller(c)
	if err != nil {
		return by, err
	}
	by.RequestID, by.Address = id, a.address(c)
	// The project is known only when the thing has been found; whoever has the permission in no
	// project is turned away before that.
	if err := by.May(o.permission); err != nil || !o.everywhere {
		return by, err
	}
	return by, by.Need(o.permission, "")
}

// address is where a call comes from. What a proxy of ours says about that is believed,
// back to the first address that is no proxy of ours; what anybody else says is not.
func (a *API) address(c fiber.Ctx) string {
	at := c.RequestCtx().RemoteIP().String()
	said := strings.Split(c.Get(fiber.HeaderXForwardedFor), ",")
	for i := len(said) - 1; i >= 0 && a.isProxy(at); i-- {
		if _, err := netip.ParseAddr(strings.TrimSpace(said[i])); err != nil {
			break
		}
		at = strings.TrimSpace(said[i])
	}
	return at
}

func (a *API) isProxy(address string) bool {
	at, err := netip.ParseAddr(address)
	return err == nil && slices.ContainsFunc(a.proxies, func(p netip.Prefix) bool { return p.Contains(at.Unmap()) })
}

// caller finds who calls: by a bearer token, or by the console's cookie.
func (a *API) caller(c fiber.Ctx) (act.Actor, error) {
	find, err := a.identity(c)
	if err != nil {
		return act.Actor{}, err
	}
	return find(c.Context())
}

// identity is how whoever makes a call is found, now and again later while the call goes on.
func (a *API) identity(c fiber.Ctx) (func(context.Context) (act.Actor, error), error) {
	if token, ok := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer "); ok {
		return func(ctx context.Context) (act.Actor, error) { return a.app.People.ByToken(ctx, token) }, nil
	}
	session := c.Cookies(sessionCookie)
	if session == "" {
		return nil, fault.New(fault.Unsigned, "sign_in.needed", "the call has no token").
			In("Authorization").
			Do("send Authorization: Bearer TOKEN, or sign in with: innerladder login")
	}
	if err := sameSite(c); err != nil {
		return nil, err
	}
	return func(ctx context.Context) (act.Actor, error) { return a.app.People.BySession(ctx, session) }, nil
}

// sameSite refuses changes that another site has a browser make with our cookie. Browsers say
// where a call comes from; a call with a cookie that does not say so is refused.
func sameSite(c fiber.Ctx) error {
	if c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead {
		return nil
	}
	site, origin := c.Get("Sec-Fetch-Site"), c.Get(fiber.HeaderOrigin)
	u, err := url.Parse(origin)
	own := err == nil && origin != "" && u.Host == c.Host()
	if (site == "same-origin" || site == "" || site == "none") && (own || (origin == "" && site == "same-origin")) {
		return nil
	}
	return fault.New(fault.Forbidden, "session.other_site",
		"the call comes from another site, or does not say where from").In("Origin").Do("use the console, or a token")
}

// unheard refuses who is not let in. Nothing of their body is kept, of which the server library has read 8 KiB: only
// what they send within a moment is heard out, so that they get to read why.
func (a *API) unheard(c fiber.Ctx, err error) error {
	if conn := c.RequestCtx().Conn(); c.Request().BodyStream() != nil && conn != nil {
		_ = conn.SetReadDeadline(time.Now().Add(hearing))
		hearOut(c, largestBody)
	}
	return err
}

// hearing is how long who is not let in is heard out.
const hearing = time.Second
