package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"innerladder/internal/wire"
)

// explainCommand says which inputs moved a prediction.
func explainCommand() []command {
	return []command{{
		name: "explain", group: "Prove", arguments: "ENDPOINT|REF [INPUT=VALUE …]", least: 1, most: -1,
		summary: "Say which inputs moved the prediction of a version for one row, by how much, and how sure that is: " +
			"against rows drawn from its reference profile, whatever serves it; several versions side by side",
		example: "innerladder explain heat-demand@2 outdoor_c=-12 mix=harbour\n" +
			"innerladder explain demand-hourly -versions heat-demand@2,heat-demand@3 outdoor_c=-12\n" +
			"innerladder explain valve-check -request row.json -pairs 500",
		setup: explain,
	}}
}

func explain(c *call) func(context.Context) error {
	c.connect()
	var in wire.ExplainVersions
	asks := c.tryFlags(&in.TryVersions)
	c.flags.StringVar(&in.Output, "output", "", "`OUTPUT` that is explained; the first when not given; of a list, its "+
		"largest number")
	c.flags.IntVar(&in.Pairs, "pairs", 0, "`N` orders of the inputs that are drawn, each forwards and backwards; the "+
		"error shrinks with their root; 100 when not given")
	return func(ctx context.Context) error {
		if err := asks(ctx); err != nil {
			return err
		}
		out, err := c.api.ExplainVersions(ctx, in)
		return c.show(out, err, func() { printExplained(c.Out, out) })
	}
}

func printExplained(w io.Writer, e wire.Explained) {
	heads := []string{"INPUT", "VALUE"}
	for _, v := range e.Items {
		fmt.Fprintf(w, "%s gives %.6g for %s; on the average of its background %.4g ± %.2g\n", v.Version, v.Value,
			v.Output, v.Base, v.BaseError)
		heads = append(heads, v.Version, "")
	}
	fmt.Fprintln(w)
	order := make([]int, len(e.Inputs))
	for i := range order {
		order[i] = i
	}
	// By the first version, what moved it most first.
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Compare(math.Abs(e.Items[0].Moved[b].By), math.Abs(e.Items[0].Moved[a].By))
	})
	t := newTable(w, heads...)
	for _, i := range order {
		row := []string{e.Inputs[i].Name, string(e.Inputs[i].Value)}
		for _, v := range e.Items {
			m := v.Moved[i]
			sure := ""
			switch {
			case m.By == 0 && m.Error == 0:
				sure = "does not matter"
			case math.Abs(m.By) <= m.Error:
				sure = "not sure which way"
			}
			row = append(row, fmt.Sprintf("%+.4g ± %.2g", m.By, m.Error), sure)
		}
		t.row(row...)
	}
	t.done()
	if len(e.Fixed) > 0 {
		fmt.Fprintf(w, "kept as they are, because no reference profile has them: %s\n", strings.Join(e.Fixed, ", "))
	}
}
