package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
)

func registryCommands() []command {
	return slices.Concat([]command{
		{
			name: "register", group: "Registry", arguments: "MODEL",
			summary: "Register a version with its files; prints its ref", least: 1, most: 1,
			example: "innerladder register heat-demand -file model.onnx -metric rmse=0.38 -param depth=6 \\\n  " +
				"-sample rows.csv -target demand_mw -card card.md -data winters-2024 -note \"two winters\"",
			setup: register,
		},
		{
			name: "look", group: "Registry", arguments: "FILE",
			summary: "Say what can be read off a file, without registering anything", least: 1, most: 1,
			example: "innerladder look model.onnx", setup: look,
		},
		{
			name: "list", group: "Registry", arguments: "[MODEL]", summary: "List models, or the versions of one",
			most:    1,
			example: "innerladder list heat-demand", setup: listModels,
		},
		{
			name: "show", group: "Registry", arguments: "REF | MODEL | run-N | DATA#N | P-N | A-N",
			summary: "Show a version, a model, a run, a data set, a promotion or an alert", least: 1, most: 1,
			example: "innerladder show heat-demand@2", setup: show,
		},
		{
			name: "get", group: "Registry", arguments: "REF [ARTIFACT…]",
			summary: "Save the files of a version, with their digests checked", least: 1, most: -1,
			example: "innerladder get heat-demand@2 -to ./served", setup: get,
		},
	}, catalogueCommands(), lineageCommands(), upkeepCommands(), projectCommands())
}

func listModels(c *call) func(context.Context) error {
	c.connect()
	part := c.part()
	project := c.flags.String("project", "", "`PROJECT`: only its models")
	owner := c.flags.String("owner", "", "`NAME`: only their models")
	tag := c.flags.String("tag", "", "`TAG`: only models with it")
	text := c.flags.String("text", "", "`TEXT` in name or description")
	vetted := c.flags.Bool("vetted", false, "only vetted models, good to start from")
	return func(ctx context.Context) error {
		part := part()
		if len(c.args) == 1 {
			all, err := c.api.Versions(ctx, c.args[0], part)
			return c.show(all, err, func() {
				t := newTable(c.Out, "VERSION", "RUNG", "LABELS", "METRICS", "FORMAT", "SIZE", "REGISTERED", "BY",
					"NOTE")
				for _, v := range all.Items {
					t.row(v.Ref, v.Rung+past(v), strings.Join(v.Labels, " "), metrics(v.Metrics, v.Measured),
						strings.Join(v.Formats(), " "), size(v.Size()), ago(sinceNow(v.CreatedAt)), v.CreatedBy,
						short(v.Note, 40))
				}
				t.done()
				c.more(all.Next)
			})
		}
		only := ""
		if *vetted {
			only = "true"
		}
		all, err := c.api.Models(ctx, part, "project", *project, "owner", *owner, "tag", *tag, "text", *text, "vetted",
			only)
		if err != nil {
			return err
		}
		rungs, err := c.rungsOf(ctx, all.Items)
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				if *project+*owner+*tag+*text+only == "" {
					c.say("there are no models yet; register the first version with: innerladder register MODEL " +
						"-file FILE")
				} else {
					c.say("no model is like that; see all with: innerladder list")
				}
				return
			}
			t := newTable(c.Out, append([]string{"MODEL", "PROJECT", "TASK", "OWNER", "VERSIONS"}, upper(rungs)...)...)
			for _, m := range all.Items {
				name := m.Name
				if m.Vetted != nil {
					name += " (vetted)"
				}
				row := []string{name, m.Project, string(m.Task), m.Owner, strconv.Itoa(m.Versions)}
				for _, r := range rungs {
					row = append(row, numbers(m.Standing[r], m.Counts[r]))
				}
				t.row(row...)
			}
			t.done()
			c.more(all.Next)
		})
	}
}

// rungsOf lists the rungs on which versions of models can stand, the highest first.
func (c *call) rungsOf(ctx context.Context, models []registry.Model) ([]string, error) {
	var rungs []string
	asked := map[string]bool{}
	for _, m := range models {
		if asked[m.Project] {
			continue
		}
		asked[m.Project] = true
		l, err := c.api.Ladder(ctx, m.Project)
		if err != nil {
			return nil, err
		}
		for _, name := range slices.Backward(l.Names()) {
			if !slices.Contains(rungs, name) {
				rungs = append(rungs, name)
			}
		}
	}
	return rungs, nil
}

func upper(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = strings.ToUpper(n)
	}
	return out
}

// numbers writes version numbers, newest first, at most a few of all.
func numbers(n []int, all int) string {
	var parts []string
	for _, x := range n[:min(4, len(n))] {
		parts = append(parts, "@"+strconv.Itoa(x))
	}
	if all > 4 {
		parts = append(parts, fmt.Sprintf("and %d more", all-4))
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
		case strings.HasPrefix(what, "run-"):
			return c.showRun(ctx, what)
		case strings.Contains(what, "#"):
			d, err := c.api.DataSet(ctx, what)
			return c.show(d, err, func() { printDataSet(c.Out, d) })
		case strings.Contains(what, "@"):
			return c.showVersion(ctx, what)
		}
		m, err := c.api.Model(ctx, what)
		if err != nil {
			return err
		}
		ladder, err := c.api.Ladder(ctx, m.Project)
		return c.show(m, err, func() {
			vetted := ""
			if m.Vetted != nil {
				vetted = "by " + m.Vetted.By + ", " + moment(m.Vetted.At) + ": " + m.Vetted.Why
			}
			facts(c.Out, "model", m.Name, "project", m.Project, "task", string(m.Task), "owner", m.Owner, "about",
				m.Description, "vetted", vetted, "tags", strings.Join(m.Tags, " "), "properties", params(m.Properties),
				"labels", labelsOf(m.Labels), "versions", strconv.Itoa(m.Versions), "added",
				moment(m.CreatedAt)+" by "+m.CreatedBy)
			fmt.Fprintln(c.Out)
			for _, r := range slices.Backward(ladder.Rungs) {
				fmt.Fprintf(c.Out, "  %9s |==| %s\n", r.Name, numbers(m.Standing[r.Name], m.Counts[r.Name]))
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
		facts(c.Out, "version", v.Ref, "rolled back", rolledBack(v.RolledBack), "rung",
			v.Rung+", since "+moment(v.RungSince)+by(v), "registered", moment(v.CreatedAt)+" by "+v.CreatedBy, "note",
			v.Note, "labels", strings.Join(v.Labels, " "), "tags", strings.Join(v.Tags, " "), "properties",
			params(v.Properties), "metrics", metrics(v.Metrics, nil), "parameters", params(v.Params), "code",
			code(v.Code), "run", v.Run, "data", dataUses(v.Data), "parents", parents(v.Parents), "profile",
			profileOf(v), "digest", v.Digest)
		printMeasured(c.Out, v)
		fmt.Fprintln(c.Out)
		printArtifacts(c.Out, v)
		if v.Signature != nil {
			fmt.Fprintln(c.Out)
			printSignature(c.Out, v.Signature)
		}
		printCard(c.Out, v)
		if len(places.Items) > 0 {
			fmt.Fprintln(c.Out)
			printPlacements(c.Out, places.Items)
		}
	})
}

// printMeasured says which report measured which metric, and what was claimed instead.
func printMeasured(w io.Writer, v registry.Version) {
	if len(v.Measured)+len(v.Meanings) == 0 {
		return
	}
	fmt.Fprintln(w)
	t := newTable(w, "METRIC", "VALUE", "FROM", "ON", "CLAIMED", "")
	for _, name := range slices.Sorted(maps.Keys(v.Metrics)) {
		m, measured := v.Measured[name]
		if !measured {
			t.row(name, inUnit(v.Metrics[name], v, name), "claimed at registration", "", "", "")
			continue
		}
		claimed, differs := "", ""
		if m.Claimed != nil {
			claimed = number(*m.Claimed)
		}
		if m.Differs {
			differs = "NOT WHAT WAS CLAIMED"
		}
		t.row(name, inUnit(m.Value, v, name), "measured by "+m.Evidence+", "+ago(sinceNow(m.At)), m.Data, claimed,
			differs)
	}
	t.done()
}

// inUnit writes the value of a metric of a version with its unit, where that is known.
func inUnit(x float64, v registry.Version, name string) string {
	return strings.TrimSpace(number(x) + " " + v.Meanings[name].Unit)
}

// by says how a version came to its rung, and marks what went past a gate.
func by(v registry.Version) string {
	switch {
	case v.Emergency == registry.EmergencyMark(true):
		return ", EMERGENCY by " + v.RungBy + ", not reviewed yet"
	case v.Emergency != "":
		return ", emergency by " + v.RungBy + ", reviewed"
	case v.RungBy != "":
		return ", by " + v.RungBy
	}
	return ""
}

// past marks in a table what stands past a gate and was not reviewed, and what was rolled back.
func past(v registry.Version) (out string) {
	if v.Emergency == registry.EmergencyMark(true) {
		out = " (EMERGENCY)"
	}
	if v.RolledBack != nil {
		out += " (ROLLED BACK)"
	}
	return out
}

// rolledBack says by whom and why a version was taken out of an endpoint.
func rolledBack(b *registry.RolledBack) string {
	if b == nil {
		return ""
	}
	said := fmt.Sprintf("from %s#%d by %s, %s; %s answers instead: %s", b.Endpoint, b.Split, b.By, moment(b.At),
		b.Instead,
		b.Why)
	if b.Alert != "" {
		said += " (" + b.Alert + ")"
	}
	return said
}

func printSignature(w io.Writer, s *signature.Signature) {
	t := newTable(w, "COLUMN", "SIDE", "TYPE", "UNIT", "RANGE OR LEVELS")
	for _, col := range s.Inputs {
		t.row(col.Name, "input", typeOf(col), col.Unit, rangeOf(col))
	}
	for _, col := range s.Outputs {
		t.row(col.Name, "output", typeOf(col), col.Unit, rangeOf(col))
	}
	t.done()
}

func printArtifacts(w io.Writer, v registry.Version) {
	t := newTable(w, "ARTIFACT", "FORMAT", "SIZE", "SHA-256", "WHERE")
	for _, a := range v.Artifacts {
		where := "kept here"
		if !a.Stored {
			where = "only at " + a.Address
		} else if a.Address != "" {
			where = "kept here, from " + a.Address
		}
		t.row(a.Name, a.Contents.Format, size(a.Size), a.Digest, where)
	}
	for _, a := range v.Attachments {
		t.row(a.Name, "attachment, "+a.Media, size(a.Size), a.Digest, "kept here")
	}
	t.done()
	for _, a := range v.Artifacts {
		if a.Contents.Unsafe != "" {
			fmt.Fprintf(w, "  UNSAFE to load: %s is %s\n", a.Name, strings.TrimPrefix(a.Contents.Unsafe, "is "))
		}
		printContents(w, "  "+a.Name+": ", a.Contents)
	}
}

// printContents says in a line what was read off a file.
func printContents(w io.Writer, before string, c registry.Contents) {
	var parts []string
	for _, f := range c.Facts {
		parts = append(parts, f.Name+" "+short(f.Value, 100))
	}
	if c.TensorCount > 0 {
		parts = append(parts, fmt.Sprintf("%d tensors with %s values", c.TensorCount, count(uint64(c.Values))))
	}
	if c.FileCount > 0 {
		parts = append(parts, fmt.Sprintf("%d files, %s unpacked", c.FileCount, size(c.Expanded)))
	}
	if len(parts) > 0 {
		fmt.Fprintln(w, before+strings.Join(parts[:min(len(parts), 14)], "; "))
	}
	for _, r := range c.Remarks {
		fmt.Fprintln(w, before+r)
	}
}

func printCard(w io.Writer, v registry.Version) {
	if v.Card == nil {
		return
	}
	fmt.Fprintln(w)
	licence := ""
	if v.Card.Licence != "" {
		licence = ", licence " + v.Card.Licence
	}
	fmt.Fprintf(w, "model card%s\n", licence)
	for _, s := range v.Card.Sections {
		if line, _, _ := strings.Cut(strings.TrimSpace(s.Body), "\n"); line != "" {
			fmt.Fprintf(w, "  %s: %s\n", s.Title, short(line, 110))
		}
	}
}

// short cuts a text after so many characters.
func short(s string, most int) string {
	r := []rune(strings.Join(strings.Fields(s), " "))
	if len(r) <= most {
		return string(r)
	}
	return string(r[:most-1]) + "…"
}

func labelsOf(labels map[string]int) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		parts = append(parts, fmt.Sprintf("%s→@%d", name, labels[name]))
	}
	return strings.Join(parts, " ")
}

func dataUses(uses []lineage.DataUse) string {
	var parts []string
	for _, u := range uses {
		parts = append(parts, strings.ReplaceAll(u.Role, "-", " ")+" "+u.Data)
	}
	return strings.Join(parts, ", ")
}

func parents(list []lineage.Parent) string {
	var parts []string
	for _, p := range list {
		parts = append(parts, p.Relation+" from "+p.Version)
	}
	return strings.Join(parts, ", ")
}

func profileOf(v registry.Version) string {
	if v.ProfileRows == 0 {
		return ""
	}
	return fmt.Sprintf("of %s rows; see: innerladder profile %s", count(uint64(v.ProfileRows)), v.Ref)
}

func typeOf(col signature.Column) string {
	if col.Nullable {
		return col.TypeText() + ", may be missing"
	}
	return col.TypeText()
}

func rangeOf(col signature.Column) string {
	if col.Sensitive {
		col.Sensitive = false
		return strings.TrimPrefix(rangeOf(col)+", sensitive", ", ")
	}
	if len(col.Levels) > 0 {
		return strings.Join(col.Levels, " | ")
	}
	if col.Min != nil && col.Max != nil {
		return number(*col.Min) + " to " + number(*col.Max)
	}
	return ""
}

func code(c *lineage.Code) string {
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
