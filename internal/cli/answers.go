package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"

	"innerladder/internal/core/answers"
)

func answerCommands() []command {
	return []command{{
		name: "answers", group: "Places", arguments: "REF",
		summary: "Show what a version must answer, by which every address proves what it runs; or confirm what it " +
			"answered when it was placed",
		least: 1, most: 1,
		example: "innerladder answers heat-demand@2 -confirm -env workbench -why \"checked by hand against the " +
			"notebook\"",
		setup: knownAnswers,
	}}
}

func knownAnswers(c *call) func(context.Context) error {
	c.connect()
	confirm := c.flags.Bool("confirm", false, "what it answered to the sample request when it was placed is right: it "+
		"must answer so from now on")
	env := c.flags.String("env", "", "`ENVIRONMENT` where it was placed, with -confirm")
	why := c.flags.String("why", "", "`TEXT`: how you know, with -confirm; needed then")
	return func(ctx context.Context) error {
		if *confirm {
			if *env == "" {
				return wrongUse("no environment is given; use -env")
			}
			v, err := c.api.ConfirmAnswers(ctx, c.args[0], *env, *why)
			return c.show(v.KnownAnswers, err, func() { printAnswers(c.Out, v.KnownAnswers) })
		}
		v, err := c.api.Version(ctx, c.args[0])
		if err != nil {
			return err
		}
		if v.KnownAnswers != nil || *c.json {
			return c.show(v.KnownAnswers, nil, func() { printAnswers(c.Out, v.KnownAnswers) })
		}
		return c.heard(ctx, v.Ref)
	}
}

// heard shows what a version answered where it is placed, for somebody to confirm.
func (c *call) heard(ctx context.Context, ref string) error {
	places, err := c.api.Placements(ctx, ref)
	if err != nil {
		return err
	}
	c.say("no answers of %s are known; register it again with -answers: the same content takes them", ref)
	for _, p := range places.Items {
		if p.Heard == nil {
			continue
		}
		c.say("when it was placed in %s it answered this; if it is right, say so with -confirm -env %s -why REASON",
			p.Environment, p.Environment)
		printAnswers(c.Out, &answers.Known{Cases: []answers.Case{*p.Heard}})
	}
	return nil
}

func printAnswers(w io.Writer, k *answers.Known) {
	t := newTable(w, "ANSWER", "ASKED", "MUST ANSWER")
	for i, k := range k.Cases {
		asked, must := string(k.Request), compact(k.Outputs)
		if len(k.Request) == 0 {
			asked = compact(k.Inputs)
		}
		t.row(strconv.Itoa(i+1), short(asked, 100), short(must, 80))
	}
	t.done()
	if k.Origin != "" {
		fmt.Fprintf(w, "\n%s by %s, %s; a number may be off by %g and a hundred-thousandth of itself\n", k.Origin, k.By,
			moment(k.At), k.Tolerance)
	}
}

// compact is a value as JSON in one line.
func compact(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(b)
}
