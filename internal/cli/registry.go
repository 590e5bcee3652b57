package cli

import (
	"context"
	"fmt"
	"net/url"
	"os/exec"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/client"
	"innerladder/internal/core/registry"
	"innerladder/internal/service"
)

func registryCommands() []command {
	return []command{
		{name: "register", group: "Registry", arguments: "MODEL", summary: "Register a version with its files; prints its ref", least: 1, most: 1,
			example: "innerladder register heat-demand -file model.json -metric rmse=0.38 -param depth=6 \\\n  -sample rows.csv -target demand_mw -note \"two winters\"",
			setup:   register},
		{name: "list", group: "Registry", arguments: "[MODEL]", summary: "List models, or the versions of one", most: 1,
			example: "innerladder list heat-demand", setup: listModels},
		{name: "show", group: "Registry", arguments: "REF | MODEL | P-NUMBER | A-NUMBER", summary: "Show a version, a model, a promotion or an alert", least: 1, most: 1,
			example: "innerladder show heat-demand@2", setup: show},
		{name: "diff", group: "Registry", arguments: "REF REF", summary: "How the second version differs from the first", least: 2, most: 2,
			example: "innerladder diff heat-demand@1 heat-demand@2", setup: diff},
	}
}

func register(c *call) func(context.Context) error {
	c.connect()
	var files, targets list
	metric, param, unit := pairs{}, pairs{}, pairs{}
	c.flags.Var(&files, "file", "`FILE` of the version; may be given several times")
	c.flags.Var(metric, "metric", "`NAME=VALUE` that was measured; may be given several times")
	c.flags.Var(param, "param", "`NAME=VALUE` it was made with; may be given several times")
	sample := c.flags.String("sample", "", "`FILE` with example rows, CSV or JSON; the signature is read from it")
	c.flags.Var(&targets, "target", "`COLUMN` of the sample that is an output; may be given several times")
	c.flags.Var(unit, "unit", "`COLUMN=UNIT` of the sample; may be given several times")
	note := c.flags.String("note", "", "`TEXT` for people")
	task := c.flags.String("task", "", "`TASK` of a new model: regression, classification or other; read off the target")
	description := c.flags.String("description", "", "`TEXT` about a new model")
	noCode := c.flags.Bool("no-code", false, "do not record the git checkout")
	return func(ctx context.Context) error {
		if len(files) == 0 {
			return wrongUse("no file is given; use -file")
		}
		reg := service.Registration{Model: c.args[0], Task: *task, Description: *description, Note: *note, Params: param, Targets: targets, Units: unit, Metrics: map[string]float64{}}
		for name, value := range metric {
			x, err := strconv.ParseFloat(value, 64)
			if err != nil {
				return wrongUse("metric %s is %q, which is no number", name, value)
			}
			if x != x || x-x != 0 {
				return wrongUse("metric %s is %s; give a finite number", name, value)
			}
			reg.Metrics[name] = x
		}
		if !*noCode {
			reg.Code = checkout(ctx)
		}
		v, err := c.api.Register(ctx, reg, files, *sample)
		return c.show(v, err, func() {
			if !v.Created {
				c.say("the same content was registered before, by %s, %s", v.CreatedBy, moment(v.CreatedAt))
			}
			fmt.Fprintln(c.Out, v.Ref)
		})
	}
}

// checkout asks git where the code stands; nil outside of a checkout.
func checkout(ctx context.Context) *registry.Code {
	git := func(args ...string) (string, bool) {
		out, err := exec.CommandContext(ctx, "git", args...).Output()
		return strings.TrimSpace(string(out)), err == nil
	}
	commit, ok := git("rev-parse", "HEAD")
	if !ok {
		return nil
	}
	code := &registry.Code{Commit: commit}
	code.Branch, _ = git("symbolic-ref", "--short", "-q", "HEAD")
	status, ok := git("status", "--porcelain")
	code.Dirty = !ok || status != ""
	if origin, ok := git("remote", "get-url", "origin"); ok {
		code.Repository = withoutCredentials(origin)
	}
	return code
}

func withoutCredentials(address string) string {
	if u, err := url.Parse(address); err == nil && u.User != nil {
		u.User = nil
		return u.String()
	}
	return address
}

func listModels(c *call) func(context.Context) error {
	c.connect()
	limit := c.flags.Int("limit", 50, "`N` rows at most")
	cursor := c.flags.String("cursor", "", "`CURSOR` that the part before ended with")
	return func(ctx context.Context) error {
		part := client.Part{Limit: *limit, Cursor: *cursor}
		if len(c.args) == 1 {
			all, err := c.api.Versions(ctx, c.args[0], part)
			return c.show(all, err, func() {
				t := newTable(c.Out, "VERSION", "RUNG", "METRICS", "PARAMETERS", "REGISTERED", "BY", "NOTE")
				for _, v := range all.Items {
					t.row(v.Ref, v.Rung, metrics(v.Metrics), params(v.Params), ago(sinceNow(v.CreatedAt)), v.CreatedBy, v.Note)
				}
				t.done()
				c.more(all.Next)
			})
		}
		all, err := c.api.Models(ctx, part)
		if err != nil {
			return err
		}
		ladder, err := c.api.Ladder(ctx)
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("there are no models yet; register the first version with: innerladder register MODEL -file FILE")
				return
			}
			rungs := ladder.Names()
			slices.Reverse(rungs)
			t := newTable(c.Out, append([]string{"MODEL", "TASK", "VERSIONS"}, upper(rungs)...)...)
			for _, m := range all.Items {
				row := []string{m.Name, string(m.Task), strconv.Itoa(m.Versions)}
				for _, r := range rungs {
					row = append(row, numbers(m.Standing[r]))
				}
				t.row(row...)
			}
			t.done()
			c.more(all.Next)
		})
	}
}

func upper(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = strings.ToUpper(n)
	}
	return out
}

// numbers writes version numbers, newest first, at most a few.
func numbers(n []int) string {
	var parts []string
	for _, x := range n[:min(4, len(n))] {
		parts = append(parts, "@"+strconv.Itoa(x))
	}
	if len(n) > 4 {
		parts = append(parts, fmt.Sprintf("and %d more", len(n)-4))
	}
	return strings.Join(parts, " ")
}

// more says how to see the rest of a list.
func (c *call) more(cursor string) {
	if cursor != "" {
		c.say("there is more; see it with -cursor %s", cursor)
	}
}

func show(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		what := c.args[0]
		switch {
		case strings.HasPrefix(strings.ToUpper(what), "P-"):
			p, err := c.api.Promotion(ctx, what)
			return c.show(p, err, func() { printPromotion(c.Out, p) })
		case strings.HasPrefix(strings.ToUpper(what), "A-"):
			a, err := c.api.Alert(ctx, what)
			return c.show(a, err, func() { printAlert(c.Out, a) })
		case strings.Contains(what, "@"):
			return c.showVersion(ctx, what)
		}
		m, err := c.api.Model(ctx, what)
		if err != nil {
			return err
		}
		ladder, err := c.api.Ladder(ctx)
		return c.show(m, err, func() {
			facts(c.Out, "model", m.Name, "task", string(m.Task), "about", m.Description, "versions", strconv.Itoa(m.Versions), "added", moment(m.CreatedAt)+" by "+m.CreatedBy)
			fmt.Fprintln(c.Out)
			for _, r := range slices.Backward(ladder.Rungs) {
				fmt.Fprintf(c.Out, "  %9s |==| %s\n", r.Name, numbers(m.Standing[r.Name]))
			}
		})
	}
}

func (c *call) showVersion(ctx context.Context, ref string) error {
	v, err := c.api.Version(ctx, ref)
	if err != nil {
		return err
	}
	places, err := c.api.Placements(ctx, v.Ref)
	return c.show(v, err, func() {
		facts(c.Out, "version", v.Ref, "rung", v.Rung+", since "+moment(v.RungSince), "registered", moment(v.CreatedAt)+" by "+v.CreatedBy,
			"note", v.Note, "metrics", metrics(v.Metrics), "parameters", params(v.Params), "code", code(v.Code), "digest", v.Digest)
		fmt.Fprintln(c.Out)
		t := newTable(c.Out, "ARTIFACT", "SIZE", "SHA-256")
		for _, a := range v.Artifacts {
			t.row(a.Name, size(a.Size), a.Digest)
		}
		t.done()
		if v.Signature != nil {
			fmt.Fprintln(c.Out)
			t = newTable(c.Out, "COLUMN", "SIDE", "TYPE", "UNIT", "RANGE OR LEVELS")
			for _, col := range v.Signature.Inputs {
				t.row(col.Name, "input", typeOf(col), col.Unit, rangeOf(col))
			}
			for _, col := range v.Signature.Outputs {
				t.row(col.Name, "output", typeOf(col), col.Unit, rangeOf(col))
			}
			t.done()
		}
		if len(places.Items) > 0 {
			fmt.Fprintln(c.Out)
			printPlacements(c.Out, places.Items)
		}
	})
}

func typeOf(col registry.Column) string {
	if col.Nullable {
		return string(col.Type) + ", may be missing"
	}
	return string(col.Type)
}

func rangeOf(col registry.Column) string {
	if len(col.Levels) > 0 {
		return strings.Join(col.Levels, " | ")
	}
	if col.Min != nil && col.Max != nil {
		return number(*col.Min) + " to " + number(*col.Max)
	}
	return ""
}

func code(c *registry.Code) string {
	if c == nil {
		return ""
	}
	s := c.Commit[:min(12, len(c.Commit))]
	if c.Branch != "" {
		s += " on " + c.Branch
	}
	if c.Dirty {
		s += ", with uncommitted changes"
	}
	if c.Repository != "" {
		s += ", " + c.Repository
	}
	return s
}

func diff(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		d, err := c.api.Diff(ctx, c.args[0], c.args[1])
		return c.show(d, err, func() {
			optional := func(x *float64) string {
				if x == nil {
					return ""
				}
				return number(*x)
			}
			t := newTable(c.Out, "", d.From, d.To, "DIFFERENCE")
			for _, m := range d.Metrics {
				how := m.Verdict
				if m.Difference != nil && m.Verdict != "same" {
					how += fmt.Sprintf(" %+.5g", *m.Difference)
				}
				t.row("metric "+m.Name, optional(m.From), optional(m.To), how)
			}
			for _, group := range []struct {
				name    string
				changes []registry.Change
			}{{"parameter ", d.Params}, {"", d.Signature}, {"artifact ", d.Artifacts}, {"code ", d.Code}} {
				for _, ch := range group.changes {
					t.row(group.name+ch.Name, ch.From, ch.To, strings.TrimSpace(ch.Kind+" "+ch.Detail))
				}
			}
			t.done()
			fmt.Fprintf(c.Out, "\nsignature: %s\n", d.Compatibility)
		})
	}
}
