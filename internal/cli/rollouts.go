package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

func rolloutCommands() []command {
	list := []command{
		{
			name: "roll", group: "Traffic", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Move an endpoint to another version by a plan, back by itself when a guard fires",
			example: "innerladder roll demand-hourly -to heat-demand@7 -dry-run\n" +
				"innerladder roll demand-hourly -to heat-demand@7 -plan brisk -why \"the wind\" -wait -timeout 2h",
			setup: roll,
		},
		{
			name: "rollouts", group: "Traffic", summary: "List rollouts, newest first", most: 0,
			example: "innerladder rollouts -open", setup: listRollouts,
		},
		{
			name: "rollout show", group: "Traffic", arguments: "R-NUMBER", least: 1, most: 1,
			summary: "Show where a rollout stands, what it waits for, and its decision log",
			example: "innerladder rollout show R-1", setup: asks(func(ctx context.Context, c *call) error {
				o, err := c.api.Rollout(ctx, c.args[0])
				return c.show(o, err, func() { printRollout(c.Out, o) })
			}),
		},
	}
	for _, v := range []struct {
		verb    rollout.Verb
		summary string
	}{
		{rollout.ToHold, "Hold a rollout where it is; guards still roll back"},
		{rollout.ToResume, "Let a rollout that is held go on"},
		{rollout.ToSpeed, "Take the next step of a rollout now, whatever it waits for"},
		{rollout.ToFinish, "Give the candidate everything now; while it bakes, end the bake"},
		{rollout.ToEnd, "End a rollout; main goes back to what it was"},
	} {
		list = append(list, command{
			name: "rollout " + string(v.verb), group: "Traffic", arguments: "R-NUMBER", least: 1, most: 1,
			summary: v.summary, example: "innerladder rollout " + string(v.verb) + " R-1 -why \"the desk says so\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				change := wire.ChangeRollout{Do: v.verb}
				c.flags.StringVar(&change.Reason, "why", "", "`REASON`; needed")
				if v.verb == rollout.ToEnd {
					c.flags.BoolVar(&change.StepDown, "step-down", false,
						"the version steps down a rung and must be signed anew, as after a guard")
				}
				return func(ctx context.Context) error {
					o, err := c.api.ChangeRollout(ctx, c.args[0], change)
					return c.show(o, err, func() {
						fmt.Fprintf(c.Out, "%s %s\n", o.ID, o.Decisions[len(o.Decisions)-1].Did)
					})
				}
			},
		})
	}
	return list
}

// wentBack says that what was rolled out does not answer.
type wentBack struct{ text string }

func (r wentBack) Error() string { return r.text }

func roll(c *call) func(context.Context) error {
	c.connect()
	to := c.flags.String("to", "", "`VERSION` to move to: MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL; needed")
	plan := c.flags.String("plan", rollout.Usual, "`PLAN` to follow: NAME or NAME#REVISION; see: innerladder plans")
	why := c.flags.String("why", "", "`TEXT`: why")
	at := c.flags.String("at", "", "`TIME` to begin, such as 2026-01-31T06:00:00Z; now when not given")
	dry := c.flags.Bool("dry-run", false, "only say how long it takes, what harm is risked, and what is lacking")
	wait := c.flags.Bool("wait", false, "print each decision until it is finished (exit 0) or rolled back (exit 4)")
	timeout := c.flags.Duration("timeout", 24*time.Hour, "`TIME` to wait at most; then exit 5, and it goes on")
	return func(ctx context.Context) error {
		if *to == "" {
			return wrongUse("a rollout needs -to VERSION")
		}
		n := wire.NewRollout{To: *to, Plan: *plan, Reason: *why}
		if *at != "" {
			begin, err := instant("at", *at)
			if err != nil {
				return err
			}
			n.StartsAt = &begin
		}
		if *dry {
			out, err := c.api.ForeseeRollout(ctx, c.args[0], n)
			if err := c.show(out, err, func() { printOutlook(c.Out, out) }); err != nil || len(out.Lacking) == 0 {
				return err
			}
			return refused("it cannot begin yet; what is lacking: %d", len(out.Lacking))
		}
		id, err := c.startRollout(ctx, n, *wait)
		if err != nil || id == "" || !*wait {
			return err
		}
		return c.follow(ctx, id, *timeout)
	}
}

// startRollout starts a rollout and says so. Who runs a pipeline again waits for the rollout that goes on
// already, and needs none where the version answers: then id is empty.
func (c *call) startRollout(ctx context.Context, n wire.NewRollout, wait bool) (id string, err error) {
	o, err := c.api.Roll(ctx, c.args[0], n)
	if err != nil && wait {
		if client.Code(err) == "rollout.there" {
			c.say("nothing needs doing: %s answers main of %s", n.To, c.args[0])
			return "", nil
		}
		open, listErr := c.api.Rollouts(ctx, c.args[0], n.To, true, client.Part{})
		if client.Code(err) == "rollout.lacks" && listErr == nil && len(open.Items) == 1 {
			c.say("%s goes on already", open.Items[0].ID)
			return open.Items[0].ID, nil
		}
	}
	if err != nil || (wait && *c.json) {
		return o.ID, err
	}
	return o.ID, c.show(o, nil, func() {
		fmt.Fprintln(c.Out, o.Does(o.ID))
	})
}

// follow prints each decision of a rollout until it is over.
func (c *call) follow(ctx context.Context, id string, timeout time.Duration) error {
	deadline := time.Now().Add(timeout)
	for printed := 0; ; {
		o, err := c.api.Rollout(ctx, id)
		if err != nil {
			return err
		}
		for ; printed < len(o.Decisions) && !*c.json; printed++ {
			d := o.Decisions[printed]
			fmt.Fprintf(c.Out, "%s  %s\n", d.At.UTC().Format("15:04:05"), d.Sentence())
		}
		if o.Phase.Over() {
			if *c.json {
				if err := c.printJSON(o); err != nil {
					return err
				}
			}
			return ended(o)
		}
		if !time.Now().Before(deadline) {
			return tooLate{
				fmt.Sprintf("%s is not over within %s; it goes on, and waits for: %s", id, timeout, waitsFor(o)),
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(time.Second, max(0, time.Until(deadline)))):
		}
	}
}

// ended says how a rollout ended, as a program needs it.
func ended(o wire.ShownRollout) error {
	switch o.Phase {
	case rollout.Finished:
		return nil
	case rollout.Refused:
		return refused("%s was given up before it began", o.ID)
	}
	return wentBack{fmt.Sprintf("%s is %s: %s answers %s", o.ID, o.Phase.InWords(), o.Incumbent, o.Endpoint)}
}

func waitsFor(o wire.ShownRollout) string {
	var out []string
	for _, w := range o.Standing.Waits {
		out = append(out, w.For)
	}
	if len(out) == 0 {
		return "nothing; it moves within a second"
	}
	return strings.Join(out, "; ")
}

func printOutlook(w io.Writer, o wire.Outlook) {
	f := o.Forecast
	takes := "cannot be told"
	if f.Takes != nil {
		takes = "about " + span.Rounded(time.Duration(*f.Takes)) + " with a version that is as good"
	}
	lately := fmt.Sprintf("%.3g requests a second, %.2g %% of them failed, over the last %s", f.Traffic.Rate,
		100*f.Traffic.Failing, f.Traffic.Over)
	facts(w, "endpoint", o.Endpoint, "from", o.From, "to", o.To, "plan", o.Plan.Ref()+", "+string(o.Plan.Kind),
		"takes", takes, "traffic", lately)
	fmt.Fprintln(w)
	heads := []string{"STEP", "TAKES", "BECAUSE", "REQUESTS ON TRIAL"}
	if f.Replayed != nil {
		heads = append(heads, "DIFFERENTLY", "FAILED")
	}
	t := newTable(w, heads...)
	for _, s := range f.Steps {
		takes, requests := "cannot be told", ""
		if s.Takes != nil {
			takes, requests = span.Rounded(time.Duration(*s.Takes)), count(uint64(s.Requests))
		}
		cells := []string{s.Name, takes, s.Because, requests}
		if f.Replayed != nil && s.Differing != nil {
			cells = append(cells, "about "+count(uint64(*s.Differing+0.5)), "about "+count(uint64(*s.Failing+0.5)))
		}
		t.row(cells...)
	}
	t.done()
	if len(f.Differences) > 0 {
		fmt.Fprintf(w, "\nwhat it decides of %s, within %s\n", o.Plan.Compare.Signal, o.Plan.Compare.Most)
		t = newTable(w, "TRUE DIFFERENCE", "REQUESTS ON TRIAL", "TAKES ABOUT", "DECIDED IN TIME")
		for _, d := range f.Differences {
			after := ""
			if d.After != nil {
				after = span.Rounded(time.Duration(*d.After))
			}
			t.row(fmt.Sprintf("%.3g points", 100*d.More), count(uint64(d.Requests)), after, percent(d.Chance))
		}
		t.done()
	}
	if len(f.Harms) > 0 {
		fmt.Fprintln(w, "\na version that fails more")
		t = newTable(w, "MORE FAIL", "NOTICED BEFORE IT HAS ALL", "AFTER ABOUT", "BAD ANSWERS", "AT")
		for _, h := range f.Harms {
			after, bad := "", ""
			if h.After != nil {
				after, bad = span.Rounded(time.Duration(*h.After)), count(uint64(h.BadAnswers+0.5))
			}
			t.row(percent(h.More), percent(h.Noticed), after, bad, h.Step)
		}
		t.done()
	}
	for _, n := range f.Notes {
		fmt.Fprintf(w, "\n%s\n", n)
	}
	if len(o.Lacking) > 0 {
		fmt.Fprintln(w, "\nit cannot begin yet")
	}
	for _, l := range o.Lacking {
		fmt.Fprintf(w, "  %s\n", l)
	}
}

func listRollouts(c *call) func(context.Context) error {
	c.connect()
	endpoint := c.flags.String("endpoint", "", "`ENDPOINT`: only of this one")
	version := c.flags.String("version", "", "`VERSION`: only to this one")
	open := c.flags.Bool("open", false, "only those that are not over")
	part := c.part()
	return func(ctx context.Context) error {
		all, err := c.api.Rollouts(ctx, *endpoint, *version, *open, part())
		return c.show(all, err, func() {
			if len(all.Items) == 0 {
				c.say("there are none; start one with: innerladder roll ENDPOINT -to MODEL@NUMBER")
				return
			}
			t := newTable(c.Out, "ROLLOUT", "ENDPOINT", "FROM", "TO", "PLAN", "STANDS", "SHARE", "BY", "BEGUN")
			for _, o := range all.Items {
				t.row(o.ID, o.Endpoint, o.Incumbent, o.Candidate, o.Plan.Ref(), stands(o),
					shareOf(o), o.By, ago(sinceNow(o.AskedAt)))
			}
			t.done()
			c.more(all.Next)
		})
	}
}

// shareOf is what the candidate of a rollout has.
func shareOf(o rollout.Rollout) string {
	if o.Unheard() {
		return "copies of " + traffic.Percent(o.Copies)
	}
	return traffic.Percent(o.Share)
}

// printCopies says what copies have shown.
func printCopies(w io.Writer, r *evidence.ShadowReport) {
	if r != nil {
		fmt.Fprintf(w, "\ncopies, each held against the answer of %s\n  %s\n", r.Against, r.Sentence())
	}
}

// stands says where a rollout stands.
func stands(o rollout.Rollout) string {
	out := o.Phase.InWords()
	if o.Phase == rollout.Stepping {
		out = fmt.Sprintf("step %d of %d", o.Step+1, len(o.Plan.Steps))
	}
	if o.Held != nil {
		out += ", HELD"
	}
	return out
}

func printRollout(w io.Writer, o wire.ShownRollout) {
	facts(w, "rollout", o.ID, "endpoint", o.Endpoint, "from", o.Incumbent, "to", o.Candidate, "plan", o.Plan.Ref(),
		"stands", stands(o.Rollout), "share", shareOf(o.Rollout), "by", o.By+" "+quote(o.Reason))
	if !o.Phase.Over() {
		fmt.Fprintf(w, "\nnext: %s\n", o.Standing.Next)
		for _, wait := range o.Standing.Waits {
			left := ""
			if wait.Left != nil {
				left = ", about " + span.Rounded(time.Duration(*wait.Left)) + " more"
			}
			fmt.Fprintf(w, "  waits for %s (%.0f %%%s)\n", wait.For, 100*wait.Done, left)
		}
		allowed := "no cap"
		if o.Standing.Allowed > 0 {
			allowed = fmt.Sprintf("of %v allowed", o.Standing.Allowed)
		}
		if o.Plan.Kind != rollout.Shadow {
			fmt.Fprintf(w, "harm: %.0f bad answers, %s\n", o.Standing.BadAnswers, allowed)
		}
	}
	printCopies(w, o.Copies)
	if o.Verdict != nil {
		fmt.Fprintf(w, "\ncomparison of %s: %s\n  %s\n", o.Plan.Compare.Signal,
			strings.ReplaceAll(string(o.Verdict.Decision), "_", " "), o.Verdict.Sentence)
	}
	if len(o.Guards) > 0 {
		fmt.Fprintln(w, "\nguards")
	}
	for _, g := range o.Guards {
		printGuard(w, g, o.Candidate, o.Plan.Kind == rollout.Shadow)
	}
	fmt.Fprintln(w, "\ndecisions")
	for _, d := range o.Decisions {
		fmt.Fprintf(w, "  %s  %-12s %s\n", d.At.UTC().Format("15:04:05"), d.By, d.Sentence())
	}
}

func planCommands() []command {
	return []command{
		{
			name: "plans", group: "Traffic", summary: "List the plans that rollouts can follow", most: 0,
			example: "innerladder plans", setup: asks(func(ctx context.Context, c *call) error {
				all, err := c.api.Plans(ctx)
				return c.show(all, err, func() {
					t := newTable(c.Out, "PLAN", "PROJECT", "KIND", "STEPS", "BAKE", "ABOUT")
					for _, p := range all.Items {
						var steps []string
						for _, s := range p.Steps {
							steps = append(steps, traffic.Percent(s.Share))
						}
						bake := p.Bake.Time.String()
						switch {
						case p.Kind == rollout.Comparison:
							steps, bake = []string{traffic.Percent(p.Compare.Share)}, ""
						case p.Kind == rollout.Shadow:
							steps, bake = []string{"copies of " + traffic.Percent(p.Copies.Share)}, ""
						case p.Warm > 0 && p.Copies.Share > 0:
							steps = []string{fmt.Sprintf("%d copies", p.Warm)}
						case p.Warm > 0:
							steps = []string{fmt.Sprintf("%d samples", p.Warm)}
						}
						t.row(p.Plan.Ref(), cmp.Or(p.Project, "built in"), string(p.Kind),
							strings.Join(steps, ", "), bake, p.About)
					}
					t.done()
				})
			}),
		},
		{
			name: "plan show", group: "Traffic", arguments: "NAME", least: 1, most: 1,
			summary: "Print a plan as it is written",
			example: "innerladder plan show careful > ours.yaml\ninnerladder plan show ours#2",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				project := c.flags.String("project", "", "`PROJECT` whose it is, where several have one of that name")
				return func(ctx context.Context) error {
					p, err := c.api.Plan(ctx, *project, c.args[0])
					return c.show(p, err, func() { fmt.Fprint(c.Out, p.Text) })
				}
			},
		},
		{
			name: "plan check", group: "Traffic", arguments: "FILE", least: 1, most: 1,
			summary: "Say what is wrong in a plan, with line and column, without the service",
			example: "innerladder plan check ours.yaml",
			setup:   checkPlan,
		},
		{
			name: "plan put", group: "Traffic", arguments: "FILE", least: 1, most: 1,
			summary: "Keep a plan as its next revision",
			example: "innerladder plan put ours.yaml -why \"slower in winter\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				project := c.flags.String("project", "", "`PROJECT` whose it is")
				why := c.flags.String("why", "", "`TEXT`: why")
				return func(ctx context.Context) error {
					text, err := os.ReadFile(c.args[0])
					if err != nil {
						return err
					}
					p, err := c.api.PutPlan(ctx, *project, string(text), *why)
					return c.show(p, err, func() { fmt.Fprintln(c.Out, p.Plan.Ref()) })
				}
			},
		},
	}
}

// checkPlan reads a plan without the service.
func checkPlan(c *call) func(context.Context) error {
	c.json = c.flags.Bool("json", false, "print JSON for machines")
	return func(context.Context) error {
		text, err := os.ReadFile(c.args[0])
		if err != nil {
			return err
		}
		p, err := intake.Plan(text)
		if err != nil {
			return wrongUse("%s: %v", c.args[0], err)
		}
		return c.show(p, nil, func() {
			fmt.Fprintf(c.Out, "%s is a %s plan that can be followed\n", p.Name, p.Kind)
		})
	}
}
