package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	appkeep "innerladder/internal/app/keep"
	"innerladder/internal/backup"
	"innerladder/internal/core/keep"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/seal"
	"innerladder/internal/wire"
)

// savedSearch is a search of the record that somebody keeps.
type savedSearch = registry.SavedSearch

func keepingCommands() []command {
	return slices.Concat(settingCommands(), headerCommands(), callerCommands(), hookCommands(), deliveryCommands())
}

// settingCommands are the commands about the service as a whole.
func settingCommands() []command {
	return []command{
		{
			name: "backup", group: "Keep", arguments: "FILE",
			summary: "Write everything that is kept into one file, while the service runs; - is standard output",
			least:   1, most: 1,
			example: "innerladder backup tarnholm-2026-01-12.tar", setup: backupCommand,
		},
		{
			name: "restore", group: "Keep", arguments: "FILE",
			summary: "Put a backup into a new data directory, after checking all of it", least: 1, most: 1,
			example: "innerladder restore tarnholm-2026-01-12.tar -data innerladder-data -key-file key",
			setup:   restoreCommand,
		},
		{
			name: "settings mail", group: "Keep", summary: "Show or say how e-mail is sent", most: 0,
			example: "innerladder settings mail -host mail.tarnholm.example -user ladder -password-file mail.secret " +
				"-from ladder@tarnholm.example\ninnerladder settings mail -test", setup: mailCommand,
		},
		{
			name: "settings retention", group: "Keep",
			summary: "Show or say how long logs and windows are kept; the record is kept for ever", most: 0,
			example: "innerladder settings retention -minutes 168h -deliveries 720h", setup: retentionCommand,
		},
		{
			name: "key rotate", group: "Keep", summary: "Seal all secrets with a new key", most: 0,
			example: "innerladder key rotate -why 'an administrator has left'",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				reason := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					r, err := c.api.RotateKey(ctx, *reason)
					return c.show(r, err, func() {
						fmt.Fprintf(c.Out, "%d secrets are sealed with a new key; backups from before need the key "+
							"file from before\n", r.Secrets)
					})
				}
			},
		},
	}
}

// headerCommands are the commands about headers that model servers are sent.
func headerCommands() []command {
	return []command{
		{
			name: "header set", group: "Keep", arguments: "ENVIRONMENT NAME",
			summary: "Set a header that all model servers of an environment are sent; its value is read from a file " +
				"or standard input and never shown", least: 2, most: 2,
			example: "innerladder header set plant-north Authorization -value-file plant.secret",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				file := c.flags.String("value-file", "-", "`FILE` with the value; - is standard input")
				return func(ctx context.Context) error {
					value, err := c.password(*file, false)
					if err != nil {
						return err
					}
					h, err := c.api.SetHeader(ctx, c.args[0], c.args[1], value)
					return c.show(h, err, func() {
						fmt.Fprintf(c.Out, "model servers of %s are sent %s\n", c.args[0],
							h.Name)
					})
				}
			},
		},
		{
			name: "header remove", group: "Keep", arguments: "ENVIRONMENT NAME", summary: "Take a header away",
			least: 2,
			most:  2, example: "innerladder header remove plant-north Authorization",
			setup: asks(func(ctx context.Context, c *call) error {
				h, err := c.api.RemoveHeader(ctx, c.args[0], c.args[1])
				return c.show(h, err, func() {
					fmt.Fprintf(c.Out, "model servers of %s are sent %s no more\n",
						c.args[0], h.Name)
				})
			}),
		},
		{
			name: "headers", group: "Keep", arguments: "ENVIRONMENT",
			summary: "List the headers of an environment, without their values", least: 1, most: 1,
			example: "innerladder headers plant-north",
			setup: asks(func(ctx context.Context, c *call) error {
				all, err := c.api.Headers(ctx, c.args[0])
				return c.show(all, err, func() {
					t := newTable(c.Out, "HEADER", "SET BY", "WHEN")
					for _, h := range all.Items {
						t.row(h.Name, h.SetBy, moment(h.SetAt))
					}
					t.done()
				})
			}),
		},
	}
}

// callerCommands are the commands about programs that have a key.
func callerCommands() []command {
	return []command{
		{
			name: "caller add", group: "Traffic", arguments: "ENDPOINT NAME",
			summary: "Give a program a key to an endpoint, which from then on answers nobody without one; " +
				"prints it once", least: 2, most: 2,
			example: "innerladder caller add demand-hourly dispatch-tool > dispatch.key",
			setup: asks(func(ctx context.Context, c *call) error {
				k, err := c.api.AddCaller(ctx, c.args[0], c.args[1])
				return c.show(k, err, func() {
					c.say("%s sends it as Inner-Ladder-Key; it is shown this once:", k.Name)
					fmt.Fprintln(c.Out, k.Key)
				})
			}),
		},
		{
			name: "caller remove", group: "Traffic", arguments: "ENDPOINT NAME", summary: "Take a program's key away",
			least: 2, most: 2, example: "innerladder caller remove demand-hourly dispatch-tool -why replaced",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				reason := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					err := c.api.RemoveCaller(ctx, c.args[0], c.args[1], *reason)
					return c.show(struct{}{}, err,
						func() { fmt.Fprintf(c.Out, "the key of %s holds no more\n", c.args[1]) })
				}
			},
		},
		{
			name: "callers", group: "Traffic", arguments: "ENDPOINT",
			summary: "List the programs that have a key to an endpoint, and who called it how much; -open lets " +
				"anyone call it, -keyed only them",
			least: 1, most: 1,
			example: "innerladder callers demand-hourly\ninnerladder callers demand-hourly -open -why 'behind a " +
				"proxy that asks for keys'", setup: callersCommand,
		},
	}
}

// hookCommands are the commands about webhooks.
func hookCommands() []command {
	return []command{
		{
			name: "webhook add", group: "Keep", arguments: "ADDRESS",
			summary: "Have an address told of what happens, as signed CloudEvents; prints the secret once", least: 1,
			most: 1,
			example: "innerladder webhook add https://chat.tarnholm.example/hooks/ladder -project heat-planning " +
				"-kind split -kind alert",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				project := projectOption(c)
				var kinds list
				c.flags.Var(&kinds, "kind", "`KIND` such as split.made, or split for all that begin so; may be given "+
					"several times; everything when not given")
				return func(ctx context.Context) error {
					w, err := c.api.AddWebhook(ctx,
						wire.NewWebhook{Project: *project, Address: c.args[0], Kinds: kinds})
					return c.show(w, err, func() {
						c.say("webhook %d tells %s; what is sent is signed with this secret, which is shown this once:",
							w.ID, w.Address)
						fmt.Fprintln(c.Out, w.Secret)
					})
				}
			},
		},
		{
			name: "webhook remove", group: "Keep", arguments: "ID", summary: "Remove a webhook", least: 1, most: 1,
			example: "innerladder webhook remove 1 -why 'the chat has moved'",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				reason := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					id, err := c.number(0)
					if err != nil {
						return err
					}
					w, err := c.api.RemoveWebhook(ctx, id, *reason)
					return c.show(w, err, func() { fmt.Fprintf(c.Out, "%s is told no more\n", w.Address) })
				}
			},
		},
		{
			name: "webhooks", group: "Keep", summary: "List webhooks", most: 0, example: "innerladder webhooks",
			setup: asks(func(ctx context.Context, c *call) error {
				all, err := c.api.Webhooks(ctx)
				return c.show(all, err, func() {
					t := newTable(c.Out, "ID", "PROJECT", "ADDRESS", "KINDS", "ADDED BY")
					for _, w := range all.Items {
						t.row(strconv.FormatInt(w.ID, 10), w.Project, w.Address, orAll(strings.Join(w.Kinds, ", ")),
							w.MadeBy+", "+moment(w.MadeAt))
					}
					t.done()
				})
			}),
		},
	}
}

// deliveryCommands are the commands about what was sent.
func deliveryCommands() []command {
	return []command{
		{
			name: "deliveries", group: "Keep", arguments: "WEBHOOK",
			summary: "What went to a webhook and what came back, newest first; 0 is e-mail", least: 1, most: 1,
			example: "innerladder deliveries 1",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				part := c.part()
				return func(ctx context.Context) error {
					id, err := c.number(0)
					if err != nil {
						return err
					}
					all, err := c.api.Deliveries(ctx, id, part())
					return c.show(all, err, func() {
						t := newTable(c.Out, "ID", "STATE", "TRIES", "WHAT", "TO", "ANSWER")
						for _, d := range all.Items {
							t.row(strconv.FormatInt(d.ID, 10), d.State, strconv.Itoa(d.Tries),
								fmt.Sprintf("%d %s", d.Entry.Seq, d.Entry.Kind), d.Person, d.Answer)
						}
						t.done()
						c.more(all.Next)
					})
				}
			},
		},
		{
			name: "delivery again", group: "Keep", arguments: "ID", summary: "Send a delivery again at once", least: 1,
			most: 1, example: "innerladder delivery again 12",
			setup: asks(func(ctx context.Context, c *call) error {
				id, err := c.number(0)
				if err != nil {
					return err
				}
				d, err := c.api.SendAgain(ctx, id)
				return c.show(d, err, func() { fmt.Fprintf(c.Out, "delivery %d is on its way\n", d.ID) })
			}),
		},
	}
}

// backupCommand writes to a file beside its place and moves it there when it is whole.
func backupCommand(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		if c.args[0] == "-" {
			_, err := c.api.Backup(ctx, c.Out)
			return err
		}
		if _, err := os.Stat(c.args[0]); err == nil {
			return wrongUse("%s is there already; choose another name", c.args[0])
		}
		f, err := os.CreateTemp(filepath.Dir(c.args[0]), ".backup-*") // 0600 by itself
		if err != nil {
			return fmt.Errorf("writing the backup: %w", err)
		}
		defer os.Remove(f.Name())
		sum, err := c.api.Backup(ctx, f)
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return err
		}
		err = os.Rename(f.Name(), c.args[0])
		return c.show(sum, err, func() {
			fmt.Fprintf(c.Out, "%s: %d files, %s, the record up to line %d; whole and checked\n", c.args[0], sum.Files,
				size(sum.Bytes), sum.LastLine)
			c.say("keep the key file apart from it: without it secrets cannot be opened and the service does not " +
				"start on a restored backup")
		})
	}
}

func restoreCommand(c *call) func(context.Context) error {
	data := c.flags.String("data", "innerladder-data", "`DIR` to restore into; it must be new or empty")
	keyFile := c.flags.String("key-file", "",
		"`FILE` with the keys that sealed the secrets; with it the record is verified, and it is copied to DIR/key")
	c.json = c.flags.Bool("json", false, "print JSON for machines")
	return func(ctx context.Context) error {
		var keys *seal.Ring
		var raw []byte
		if *keyFile != "" {
			var err error
			if keys, err = seal.Open(*keyFile, true); err != nil {
				return err
			}
			if raw, err = os.ReadFile(*keyFile); err != nil {
				return err
			}
		}
		var in io.Reader = c.In
		if c.args[0] != "-" {
			f, err := os.Open(c.args[0])
			if err != nil {
				return fmt.Errorf("opening the backup: %w", err)
			}
			defer f.Close()
			in = f
		}
		sum, err := backup.Restore(in, *data, func(dir string) error {
			if err := appkeep.CheckRestored(ctx, dir, keys); err != nil {
				return err
			}
			if raw == nil {
				return nil
			}
			return os.WriteFile(filepath.Join(dir, "key"), raw, 0o600)
		})
		return c.show(sum, err, func() {
			fmt.Fprintf(c.Out, "%s holds the backup of %s: %d files, %s, the record up to line %d\n", *data,
				moment(sum.At), sum.Files, size(sum.Bytes), sum.LastLine)
			if keys == nil {
				c.say("put the key file that belongs to it at %s (mode 600), or name it with serve -key-file; then: "+
					"innerladder serve -data %s", filepath.Join(*data, "key"), *data)
				return
			}
			fmt.Fprintf(c.Out, "the record is intact; start with: innerladder serve -data %s\n", *data)
		})
	}
}

func mailCommand(c *call) func(context.Context) error {
	c.connect()
	var m notice.MailSettings
	c.flags.StringVar(&m.Host, "host", "", "`HOST` of the SMTP server; none sends no e-mail")
	c.flags.IntVar(&m.Port, "port", 0, "`PORT`; 587 for starttls, 465 for tls")
	c.flags.StringVar(&m.TLS, "tls", "", "`HOW` the connection is secured: starttls, tls, or none on this machine only")
	c.flags.StringVar(&m.User, "user", "", "`NAME` to sign in with there")
	c.flags.StringVar(&m.From, "from", "", "`ADDRESS` of the sender")
	file := c.flags.String("password-file", "",
		"`FILE` with the password there; - is standard input; the one that is kept stays when not given")
	test := c.flags.Bool("test", false, "send yourself an e-mail")
	return func(ctx context.Context) error {
		if *test {
			err := c.api.TestMail(ctx)
			return c.show(struct{}{}, err,
				func() { fmt.Fprintln(c.Out, "the mail server took it; look into your mail") })
		}
		now, err := c.api.Mail(ctx)
		if err == nil && m.Host != "" {
			if m.Host == "none" {
				m = notice.MailSettings{}
			}
			var password *string
			if *file != "" {
				read, err := c.password(*file, false)
				if err != nil {
					return err
				}
				password = &read
			}
			now, err = c.api.SetMail(ctx, m, password)
		}
		return c.show(now, err, func() {
			if now.Host == "" {
				fmt.Fprintln(c.Out, "no e-mail is sent")
				return
			}
			facts(c.Out, "server", fmt.Sprintf("%s:%d (%s)", now.Host, now.Port, now.TLS), "as", now.User, "password",
				map[bool]string{true: "kept, sealed", false: "none"}[now.HasPassword], "from", now.From)
		})
	}
}

func retentionCommand(c *call) func(context.Context) error {
	c.connect()
	var r keep.Retention
	c.flags.StringVar(&r.Minutes, "minutes", "", "`DURATION` for what lanes did by the minute")
	c.flags.StringVar(&r.Hours, "hours", "", "`DURATION` for the same by the hour")
	c.flags.StringVar(&r.Days, "days", "", "`DURATION` for the same by the day")
	c.flags.StringVar(&r.Readings, "readings", "", "`DURATION` for what guards said, second by second")
	c.flags.StringVar(&r.Deliveries, "deliveries", "", "`DURATION` for the log of what was sent")
	c.flags.StringVar(&r.Notices, "notices", "", "`DURATION` for notices that were read")
	c.flags.StringVar(&r.Repeats, "repeats", "", "`DURATION` for answers to calls with an Idempotency-Key")
	c.flags.IntVar(&r.RequestGiB, "requests", 0, "`GIB` that all logs of requests may have together")
	reason := c.flags.String("why", "", "`TEXT`: why")
	return func(ctx context.Context) error {
		now, err := c.api.Retention(ctx)
		if err == nil && r != (keep.Retention{}) {
			now, err = c.api.SetRetention(ctx, r, *reason)
		}
		return c.show(now, err, func() {
			facts(c.Out, "minutes", now.Minutes, "hours", now.Hours, "days", now.Days, "readings", now.Readings,
				"deliveries", now.Deliveries, "notices", now.Notices, "repeats", now.Repeats, "requests",
				fmt.Sprintf("%d GiB in all; for how long is each endpoint's own", now.RequestGiB), "record", "for ever")
		})
	}
}

// mostCallers is how many callers are printed.
const mostCallers = 20

// printCalls says who called, and how much.
func printCalls(w io.Writer, calls wire.Calls) {
	if calls.Total == 0 {
		fmt.Fprintf(w, "\nnobody has called since %s\n", moment(calls.From))
		return
	}
	fmt.Fprintf(w, "\n%s requests since %s\n\n", count(calls.Total), moment(calls.From))
	t := newTable(w, "CALLED", "REQUESTS", "SHARE", "FAILED", "AT FAULT", "LAST")
	for i, c := range calls.Items {
		if i == mostCallers {
			break
		}
		t.row(c.Name, count(c.Requests), percent(float64(c.Requests)/float64(calls.Total)), count(c.Failed),
			count(c.Wrong), moment(c.Last))
	}
	t.done()
	if more := len(calls.Items) - mostCallers; more > 0 {
		fmt.Fprintf(w, "and %d more; all of them with -json\n", more)
	}
}

func callersCommand(c *call) func(context.Context) error {
	c.connect()
	open := c.flags.Bool("open", false, "let anyone call who reaches the gateway")
	keyed := c.flags.Bool("keyed", false, "let only callers with a key call")
	reason := c.flags.String("why", "", "`TEXT`: why")
	since := c.flags.Duration("since", 24*time.Hour, "`DURATION`: how far back it is told who called")
	return func(ctx context.Context) error {
		if *open && *keyed {
			return wrongUse("say either -open or -keyed")
		}
		if *open || *keyed {
			if _, err := c.api.SetKeyed(ctx, c.args[0], *keyed, *reason); err != nil {
				return err
			}
		}
		all, err := c.api.Callers(ctx, c.args[0])
		if err != nil {
			return err
		}
		e, err := c.api.Endpoint(ctx, c.args[0])
		if err != nil {
			return err
		}
		calls, err := c.api.Calls(ctx, c.args[0], *since)
		out := struct {
			wire.Listed[traffic.Caller]
			Calls wire.Calls `json:"calls"`
		}{all, calls}
		return c.show(out, err, func() {
			fmt.Fprintln(c.Out, map[bool]string{
				true:  e.Name + " answers only callers that have a key",
				false: e.Name + " answers anyone who can reach the gateway",
			}[e.Keyed])
			if len(all.Items) > 0 {
				t := newTable(c.Out, "CALLER", "ENDS IN", "GIVEN BY")
				for _, k := range all.Items {
					t.row(k.Name, "…"+k.Hint, k.MadeBy+", "+moment(k.MadeAt))
				}
				t.done()
			}
			printCalls(c.Out, calls)
		})
	}
}
