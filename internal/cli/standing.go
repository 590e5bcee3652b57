package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"innerladder/internal/core/job"
	"innerladder/internal/core/standing"
	"innerladder/internal/wire"
)

// standingCommands are about what every new version of a model is evaluated on.
func standingCommands() []command {
	return []command{
		{
			name: "standing", group: "Prove", arguments: "MODEL [FILE]", least: 1, most: 2,
			summary: "Have every new version of a model evaluated as soon as it can be asked; with a model alone, " +
				"show on what, and how far each version is",
			example: "innerladder standing heat-demand winter-2026.csv -target demand_mw -at-most rmse=0.2 -against " +
				"incumbent\n" +
				"innerladder standing heat-demand -data winters-2024#2 -target demand_mw -segments mix,hour\n" +
				"innerladder standing heat-demand",
			setup: setStanding,
		},
		{
			name: "standing run", group: "Prove", arguments: "REF", least: 1, most: 1,
			summary: "Put a version to the standing evaluation of its model, whether it was before or not",
			example: "innerladder standing run heat-demand@2",
			setup:   runStanding,
		},
		{
			name: "standing remove", group: "Prove", arguments: "MODEL", least: 1, most: 1,
			summary: "Have new versions of a model evaluated on nothing",
			example: "innerladder standing remove heat-demand -why \"the winter is over\"",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (standing.Standing, error) {
				return c.api.RemoveStanding(ctx, c.args[0], why)
			}, func(w io.Writer, e standing.Standing) {
				fmt.Fprintf(w, "new versions of %s are evaluated on nothing any more\n", e.Model)
			}),
		},
	}
}

func setStanding(c *call) func(context.Context) error {
	c.connect()
	var in wire.NewStanding
	c.flags.StringVar(&in.Data, "data", "", "`DATA` set whose address is known, in place of a file")
	c.flags.StringVar(&in.From, "from", "", "`ADDRESS` that the service fetches for each version, in place of a file")
	c.judgingFlags(&in.Judging)
	c.flags.StringVar(&in.Reason, "why", "", "`TEXT`: why")
	return func(ctx context.Context) error {
		in.Model = c.args[0]
		if in.Target == "" && len(c.args) == 1 && in.Data == "" && in.From == "" {
			s, err := c.api.Standing(ctx, in.Model)
			return c.show(s, err, func() { c.printStanding(s) })
		}
		if in.Target == "" {
			return wrongUse("say with -target which column has the truth")
		}
		var table io.Reader = strings.NewReader("")
		if len(c.args) == 2 {
			f, err := os.Open(c.args[1])
			if err != nil {
				return err
			}
			defer f.Close()
			table, in.Name = f, filepath.Base(c.args[1])
		}
		e, err := c.api.SetStanding(ctx, in, table)
		return c.show(e, err, func() {
			fmt.Fprintf(c.Out, "%s: new versions of %s are evaluated on %s\n", e.ID(), e.Model, e.Rows())
			c.say("put one that is there already to it with: innerladder standing run %s@NUMBER", e.Model)
		})
	}
}

func runStanding(c *call) func(context.Context) error {
	c.connect()
	detach := c.flags.Bool("detach", false, "begin the job and do not wait for it")
	return func(ctx context.Context) error {
		j, err := c.api.RunStanding(ctx, c.args[0])
		if err == nil && !*detach {
			j, err = c.awaitJob(ctx, j)
		}
		if err != nil {
			return err
		}
		if *detach {
			return c.show(j, nil, func() { fmt.Fprintln(c.Out, j.ID) })
		}
		return c.reported(ctx, j)
	}
}

func (c *call) printStanding(s wire.StandingShown) {
	fmt.Fprintf(c.Out, "%s: new versions of %s are evaluated on %s\n", s.ID(), s.Model, s.Rows())
	facts(c.Out, "  truth", s.Target, "  limits", limitsInWords(s.Limits), "  by parts of", strings.Join(s.Segments,
		", "), "  against", s.Against, "  set by", s.By+", "+moment(s.SetAt))
	if len(s.Runs) == 0 {
		c.say("no version came after it was set; put one to it with: innerladder standing run %s@NUMBER", s.Model)
		return
	}
	t := newTable(c.Out, "VERSION", "STATE", "VERDICT", "JOB", "REPORT", "WHY")
	for _, r := range s.Runs {
		t.row(r.Version, string(r.State), r.Verdict, r.Job, r.Evidence, r.Why)
	}
	t.done()
}

// notDone is said of a job that did not come to its end.
func notDone(j job.Job) error {
	return fmt.Errorf("%s; take it up again with: innerladder job resume %s", j.Says(), j.ID)
}
