package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/wire"

	"go.yaml.in/yaml/v3"
)

func ladderCommands() []command {
	return slices.Concat(promotionCommands(), rungCommands())
}

// promotionCommands are the commands about promotions.
func promotionCommands() []command {
	return []command{
		{
			name: "promote", group: "Ladder", arguments: "REF", summary: "Ask that a version step up to a rung",
			least:   1,
			most:    1,
			example: "innerladder promote heat-demand@2 -to live -why \"better in wind\" -wait -timeout 4h",
			setup:   promote,
		},
		{
			name: "gate", group: "Ladder", arguments: "REF",
			summary: "Say what is met and missing for a rung; exits 0 when all is met, else 3", least: 1, most: 1,
			example: "innerladder gate heat-demand@2 -for live", setup: gate,
		},
		{
			name: "reviews", group: "Ladder", summary: "List promotions that wait for someone", most: 0,
			example: "innerladder reviews -for-me", setup: reviews,
		},
		{
			name: "review", group: "Ladder", arguments: "P-NUMBER",
			summary: "Read a promotion against the version that is there", least: 1, most: 1,
			example: "innerladder review P-1",
			setup: asks(func(ctx context.Context, c *call) error {
				found, err := c.api.Review(ctx, c.args[0])
				return c.show(found, err, func() { printReview(c.Out, found) })
			}),
		},
		{
			name: "sign", group: "Ladder", arguments: "P-NUMBER …",
			summary: "Answer promotions that someone else asked for: yes, no, later, or hand them over", least: 1,
			most: -1,
			example: "innerladder sign P-1 -yes -why \"read the back-test\"\ninnerladder sign P-1 -later " +
				"48h\ninnerladder sign P-1 -to odd -why \"you know the harbour\"", setup: sign,
		},
		{
			name: "tick", group: "Ladder", arguments: "P-NUMBER ITEM",
			summary: "Say that you looked at an item of a promotion's checklist", least: 2, most: 2,
			example: "innerladder tick P-1 harbour -note \"looked at the twelve coldest hours\"", setup: tick,
		},
		{
			name: "carry", group: "Ladder", arguments: "P-NUMBER",
			summary: "Carry out a promotion whose gate is met, where that is done by hand", least: 1, most: 1,
			example: "innerladder carry P-1",
			setup: asks(func(ctx context.Context,
				c *call,
			) error {
				return c.promotion(c.api.CarryOut(ctx, c.args[0]))
			}),
		},
		{
			name: "withdraw", group: "Ladder", arguments: "P-NUMBER",
			summary: "Take back a promotion that you asked for",
			least:   1, most: 1,
			example: "innerladder withdraw P-1 -why \"wrong version\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					return c.promotion(c.api.Withdraw(ctx, c.args[0], *why))
				}
			},
		},
	}
}

// rungCommands are the commands about ladders.
func rungCommands() []command {
	return []command{
		{
			name: "ladder", group: "Ladder", arguments: "[PROJECT]",
			summary: "Show the rungs of a project and their gates", most: 1,
			example: "innerladder ladder forecasting\ninnerladder ladder forecasting -yaml > ladder.yaml",
			setup:   showLadder,
		},
		{
			name: "ladder try", group: "Ladder", arguments: "[PROJECT]",
			summary: "Say what a ladder would let pass today, without setting it", most: 1,
			example: "innerladder ladder try forecasting -file ladder.yaml", setup: tryLadder,
		},
		{
			name: "ladder set", group: "Ladder", arguments: "[PROJECT]",
			summary: "Set the ladder of a project from a file", most: 1,
			example: "innerladder ladder set forecasting -file ladder.yaml -why \"the harbour must be looked at\"",
			more:    describeKinds, setup: setLadder,
		},
		{
			name: "ladder revisions", group: "Ladder", arguments: "[PROJECT]",
			summary: "List how the ladder of a project was changed", most: 1,
			example: "innerladder ladder revisions forecasting", setup: ladderRevisions,
		},
	}
}

// refusal is a no that is no error of the call: a gate is not met, a promotion was
// refused.
type refusal struct{ text string }

func (r refusal) Error() string { return r.text }

// tooLate says that what was waited for did not come in time.
type tooLate struct{ text string }

func (l tooLate) Error() string { return l.text }

func refused(format string, args ...any) error { return refusal{fmt.Sprintf(format, args...)} }

// promotion prints the promotion that a call answered with.
func (c *call) promotion(p ladder.Promotion, err error) error {
	return c.show(p, err, func() { printPromotion(c.Out, p) })
}

func promote(c *call) func(context.Context) error {
	c.connect()
	to := c.flags.String("to", "", "`RUNG` to step up to")
	note := c.flags.String("why", "", "`TEXT` for those who sign")
	emergency := c.flags.Bool("emergency", false,
		"carry it out now, past the gate; needs -why and a permission, and is reviewed afterwards")
	wait := c.flags.Bool("wait", false,
		"wait until it is carried out (exit 0) or refused, withdrawn or expired (exit 3)")
	timeout := c.flags.Duration("timeout", time.Hour, "`TIME` to wait at most; then exit 5")
	return func(ctx context.Context) error {
		if *to == "" {
			return wrongUse("no rung is given; use -to")
		}
		p, err := c.api.Ask(ctx, wire.NewPromotion{Version: c.args[0], To: *to, Note: *note, Emergency: *emergency})
		if !*wait {
			return c.promotion(p, err)
		}
		// Who runs a pipeline again waits for what it asked for the first time.
		switch client.Code(err) {
		case "promotion.there_already", "promotion.downwards":
			g, err := c.api.Gate(ctx, c.args[0], *to)
			return c.show(g, err, func() { fmt.Fprintf(c.Out, "%s stands on %s already\n", g.Version, g.From) })
		case "promotion.open_already":
			p, err = c.openPromotion(ctx, c.args[0], *to)
		}
		if err != nil {
			return err
		}
		if p.State != ladder.Open {
			return c.ended(p)
		}
		c.say("%s waits; sign it with: innerladder sign %s -yes", p.ID, p.ID)
		ctx, cancel := context.WithTimeout(ctx, *timeout)
		defer cancel()
		for p.State == ladder.Open {
			select {
			case <-ctx.Done():
				if ctx.Err() == context.DeadlineExceeded {
					_ = c.promotion(p, nil)
					return tooLate{fmt.Sprintf("%s was not decided within %s; ask again with -wait to go on waiting",
						p.ID, *timeout)}
				}
				return ctx.Err()
			case <-time.After(time.Second):
			}
			if p, err = c.api.Promotion(ctx, p.ID); err != nil {
				return err
			}
		}
		return c.ended(p)
	}
}

// openPromotion finds the promotion that asks for a version to a rung.
func (c *call) openPromotion(ctx context.Context, version, to string) (ladder.Promotion, error) {
	g, err := c.api.Gate(ctx, version, to)
	if err != nil {
		return ladder.Promotion{}, err
	}
	if g.Promotion == "" {
		return ladder.Promotion{}, fmt.Errorf("%s was answered just now; ask again", version)
	}
	return c.api.Promotion(ctx, g.Promotion)
}

// ended prints a promotion that was waited for, and says whether it was carried out.
func (c *call) ended(p ladder.Promotion) error {
	if err := c.promotion(p, nil); err != nil {
		return err
	}
	if p.State != ladder.CarriedOut && p.State != ladder.ToReview {
		return refused("%s is %s", p.ID, p.State.Words())
	}
	return nil
}

func gate(c *call) func(context.Context) error {
	c.connect()
	rung := c.flags.String("for", "", "`RUNG`; the next one when not given")
	machines := c.flags.Bool("machines-only", false, "leave out what people must do: sign-offs and checklists")
	return func(ctx context.Context) error {
		found, err := c.api.Gate(ctx, c.args[0], *rung)
		if err != nil {
			return err
		}
		if *machines {
			var kept []rule.Finding
			for _, f := range found.Findings {
				if !f.ByPeople {
					kept = append(kept, f)
				}
			}
			found.Findings, found.Met = kept, rule.Met(kept)
		}
		if err := c.show(found, nil, func() {
			against := ""
			if found.Incumbent != "" {
				against = ", against " + found.Incumbent
			}
			if len(found.Findings) == 0 && found.Met {
				fmt.Fprintf(c.Out, "%s stands on %s: nothing is missing for %s\n", found.Version, found.From, found.To)
				return
			}
			fmt.Fprintf(c.Out, "%s from %s to %s%s\n", found.Version, found.From, found.To, against)
			printFindings(c.Out, found.Findings)
		}); err != nil {
			return err
		}
		if !found.Met {
			open := 0
			for _, f := range found.Findings {
				if f.State != rule.Passed {
					open++
				}
			}
			return refused("%d of %d requirements are not met", open, len(found.Findings))
		}
		return nil
	}
}

func reviews(c *call) func(context.Context) error {
	c.connect()
	all := c.flags.Bool("all", false, "those that are closed too")
	model := c.flags.String("model", "", "`MODEL`: only of this one")
	forMe := c.flags.Bool("for-me", false, "only those that wait for you")
	mine := c.flags.String("by", "", "`PERSON` who asked")
	part := c.part()
	return func(ctx context.Context) error {
		search := client.PromotionSearch{State: "waiting", Model: *model, AskedBy: *mine, ForMe: *forMe}
		if *all {
			search.State = ""
		}
		found, err := c.api.Promotions(ctx, search, part())
		return c.show(found, err, func() {
			if len(found.Items) == 0 {
				c.say("nothing waits")
			}
			for i, p := range found.Items {
				if i > 0 {
					fmt.Fprintln(c.Out)
				}
				printPromotion(c.Out, p)
			}
			if found.Next != "" {
				c.say("there are more: -cursor %s", found.Next)
			}
		})
	}
}

func sign(c *call) func(context.Context) error {
	c.connect()
	yes := c.flags.Bool("yes", false, "say yes")
	no := c.flags.Bool("no", false, "say no; needs -why")
	later := c.flags.String("later", "",
		"answer after a `TIME`: a duration such as 48h, or a moment such as 2026-01-20T08:00:00Z")
	to := c.flags.String("to", "", "hand it over to a `PERSON`")
	note := c.flags.String("why", "", "`TEXT`: why")
	key := c.flags.String("key", "", "`FILE` with your own signing key; the service signs when not given")
	return func(ctx context.Context) error {
		n := wire.NewAnswer{Note: *note, To: *to}
		given := 0
		for answer, on := range map[rule.Answer]bool{
			rule.Yes: *yes, rule.No: *no, rule.Later: *later != "",
			rule.HandOver: *to != "",
		} {
			if on {
				given++
				n.Answer = answer
			}
		}
		if given != 1 {
			return wrongUse("say one of -yes, -no, -later TIME and -to PERSON")
		}
		if *later != "" {
			until, err := time.Parse(time.RFC3339, *later)
			if err != nil {
				d, err := time.ParseDuration(*later)
				if err != nil {
					return wrongUse("-later is %q; give a duration such as 48h, or a moment such as "+
						"2026-01-20T08:00:00Z", *later)
				}
				until = time.Now().Add(d)
			}
			n.Until = &until
		}
		for _, promotion := range c.args {
			if *key != "" {
				if err := c.signOneself(ctx, promotion, *key, &n); err != nil {
					return err
				}
			}
			if err := c.promotion(c.api.Answer(ctx, promotion, n)); err != nil {
				return err
			}
		}
		return nil
	}
}

func tick(c *call) func(context.Context) error {
	c.connect()
	note := c.flags.String("note", "", "`TEXT`: what you saw")
	link := c.flags.String("link", "", "`ADDRESS` of what shows it")
	rung := c.flags.String("rung", "", "`RUNG` whose checklist, where two have an item of the name")
	return func(ctx context.Context) error {
		return c.promotion(c.api.Tick(ctx, c.args[0],
			wire.NewTick{Item: c.args[1], Rung: *rung, Note: *note, Link: *link}))
	}
}

// project is the project that a command is about: the one that is named, else the only
// one that there is.
func (c *call) project(ctx context.Context) (string, error) {
	if len(c.args) > 0 {
		return c.args[0], nil
	}
	all, err := c.api.Projects(ctx)
	if err != nil {
		return "", err
	}
	var names []string
	for _, p := range all.Items {
		names = append(names, p.Name)
	}
	if len(names) == 1 {
		return names[0], nil
	}
	return "", wrongUse("name a project: %s", strings.Join(names, ", "))
}

func showLadder(c *call) func(context.Context) error {
	c.connect()
	asYAML := c.flags.Bool("yaml", false, "as a file that can be edited and set")
	return func(ctx context.Context) error {
		project, err := c.project(ctx)
		if err != nil {
			return err
		}
		found, err := c.api.Ladder(ctx, project)
		if err != nil {
			return err
		}
		if *asYAML {
			text, err := ladderFile(found)
			fmt.Fprint(c.Out, text)
			return err
		}
		return c.show(found, nil, func() { printLadder(c.Out, found) })
	}
}

// ladderFile writes a ladder as a file that people edit.
func ladderFile(l ladder.Revision) (string, error) {
	b, err := json.Marshal(l.Ladder)
	if err != nil {
		return "", err
	}
	// JSON is YAML; read as nodes, the order of its members stays.
	var doc yaml.Node
	if err := yaml.Unmarshal(b, &doc); err != nil {
		return "", err
	}
	var plain func(*yaml.Node)
	plain = func(n *yaml.Node) {
		n.Style = 0
		for _, child := range n.Content {
			plain(child)
		}
	}
	plain(&doc)
	out, err := yaml.Marshal(&doc)
	return fmt.Sprintf("# The ladder of %s, revision %d. The lowest rung first; what can stand in a gate: "+
		"innerladder help ladder set\n%s", l.Project, l.Number, out), err
}

// readLadder reads a ladder from a file of YAML or JSON.
func readLadder(file string) (ladder.Ladder, error) {
	var l ladder.Ladder
	b, err := os.ReadFile(file)
	if err != nil {
		return l, wrongUse("%v", err)
	}
	var any map[string]any
	if err := yaml.Unmarshal(b, &any); err != nil {
		return l, wrongUse("%s is no YAML: %v", file, err)
	}
	text, err := json.Marshal(any)
	if err != nil {
		return l, wrongUse("%s cannot be read: %v", file, err)
	}
	dec := json.NewDecoder(strings.NewReader(string(text)))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&l); err != nil {
		return l, wrongUse("%s is no ladder: %s", file, strings.TrimPrefix(err.Error(), "json: "))
	}
	return l, nil
}

func tryLadder(c *call) func(context.Context) error {
	c.connect()
	file := c.flags.String("file", "", "`FILE` with the ladder; the present one when not given")
	return func(ctx context.Context) error {
		var l *ladder.Ladder
		if *file != "" {
			read, err := readLadder(*file)
			if err != nil {
				return err
			}
			l = &read
		}
		project, err := c.project(ctx)
		if err != nil {
			return err
		}
		found, err := c.api.TryLadder(ctx, project, l)
		if err := c.show(found, err, func() { printPreview(c.Out, found) }); err != nil {
			return err
		}
		if found.Refused != "" {
			return refused("it cannot be set: %s", found.Refused)
		}
		return nil
	}
}

func setLadder(c *call) func(context.Context) error {
	c.connect()
	file := c.flags.String("file", "", "`FILE` with the ladder, YAML or JSON")
	why := c.flags.String("why", "", "`TEXT`: why it changes")
	based := c.flags.Int("based-on", -1,
		"`NUMBER` of the revision it was made from; refused when there is another by now")
	return func(ctx context.Context) error {
		if *file == "" {
			return wrongUse("no file is given; write the present ladder to one with: innerladder ladder PROJECT " +
				"-yaml, edit it, and give it with -file")
		}
		l, err := readLadder(*file)
		if err != nil {
			return err
		}
		project, err := c.project(ctx)
		if err != nil {
			return err
		}
		made, err := c.api.SetLadder(ctx, project, l, *why, *based)
		return c.show(made, err, func() { printLadder(c.Out, made) })
	}
}

func ladderRevisions(c *call) func(context.Context) error {
	c.connect()
	part := c.part()
	return func(ctx context.Context) error {
		project, err := c.project(ctx)
		if err != nil {
			return err
		}
		found, err := c.api.LadderRevisions(ctx, project, part())
		return c.show(found, err, func() {
			if len(found.Items) == 0 {
				c.say("%s climbs the default ladder", project)
				return
			}
			t := newTable(c.Out, "REVISION", "RUNGS", "BY", "WHEN", "WHY")
			for _, l := range found.Items {
				t.row(fmt.Sprint(l.Number), strings.Join(l.Names(), " → "), l.Author, moment(l.MadeAt), l.Reason)
			}
			t.done()
		})
	}
}

// describeKinds lists what can stand in a gate.
func describeKinds(w io.Writer) {
	fmt.Fprintln(w, "\nRequirements of a gate (kind, and its settings):")
	for _, k := range rule.Kinds() {
		fmt.Fprintf(w, "  %-24s %s\n", k.Kind, k.What)
		for _, s := range k.Settings {
			fmt.Fprintf(w, "    %-22s %s\n", s.Name, s.What)
		}
	}
}
