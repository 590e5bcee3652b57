package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"innerladder/internal/core/check"
	"innerladder/internal/core/job"
	"innerladder/internal/wire"
)

// checkCommands ask versions what must come back.
func checkCommands() []command {
	return []command{
		{
			name: "check", group: "Prove", arguments: "REF|ENDPOINT [FILE]", least: 1, most: 2,
			summary: "Ask a version where it is deployed what must come back: its known answers, and the cases in a " +
				"YAML file, or those of its model; the report (JUnit XML) becomes evidence. Exits 3 when something " +
				"is not as it must be",
			example: "innerladder check heat-demand@2 cases.yaml -env workbench\n" +
				"innerladder check heat-demand@2 -o checks.xml\n" +
				"  base: {hour: 7, weekday: 1, mix: harbour}\n" +
				"  cases:\n" +
				"    - {name: a cold morning, inputs: {outdoor_c: -10}, between: {demand_mw: [0.5, 4]}}\n" +
				"    - {name: colder means more, falls_with: {outdoor_c: [-10, 0, 10]}}\n" +
				"    - {name: small changes of the sun at night change nothing, inputs: {hour: 2}, unmoved_by: " +
				"{solar_wm2: [0, 1]}, tolerance: 0.05}\n" +
				"    - {name: a text is no temperature, inputs: {outdoor_c: warm}, refused: true}\n" +
				"    - {name: quick, within: 200ms}",
			setup: checkVersion,
		},
		{
			name: "cases", group: "Prove", arguments: "MODEL [FILE]", least: 1, most: 2,
			summary: "Set what every version of a model must answer, from a YAML file; with a model alone, show it",
			example: "innerladder cases heat-demand cases.yaml -why \"after the cold snap\"\n" +
				"innerladder cases heat-demand",
			setup: setCases,
		},
		{
			name: "cases remove", group: "Prove", arguments: "MODEL", least: 1, most: 1,
			summary: "Take the cases of a model away",
			example: "innerladder cases remove heat-demand -why \"no plant\"",
			setup: asksWhy(func(ctx context.Context, c *call, why string) (check.Kept, error) {
				return c.api.RemoveCases(ctx, c.args[0], why)
			}, func(w io.Writer, k check.Kept) { fmt.Fprintf(w, "the cases of %s are taken away\n", k.Model) }),
		},
	}
}

func checkVersion(c *call) func(context.Context) error {
	c.connect()
	var in wire.NewCheck
	c.flags.StringVar(&in.Environment, "env", "", "`ENVIRONMENT` where it is placed; the only one when not given")
	out := c.flags.String("o", "", "`FILE` to write the report to, JUnit XML")
	detach := c.flags.Bool("detach", false, "begin the job and do not wait for it")
	return func(ctx context.Context) error {
		in.Asked = c.args[0]
		text := ""
		if len(c.args) == 2 {
			b, err := os.ReadFile(c.args[1])
			if err != nil {
				return err
			}
			if text = string(b); strings.TrimSpace(text) == "" {
				return wrongUse("%s is empty", c.args[1])
			}
			in.Name = filepath.Base(c.args[1])
		}
		j, err := c.api.Check(ctx, in, strings.NewReader(text))
		j, ended, err := c.begun(ctx, j, err, *detach)
		if err != nil || !ended {
			return err
		}
		if *out != "" && j.State == job.Done {
			if err := c.writeReport(ctx, j.Report(), *out); err != nil {
				return err
			}
		}
		return c.reported(ctx, j)
	}
}

// writeReport writes the file of a report.
func (c *call) writeReport(ctx context.Context, id, file string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	if err := c.api.ReportFile(ctx, id, f); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

func setCases(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT`: why")
	return func(ctx context.Context) error {
		if len(c.args) == 1 {
			k, err := c.api.Cases(ctx, c.args[0])
			return c.show(k, err, func() {
				fmt.Fprint(c.Out, strings.TrimRight(k.Text, "\n")+"\n")
				c.say("%s, %d cases, set by %s, %s", k.ID(), k.Count, k.By, moment(k.SetAt))
			})
		}
		b, err := os.ReadFile(c.args[1])
		if err != nil {
			return err
		}
		k, err := c.api.SetCases(ctx, c.args[0], string(b), *why)
		return c.show(k, err, func() {
			fmt.Fprintf(c.Out, "%s: versions of %s must answer %d cases\n", k.ID(), k.Model, k.Count)
			c.say("ask one with: innerladder check %s@NUMBER", k.Model)
		})
	}
}
