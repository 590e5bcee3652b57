package client

import (
	"context"
	"fmt"
	"io"
	"net/http/cookiejar"
	"net/url"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/backup"
	"innerladder/internal/core/access"
	"innerladder/internal/core/keep"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/people"
	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// visit is a short session of the console, for what no token can be used for: to make
// the first one.
type visit struct {
	*Client
}

func newVisit(server string) (visit, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return visit{}, err
	}
	c := New(server, "")
	c.http.Jar = jar
	return visit{c}, nil
}

// token makes a token and ends the session.
func (v visit) token(ctx context.Context, title, lasts string) (wire.MadeToken, error) {
	t, err := call[wire.MadeToken](ctx, v.Client, "POST", path("tokens"),
		wire.NewToken{Title: title, Lasts: lasts}, "Origin", v.server)
	if err != nil {
		return t, err
	}
	_, err = call[struct{}](ctx, v.Client, "DELETE", path("session"), nil, "Origin", v.server)
	return t, err
}

// SignIn makes a token for someone who has a name and a password.
func SignIn(ctx context.Context, server, name, password, title, lasts string) (wire.MadeToken, error) {
	v, err := newVisit(server)
	if err != nil {
		return wire.MadeToken{}, err
	}
	if _, err := call[struct{}](ctx, v.Client, "POST", path("session"),
		map[string]string{"name": name, "password": password}, "Origin", v.server); err != nil {
		return wire.MadeToken{}, err
	}
	return v.token(ctx, title, lasts)
}

// splitLink takes the service's address and the secret out of a link that lets someone
// in.
func splitLink(link string) (server, secret string, err error) {
	u, err := url.Parse(link)
	if err != nil || u.Fragment == "" || !strings.HasSuffix(u.Path, "/welcome") || u.Host == "" {
		return "", "", fmt.Errorf("%q is no link that lets someone in; it looks like http://HOST/welcome#…", link)
	}
	return u.Scheme + "://" + u.Host + strings.TrimSuffix(u.Path, "/welcome"), u.Fragment, nil
}

// Welcome looks whom a link would let in, and where.
func Welcome(ctx context.Context, link string) (server string, w wire.Welcomed, err error) {
	server, secret, err := splitLink(link)
	if err != nil {
		return "", w, err
	}
	w, err = call[wire.Welcomed](ctx, New(server, ""), "POST", path("welcome", "look"),
		map[string]string{"secret": secret})
	return server, w, err
}

// ComeIn uses a link: it sets a password and makes a token. The first owner chooses a
// name.
func ComeIn(ctx context.Context, link, name, password, title, lasts string) (wire.MadeToken, error) {
	server, secret, err := splitLink(link)
	if err != nil {
		return wire.MadeToken{}, err
	}
	v, err := newVisit(server)
	if err != nil {
		return wire.MadeToken{}, err
	}
	if _, err := call[struct{}](ctx, v.Client, "POST", path("welcome"),
		map[string]string{"secret": secret, "name": name, "password": password}, "Origin", v.server); err != nil {
		return wire.MadeToken{}, err
	}
	return v.token(ctx, title, lasts)
}

// WhoAmI says who the token belongs to, and what they may do.
func (c *Client) WhoAmI(ctx context.Context) (wire.Me, error) {
	return call[wire.Me](ctx, c, "GET", path("session"), nil)
}

// People lists the people and robots that may be known of.
func (c *Client) People(ctx context.Context) (wire.Listed[people.Person], error) {
	return whole[people.Person](ctx, c, path("people"))
}

// AddPerson adds a person or robot.
func (c *Client) AddPerson(ctx context.Context, n wire.NewPerson) (wire.AddedPerson, error) {
	return call[wire.AddedPerson](ctx, c, "POST", path("people"), n)
}

// EditPerson changes an account.
func (c *Client) EditPerson(ctx context.Context, name string, e wire.PersonEdit) (people.Person, error) {
	return call[people.Person](ctx, c, "PATCH", path("people", name), e)
}

// Invite makes a new link that lets a person in.
func (c *Client) Invite(ctx context.Context, name string) (wire.AddedPerson, error) {
	return call[wire.AddedPerson](ctx, c, "POST", path("people", name, "invitation"), nil)
}

// GiveRole gives someone a role in a project.
func (c *Client) GiveRole(ctx context.Context, name string, m access.Membership) (people.Person, error) {
	return call[people.Person](ctx, c, "PUT", path("people", name, "memberships", m.Project, m.Role), nil)
}

// TakeRole takes a role away.
func (c *Client) TakeRole(ctx context.Context, name string, m access.Membership, reason string) (people.Person, error) {
	return call[people.Person](ctx, c, "DELETE",
		query(path("people", name, "memberships", m.Project, m.Role), "reason", reason), nil)
}

// Roles lists the roles.
func (c *Client) Roles(ctx context.Context) (wire.Listed[access.Role], error) {
	return call[wire.Listed[access.Role]](ctx, c, "GET", path("roles"), nil)
}

// PutRole makes or changes a role.
func (c *Client) PutRole(ctx context.Context, name string, permissions []string,
	description string,
) (access.Role, error) {
	return call[access.Role](ctx, c, "PUT", path("roles", name),
		map[string]any{"permissions": permissions, "description": description})
}

// RemoveRole removes a role that nobody has.
func (c *Client) RemoveRole(ctx context.Context, name string) (access.Role, error) {
	return call[access.Role](ctx, c, "DELETE", path("roles", name), nil)
}

// Tokens lists one's tokens, or a robot's.
func (c *Client) Tokens(ctx context.Context, robot string) (wire.Listed[people.Token], error) {
	return call[wire.Listed[people.Token]](ctx, c, "GET", query(path("tokens"), "robot", robot), nil)
}

// MakeToken makes a token.
func (c *Client) MakeToken(ctx context.Context, n wire.NewToken) (wire.MadeToken, error) {
	return call[wire.MadeToken](ctx, c, "POST", path("tokens"), n)
}

// EndToken takes a token away.
func (c *Client) EndToken(ctx context.Context, id int64) (people.Token, error) {
	return call[people.Token](ctx, c, "DELETE", path("tokens", strconv.FormatInt(id, 10)), nil)
}

// Inbox lists one's notices, newest first.
func (c *Client) Inbox(ctx context.Context, unread bool, p Part) (wire.Listed[notice.Notice], error) {
	only := ""
	if unread {
		only = "true"
	}
	return call[wire.Listed[notice.Notice]](ctx, c, "GET",
		query(path("me", "inbox"), "unread", only, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// MarkRead marks a notice as read, with all before it unless alone.
func (c *Client) MarkRead(ctx context.Context, id int64, alone bool) error {
	_, err := call[struct{}](ctx, c, "POST", path("me", "inbox", "read"), map[string]any{"notice": id, "alone": alone})
	return err
}

// Preferences shows what reaches one.
func (c *Client) Preferences(ctx context.Context) (wire.Preferences, error) {
	return call[wire.Preferences](ctx, c, "GET", path("me", "preferences"), nil)
}

// SetPreferences chooses what reaches one.
func (c *Client) SetPreferences(ctx context.Context, choices notice.Choices) (wire.Preferences, error) {
	return call[wire.Preferences](ctx, c, "PUT", path("me", "preferences"), map[string]any{"choices": choices})
}

// UseProject chooses where what one adds goes when one names no project; empty for none.
func (c *Client) UseProject(ctx context.Context, project string) (wire.Me, error) {
	return call[wire.Me](ctx, c, "PUT", path("me", "project"), map[string]string{"project": project})
}

// Activity lists what happened, newest first.
func (c *Client) Activity(ctx context.Context, project, subject string, p Part) (wire.Listed[wire.Happening], error) {
	return call[wire.Listed[wire.Happening]](ctx, c, "GET",
		query(path("activity"), "project", project, "subject", subject, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// Comment comments on a line of the record, or on a subject when on is 0.
func (c *Client) Comment(ctx context.Context, on int64, subject, text string) (wire.Said, error) {
	return call[wire.Said](ctx, c, "POST", path("comments"),
		map[string]any{"on": on, "subject": subject, "text": text})
}

// Audit searches the record, newest first; q holds the query parameters of a search.
func (c *Client) Audit(ctx context.Context, q map[string]string, p Part) (wire.Listed[record.Entry], error) {
	return call[wire.Listed[record.Entry]](ctx, c, "GET",
		query(path("audit"), append(flat(q), "limit", p.limit(), "cursor", p.Cursor)...), nil)
}

func flat(q map[string]string) []string {
	var out []string
	for name, value := range q {
		out = append(out, name, value)
	}
	return out
}

// ExportAudit writes what a search finds as CloudEvents, one JSON object a line.
func (c *Client) ExportAudit(ctx context.Context, q map[string]string, w io.Writer) error {
	return c.stream(ctx, query(path("audit", "export"), flat(q)...), func(r io.Reader) error {
		_, err := io.Copy(w, r)
		return err
	})
}

// VerifyAudit has the service read the whole record.
func (c *Client) VerifyAudit(ctx context.Context, checkpoints []record.Checkpoint) (record.Verified, error) {
	return call[record.Verified](ctx, c, "POST", path("audit", "verify"), map[string]any{"checkpoints": checkpoints})
}

// Checkpoint gets a signed statement of what the last line of the record is.
func (c *Client) Checkpoint(ctx context.Context) (record.Checkpoint, error) {
	return call[record.Checkpoint](ctx, c, "GET", path("audit", "checkpoint"), nil)
}

// Searches lists saved searches.
func (c *Client) Searches(ctx context.Context) (wire.Listed[registry.SavedSearch], error) {
	return call[wire.Listed[registry.SavedSearch]](ctx, c, "GET", path("audit", "searches"), nil)
}

// SaveSearch keeps a search.
func (c *Client) SaveSearch(ctx context.Context, name string, q map[string]string,
	shared bool,
) (registry.SavedSearch, error) {
	return call[registry.SavedSearch](ctx, c, "POST", path("audit", "searches"),
		map[string]any{"name": name, "query": q, "shared": shared})
}

// RemoveSearch forgets a search.
func (c *Client) RemoveSearch(ctx context.Context, id int64) error {
	_, err := call[struct{}](ctx, c, "DELETE", path("audit", "searches", strconv.FormatInt(id, 10)), nil)
	return err
}

// AddWebhook adds a webhook.
func (c *Client) AddWebhook(ctx context.Context, n wire.NewWebhook) (wire.MadeWebhook, error) {
	return call[wire.MadeWebhook](ctx, c, "POST", path("webhooks"), n)
}

// Webhooks lists webhooks.
func (c *Client) Webhooks(ctx context.Context) (wire.Listed[notice.Webhook], error) {
	return call[wire.Listed[notice.Webhook]](ctx, c, "GET", path("webhooks"), nil)
}

// RemoveWebhook removes a webhook.
func (c *Client) RemoveWebhook(ctx context.Context, id int64, reason string) (notice.Webhook, error) {
	return call[notice.Webhook](ctx, c, "DELETE", query(path("webhooks", strconv.FormatInt(id, 10)), "reason", reason),
		nil)
}

// Deliveries lists what went to a webhook; 0 is e-mail.
func (c *Client) Deliveries(ctx context.Context, webhook int64, p Part) (wire.Listed[notice.Delivery], error) {
	return call[wire.Listed[notice.Delivery]](ctx, c, "GET",
		query(path("webhooks", strconv.FormatInt(webhook, 10), "deliveries"), "limit", p.limit(), "cursor", p.Cursor),
		nil)
}

// SendAgain sends a delivery again.
func (c *Client) SendAgain(ctx context.Context, id int64) (notice.Delivery, error) {
	return call[notice.Delivery](ctx, c, "POST", path("deliveries", strconv.FormatInt(id, 10), "again"), nil)
}

// Headers lists the headers of an environment.
func (c *Client) Headers(ctx context.Context, environment string) (wire.Listed[wire.Header], error) {
	return call[wire.Listed[wire.Header]](ctx, c, "GET", path("environments", environment, "headers"), nil)
}

// SetHeader sets a header of an environment.
func (c *Client) SetHeader(ctx context.Context, environment, name, value string) (wire.Header, error) {
	return call[wire.Header](ctx, c, "PUT", path("environments", environment, "headers", name),
		map[string]string{"value": value})
}

// RemoveHeader takes a header away.
func (c *Client) RemoveHeader(ctx context.Context, environment, name string) (wire.Header, error) {
	return call[wire.Header](ctx, c, "DELETE", path("environments", environment, "headers", name), nil)
}

// AddCaller gives a program a key to an endpoint.
func (c *Client) AddCaller(ctx context.Context, endpoint, name string) (wire.MadeCaller, error) {
	return call[wire.MadeCaller](ctx, c, "POST", path("endpoints", endpoint, "callers"),
		map[string]string{"name": name})
}

// Calls says who called an endpoint in a window that ends now, and how much.
func (c *Client) Calls(ctx context.Context, endpoint string, window time.Duration) (wire.Calls, error) {
	return call[wire.Calls](ctx, c, "GET", query(path("endpoints", endpoint, "calls"), "window", window.String()), nil)
}

// Callers lists who has a key to an endpoint.
func (c *Client) Callers(ctx context.Context, endpoint string) (wire.Listed[traffic.Caller], error) {
	return call[wire.Listed[traffic.Caller]](ctx, c, "GET", path("endpoints", endpoint, "callers"), nil)
}

// RemoveCaller takes a key away.
func (c *Client) RemoveCaller(ctx context.Context, endpoint, name, reason string) error {
	_, err := call[struct{}](ctx, c, "DELETE", query(path("endpoints", endpoint, "callers", name), "reason", reason),
		nil)
	return err
}

// SetKeyed says whether callers of an endpoint need a key.
func (c *Client) SetKeyed(ctx context.Context, endpoint string, keyed bool, reason string) (traffic.Endpoint, error) {
	return call[traffic.Endpoint](ctx, c, "PUT", path("endpoints", endpoint, "keyed"),
		map[string]any{"keyed": keyed, "reason": reason})
}

// Mail shows how e-mail is sent.
func (c *Client) Mail(ctx context.Context) (notice.MailSettings, error) {
	return call[notice.MailSettings](ctx, c, "GET", path("settings", "mail"), nil)
}

// SetMail says how e-mail is sent; a nil password keeps the one that is kept.
func (c *Client) SetMail(ctx context.Context, m notice.MailSettings, password *string) (notice.MailSettings, error) {
	in := map[string]any{"host": m.Host, "port": m.Port, "tls": m.TLS, "user": m.User, "from": m.From}
	if password != nil {
		in["password"] = *password
	}
	return call[notice.MailSettings](ctx, c, "PUT", path("settings", "mail"), in)
}

// TestMail sends oneself an e-mail.
func (c *Client) TestMail(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, "POST", path("settings", "mail", "test"), nil)
	return err
}

// Retention shows how long what grows is kept.
func (c *Client) Retention(ctx context.Context) (keep.Retention, error) {
	return call[keep.Retention](ctx, c, "GET", path("settings", "retention"), nil)
}

// SetRetention says how long what grows is kept.
func (c *Client) SetRetention(ctx context.Context, r keep.Retention, reason string) (keep.Retention, error) {
	return call[keep.Retention](ctx, c, "PUT", path("settings", "retention"), struct {
		keep.Retention
		Reason string `json:"reason,omitempty"`
	}{r, reason})
}

// RotateKey seals all secrets with a new key.
func (c *Client) RotateKey(ctx context.Context, reason string) (wire.Rotated, error) {
	return call[wire.Rotated](ctx, c, "POST", path("settings", "key", "rotation"),
		map[string]string{"reason": reason})
}

// Backup writes everything that is kept to w and checks it on its way.
func (c *Client) Backup(ctx context.Context, w io.Writer) (out backup.Summary, err error) {
	err = c.stream(ctx, path("backup"), func(r io.Reader) error {
		out, err = backup.Check(io.TeeReader(r, w))
		return err
	})
	return out, err
}
