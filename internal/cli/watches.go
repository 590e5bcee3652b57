package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/span"
	"innerladder/internal/core/watch"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

// watchingCommands are the commands about the watches of endpoints.
func watchingCommands() []command {
	return []command{
		{
			name: "watches", group: "Watch", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Show what is watched of an endpoint, and where each watch stands",
			example: "innerladder watches demand-hourly", setup: showWatches,
		},
		{
			name: "watch show", group: "Watch", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Print what is said about the watches of an endpoint as a file, with what is usual in comments",
			example: "innerladder watch show demand-hourly > watches.yaml",
			setup: asks(func(ctx context.Context, c *call) error {
				w, err := c.api.Watches(ctx, c.args[0])
				return c.show(w, err, func() { fmt.Fprint(c.Out, w.Text) })
			}),
		},
		{
			name: "watch check", group: "Watch", arguments: "FILE", least: 1, most: 1,
			summary: "Say what is wrong in a file of watches, with line and column, without the service",
			example: "innerladder watch check watches.yaml", setup: checkWatches,
		},
		{
			name: "watch put", group: "Watch", arguments: "ENDPOINT FILE", least: 2, most: 2,
			summary: "Have an endpoint watched as a file says: its owner, its runbook, its watches",
			example: "innerladder watch put demand-hourly watches.yaml -why \"the desk asked for it\"",
			setup:   putWatches,
		},
		{
			name: "watch set", group: "Watch", arguments: "ENDPOINT SIGNAL", least: 2, most: 2,
			summary: "Have one signal of an endpoint watched otherwise than usual",
			example: "innerladder watch set demand-hourly error_rate -limit 2% -then roll_back -why \"they retry\"\n" +
				"innerladder watch set demand-hourly latency_p99 -versus last_week -times 1.5 -lasts 10m\n" +
				"innerladder watch set demand-hourly missing_rate.wind -off -why \"the gauge is being repaired\"",
			setup: setWatch,
		},
		{
			name: "watch remove", group: "Watch", arguments: "ENDPOINT WATCH", least: 2, most: 2,
			summary: "Have a signal of an endpoint watched as usual again",
			example: "innerladder watch remove demand-hourly \"error_rate versus main\" -why \"there is a guard\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					w, err := c.api.RemoveWatch(ctx, c.args[0], c.args[1], *why)
					return c.show(w, err, func() { printRules(c.Out, w) })
				}
			},
		},
		{
			name: "mute", group: "Watch", arguments: "ENDPOINT [SUBJECT]", least: 1, most: 2,
			summary: "Raise no alerts of watches about a subject for a time; about anything when none is named",
			example: "innerladder mute demand-hourly inputs -for 4h -why \"the feed is being moved\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				length := c.flags.Duration("for", time.Hour, "`DURATION` of it")
				why := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					w, err := c.api.Mute(ctx, c.args[0], c.subject(), *why, *length)
					return c.show(w, err, func() { printMutes(c.Out, w.Mutes) })
				}
			},
		},
		{
			name: "unmute", group: "Watch", arguments: "ENDPOINT [SUBJECT]", least: 1, most: 2,
			summary: "Raise alerts about a subject again",
			example: "innerladder unmute demand-hourly inputs -why \"it was moved\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					w, err := c.api.Unmute(ctx, c.args[0], c.subject(), *why)
					return c.show(w, err, func() {
						fmt.Fprintf(c.Out, "alerts about %s of %s are raised again\n", c.subject(), w.Endpoint)
						printMutes(c.Out, w.Mutes)
					})
				}
			},
		},
	}
}

// subject is what is muted: the second argument, or everything.
func (c *call) subject() string {
	if len(c.args) > 1 {
		return c.args[1]
	}
	return watch.Everything
}

func showWatches(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		w, err := c.api.Watches(ctx, c.args[0])
		return c.show(w, err, func() {
			if w.Set.Owner+w.Set.Runbook != "" {
				facts(c.Out, "owner", w.Set.Owner, "runbook", w.Set.Runbook)
				fmt.Fprintln(c.Out)
			}
			if len(w.Items) == 0 {
				c.say("nothing was looked at yet")
				return
			}
			t := newTable(c.Out, "SIGNAL", "STATE", "SINCE", "EVIDENCE", "WHAT")
			for _, s := range w.Items {
				state := string(s.State)
				if watch.Muted(w.Mutes, watch.Group(s.Signal), time.Now()) {
					state += ", muted"
				}
				t.row(s.Signal, state, ago(sinceNow(s.Since)), fmt.Sprintf("%.0f %%", 100*min(1, s.Progress)),
					s.Sentence)
			}
			t.done()
			if len(w.Set.Watches) > 0 {
				fmt.Fprintln(c.Out)
				printRules(c.Out, w)
			}
			printMutes(c.Out, w.Mutes)
		})
	}
}

// printRules says how an endpoint is watched otherwise than usual.
func printRules(w io.Writer, of wire.Watches) {
	if len(of.Set.Watches) == 0 {
		fmt.Fprintf(w, "%s is watched as usual\n", of.Endpoint)
	}
	for _, r := range of.Set.Watches {
		fmt.Fprintln(w, r)
	}
}

func printMutes(w io.Writer, mutes []watch.Mute) {
	for _, m := range mutes {
		fmt.Fprintf(w, "%s is muted until %s by %s %s\n", m.Subject,
			m.Until.UTC().Format("2006-01-02 15:04 UTC"), m.By, quote(m.Reason))
	}
}

// checkWatches reads a file of watches without the service.
func checkWatches(c *call) func(context.Context) error {
	c.json = c.flags.Bool("json", false, "print JSON for machines")
	return func(context.Context) error {
		text, err := os.ReadFile(c.args[0])
		if err != nil {
			return err
		}
		s, err := intake.Watches(text)
		if err != nil {
			return wrongUse("%s: %v", c.args[0], err)
		}
		return c.show(s, nil, func() {
			fmt.Fprintf(c.Out, "%s can be followed\n", c.args[0])
			printRules(c.Out, wire.Watches{Set: s})
		})
	}
}

func putWatches(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT`: why")
	based := c.flags.Int("based-on", -1,
		"`NUMBER` of the revision it was made from; refused when there is another by now")
	return func(ctx context.Context) error {
		text, err := os.ReadFile(c.args[1])
		if err != nil {
			return err
		}
		w, err := c.api.PutWatches(ctx, c.args[0], string(text), *why, *based)
		return c.show(w, err, func() {
			fmt.Fprintf(c.Out, "the watches of %s are at revision %d\n", w.Endpoint, w.Set.Revision)
			printRules(c.Out, w)
		})
	}
}

func setWatch(c *call) func(context.Context) error {
	c.connect()
	var r watch.Rule
	c.flags.TextVar(&r.Limit, "limit", watch.Limit{},
		"`LIMIT`: what is allowed: 1%, 200ms, a PSI such as 0.2; of request_rate, what is wanted a second at least")
	versus := c.flags.String("versus", "",
		"`WHAT` else is allowed: yesterday, last_week, registered, or main for the trial lane")
	c.flags.Float64Var(&r.Times, "times", 0, "`NUMBER`: so many times that is allowed, where it is more than the limit")
	c.flags.IntVar(&r.Least, "least", 0, "`REQUESTS` that must have come before it fires")
	lasts := c.flags.Duration("lasts", 0, "`DURATION`: how long it must be so before it fires")
	then := c.flags.String("then", "", "`WHAT` follows: notify, hold the rollout, or roll_back; notify when not given")
	c.flags.BoolVar(&r.Off, "off", false, "do not watch it")
	c.flags.StringVar(&r.About, "about", "", "`TEXT` that is told with the alert")
	why := c.flags.String("why", "", "`TEXT`: why")
	return func(ctx context.Context) error {
		r.Signal, r.Versus, r.Then = c.args[1], watch.Versus(*versus), guard.Response(*then)
		r.For = span.Duration(*lasts)
		if err := r.CheckAlone(); err != nil {
			return wrongUse("%v", err)
		}
		w, err := c.api.SetWatch(ctx, c.args[0], r, *why)
		return c.show(w, err, func() { printRules(c.Out, w) })
	}
}
