package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/traffic"
)

func placeCommands() []command {
	return []command{
		{
			name: "environment add", group: "Places", arguments: "NAME", summary: "Add a place where versions run",
			least: 1, most: 1,
			example: "innerladder environment add plant-north -about \"the north plant's model servers\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				about := c.flags.String("about", "", "`TEXT` for people")
				return func(ctx context.Context) error {
					e, err := c.api.AddEnvironment(ctx, c.args[0], *about)
					return c.show(e, err, func() { fmt.Fprintln(c.Out, e.Name) })
				}
			},
		},
		{
			name: "environment list", group: "Places", summary: "List the places where versions run", most: 0,
			example: "innerladder environment list",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					all, err := c.api.Environments(ctx)
					return c.show(all, err, func() {
						t := newTable(c.Out, "ENVIRONMENT", "PLACEMENTS", "ABOUT")
						for _, e := range all.Items {
							t.row(e.Name, strconv.Itoa(e.Placements), e.Description)
						}
						t.done()
					})
				}
			},
		},
		{
			name: "place", group: "Places", arguments: "REF",
			summary: "Say that a version runs somewhere, after checking that it does", least: 1, most: 1,
			example: "innerladder place heat-demand@2 -env plant-north -at http://127.0.0.1:9001",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				env := c.flags.String("env", "", "`ENVIRONMENT` where it runs")
				var at list
				c.flags.Var(&at, "at", "`URL` of a model server; may be given several times")
				as := c.flags.String("as", "", "`NAME` of the model there; the same when not given")
				return func(ctx context.Context) error {
					if *env == "" {
						return wrongUse("no environment is given; use -env")
					}
					return c.placement(c.api.Place(ctx, c.args[0], *env, at, *as))
				}
			},
		},
		{
			name: "unplace", group: "Places", arguments: "REF", summary: "Say that a version runs somewhere no more",
			least: 1, most: 1,
			example: "innerladder unplace heat-demand@1 -env plant-north",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				env := c.flags.String("env", "", "`ENVIRONMENT` it is taken away from")
				return func(ctx context.Context) error {
					if *env == "" {
						return wrongUse("no environment is given; use -env")
					}
					return c.placement(c.api.Unplace(ctx, c.args[0], *env))
				}
			},
		},
		{
			name: "placements", group: "Places", arguments: "[REF]", summary: "List what runs where, and how it is",
			most: 1, example: "innerladder placements",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					all, err := c.api.Placements(ctx, strings.Join(c.args, ""))
					return c.show(all, err, func() { printPlacements(c.Out, all.Items) })
				}
			},
		},
	}
}

// placement prints the placement that a call answered with.
func (c *call) placement(p traffic.Placement, err error) error {
	return c.show(p, err, func() {
		printPlacements(c.Out, []traffic.Placement{p})
		printFits(c.Out, p.Fits)
	})
}

func printPlacements(w io.Writer, all []traffic.Placement) {
	t := newTable(w, "VERSION", "ENVIRONMENT", "ADDRESS", "HEALTH", "SINCE", "SERVED AS")
	for _, p := range all {
		for _, a := range p.Addresses {
			health := "healthy"
			if !a.Healthy {
				health = "UNHEALTHY: " + a.Reason
			}
			t.row(p.Version, p.Environment, a.URL, health, ago(time.Since(a.Since)), p.ServedAs)
		}
	}
	t.done()
}

func sinceNow(t time.Time) time.Duration { return time.Since(t) }
