package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/job"
	"innerladder/internal/core/request"
	"innerladder/internal/wire"
)

// replayCommand asks a version again what callers asked before.
func replayCommand() []command {
	return []command{{
		name: "replay", group: "Prove", arguments: "ENDPOINT", least: 1, most: 1,
		summary: "Ask a version again what callers asked another before, from the log of requests of an endpoint, " +
			"and hold both answers side by side; the report becomes evidence. No lane counts it, and nobody acts on " +
			"it. Exits 3 when a limit is not kept",
		example: "innerladder replay demand-hourly -since yesterday -to heat-demand@3\n" +
			"innerladder replay demand-hourly -since 6h -to heat-demand@3 -at-most disagreement=0.02\n" +
			"innerladder replay demand-hourly -since 24h -to heat-demand@2 -answered-by heat-demand@1 -where " +
			"mix=harbour -rate 200",
		setup: replay,
	}}
}

func replay(c *call) func(context.Context) error {
	c.connect()
	var in wire.NewReplay
	c.flags.StringVar(&in.To, "to", "", "`REF` of the version that is asked")
	c.flags.StringVar(&in.Environment, "env", "", "`ENVIRONMENT` where it is placed; one that is placed nowhere is "+
		"started for it")
	c.flags.StringVar(&in.Since, "since", "", "`HOW` far back: a duration such as 24h, which is usual, or yesterday, "+
		"the whole day in UTC")
	from := c.flags.String("from", "", "`TIME` since which they ended, in place of -since")
	until := c.flags.String("until", "", "`TIME` before which they ended; now when not given")
	c.flags.StringVar(&in.AnsweredBy, "answered-by", "", "`REF` of who dealt with them then; the version that answers "+
		"main when not given")
	c.flags.Func("where", "`CONDITION` on an input or output, such as wind_ms<3; may be given again",
		func(s string) error {
			_, err := request.ParseCondition(s)
			in.Where = append(in.Where, s)
			return err
		})
	c.flags.IntVar(&in.Most, "most", 0, "`N` requests at most, drawn evenly; 10000 when not given")
	c.flags.Float64Var(&in.Rate, "rate", 0, "`N` requests a second at most; 50 when not given")
	c.flags.IntVar(&in.Parallel, "parallel", 0, "`N` requests under way at a time; 4 when not given")
	c.flags.Float64Var(&in.Tolerance, "tolerance", 0, "`SHARE` by which numbers may differ that agree; 0.05 when not "+
		"given")
	c.flags.StringVar(&in.AtMost, "at-most", "", "`LIMITS` of disagreement, error_rate, slower, or measures of the "+
		"truth, such as disagreement=0.02")
	c.flags.StringVar(&in.AtLeast, "at-least", "", "`LIMITS` of measures of the truth, such as accuracy=0.9")
	detach := c.flags.Bool("detach", false, "begin the job and do not wait for it")
	return func(ctx context.Context) error {
		in.Endpoint = c.args[0]
		if in.To == "" {
			return wrongUse("say with -to which version is asked")
		}
		for _, at := range []struct {
			name, text string
			into       *time.Time
		}{{"from", *from, &in.From}, {"until", *until, &in.Until}} {
			if at.text == "" {
				continue
			}
			t, err := time.Parse(time.RFC3339, at.text)
			if err != nil {
				return wrongUse("-%s is %q; write a time such as 2026-11-26T14:03:00Z", at.name, at.text)
			}
			*at.into = t
		}
		j, err := c.api.Replay(ctx, in)
		j, ended, err := c.begun(ctx, j, err, *detach)
		if err != nil || !ended {
			return err
		}
		return c.reported(ctx, j)
	}
}

// reported shows the report that a job has made.
func (c *call) reported(ctx context.Context, j job.Job) error {
	if j.State != job.Done {
		return notDone(j)
	}
	e, err := c.api.Report(ctx, j.Report())
	if err := c.show(e, err, func() { printEvidence(c.Out, e) }); err != nil {
		return err
	}
	if e.Verdict == evidence.VerdictFailed {
		return refused("%s: %s", e.ID, e.Says)
	}
	return nil
}

// printReplay shows what came of requests that were asked again.
func printReplay(w io.Writer, r *evidence.ReplayReport) {
	fmt.Fprintln(w, r.Sentence())
	for _, o := range r.Outputs {
		for _, d := range o.Classes {
			fmt.Fprintf(w, "  %s was %s and is %s in %d rows\n", o.Name, d.Was, d.Said, d.Rows)
		}
	}
	if r.FailedThen > 0 {
		fmt.Fprintf(w, "%d of them had failed before; %d of these were answered now.\n", r.FailedThen, r.Recovered)
	}
	for _, why := range slices.Sorted(maps.Keys(r.Failures)) {
		fmt.Fprintf(w, "  %d failed: %s\n", r.Failures[why], why)
	}
	printParts(w, r.Segments, "DIFFERENCE", "surely more than all")
	if t := r.Truth; t != nil && t.Against != nil {
		fmt.Fprintf(w, "\nwhere the truth is known by now\n")
		printAgainst(w, t.Against)
	}
	if j := r.Judged; j != nil {
		left := ""
		if len(r.LeftOut) > 0 {
			left = "; not asked again: " + r.LeftOutSays()
		}
		fmt.Fprintf(w, "\n%d of %d requests that %s answered for %s from %s to %s, asked of %s in %s, by %s%s\n",
			r.Replayed, r.Found, r.Against, r.Endpoint, moment(*r.From), moment(*r.Until), j.Version, j.Job, j.By, left)
	}
}

// limitsInWords writes limits, in order.
func limitsInWords(limits map[string]evidence.Limit) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(limits)) {
		l := limits[name]
		if l.AtMost != nil {
			out = append(out, fmt.Sprintf("%s at most %.4g", name, *l.AtMost))
		}
		if l.AtLeast != nil {
			out = append(out, fmt.Sprintf("%s at least %.4g", name, *l.AtLeast))
		}
	}
	return strings.Join(out, ", ")
}
