package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/evidence"
	"innerladder/internal/wire"
)

// robustnessCommand tests the robustness of a version.
func robustnessCommand() []command {
	return []command{{
		name: "robustness", group: "Prove", arguments: "REF|ENDPOINT", least: 1, most: 1,
		summary: "Ask a version when things are not as they should be: missing values, the ends of the reference " +
			"profile and beyond, unknown levels, noise, other units, larger batches, many requests at once; say what " +
			"breaks, what moves and what only slows. The report becomes evidence. Exits 3 when " +
			"it does not pass",
		example: "innerladder robustness heat-demand@3 -env workbench\n" +
			"innerladder robustness heat-demand@3 -like @2 -rows 200\n" +
			"innerladder robustness valve-fault@2 -at-most noise=0.1,missing=0.5",
		setup: robustness,
	}}
}

func robustness(c *call) func(context.Context) error {
	c.connect()
	var in wire.NewRobustness
	c.flags.StringVar(&in.Environment, "env", "", "`ENVIRONMENT` where it is placed; the only one when not given")
	c.flags.StringVar(&in.Like, "like", "", "`REF` of the version from whose reference profile rows are drawn; when "+
		"not given, who answers callers now, else itself")
	c.flags.IntVar(&in.Rows, "rows", 0, "`N` rows that are drawn, and asked in every disturbance; 60 when not given")
	c.flags.StringVar(&in.Output, "output", "", "`OUTPUT` that is looked at; the first when not given")
	c.flags.StringVar(&in.AtMost, "at-most", "", "`LIMITS` beside those that hold anyway, or in their place, such as "+
		"noise=0.2,beyond=3; of "+strings.Join(evidence.RobustnessMeasures(), ", "))
	c.flags.BoolVar(&in.Answering, "answering", false, "also where callers are answered by it, whom that may disturb")
	detach := c.flags.Bool("detach", false, "begin the job and do not wait for it")
	return func(ctx context.Context) error {
		in.Asked = c.args[0]
		j, err := c.api.Robustness(ctx, in)
		j, ended, err := c.begun(ctx, j, err, *detach)
		if err != nil || !ended {
			return err
		}
		return c.reported(ctx, j)
	}
}

// ofInputs are the disturbances of single inputs, in the order in which they are shown.
var ofInputs = []evidence.Disturbance{
	evidence.DisturbanceLowest, evidence.DisturbanceHighest, evidence.DisturbanceBelow, evidence.DisturbanceAbove,
	evidence.DisturbanceNoise, evidence.DisturbanceMissing, evidence.DisturbanceLeftOut, evidence.DisturbanceUnknown,
	evidence.DisturbanceUnit,
}

// printRobustness shows what came of disturbances: what counts against the version, then all inputs by all
// disturbances.
func printRobustness(w io.Writer, r *evidence.RobustnessReport) {
	if r.Why != "" {
		fmt.Fprintf(w, "%d of %d usual rows got no prediction: %s\n", r.Refused+r.Broke, r.Rows, r.Why)
	}
	if r.Off != nil {
		fmt.Fprintf(w, "as they are, rows get predictions %.2g away from the reference profile\n", *r.Off)
	}
	for i := range r.Tried {
		if t := &r.Tried[i]; t.Fault {
			fmt.Fprintf(w, "  %s  %s\n", t.Verdict, t.Says())
		}
	}
	fmt.Fprintln(w)
	printDisturbances(w, r)
	fmt.Fprintln(w)
	for i := range r.Tried {
		t := &r.Tried[i]
		if t.Input != "" {
			continue
		}
		said := ""
		switch {
		case t.Moved != nil:
			said = fmt.Sprintf(", predictions move by %.2g", *t.Moved)
		case t.Slower != nil:
			said = fmt.Sprintf(", %.2g times as long for a row as one by one", *t.Slower)
		}
		fmt.Fprintf(w, "%s: %s; %d of %d answered%s\n", t.What, t.Verdict, t.Answered, t.Rows, said)
	}
	if len(r.Kept) > 0 {
		fmt.Fprintf(w, "kept as in the sample, because no reference profile has them: %s\n", strings.Join(r.Kept, ", "))
	}
	if j := r.Judged; j != nil {
		fmt.Fprintf(w, "%d rows like those of %s, asked of %s in %s, in %s, by %s\n", r.Rows, r.Like, j.Version,
			cmp.Or(r.Environment, "a process of its own"), j.Job, j.By)
	}
}

// printDisturbances shows how far each input moves predictions in each disturbance, or what else came of it.
func printDisturbances(w io.Writer, r *evidence.RobustnessReport) {
	heads := []string{"INPUT"}
	for _, t := range ofInputs {
		heads = append(heads, strings.ToUpper(t.Says()))
	}
	table := newTable(w, heads...)
	var inputs []string
	for _, t := range r.Tried {
		if t.Input != "" && !slices.Contains(inputs, t.Input) {
			inputs = append(inputs, t.Input)
		}
	}
	for _, name := range inputs {
		row := []string{name}
		for _, of := range ofInputs {
			row = append(row, cell(r.Of(of, name)))
		}
		table.row(row...)
	}
	table.done()
	unit := fmt.Sprintf("%.3g %s, the spread of its predictions", r.Spread, cmp.Or(r.Unit, "of "+r.Output))
	if r.Classes {
		unit = "shares of the rows whose class is another"
	}
	fmt.Fprintf(w, "numbers say how far predictions move: in %s\n", unit)
}

// cell is what came of a disturbance of an input, or of several, from the least to the most.
func cell(all []evidence.Disturbed) string {
	low, high := math.Inf(1), 0.0
	for _, t := range all {
		switch {
		case t.Verdict == evidence.Breaks, t.Verdict == evidence.Misreads:
			return t.Verdict
		case t.Answered == 0:
			return t.Verdict
		case t.Moved != nil:
			low, high = math.Min(low, *t.Moved), math.Max(high, *t.Moved)
		}
	}
	switch {
	case math.IsInf(low, 1):
		return ""
	case len(all) == 1 || low == high:
		return far(low)
	}
	return far(low) + "–" + far(high)
}

// far writes how far predictions moved: two digits, and no powers of ten.
func far(x float64) string {
	if x >= 10 {
		return fmt.Sprintf("%.0f", x)
	}
	return fmt.Sprintf("%.2g", x)
}
