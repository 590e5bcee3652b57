package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/record"
)

func recordCommands() []command {
	return slices.Concat(activityCommands(), readingCommands(), savedSearchCommands())
}

// activityCommands are the commands about what happened.
func activityCommands() []command {
	return []command{
		{
			name: "activity", group: "Record", arguments: "[SUBJECT]",
			summary: "What happened, newest first, with comments: everything, or about a model, version, label, " +
				"endpoint, run, data set", most: 1,
			example: "innerladder activity heat-demand@beta", setup: activityCommand,
		},
		{
			name: "comment", group: "Record", arguments: "SUBJECT|LINE TEXT",
			summary: "Comment on something, or on a line of what happened; @NAME tells someone", least: 2, most: 2,
			example: "innerladder comment heat-demand@3 '@tove please look at the morning peak'",
			setup: asks(func(ctx context.Context, c *call) error {
				subject := c.args[0]
				on, err := strconv.ParseInt(subject, 10, 64)
				if err == nil {
					subject = ""
				}
				said, err := c.api.Comment(ctx, on, subject, c.args[1])
				return c.show(said, err, func() {
					fmt.Fprintf(c.Out, "line %d: %s\n", said.Seq, said.Sentence)
					if len(said.Unreached) > 0 {
						c.say("not told, because there is nobody of that name or they may not see this: %s",
							strings.Join(said.Unreached, ", "))
					}
				})
			}),
		},
	}
}

// readingCommands are the commands that read the record.
func readingCommands() []command {
	return []command{
		{
			name: "audit", group: "Record",
			summary: "Search the record: who did what, when and why, with values before and after", most: 0,
			example: "innerladder audit -kind split -by tove -within 72h\ninnerladder audit -about demand-hourly " +
				"-text canary -values", setup: auditCommand,
		},
		{
			name: "audit verify", group: "Record",
			summary: "Have the whole record read for anything altered, missing or reordered; exits 1 when there is",
			most:    0,
			example: "innerladder audit verify -checkpoint 2026-01.checkpoint", setup: verifyCommand,
		},
		{
			name: "audit checkpoint", group: "Record",
			summary: "Print a signed statement of what the last line is, to be kept elsewhere", most: 0,
			example: "innerladder audit checkpoint > 2026-01.checkpoint",
			setup: asks(func(ctx context.Context, c *call) error {
				p, err := c.api.Checkpoint(ctx)
				if err != nil {
					return err
				}
				return c.printJSON(p)
			}),
		},
		{
			name: "audit export", group: "Record",
			summary: "Print what a search finds, oldest first, as CloudEvents, one JSON object a line", most: 0,
			example: "innerladder audit export -after 2026-01-01 > january.jsonl",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				q := searchOptions(c)
				return func(ctx context.Context) error { return c.api.ExportAudit(ctx, q(), c.Out) }
			},
		},
	}
}

// savedSearchCommands are the commands about searches that are kept.
func savedSearchCommands() []command {
	return []command{
		{
			name: "audit save", group: "Record", arguments: "NAME", summary: "Keep a search under a name", least: 1,
			most:    1,
			example: "innerladder audit save 'night changes' -kind split -within 24h -shared",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				q := searchOptions(c)
				shared := c.flags.Bool("shared", false, "everyone who may search the record can use it")
				return func(ctx context.Context) error {
					s, err := c.api.SaveSearch(ctx, c.args[0], q(), *shared)
					return c.show(s, err, func() {
						fmt.Fprintf(c.Out,
							"saved; run it with: innerladder audit -saved '%s'\n", s.Name)
					})
				}
			},
		},
		{
			name: "audit searches", group: "Record",
			summary: "List the searches that you keep and those that others share", most: 0,
			example: "innerladder audit searches",
			setup: asks(func(ctx context.Context, c *call) error {
				all, err := c.api.Searches(ctx)
				return c.show(all, err, func() {
					t := newTable(c.Out, "ID", "NAME", "OWNER", "SHARED", "SEARCH")
					for _, s := range all.Items {
						t.row(strconv.FormatInt(s.ID, 10), s.Name, s.Owner,
							map[bool]string{true: "yes", false: "no"}[s.Shared], params(s.Query))
					}
					t.done()
				})
			}),
		},
		{
			name: "audit forget", group: "Record", arguments: "ID", summary: "Forget a search that you keep", least: 1,
			most: 1, example: "innerladder audit forget 2",
			setup: asks(func(ctx context.Context, c *call) error {
				id, err := c.number(0)
				if err != nil {
					return err
				}
				err = c.api.RemoveSearch(ctx, id)
				return c.show(struct{}{}, err, func() { fmt.Fprintln(c.Out, "forgotten") })
			}),
		},
	}
}

// happened is one line about an entry.
func happened(e record.Entry) string {
	return fmt.Sprintf("%s  %-12s %s", e.At.UTC().Format("2006-01-02 15:04:05"), e.Actor, e.Sentence)
}

func activityCommand(c *call) func(context.Context) error {
	c.connect()
	project := c.flags.String("project", "", "`NAME`: only in this project")
	part := c.part()
	return func(ctx context.Context) error {
		subject := strings.Join(c.args, "")
		all, err := c.api.Activity(ctx, *project, subject, part())
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("nothing is known about %s", subject)
				return
			}
			for _, h := range all.Items {
				fmt.Fprintf(c.Out, "%6d  %s\n", h.Seq, happened(h.Entry))
				if h.Reason != "" && !strings.Contains(h.Sentence, h.Reason) {
					fmt.Fprintf(c.Out, "%*s“%s”\n", 42, "", h.Reason)
				}
				for _, said := range h.Comments {
					fmt.Fprintf(c.Out, "%*s%s: %s\n", 42, "", said.Actor,
						strings.ReplaceAll(said.Reason, "\n", "\n"+strings.Repeat(" ", 44)))
				}
			}
			c.more(all.Next)
		})
	}
}

// searchOptions define what narrows a search of the record down.
func searchOptions(c *call) func() map[string]string {
	options := map[string]*string{}
	for _, o := range []struct{ name, member, text string }{
		{"text", "text", "`WORDS` that must all be in subject, sentence or reason"},
		{"kind", "kind", "`KIND` such as split.made, or split for all that begin so"},
		{"by", "actor", "`NAME` of who did it"},
		{"about", "subject", "`SUBJECT`, such as heat-demand@2, demand-hourly or P-3"},
		{"project", "project", "`NAME` of a project"},
		{"after", "after", "`MOMENT`, such as 2026-01-31 or 2026-01-31T14:00:00Z"},
		{"until", "until", "`MOMENT` before which it was"},
		{"within", "within", "`DURATION`: no longer ago, such as 36h"},
	} {
		options[o.member] = c.flags.String(o.name, "", o.text)
	}
	return func() map[string]string {
		q := map[string]string{}
		for member, value := range options {
			if *value != "" {
				q[member] = *value
			}
		}
		return q
	}
}

func auditCommand(c *call) func(context.Context) error {
	c.connect()
	q := searchOptions(c)
	saved := c.flags.String("saved", "", "`NAME` of a saved search; other options change it")
	values := c.flags.Bool("values", false, "show values before and after, address and request too")
	part := c.part()
	return func(ctx context.Context) error {
		search := q()
		if *saved != "" {
			all, err := c.api.Searches(ctx)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all.Items, func(s savedSearch) bool { return s.Name == *saved })
			if i < 0 {
				return fmt.Errorf("there is no saved search %q; see: innerladder audit searches", *saved)
			}
			kept := all.Items[i].Query
			maps.Copy(kept, search)
			search = kept
		}
		all, err := c.api.Audit(ctx, search, part())
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("the record has nothing of the kind")
			}
			for _, e := range all.Items {
				fmt.Fprintf(c.Out, "%6d  %s\n", e.Seq, happened(e))
				facts(c.Out, "        kind", e.Kind+" · "+e.Subject, "        why", e.Reason)
				if *values {
					facts(c.Out, "        project", e.Project, "        before", string(e.Before), "        after",
						string(e.After), "        from", e.Address, "        request", e.RequestID)
				}
			}
			c.more(all.Next)
		})
	}
}

// errNotIntact makes verification exit with 1.
var errNotIntact = errors.New("the record is not what was written")

func verifyCommand(c *call) func(context.Context) error {
	c.connect()
	var files list
	c.flags.Var(&files, "checkpoint", "`FILE` with a checkpoint that was exported before; may be given several times")
	return func(ctx context.Context) error {
		var checkpoints []record.Checkpoint
		for _, file := range files {
			b, err := os.ReadFile(file)
			if err != nil {
				return fmt.Errorf("reading the checkpoint: %w", err)
			}
			var p record.Checkpoint
			if err := json.Unmarshal(b, &p); err != nil {
				return fmt.Errorf("%s is no checkpoint: %w", file, err)
			}
			checkpoints = append(checkpoints, p)
		}
		found, err := c.api.VerifyAudit(ctx, checkpoints)
		if err := c.show(found, err, func() {
			for _, b := range found.Breaks {
				fmt.Fprintf(c.Out, "%-10s  %s\n", strings.ReplaceAll(b.What, "_", " "), b.Sentence)
			}
			if found.Intact() {
				fmt.Fprintf(c.Out, "intact: %s lines, in %d ms\nhead    %s\n", count(uint64(found.Lines)), found.MS,
					found.Head)
				for _, p := range checkpoints {
					fmt.Fprintf(c.Out, "holds   checkpoint of line %d from %s\n", p.Seq, moment(p.At))
				}
			}
		}); err != nil {
			return err
		}
		if !found.Intact() {
			return errNotIntact
		}
		return nil
	}
}
