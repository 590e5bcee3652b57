package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

func placeCommands() []command {
	return append(environmentCommands(), placementCommands()...)
}

func environmentCommands() []command {
	return []command{
		{
			name: "environment add", group: "Places", arguments: "NAME", summary: "Add a place where versions run",
			least: 1, most: 1,
			example: "innerladder environment add plant-north -about \"the north plant's model servers\" " +
				"-allow 10.2.0.0/16",
			setup: addEnvironment,
		},
		{
			name: "environment edit", group: "Places", arguments: "NAME",
			summary: "Change an environment: its name, whose it is, who shares it, which addresses are allowed",
			least:   1, most: 1,
			example: "innerladder environment edit plant-north -share maintenance -allow models.tarnholm.example:8443",
			setup:   editEnvironment,
		},
		{
			name: "environment remove", group: "Places", arguments: "NAME",
			summary: "Take away an environment in which nothing runs, with its headers", least: 1, most: 1,
			example: "innerladder environment remove plant-west -why \"the plant is closed\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`REASON`")
				return func(ctx context.Context) error {
					e, err := c.api.RemoveEnvironment(ctx, c.args[0], *why)
					return c.show(e, err, func() { c.say("%s was taken away", e.Name) })
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
					return c.show(all, err, func() { printEnvironments(c.Out, all.Items) })
				}
			},
		},
	}
}

func printEnvironments(w io.Writer, all []traffic.Environment) {
	t := newTable(w, "ENVIRONMENT", "PROJECT", "SHARED WITH", "PLACEMENTS", "HEADERS", "ALLOWED", "ABOUT")
	for _, e := range all {
		allowed := "any address"
		if len(e.Allowed) > 0 {
			allowed = strings.Join(rules(e), " ")
		}
		t.row(e.Name, e.Project, strings.Join(e.SharedWith, " "), strconv.Itoa(e.Placements), strconv.Itoa(e.Headers),
			allowed, e.Description)
	}
	t.done()
}

func rules(e traffic.Environment) []string {
	out := make([]string, len(e.Allowed))
	for i, r := range e.Allowed {
		out[i] = string(r)
	}
	return out
}

func addEnvironment(c *call) func(context.Context) error {
	c.connect()
	var n wire.NewEnvironment
	c.flags.StringVar(&n.Description, "about", "", "`TEXT` for people")
	c.flags.StringVar(&n.Project, "project", "", "`PROJECT` whose it is; may be left out where there is one choice")
	c.flags.Var((*list)(&n.SharedWith), "share",
		"`PROJECT` whose versions may run there too; may be given several times")
	c.flags.Var((*list)(&n.Allowed), "allow", "`RULE` where model servers may be: a host, *.HOST, a range such as "+
		"10.2.0.0/16, each with :PORT; may be given several times, anywhere when not given")
	return func(ctx context.Context) error {
		n.Name = c.args[0]
		e, err := c.api.AddEnvironment(ctx, n)
		return c.show(e, err, func() { fmt.Fprintln(c.Out, e.Name) })
	}
}

func editEnvironment(c *call) func(context.Context) error {
	c.connect()
	var edit wire.EditEnvironment
	c.optional("name", "`NAME` that it gets", &edit.Name)
	c.optional("about", "`TEXT` for people", &edit.Description)
	c.optional("project", "`PROJECT` whose it is from now on", &edit.Project)
	var share, unshare, allow, disallow list
	c.flags.Var(&share, "share", "`PROJECT` whose versions may run there too; may be given several times")
	c.flags.Var(&unshare, "unshare", "`PROJECT` whose versions may run there no more; may be given several times")
	c.flags.Var(&allow, "allow", "`RULE` where model servers may be; may be given several times")
	c.flags.Var(&disallow, "disallow", "`RULE` that goes; may be given several times")
	c.flags.StringVar(&edit.Reason, "why", "", "`REASON`")
	return func(ctx context.Context) error {
		all, err := c.api.Environments(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all.Items, func(e traffic.Environment) bool { return e.Name == c.args[0] })
		if i >= 0 { // else the service says that it is unknown
			edit.SharedWith = changed(all.Items[i].SharedWith, share, unshare)
			edit.Allowed = changed(rules(all.Items[i]), allow, disallow)
		}
		e, err := c.api.EditEnvironment(ctx, c.args[0], edit)
		return c.show(e, err, func() { printEnvironments(c.Out, []traffic.Environment{e}) })
	}
}

// changed is a list with some more and some less; nil where nothing changes.
func changed(was, more, less []string) *[]string {
	if len(more)+len(less) == 0 {
		return nil
	}
	out := slices.DeleteFunc(slices.Concat(was, more), func(s string) bool { return slices.Contains(less, s) })
	return &out
}

func placementCommands() []command {
	return []command{
		{
			name: "place", group: "Places", arguments: "REF | REF=URL …",
			summary: "Say that versions run somewhere, after checking that they do", least: 1, most: -1,
			example: "innerladder place heat-demand@2 -env plant-north -at http://127.0.0.1:9001\n" +
				"innerladder place heat-demand@1=http://127.0.0.1:9001 heat-demand@2=http://127.0.0.1:9002 " +
				"-env plant-north\n" +
				"innerladder place heat-demand@2 -env workbench -run -replicas 1..4\n" +
				"innerladder place heat-demand@2 -env substations -elsewhere",
			setup: place,
		},
		{
			name: "addresses", group: "Places", arguments: "REF",
			summary: "Show the addresses of a placement, add some, or take some away while the version answers",
			least:   1, most: 1,
			example: "innerladder addresses heat-demand@2 -env plant-north -add http://127.0.0.1:9003 " +
				"-remove http://127.0.0.1:9001",
			setup: changeAddresses,
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

func place(c *call) func(context.Context) error {
	c.connect()
	env := c.flags.String("env", "", "`ENVIRONMENT` where it runs")
	var at list
	c.flags.Var(&at, "at", "`URL` of a model server; may be given several times")
	as := c.flags.String("as", "", "`NAME` of the model there; the same when not given")
	elsewhere := c.flags.Bool("elsewhere", false, "it answers where the gateway does not reach, at the edge or in "+
		"batches: what it does is reported by innerladder agent")
	run := c.flags.Bool("run", false, "run it on the service's machine from its file, and look after it; see: "+
		"innerladder help runner")
	n := wire.NewRunner{}
	c.flags.StringVar(&n.Replicas, "replicas", "1", "`N` processes with -run; between two numbers, such as 1..4, it "+
		"follows the load")
	c.flags.StringVar(&n.Template, "template", "", "`NAME` of the runner template that serves it, with -run; the "+
		"built-in model server when not given")
	c.flags.IntVar(&n.BatchRows, "batch-rows", 0, "`N` rows of several requests that are computed together at most, "+
		"with -run")
	c.flags.StringVar(&n.BatchWait, "batch-wait", "2ms", "`DURATION` that a request waits for others at most, with "+
		"-batch-rows")
	return func(ctx context.Context) error {
		if *env == "" {
			return wrongUse("no environment is given; use -env")
		}
		for _, arg := range c.args {
			ref, url, there := strings.Cut(arg, "=")
			addresses := at
			switch {
			case *run && (there || len(at) > 0 || *elsewhere || *as != ""):
				return wrongUse("what is run here has an address of its own; leave out the address, -elsewhere and -as")
			case *run:
				if err := c.placement(c.api.PlaceRun(ctx, ref, *env, n)); err != nil {
					return err
				}
				continue
			case *elsewhere && (there || len(at) > 0):
				return wrongUse("what answers elsewhere has no address here; leave out the address, or -elsewhere")
			case *elsewhere:
				if err := c.placement(c.api.PlaceElsewhere(ctx, ref, *env)); err != nil {
					return err
				}
				continue
			case there && len(at) > 0:
				return wrongUse("%s says where it runs, and so does -at; use one of them", ref)
			case there:
				addresses = list{url}
			case len(c.args) > 1:
				return wrongUse("several versions are named; write each as REF=URL")
			}
			if err := c.placement(c.api.Place(ctx, ref, *env, addresses, *as)); err != nil {
				return err
			}
		}
		return nil
	}
}

func changeAddresses(c *call) func(context.Context) error {
	c.connect()
	env := c.flags.String("env", "", "`ENVIRONMENT` where it is placed")
	var e wire.EditAddresses
	c.flags.Var((*list)(&e.Add), "add", "`URL` of one more model server; may be given several times")
	c.flags.Var((*list)(&e.Remove), "remove", "`URL` that is asked no more; may be given several times")
	c.flags.StringVar(&e.Reason, "why", "", "`REASON`")
	return func(ctx context.Context) error {
		if *env == "" {
			return wrongUse("no environment is given; use -env")
		}
		if len(e.Add)+len(e.Remove) == 0 {
			return c.showAddresses(ctx, c.args[0], *env)
		}
		return c.placement(c.api.ChangeAddresses(ctx, c.args[0], *env, e))
	}
}

// showAddresses prints where a version runs in an environment.
func (c *call) showAddresses(ctx context.Context, ref, environment string) error {
	all, err := c.api.Placements(ctx, ref)
	all.Items = slices.DeleteFunc(all.Items, func(p traffic.Placement) bool { return p.Environment != environment })
	if err == nil && len(all.Items) == 0 {
		err = fmt.Errorf("%s is not placed in %s; see where it is with: innerladder placements %s", ref, environment,
			ref)
	}
	return c.show(all, err, func() { printPlacements(c.Out, all.Items) })
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
		if p.Elsewhere {
			t.row(p.Version, p.Environment, "elsewhere", "by what agents report", ago(time.Since(p.PlacedAt)), "")
		}
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
