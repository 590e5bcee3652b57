package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/people"
	"innerladder/internal/wire"

	"golang.org/x/term"
)

func peopleCommands() []command {
	return slices.Concat(signingInCommands(), personCommands(), roleCommands(), tokenCommands(), inboxCommands())
}

// signingInCommands are the commands about who is signed in.
func signingInCommands() []command {
	return []command{
		{
			name: "login", group: "People",
			summary: "Sign in by password, link or token, and remember it for the commands that follow", most: 0,
			example: "innerladder login -server http://127.0.0.1:7400 -name tove\ninnerladder login -link " +
				"'http://127.0.0.1:7400/welcome#…' -name runa\ninnerladder login -token-file pipeline.token",
			setup: loginCommand,
		},
		{
			name: "whoami", group: "People", summary: "Say who is signed in and what they may do", most: 0,
			example: "innerladder whoami",
			setup: asks(func(ctx context.Context, c *call) error {
				me, err := c.api.WhoAmI(ctx)
				return c.show(me, err, func() {
					fmt.Fprintf(c.Out, "%s: %s\n", me.Name, memberships(me.Memberships))
					t := newTable(c.Out, "PROJECT", "MAY")
					for _, m := range projectsOf(me.Memberships) {
						t.row(m, permissions(me.May[m]))
					}
					t.done()
				})
			}),
		},
	}
}

// personCommands are the commands about people and robots.
func personCommands() []command {
	return []command{
		{
			name: "people", group: "People", summary: "List people and robots with their roles", most: 0,
			example: "innerladder people",
			setup: asks(func(ctx context.Context, c *call) error {
				all, err := c.api.People(ctx)
				return c.show(all, err, func() {
					t := newTable(c.Out, "NAME", "", "ROLES", "E-MAIL", "ADDED BY")
					for _, p := range all.Items {
						t.row(p.Name, kindOf(p), memberships(p.Memberships), p.Email, p.AddedBy+", "+moment(p.AddedAt))
					}
					t.done()
				})
			}),
		},
		{
			name: "person add", group: "People", arguments: "NAME",
			summary: "Add a person; prints the link that lets them in", least: 1, most: 1,
			example: "innerladder person add tove -email tove@tarnholm.example -role approver -project heat-planning",
			setup:   func(c *call) func(context.Context) error { return addPerson(c, false) },
		},
		{
			name: "person edit", group: "People", arguments: "NAME",
			summary: "Change someone's e-mail address, shut them out, or let them in again", least: 1, most: 1,
			example: "innerladder person edit odd -out -why 'has left'",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				email := c.flags.String("email", "", "`ADDRESS`: another e-mail address; none for no address")
				out := c.flags.Bool("out", false, "shut them out: no sign-in, no token holds")
				in := c.flags.Bool("in", false, "let them in again")
				reason := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					e := wire.PersonEdit{Reason: *reason}
					if *email != "" {
						address := strings.TrimSpace(*email)
						if address == "none" {
							address = ""
						}
						e.Email = &address
					}
					if *out && *in {
						return wrongUse("say either -out or -in")
					}
					if *out || *in {
						e.Disabled = out
					}
					p, err := c.api.EditPerson(ctx, c.args[0], e)
					return c.show(p, err, func() { fmt.Fprintf(c.Out, "%s %s\n", p.Name, kindOf(p)) })
				}
			},
		},
		{
			name: "person link", group: "People", arguments: "NAME",
			summary: "Make a new link that lets someone in, to choose a password", least: 1, most: 1,
			example: "innerladder person link tove",
			setup: asks(func(ctx context.Context, c *call) error {
				p, err := c.api.Invite(ctx, c.args[0])
				return c.show(p, err, func() { c.printLink(p) })
			}),
		},
		{
			name: "robot add", group: "People", arguments: "NAME", summary: "Add a robot, which works with tokens",
			least: 1, most: 1,
			example: "innerladder robot add pipeline -role author -project heat-planning",
			setup:   func(c *call) func(context.Context) error { return addPerson(c, true) },
		},
	}
}

// roleCommands are the commands about roles.
func roleCommands() []command {
	return []command{
		{
			name: "role give", group: "People", arguments: "NAME ROLE", summary: "Give someone a role in a project",
			least: 2, most: 2,
			example: "innerladder role give tove approver -project heat-planning",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				project := projectOption(c)
				return func(ctx context.Context) error {
					p, err := c.api.GiveRole(ctx, c.args[0], access.Membership{Project: *project, Role: c.args[1]})
					return c.show(p, err, func() { fmt.Fprintf(c.Out, "%s: %s\n", p.Name, memberships(p.Memberships)) })
				}
			},
		},
		{
			name: "role take", group: "People", arguments: "NAME ROLE",
			summary: "Take a role in a project away from someone", least: 2, most: 2,
			example: "innerladder role take tove approver -project heat-planning -why 'another desk'",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				project := projectOption(c)
				reason := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					p, err := c.api.TakeRole(ctx, c.args[0], access.Membership{Project: *project, Role: c.args[1]},
						*reason)
					return c.show(p, err, func() { fmt.Fprintf(c.Out, "%s: %s\n", p.Name, memberships(p.Memberships)) })
				}
			},
		},
		{
			name: "role make", group: "People", arguments: "NAME PERMISSION…",
			summary: "Make a role of permissions, or change one that was made here", least: 2, most: -1,
			example: "innerladder role make auditor audit -note 'looks, changes nothing'",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				note := c.flags.String("note", "", "`TEXT`: what the role is for")
				return func(ctx context.Context) error {
					r, err := c.api.PutRole(ctx, c.args[0], c.args[1:], *note)
					return c.show(r, err, func() {
						fmt.Fprintf(c.Out, "%s may %s\n", r.Name,
							permissions(r.Permissions))
					})
				}
			},
		},
		{
			name: "role remove", group: "People", arguments: "NAME", summary: "Remove a role that nobody has", least: 1,
			most: 1, example: "innerladder role remove auditor",
			setup: asks(func(ctx context.Context, c *call) error {
				r, err := c.api.RemoveRole(ctx, c.args[0])
				return c.show(r, err, func() { fmt.Fprintf(c.Out, "%s was removed\n", r.Name) })
			}),
		},
		{
			name: "roles", group: "People", summary: "List the roles, and what permissions there are", most: 0,
			example: "innerladder roles",
			setup: asks(func(ctx context.Context, c *call) error {
				all, err := c.api.Roles(ctx)
				return c.show(all, err, func() {
					t := newTable(c.Out, "ROLE", "MAY", "")
					for _, r := range all.Items {
						t.row(r.Name, permissions(r.Permissions), r.Description)
					}
					t.done()
					fmt.Fprintln(c.Out)
					t = newTable(c.Out, "PERMISSION", "TO")
					for _, d := range access.Permissions() {
						t.row(string(d.Name), d.What)
					}
					t.done()
				})
			}),
		},
	}
}

// tokenCommands are the commands about tokens.
func tokenCommands() []command {
	return []command{
		{
			name: "token make", group: "People", arguments: "TITLE",
			summary: "Make a token for yourself or for a robot; prints it once", least: 1, most: 1,
			example: "innerladder token make 'nightly training' -robot pipeline -may register,ask -lasts 2160h > " +
				"pipeline.token",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				robot := c.flags.String("robot", "", "`NAME` of the robot it is for; yours when not given")
				may := c.flags.String("may", "", "`PERMISSIONS` that it is narrowed down to, separated by commas")
				projects := c.flags.String("project", "",
					"`NAMES` of the projects that it is narrowed down to, separated by commas")
				lasts := c.flags.String("lasts", "", "`DURATION` until it expires; 2160h (90 days) when not given")
				return func(ctx context.Context) error {
					n := wire.NewToken{Title: c.args[0], Robot: *robot, Lasts: *lasts}
					for _, p := range commas(*may) {
						n.Permissions = append(n.Permissions, access.Permission(p))
					}
					n.Projects = commas(*projects)
					t, err := c.api.MakeToken(ctx, n)
					return c.show(t, err, func() {
						c.say("token %d of %s holds until %s; it is shown this once:", t.ID, t.Owner,
							t.Expires.Format("2006-01-02"))
						fmt.Fprintln(c.Out, t.Secret)
					})
				}
			},
		},
		{
			name: "token end", group: "People", arguments: "ID", summary: "Take a token away", least: 1, most: 1,
			example: "innerladder token end 4",
			setup: asks(func(ctx context.Context, c *call) error {
				id, err := c.number(0)
				if err != nil {
					return err
				}
				t, err := c.api.EndToken(ctx, id)
				return c.show(t, err, func() { fmt.Fprintf(c.Out, "token %d of %s holds no more\n", t.ID, t.Owner) })
			}),
		},
		{
			name: "tokens", group: "People", summary: "List your tokens, or those of a robot that you keep", most: 0,
			example: "innerladder tokens -robot pipeline",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				robot := c.flags.String("robot", "", "`NAME` of a robot")
				return func(ctx context.Context) error {
					all, err := c.api.Tokens(ctx, *robot)
					return c.show(all, err, func() {
						t := newTable(c.Out, "ID", "TITLE", "ENDS IN", "MAY", "IN", "EXPIRES", "LAST USED")
						for _, x := range all.Items {
							used := ""
							if x.UsedAt != nil {
								used = moment(*x.UsedAt)
							}
							t.row(strconv.FormatInt(x.ID, 10), x.Title, "…"+x.Hint,
								orAll(permissions(x.Scope.Permissions)), orAll(strings.Join(x.Scope.Projects, ", ")),
								x.Expires.Format("2006-01-02"), used)
						}
						t.done()
					})
				}
			},
		},
	}
}

// inboxCommands are the commands about what reaches one.
func inboxCommands() []command {
	return []command{
		{
			name: "inbox", group: "People", summary: "Your notices, newest first", most: 0,
			example: "innerladder inbox -unread -read",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				unread := c.flags.Bool("unread", false, "only those that were not read")
				read := c.flags.Bool("read", false, "mark all as read that are shown, and those before them")
				part := c.part()
				return func(ctx context.Context) error {
					all, err := c.api.Inbox(ctx, *unread, part())
					if err == nil && *read && len(all.Items) > 0 {
						err = c.api.MarkRead(ctx, all.Items[0].ID, false)
					}
					return c.show(all, err, func() {
						if len(all.Items) == 0 {
							c.say("there is nothing new")
						}
						for _, n := range all.Items {
							mark := " "
							if n.Read == nil {
								mark = "•"
							}
							fmt.Fprintf(c.Out, "%s %-8s %s\n", mark, n.Topic, happened(n.Entry))
						}
						c.more(all.Next)
					})
				}
			},
		},
		{
			name: "notify", group: "People", arguments: "[TOPIC=HOW…]",
			summary: "Choose what reaches you: TOPIC=inbox, TOPIC=mail, TOPIC=inbox,mail or TOPIC=none", most: -1,
			example: "innerladder notify alert=inbox,mail review=inbox version=none",
			setup: asks(func(ctx context.Context, c *call) error {
				p, err := c.api.Preferences(ctx)
				if err == nil && len(c.args) > 0 {
					for _, arg := range c.args {
						topic, how, ok := strings.Cut(arg, "=")
						if !ok {
							return wrongUse("%q is no choice; write TOPIC=inbox, TOPIC=mail, TOPIC=inbox,mail or "+
								"TOPIC=none", arg)
						}
						delete(p.Choices, notice.Topic(topic))
						if how == "none" {
							how = ""
						}
						channels := []notice.Channel{}
						for _, ch := range commas(how) {
							channels = append(channels, notice.Channel(ch))
						}
						p.Choices[notice.Topic(topic)] = channels
					}
					p, err = c.api.SetPreferences(ctx, p.Choices)
				}
				return c.show(p, err, func() {
					t := newTable(c.Out, "TOPIC", "REACHES YOU BY", "WHEN")
					for _, d := range p.Topics {
						var by []string
						for _, ch := range p.Choices[d.Topic] {
							by = append(by, string(ch))
						}
						t.row(string(d.Topic), strings.Join(by, ", "), d.What)
					}
					t.done()
					if !p.Mail {
						c.say("the service sends no e-mail until its mail server is set: innerladder settings mail")
					} else if p.Email == "" {
						c.say("no e-mail address of yours is known")
					}
				})
			}),
		},
	}
}

// loginCommand signs in and remembers a token.
func loginCommand(c *call) func(context.Context) error {
	c.connect()
	c.connects = false // there may be nothing to connect with yet
	name := c.flags.String("name", "",
		"`NAME` to sign in with a password; with -link, the name that the first owner chooses")
	link := c.flags.String("link", "", "`LINK` that lets you in; you choose a password with it")
	passwordFile := c.flags.String("password-file", "",
		"`FILE` with the password; asked for when not given, - is standard input")
	lasts := c.flags.String("lasts", "", "`DURATION` that the sign-in holds; 2160h (90 days) when not given")
	return func(ctx context.Context) error {
		server := *c.server
		if server == "" {
			server = usualServer
		}
		token := ""
		host, _ := os.Hostname()
		title := "command line on " + host
		switch {
		case *link != "":
			where, w, err := client.Welcome(ctx, *link)
			if err != nil {
				return err
			}
			server = where
			if w.First && *name == "" {
				return wrongUse("the link is for the first owner; choose a name with -name")
			}
			if !w.First {
				c.say("welcome, %s; choose a password", w.Name)
			}
			password, err := c.password(*passwordFile, true)
			if err != nil {
				return err
			}
			t, err := client.ComeIn(ctx, *link, *name, password, title, *lasts)
			if err != nil {
				return err
			}
			token = t.Secret
		case *name != "":
			password, err := c.password(*passwordFile, false)
			if err != nil {
				return err
			}
			t, err := client.SignIn(ctx, server, *name, password, title, *lasts)
			if err != nil {
				return err
			}
			token = t.Secret
		default:
			token, _ = c.Env("INNERLADDER_TOKEN")
			if *c.tokenFile != "" {
				b, err := os.ReadFile(*c.tokenFile)
				if err != nil {
					return fmt.Errorf("reading the token: %w", err)
				}
				token = string(b)
			}
		}
		if token = strings.TrimSpace(token); token == "" {
			return wrongUse("say who you are: with -name (and a password), -link, -token-file or INNERLADDER_TOKEN")
		}
		me, err := client.New(server, token).WhoAmI(ctx)
		if err != nil {
			return err
		}
		file, err := c.writeLogin(login{server, token})
		if err != nil {
			return fmt.Errorf("remembering the login: %w", err)
		}
		return c.show(me, nil, func() {
			fmt.Fprintf(c.Out, "signed in to %s as %s (%s); remembered in %s\n", server, me.Name,
				memberships(me.Memberships), file)
		})
	}
}

// password reads a password: from a file, or from whoever sits at the terminal, twice
// when a new one is chosen.
func (c *call) password(file string, chosen bool) (string, error) {
	switch {
	case file == "-":
		line, err := bufio.NewReader(c.In).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", fmt.Errorf("reading the password: %w", err)
		}
		return strings.TrimRight(line, "\r\n"), nil
	case file != "":
		b, err := os.ReadFile(file)
		return strings.TrimRight(string(b), "\r\n"), err
	case !term.IsTerminal(int(os.Stdin.Fd())):
		return "", wrongUse("there is no terminal to ask for the password; give it with -password-file FILE, or - " +
			"for standard input")
	}
	ask := func(what string) (string, error) {
		fmt.Fprint(c.Err, what+": ")
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(c.Err)
		return string(b), err
	}
	if !chosen {
		return ask("password")
	}
	first, err := ask("new password, at least 10 characters")
	if err != nil {
		return "", err
	}
	second, err := ask("once more")
	if err == nil && first != second {
		err = errors.New("the two passwords differ; nothing was changed")
	}
	return first, err
}

func addPerson(c *call, robot bool) func(context.Context) error {
	c.connect()
	var email *string
	if !robot {
		email = c.flags.String("email", "", "`ADDRESS` for notices and for sign-in by the provider")
	}
	var roles list
	c.flags.Var(&roles, "role", "`ROLE` to begin with; may be given several times")
	project := projectOption(c)
	return func(ctx context.Context) error {
		n := wire.NewPerson{Name: c.args[0], Robot: robot}
		if email != nil {
			n.Email = *email
		}
		for _, r := range roles {
			n.Memberships = append(n.Memberships, access.Membership{Project: *project, Role: r})
		}
		p, err := c.api.AddPerson(ctx, n)
		return c.show(p, err, func() {
			if robot {
				fmt.Fprintf(c.Out, "%s was added: %s; give it a token with: innerladder token make TITLE -robot %s\n",
					p.Name, memberships(p.Memberships), p.Name)
				return
			}
			c.printLink(p)
		})
	}
}

func (c *call) printLink(p wire.AddedPerson) {
	c.say("give %s this link; it lets them in once, within 7 days, to choose a password:", p.Name)
	fmt.Fprintln(c.Out, p.Link)
	if len(p.Memberships) == 0 {
		c.say("%s has no role yet and sees nothing; give one with: innerladder role give %s ROLE -project PROJECT",
			p.Name, p.Name)
	}
}

func projectOption(c *call) *string {
	return c.flags.String("project", "default", "`NAME` of the project; '*' for all projects and the service itself")
}

func commas(s string) []string {
	return strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ' ' })
}

func kindOf(p people.Person) string {
	switch {
	case p.Disabled != nil:
		return "shut out"
	case p.Robot:
		return "robot"
	}
	return ""
}

func memberships(all []access.Membership) string {
	var parts []string
	for _, m := range all {
		if m.Project == access.Everywhere {
			parts = append(parts, m.Role+" of everything")
		} else {
			parts = append(parts, m.Role+" of "+m.Project)
		}
	}
	if len(parts) == 0 {
		return "no role yet"
	}
	return strings.Join(parts, ", ")
}

func projectsOf(all []access.Membership) []string {
	var out []string
	for _, m := range all {
		if !slices.Contains(out, m.Project) {
			out = append(out, m.Project)
		}
	}
	return out
}

func permissions(all []access.Permission) string {
	parts := make([]string, len(all))
	for i, p := range all {
		parts[i] = string(p)
	}
	return strings.Join(parts, ", ")
}

func orAll(s string) string {
	if s == "" {
		return "all"
	}
	return s
}
