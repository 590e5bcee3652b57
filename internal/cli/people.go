package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"innerladder/internal/client"
)

func peopleCommands() []command {
	return []command{
		{name: "login", group: "People", summary: "Remember a service and a token for the commands that follow", most: 0,
			example: "innerladder login -server http://127.0.0.1:7400 -token-file data/first-token",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				c.connects = false // there may be nothing to connect with yet
				return func(ctx context.Context) error {
					server := *c.server
					if server == "" {
						server = usualServer
					}
					token, _ := c.Env("INNERLADDER_TOKEN")
					if *c.tokenFile != "" {
						b, err := os.ReadFile(*c.tokenFile)
						if err != nil {
							return fmt.Errorf("reading the token: %w", err)
						}
						token = string(b)
					}
					if token = strings.TrimSpace(token); token == "" {
						return wrongUse("no token is given; use -token-file or INNERLADDER_TOKEN")
					}
					p, err := client.New(server, token).WhoAmI(ctx)
					if err != nil {
						return err
					}
					file, err := c.writeLogin(login{server, token})
					if err != nil {
						return fmt.Errorf("remembering the login: %w", err)
					}
					return c.show(p, nil, func() {
						fmt.Fprintf(c.Out, "signed in to %s as %s (%s); remembered in %s\n", server, p.Name, p.Role, file)
					})
				}
			}},
		{name: "whoami", group: "People", summary: "Say who is signed in", most: 0, example: "innerladder whoami",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					p, err := c.api.WhoAmI(ctx)
					return c.show(p, err, func() { fmt.Fprintf(c.Out, "%s (%s)\n", p.Name, p.Role) })
				}
			}},
		{name: "person add", group: "People", arguments: "NAME", summary: "Give someone access; prints their token once", least: 1, most: 1,
			example: "innerladder person add tove > tove.token",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				role := c.flags.String("role", "member", "`ROLE`: member or owner; an owner may add people")
				return func(ctx context.Context) error {
					p, err := c.api.AddPerson(ctx, c.args[0], *role)
					return c.show(p, err, func() {
						c.say("%s was added as %s; the token is shown this once:", p.Name, p.Role)
						fmt.Fprintln(c.Out, p.Token)
					})
				}
			}},
		{name: "person list", group: "People", summary: "List everyone who may sign in", most: 0, example: "innerladder person list",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				return func(ctx context.Context) error {
					all, err := c.api.People(ctx)
					return c.show(all, err, func() {
						t := newTable(c.Out, "NAME", "ROLE", "ADDED BY", "WHEN")
						for _, p := range all.Items {
							t.row(p.Name, p.Role, p.AddedBy, moment(p.AddedAt))
						}
						t.done()
					})
				}
			}},
	}
}
