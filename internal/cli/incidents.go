package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"innerladder/internal/core/span"
	"innerladder/internal/wire"
)

func incidentCommands() []command {
	return []command{
		{
			name: "history", group: "Watch", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Say what served when: every split with its cause, what it served, and how it ended",
			example: "innerladder history demand-hourly\ninnerladder history demand-hourly -at 2026-01-13T03:12:00Z",
			setup:   history,
		},
		{
			name: "incidents", group: "Watch", summary: "List rollbacks with their pages, newest first", most: 0,
			example: "innerladder incidents -state open", setup: listIncidents,
		},
		{
			name: "incident show", group: "Watch", arguments: "I-NUMBER", least: 1, most: 1,
			summary: "Show what happened in a rollback, what differs, and whether it could have been known",
			example: "innerladder incident show I-1\ninnerladder incident show I-1 -markdown > I-1.md",
			setup:   showIncident,
		},
		{
			name: "incident add", group: "Watch", arguments: "I-NUMBER", least: 1, most: 1,
			summary: "Add a note, its cause or something to do to an incident, or close it",
			example: "innerladder incident add I-1 -note \"nobody at the desk noticed\"\n" +
				"innerladder incident add I-1 -to-do \"the feed says its unit\" -who runa -due 2026-01-20\n" +
				"innerladder incident add I-1 -cause \"degrees Fahrenheit\" -close",
			setup: addToIncident,
		},
	}
}

func history(c *call) func(context.Context) error {
	c.connect()
	at := c.flags.String("at", "", "`TIME`: only what served then, such as 2026-01-13T03:12:00Z")
	part := c.part()
	return func(ctx context.Context) error {
		when, err := instant("at", *at)
		if err != nil {
			return err
		}
		all, err := c.api.History(ctx, c.args[0], when, part())
		return c.show(all, err, func() {
			t := newTable(c.Out, "SPLIT", "FROM", "LASTED", "LANES", "SERVED", "BY", "WHY", "ENDED")
			for _, s := range all.Items {
				var parts []string
				for _, v := range s.Versions {
					parts = append(parts,
						fmt.Sprintf("%s %s (%s failed)", v.Version, count(v.Requests), count(v.Failed)))
				}
				lasted := span.Rounded(time.Duration(s.LastedMS) * time.Millisecond)
				t.row(fmt.Sprintf("#%d", s.Split.Number), s.Split.MadeAt.UTC().Format("2006-01-02 15:04:05"), lasted,
					s.Split.String(), strings.Join(parts, ", "), cmp.Or(s.Split.Rollout, s.Split.Author),
					s.Split.Reason, s.Ended)
			}
			t.done()
			c.more(all.Next)
		})
	}
}

func listIncidents(c *call) func(context.Context) error {
	c.connect()
	endpoint := c.flags.String("endpoint", "", "`ENDPOINT`: only of this one")
	version := c.flags.String("version", "", "`VERSION`: only of this one")
	state := c.flags.String("state", "", "`STATE`: only open or closed")
	part := c.part()
	return func(ctx context.Context) error {
		all, err := c.api.Incidents(ctx, *endpoint, *version, *state, part())
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("there are none")
				return
			}
			t := newTable(c.Out, "INCIDENT", "ENDPOINT", "WHAT", "STATE", "LASTED", "BY", "WHEN")
			for _, i := range all.Items {
				t.row(i.ID, i.Endpoint, i.Title(), i.State, span.Rounded(i.At.Sub(i.Begun)), i.By, ago(sinceNow(i.At)))
			}
			t.done()
			c.more(all.Next)
		})
	}
}

func showIncident(c *call) func(context.Context) error {
	c.connect()
	document := c.flags.Bool("markdown", false, "print it as a Markdown document")
	return func(ctx context.Context) error {
		i, err := c.api.Incident(ctx, c.args[0])
		return c.show(i, err, func() {
			if *document {
				fmt.Fprint(c.Out, i.Markdown)
				return
			}
			printIncident(c.Out, i)
		})
	}
}

func addToIncident(c *call) func(context.Context) error {
	c.connect()
	var h wire.HandleIncident
	var todo wire.NewFollowUp
	c.flags.StringVar(&h.Note, "note", "", "`TEXT` of a note")
	c.optional("cause", "`TEXT`: why it happened", &h.Cause)
	c.flags.StringVar(&todo.Text, "to-do", "", "`TEXT`: something to do so that it does not happen again")
	c.flags.StringVar(&todo.Who, "who", "", "`NAME` of who does it")
	c.flags.StringVar(&todo.Due, "due", "", "`DAY` by which, such as 2026-01-31")
	c.flags.IntVar(&h.Done, "done", 0, "`NUMBER` of what was to be done and is")
	closed := c.flags.Bool("close", false, "close it")
	reopen := c.flags.Bool("reopen", false, "open it again")
	return func(ctx context.Context) error {
		switch {
		case *closed && *reopen:
			return wrongUse("give one of -close and -reopen")
		case *closed:
			h.State = "closed"
		case *reopen:
			h.State = "open"
		}
		if todo != (wire.NewFollowUp{}) {
			h.FollowUp = &todo
		}
		i, err := c.api.HandleIncident(ctx, c.args[0], h)
		return c.show(i, err, func() { printTalk(c.Out, i) })
	}
}

func printIncident(w io.Writer, i wire.ShownIncident) {
	facts(w, "incident", i.ID+", "+i.Title, "endpoint", i.Endpoint, "state", i.State, "lasted",
		span.Rounded(i.At.Sub(i.Begun))+", until "+moment(i.At), "by", i.By+" "+quote(i.Why), "instead",
		fmt.Sprintf("#%d, %s", i.For, i.Incumbent), "rollout", i.Rollout, "alert", i.Alert)
	r := i.Report
	if r == nil {
		fmt.Fprintln(w, "\nits report is being written")
		return
	}
	fmt.Fprintf(w, "\n%s\n\nwhat happened\n", r.Sentence)
	for _, e := range r.Timeline {
		fmt.Fprintf(w, "  %s  %-12s %s\n", e.At.UTC().Format("15:04:05"), e.By, e.What)
	}
	if c := r.Comparison; c != nil {
		fmt.Fprintf(w, "\nside by side: %s\n", c.Sentence)
	}
	if len(r.Moved) > 0 {
		fmt.Fprintln(w, "\nthe rows behind both, most moved first")
	}
	for _, m := range r.Moved[:min(5, len(r.Moved))] {
		fmt.Fprintf(w, "  %-20s %s\n", m.Column, m.Sentence)
	}
	if len(r.Samples) > 0 {
		fmt.Fprintln(w, "\nsome of its requests; see one with: innerladder request ID")
	}
	for _, s := range r.Samples {
		fmt.Fprintf(w, "  %s  %s\n", s.At.UTC().Format("15:04:05"), s)
	}
	fmt.Fprintln(w, "\nwho approved it")
	for _, a := range r.Approved {
		fmt.Fprintf(w, "  %s to %s, asked by %s, signed by %s\n", a.Promotion, a.To, a.AskedBy,
			strings.Join(a.Signed, ", "))
	}
	fmt.Fprintln(w, "\ncould it have been known?")
	for _, k := range r.Known {
		fmt.Fprintf(w, "  %-14s %-8s %s %s\n", strings.ReplaceAll(k.Source, "_", " "), k.Could, k.Finding, k.Advice)
	}
	printTalk(w, i)
}

// printTalk prints what people wrote.
func printTalk(w io.Writer, i wire.ShownIncident) {
	fmt.Fprintln(w)
	facts(w, "cause", i.Cause, "state", i.State)
	for _, f := range i.FollowUps {
		done := "to do"
		if f.DoneAt != nil {
			done = "done"
		}
		fmt.Fprintf(w, "  %d  %-6s %s %s %s\n", f.Number, done, f.Text, f.Who, f.Due)
	}
	for _, n := range i.Notes {
		fmt.Fprintf(w, "  %s  %s: %s\n", n.At.UTC().Format(time.DateTime), n.By, n.Text)
	}
}
