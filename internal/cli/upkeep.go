package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/client"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
)

func upkeepCommands() []command {
	return []command{
		{
			name: "edit", group: "Registry", arguments: "REF | MODEL",
			summary: "Change note, tags and properties of a version, or of a model also description and owner",
			least:   1, most: 1,
			example: "innerladder edit heat-demand@2 -note \"fitted on two winters\" -tag winter -property season=2026",
			setup:   edit,
		},
		{
			name: "label", group: "Registry", arguments: "REF LABEL",
			summary: "Put a label on a version, from wherever it was, or take it away", least: 2, most: 2,
			example: "innerladder label heat-demand@2 beta", setup: label,
		},
		{
			name: "labels", group: "Registry", arguments: "MODEL", summary: "List the labels of a model", least: 1,
			most: 1, example: "innerladder labels heat-demand", setup: labels,
		},
		{
			name: "vet", group: "Registry", arguments: "MODEL",
			summary: "Mark a model as one to start from, or take the mark away", least: 1, most: 1,
			example: "innerladder vet weather-base -why \"checked by the forecasting team\"", setup: vet,
		},
		{
			name: "attach", group: "Registry", arguments: "REF FILE",
			summary: "Attach a document, a notebook or a picture to a version, or a report as evidence", least: 2,
			most: 2, example: "innerladder attach heat-demand@2 residuals.png\ninnerladder attach heat-demand@2 " +
				"-kind tests report.xml", setup: attach,
		},
		{
			name: "detach", group: "Registry", arguments: "REF NAME", summary: "Take an attachment off a version",
			least: 2, most: 2, example: "innerladder detach heat-demand@2 residuals.png -why outdated", setup: detach,
		},
		{
			name: "evaluated", group: "Registry", arguments: "REF DATA",
			summary: "Note that a version was evaluated on a data set", least: 2, most: 2,
			example: "innerladder evaluated heat-demand@2 winter-2025#1", setup: evaluated,
		},
		{
			name: "retire", group: "Registry", arguments: "REF",
			summary: "Take a version off the ladder; it must not be in use", least: 1, most: 1,
			example: "innerladder retire heat-demand@1 -why \"replaced by @2\"", setup: retire,
		},
		{
			name: "reinstate", group: "Registry", arguments: "REF",
			summary: "Put a retired version on the lowest rung again", least: 1, most: 1,
			example: "innerladder reinstate heat-demand@1 -why \"needed for a comparison\"", setup: reinstate,
		},
		{
			name: "delete", group: "Registry", arguments: "REF",
			summary: "Delete a version for good, or a MODEL that has none any more; neither may be in use",
			least:   1, most: 1,
			example: "innerladder delete heat-demand@1 -why \"holds personal data\"", setup: deleteVersion,
		},
		{
			name: "collect", group: "Registry", summary: "Remove the files that no version needs", most: 0,
			example: "innerladder collect -dry-run", setup: collect,
		},
	}
}

// projectCommands are the commands about projects.
func projectCommands() []command {
	return []command{
		{
			name: "project", group: "Registry", summary: "List the projects that models are in", most: 0,
			example: "innerladder project", setup: projects,
		},
		{
			name: "project add", group: "Registry", arguments: "NAME", summary: "Add a project", least: 1, most: 1,
			example: "innerladder project add maintenance -description \"valves and pumps\"", setup: projectAdd,
		},
		{
			name: "project edit", group: "Registry", arguments: "NAME", summary: "Change what is said about a project",
			least: 1, most: 1,
			example: "innerladder project edit maintenance -description \"valves, pumps and meters\"",
			setup:   projectEdit,
		},
		{
			name: "project remove", group: "Registry", arguments: "NAME",
			summary: "Take away a project in which nothing is", least: 1, most: 1,
			example: "innerladder project remove trials -why \"ended\"", setup: projectRemove,
		},
		{
			name: "project use", group: "Registry", arguments: "[NAME]",
			summary: "Choose where what you add goes when you name no project; without a name, nowhere", most: 1,
			example: "innerladder project use forecasting",
			setup: asks(func(ctx context.Context, c *call) error {
				me, err := c.api.UseProject(ctx, strings.Join(c.args, ""))
				return c.show(me, err, func() {
					if me.Project == "" {
						c.say("what you add needs a project named from now on")
						return
					}
					fmt.Fprintln(c.Out, me.Project)
				})
			}),
		},
	}
}

// sorted lists the keys of a map in order.
func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func edit(c *call) func(context.Context) error {
	c.connect()
	var e registry.Edit
	c.optional("note", "`TEXT`: the new note of a version", &e.Note)
	c.optional("description", "`TEXT`: the new description of a model", &e.Description)
	c.optional("owner", "`NAME`: the new owner of a model", &e.Owner)
	c.optional("name", "`NAME` that a model gets, while nobody signed for it, ran it or called it", &e.Name)
	c.optional("project", "`PROJECT` that a model moves to", &e.Project)
	set := pairs{}
	c.flags.Var((*list)(&e.AddTags), "tag", "`TAG` to put on; may be given several times")
	c.flags.Var((*list)(&e.RemoveTags), "untag", "`TAG` to take off; may be given several times")
	c.flags.Var(set, "property", "`NAME=VALUE` to set; may be given several times")
	c.flags.Var((*list)(&e.RemoveProperties), "unset", "`NAME` of a property to remove; may be given several times")
	c.flags.StringVar(&e.Reason, "why", "", "`TEXT` for the record")
	return func(ctx context.Context) error {
		e.SetProperties = set
		if strings.Contains(c.args[0], "@") {
			v, err := c.api.EditVersion(ctx, c.args[0], e)
			return c.show(v, err, func() {
				facts(c.Out, "version", v.Ref, "note", v.Note, "tags", strings.Join(v.Tags, " "), "properties",
					params(v.Properties))
			})
		}
		m, err := c.api.EditModel(ctx, c.args[0], e)
		return c.show(m, err, func() {
			facts(c.Out, "model", m.Name, "project", m.Project, "about", m.Description, "owner", m.Owner, "tags",
				strings.Join(m.Tags, " "), "properties", params(m.Properties))
		})
	}
}

func label(c *call) func(context.Context) error {
	c.connect()
	remove := c.flags.Bool("remove", false, "take the label away instead; REF is then only the MODEL")
	environment := c.flags.String("env", "", "`ENVIRONMENT` where the version must be placed and healthy, and stay so")
	why := c.flags.String("why", "", "`TEXT` for the record")
	return func(ctx context.Context) error {
		if *remove {
			model, _ := naming.Thing(c.args[0])
			l, err := c.api.RemoveLabel(ctx, model, c.args[1], *why)
			return c.show(l, err, func() {
				fmt.Fprintf(c.Out, "%s@%s is no more; it meant %s\n", model, l.Name,
					l.Version)
			})
		}
		v, err := c.api.Version(ctx, c.args[0])
		if err != nil {
			return err
		}
		l, err := c.api.PutLabel(ctx, v.Model, v.Number, c.args[1], *environment, *why)
		return c.show(l, err, func() { fmt.Fprintf(c.Out, "%s@%s means %s\n", v.Model, l.Name, l.Version) })
	}
}

func labels(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		all, err := c.api.Labels(ctx, c.args[0])
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("%s has no labels; put one on with: innerladder label %s@NUMBER LABEL", c.args[0], c.args[0])
				return
			}
			t := newTable(c.Out, "LABEL", "VERSION", "HELD IN", "MOVED", "BY")
			for _, l := range all.Items {
				t.row(l.Name, l.Version, l.Environment, ago(sinceNow(l.MovedAt)), l.MovedBy)
			}
			t.done()
		})
	}
}

func vet(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT`: why the organisation stands behind it, or does no more")
	off := c.flags.Bool("off", false, "take the mark away")
	return func(ctx context.Context) error {
		m, err := c.api.Vet(ctx, c.args[0], *why, !*off)
		return c.show(m, err, func() {
			if m.Vetted != nil {
				fmt.Fprintf(c.Out, "%s is vetted; its versions are good parents to start from\n", m.Name)
			} else {
				fmt.Fprintf(c.Out, "%s is vetted no more\n", m.Name)
			}
		})
	}
}

func attach(c *call) func(context.Context) error {
	c.connect()
	kind := c.flags.String("kind", "",
		"attach it as evidence of a `KIND`, which gates look at and nobody can change: "+
			strings.Join(evidence.Kinds(), ", "))
	verdict := c.flags.String("verdict", "", "`VERDICT`, passed or failed, where the report says neither itself")
	return func(ctx context.Context) error {
		if *kind != "" {
			e, err := c.api.AttachEvidence(ctx, c.args[0], *kind, *verdict, c.args[1])
			return c.show(e, err, func() { printEvidence(c.Out, e) })
		}
		if *verdict != "" {
			return wrongUse("-verdict is for evidence; give -kind too")
		}
		v, err := c.api.Attach(ctx, c.args[0], c.args[1])
		return c.show(v, err, func() { printArtifacts(c.Out, v) })
	}
}

func detach(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT` for the record")
	return func(ctx context.Context) error {
		v, err := c.api.Detach(ctx, c.args[0], c.args[1], *why)
		return c.show(v, err, func() { printArtifacts(c.Out, v) })
	}
}

func evaluated(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		v, err := c.api.EvaluatedOn(ctx, c.args[0], c.args[1])
		return c.show(v, err, func() { fmt.Fprintf(c.Out, "%s: %s\n", v.Ref, dataUses(v.Data)) })
	}
}

// moveOff makes the commands that take a version off the ladder and back.
func moveOff(c *call, what string,
	do func(context.Context, *client.Client, string, string) (registry.Version, error),
) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT`: the reason, for the record")
	return func(ctx context.Context) error {
		v, err := do(ctx, c.api, c.args[0], *why)
		return c.show(v, err, func() { fmt.Fprintf(c.Out, "%s was %s; it stands on %s\n", v.Ref, what, v.Rung) })
	}
}

func retire(c *call) func(context.Context) error {
	return moveOff(c, "retired",
		func(ctx context.Context, api *client.Client, ref, why string) (registry.Version, error) {
			return api.Retire(ctx, ref, why)
		})
}

func reinstate(c *call) func(context.Context) error {
	return moveOff(c, "reinstated",
		func(ctx context.Context, api *client.Client, ref, why string) (registry.Version, error) {
			return api.Reinstate(ctx, ref, why)
		})
}

func deleteVersion(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT`: the reason, for the record")
	return func(ctx context.Context) error {
		if !strings.Contains(c.args[0], "@") {
			m, err := c.api.RemoveModel(ctx, c.args[0], *why)
			return c.show(m, err, func() { c.say("%s was taken away; its name is free", m.Name) })
		}
		if strings.TrimSpace(*why) == "" {
			return wrongUse("no reason is given; use -why")
		}
		d, err := c.api.Delete(ctx, c.args[0], *why)
		return c.show(d, err, func() {
			fmt.Fprintf(c.Out, "%s was deleted; its files go with: innerladder collect\n",
				d.Version)
		})
	}
}

func collect(c *call) func(context.Context) error {
	c.connect()
	dry := c.flags.Bool("dry-run", false, "only say what would be removed")
	return func(ctx context.Context) error {
		out, err := c.api.Collect(ctx, *dry)
		return c.show(out, err, func() {
			verb := "removed"
			if *dry {
				verb = "would be removed"
			}
			fmt.Fprintf(c.Out, "%s files that no version needs %s, %s\n", strconv.Itoa(out.Files), verb,
				size(out.Bytes))
			for _, d := range out.Digests[:min(20, len(out.Digests))] {
				fmt.Fprintln(c.Out, "  "+d)
			}
			if out.Uploads > 0 {
				fmt.Fprintf(c.Out, "uploads that nobody finished: %s\n", size(out.Uploads))
			}
		})
	}
}

func projects(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		all, err := c.api.Projects(ctx)
		return c.show(all, err, func() {
			t := newTable(c.Out, "PROJECT", "MODELS", "ABOUT")
			for _, p := range all.Items {
				t.row(p.Name, strconv.Itoa(p.Models), p.Description)
			}
			t.done()
		})
	}
}

func projectAdd(c *call) func(context.Context) error {
	c.connect()
	about := c.flags.String("description", "", "`TEXT` for people")
	return func(ctx context.Context) error {
		p, err := c.api.AddProject(ctx, c.args[0], *about)
		return c.show(p, err, func() { fmt.Fprintln(c.Out, p.Name) })
	}
}

func projectEdit(c *call) func(context.Context) error {
	c.connect()
	about := c.flags.String("description", "", "`TEXT` for people")
	why := c.flags.String("why", "", "`TEXT` for the record")
	return func(ctx context.Context) error {
		p, err := c.api.EditProject(ctx, c.args[0], *about, *why)
		return c.show(p, err, func() { facts(c.Out, "project", p.Name, "about", p.Description) })
	}
}

func projectRemove(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT` for the record")
	return func(ctx context.Context) error {
		p, err := c.api.RemoveProject(ctx, c.args[0], *why)
		return c.show(p, err, func() { c.say("%s was taken away", p.Name) })
	}
}
