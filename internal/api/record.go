package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/keep"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

// searchIn is a search of the record.
type searchIn struct {
	Text    string `query:"text" json:"-" description:"words that must all be in subject, sentence or reason; the last may be a beginning if nothing has it whole"`
	Kind    string `query:"kind" json:"-" description:"such as split.made, or split for all that begin so"`
	Actor   string `query:"actor" json:"-" description:"who did it"`
	Subject string `query:"subject" json:"-" description:"what it is about, such as heat-demand@2, demand-hourly or P-3"`
	Project string `query:"project" json:"-"`
	After   string `query:"after" json:"-" description:"RFC 3339; not before this moment"`
	Until   string `query:"until" json:"-" description:"RFC 3339; before this moment"`
	Within  string `query:"within" json:"-" description:"no longer ago, such as 24h; instead of after"`
}

func (in searchIn) search(now time.Time) (records.RecordSearch, error) {
	q := records.RecordSearch{Text: in.Text, Kind: in.Kind, Actor: in.Actor, Subject: in.Subject, Project: in.Project}
	for _, m := range []struct {
		field, value string
		into         *time.Time
	}{{"after", in.After, &q.After}, {"until", in.Until, &q.Until}} {
		var err error
		if *m.into, err = moment(m.field, m.value); err != nil {
			return q, err
		}
	}
	if in.Within != "" {
		d, err := time.ParseDuration(in.Within)
		if err != nil || d <= 0 {
			return q, fault.New(fault.Invalid, "age.form", "%q is no duration", in.Within).In("within").
				Do("give one such as 36h")
		}
		q.After = now.Add(-d)
	}
	return q, nil
}

// recordOperations lists the routes about the record and what people say about it.
func recordOperations() []operation {
	return []operation{
		op("GET", "/activity", "activity", "What happened, newest first, with comments", access.Read, 200,
			func(c call, in *struct {
				pageIn
				Project string `query:"project" json:"-"`
				Subject string `query:"subject" json:"-" description:"only about this, such as heat-demand, heat-demand@2 or demand-hourly"`
			},
			) (wire.Listed[wire.Happening], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[wire.Happening], error) {
					return c.app.Record.Activity(c, c.by, in.Project, in.Subject, p)
				})
			}),
		op("POST", "/comments", "comment", "Comment on a line of the record, or on a subject; @NAME tells someone",
			access.Comment, 201, func(c call, in *struct {
				On      int64  `json:"on,omitempty" description:"the number of a line"`
				Subject string `json:"subject,omitempty" description:"instead of on: a model, endpoint, version, data set, run, promotion or alert"`
				Text    string `json:"text" required:"true"`
			},
			) (wire.Said, error) {
				return c.app.Record.Comment(c, c.by, in.On, in.Subject, in.Text)
			}),
		op("GET", "/audit", "searchAudit", "Search the record, newest first", access.Audit, 200,
			func(c call, in *struct {
				pageIn
				searchIn
			},
			) (wire.Listed[record.Entry], error) {
				q, err := in.search(time.Now())
				if err != nil {
					return wire.Listed[record.Entry]{}, err
				}
				return listed(in.pageIn, func(p records.Page) (wire.Listed[record.Entry], error) {
					return c.app.Record.Audit(c, c.by, q, p)
				})
			}),
		{
			method: "GET", path: "/audit/export", id: "exportAudit",
			summary:    "Export what a search finds, oldest first, as CloudEvents, one JSON object a line",
			permission: access.Audit, status: 200,
			in: new(searchIn), produces: "application/x-ndjson", handle: (*API).exportAudit,
		},
		op("POST", "/audit/verify", "verifyAudit", "Read the whole record and tell where it is not what was written",
			access.Audit, 200, func(c call, in *struct {
				Checkpoints []record.Checkpoint `json:"checkpoints,omitempty" description:"that were exported before; they must hold"`
			},
			) (record.Verified, error) {
				return c.app.Record.Verify(c, c.by, in.Checkpoints)
			}).forService(),
		op("GET", "/audit/checkpoint", "auditCheckpoint",
			"A signed statement of what the last line is, to be kept elsewhere", access.Audit, 200,
			func(c call, _ *none) (record.Checkpoint, error) {
				return c.app.Record.Checkpoint(c, c.by)
			}).forService(),
		op("GET", "/audit/searches", "listSearches", "The searches that you keep and those that others share",
			access.Audit, 200, func(c call, _ *none) (wire.Listed[registry.SavedSearch], error) {
				return c.app.Record.Searches(c, c.by)
			}),
		op("POST", "/audit/searches", "saveSearch", "Keep a search under a name", access.Audit, 201,
			func(c call, in *struct {
				Name   string            `json:"name" required:"true"`
				Query  map[string]string `json:"query" required:"true" description:"the query parameters of a search"`
				Shared bool              `json:"shared,omitempty"`
			},
			) (registry.SavedSearch, error) {
				return c.app.Record.SaveSearch(c, c.by, in.Name, in.Query, in.Shared)
			}),
		op("DELETE", "/audit/searches/{search}", "removeSearch", "Forget a search that you keep", access.Audit, 200,
			func(c call, in *struct {
				Search int64 `uri:"search" path:"search" json:"-"`
			},
			) (struct{}, error) {
				return c.app.Record.RemoveSearch(c, c.by, in.Search)
			}),
	}
}

func (a *API) exportAudit(c fiber.Ctx, by act.Actor) error {
	var in searchIn
	if err := read(c, &in); err != nil {
		return err
	}
	q, err := in.search(time.Now())
	if err != nil {
		return err
	}
	export, err := a.app.Record.Exporting(c.Context(), by, q)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "application/x-ndjson")
	c.Set(fiber.HeaderContentDisposition, `attachment; filename="audit.jsonl"`)
	return a.pour(c, func(ctx context.Context, w *bufio.Writer) error {
		enc := json.NewEncoder(w)
		enc.SetEscapeHTML(false)
		return export(ctx, func(e record.CloudEvent) error { return enc.Encode(e) })
	})
}

// pour streams an answer. When it fails half-way the connection is cut, so that nobody
// takes the part for the whole.
func (a *API) pour(c fiber.Ctx, write func(context.Context, *bufio.Writer) error) error {
	ctx := context.WithoutCancel(c.Context()) // the stream outlives the handler
	conn := c.RequestCtx().Conn()
	return c.SendStreamWriter(func(w *bufio.Writer) {
		if err := write(ctx, w); err != nil {
			a.log.Error("an answer broke off", "error", err)
			_ = w.Flush()
			_ = conn.Close()
		}
	})
}

type webhookIn struct {
	Webhook int64 `uri:"webhook" path:"webhook" json:"-"`
}
type headerIn struct {
	Environment string `uri:"environment" path:"environment" json:"-"`
	Header      string `uri:"header" path:"header" json:"-"`
}
type callerIn struct {
	endpointIn
	Caller string `uri:"caller" path:"caller" json:"-"`
}

// keepingOperations lists the routes about webhooks, secrets, settings and backup.
func keepingOperations() []operation {
	return slices.Concat(webhookOperations(), secretOperations(), settingOperations())
}

// webhookOperations are the routes about webhooks and what was sent to them.
func webhookOperations() []operation {
	return []operation{
		op("GET", "/webhooks", "listWebhooks", "List the webhooks of projects that you keep", access.Manage, 200,
			func(c call, _ *none) (wire.Listed[notice.Webhook], error) {
				return c.app.Notices.Webhooks(c, c.by)
			}),
		op("POST", "/webhooks", "addWebhook", "Have an address told of what happens; the secret is shown once",
			access.Manage, 201, func(c call, in *wire.NewWebhook) (wire.MadeWebhook, error) {
				return c.app.Notices.AddWebhook(c, c.by, *in)
			}),
		op("DELETE", "/webhooks/{webhook}", "removeWebhook", "Remove a webhook", access.Manage, 200,
			func(c call, in *struct {
				webhookIn
				becauseIn
			},
			) (notice.Webhook, error) {
				return c.app.Notices.RemoveWebhook(c, c.by, in.Webhook, in.Reason)
			}),
		op("GET", "/webhooks/{webhook}/deliveries", "listDeliveries",
			"What went to a webhook, newest first; webhook 0 is e-mail", access.Manage, 200,
			func(c call, in *struct {
				webhookIn
				pageIn
			},
			) (wire.Listed[notice.Delivery], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[notice.Delivery], error) {
					return c.app.Notices.Deliveries(c, c.by, in.Webhook, p)
				})
			}),
		op("POST", "/deliveries/{delivery}/again", "sendAgain", "Send a delivery again at once", access.Manage, 200,
			func(c call, in *struct {
				Delivery int64 `uri:"delivery" path:"delivery" json:"-"`
			},
			) (notice.Delivery, error) {
				return c.app.Notices.SendAgain(c, c.by, in.Delivery)
			}),
	}
}

// secretOperations are the routes about the headers of environments and the keys of callers.
func secretOperations() []operation {
	return []operation{
		op("GET", "/environments/{environment}/headers", "listHeaders",
			"List the headers that all model servers of an environment are sent, without their values",
			access.Manage, 200, func(c call, in *struct {
				Environment string `uri:"environment" path:"environment" json:"-"`
			},
			) (wire.Listed[wire.Header], error) {
				return c.app.Traffic.Headers(c, c.by, in.Environment)
			}),
		op("PUT", "/environments/{environment}/headers/{header}", "setHeader",
			"Set a header that all model servers of an environment are sent; its value is never shown",
			access.Manage, 200, func(c call, in *struct {
				headerIn
				Value string `json:"value" required:"true"`
			},
			) (wire.Header, error) {
				return c.app.Traffic.SetHeader(c, c.by, in.Environment, in.Header, &in.Value)
			}),
		op("DELETE", "/environments/{environment}/headers/{header}", "removeHeader", "Take a header away",
			access.Manage, 200, func(c call, in *headerIn) (wire.Header, error) {
				return c.app.Traffic.SetHeader(c, c.by, in.Environment, in.Header, nil)
			}),
		op("GET", "/endpoints/{endpoint}/callers", "listCallers", "List the programs that have a key to an endpoint",
			access.Route, 200, func(c call, in *endpointIn) (wire.Listed[traffic.Caller], error) {
				return c.app.Traffic.Callers(c, c.by, in.Endpoint)
			}),
		op("GET", "/endpoints/{endpoint}/calls", "endpointCalls",
			"Who called an endpoint, and how much, by the names of their keys or those that they give", access.Route,
			200, func(c call, in *struct {
				endpointIn
				windowIn
			},
			) (wire.Calls, error) {
				w, err := in.duration()
				if err != nil {
					return wire.Calls{}, err
				}
				return c.app.Requests.Calls(c, c.by, in.Endpoint, w)
			}),
		op("POST", "/endpoints/{endpoint}/callers", "addCaller",
			"Give a program a key to an endpoint, which from then on needs one; it is shown once", access.Route, 201,
			func(c call, in *struct {
				endpointIn
				Name string `json:"name" required:"true"`
			},
			) (wire.MadeCaller, error) {
				return c.app.Traffic.AddCaller(c, c.by, in.Endpoint, in.Name)
			}),
		op("DELETE", "/endpoints/{endpoint}/callers/{caller}", "removeCaller", "Take a program's key away",
			access.Route, 200, func(c call, in *struct {
				callerIn
				becauseIn
			},
			) (struct{}, error) {
				return c.app.Traffic.EndCaller(c, c.by, in.Endpoint, in.Caller, in.Reason)
			}),
		op("PUT", "/endpoints/{endpoint}/keyed", "setKeyed", "Say whether callers of an endpoint need a key",
			access.Route, 200, func(c call, in *struct {
				endpointIn
				whyIn
				Keyed bool `json:"keyed"`
			},
			) (*traffic.Endpoint, error) {
				return c.app.Traffic.SetKeyed(c, c.by, in.Endpoint, in.Keyed, in.Reason)
			}),
	}
}

// settingOperations are the routes about the settings of the service.
func settingOperations() []operation {
	return []operation{
		op("GET", "/settings/mail", "showMail", "How e-mail is sent", access.Administer, 200,
			func(c call, _ *none) (notice.MailSettings, error) {
				return c.app.Notices.Mail(c, c.by)
			}),
		op("PUT", "/settings/mail", "setMail", "Say how e-mail is sent", access.Administer, 200,
			func(c call, in *struct {
				Host     string  `json:"host" description:"of the SMTP server; empty sends no e-mail"`
				Port     int     `json:"port,omitempty"`
				TLS      string  `json:"tls,omitempty" enum:"starttls,tls,none"`
				User     string  `json:"user,omitempty"`
				From     string  `json:"from,omitempty"`
				Password *string `json:"password,omitempty" description:"the one that is kept stays when absent"`
			},
			) (notice.MailSettings, error) {
				return c.app.Notices.SetMail(c, c.by, notice.MailSettings{
					Host: in.Host, Port: in.Port, TLS: in.TLS, User: in.User,
					From: in.From,
				}, in.Password)
			}),
		op("POST", "/settings/mail/test", "testMail", "Send yourself an e-mail", access.Administer, 200,
			func(c call, _ *none) (struct{}, error) {
				return c.app.Notices.TestMail(c, c.by)
			}),
		op("GET", "/settings/retention", "showRetention", "How long what grows is kept", access.Administer, 200,
			func(c call, _ *none) (keep.Retention, error) {
				return c.app.Keep.Retention(c, c.by)
			}),
		op("PUT", "/settings/retention", "setRetention", "Say how long what grows is kept", access.Administer, 200,
			func(c call, in *struct {
				Minutes    string `json:"minutes,omitempty"`
				Hours      string `json:"hours,omitempty"`
				Days       string `json:"days,omitempty"`
				Readings   string `json:"readings,omitempty"`
				Deliveries string `json:"deliveries,omitempty"`
				Notices    string `json:"notices,omitempty"`
				Repeats    string `json:"repeats,omitempty"`
				RequestGiB int    `json:"request_gib,omitempty"`
				Reason     string `json:"reason,omitempty"`
			},
			) (keep.Retention, error) {
				return c.app.Keep.SetRetention(c, c.by, keep.Retention{
					Minutes: in.Minutes, Hours: in.Hours, Days: in.Days,
					Readings: in.Readings, Deliveries: in.Deliveries, Notices: in.Notices, Repeats: in.Repeats,
					RequestGiB: in.RequestGiB,
				}, in.Reason)
			}),
		op("POST", "/settings/key/rotation", "rotateKey", "Seal all secrets with a new key", access.Administer, 200,
			func(c call, in *struct {
				Reason string `json:"reason,omitempty"`
			},
			) (wire.Rotated, error) {
				return c.app.Secrets.RotateKey(c, c.by, in.Reason)
			}),
		{
			method: "GET", path: "/backup", id: "backup", summary: "Everything that is kept, as a tar archive",
			permission: access.Administer, status: 200,
			in: new(none), produces: "application/x-tar", handle: (*API).backup,
		},
	}
}

func (a *API) backup(c fiber.Ctx, by act.Actor) error {
	write, done, err := a.app.Keep.Backup(c.Context(), by)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "application/x-tar")
	c.Set(fiber.HeaderContentDisposition,
		fmt.Sprintf(`attachment; filename="innerladder-%s.tar"`, time.Now().UTC().Format("2006-01-02")))
	return a.pour(c, func(ctx context.Context, w *bufio.Writer) error {
		defer done()
		return write(ctx, w)
	})
}
