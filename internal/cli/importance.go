package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"strings"

	"innerladder/internal/core/evidence"
	coreexplain "innerladder/internal/core/explain"
	"innerladder/internal/core/job"
	"innerladder/internal/wire"
)

// importanceCommand finds out on which inputs a version relies.
func importanceCommand() []command {
	return []command{{
		name: "importance", group: "Prove", arguments: "REF|ENDPOINT [FILE]", least: 1, most: 2,
		summary: "Find out on which inputs a version relies, over the rows of a table: by how much its predictions " +
			"move and its error rises when an input has the values of other rows, and how predictions go with each " +
			"input. The report becomes evidence",
		example: "innerladder importance heat-demand@2 winter.csv -target demand_mw\n" +
			"innerladder importance valve-fault@1 -data valves#1 -target fault -class leaking\n" +
			"innerladder importance return-forecast winter.parquet -rows 2000 -rounds 20",
		setup: importance,
	}}
}

func importance(c *call) func(context.Context) error {
	c.connect()
	var in wire.NewImportance
	c.scoringFlags(&in.NewScoring)
	c.flags.StringVar(&in.Target, "target", "", "`COLUMN` with the truth; without it the importance is how far "+
		"predictions move")
	c.flags.StringVar(&in.Output, "output", "", "`OUTPUT` that is explained; the one named as the target, or the "+
		"first, when not given")
	c.flags.StringVar(&in.Class, "class", "", "`CLASS` that is looked at as an input moves; the most frequent when "+
		"not given")
	c.flags.IntVar(&in.Rows, "rows", 0, fmt.Sprintf("`N` rows drawn of the table; %d when not given",
		coreexplain.UsualRows))
	c.flags.IntVar(&in.Rounds, "rounds", 0, fmt.Sprintf("`N` times that each input is shuffled; %d when not given",
		coreexplain.UsualRounds))
	detach := c.flags.Bool("detach", false, "begin the job and do not wait for it")
	return func(ctx context.Context) error {
		j, ended, err := c.runJob(ctx, &in.NewScoring, *detach, func(table io.Reader) (job.Job, error) {
			return c.api.Importance(ctx, in, table)
		})
		if err != nil || !ended {
			return err
		}
		return c.reported(ctx, j)
	}
}

// printImportance shows on which inputs a version relies, those that matter most first.
func printImportance(w io.Writer, r *evidence.ImportanceReport) {
	unit := cmp.Or(r.Unit, "of "+r.Output)
	if r.Class != "" {
		unit = "shares of the rows"
	}
	heads := []string{"INPUT", "PREDICTIONS MOVE BY"}
	if r.Loss != nil {
		fmt.Fprintf(w, "%s is %.4g for the rows as they are\n", r.Measure, *r.Loss)
		heads = append(heads, strings.ToUpper(r.Measure)+" RISES BY")
	}
	low, high := math.Inf(1), math.Inf(-1)
	claimed := false
	for _, in := range r.Inputs {
		for _, y := range in.Mean {
			low, high = math.Min(low, y), math.Max(high, y)
		}
		claimed = claimed || in.Claimed != nil
	}
	if claimed {
		heads = append(heads, "CLAIMED")
	}
	fmt.Fprintln(w)
	t := newTable(w, append(heads, strings.ToUpper(r.Output), "AT")...)
	for _, in := range r.Inputs {
		row := []string{in.Input, "not answered"}
		if in.Rows > 0 {
			row[1] = withHalf(in.Moves)
		}
		if r.Loss != nil {
			loss := ""
			if in.Loss != nil && in.Rows > 0 {
				loss = withHalf(*in.Loss)
			}
			row = append(row, loss)
		}
		if claimed {
			said := ""
			if in.Claimed != nil {
				said = fmt.Sprintf("%.3g", *in.Claimed)
			}
			row = append(row, said)
		}
		at := ""
		if n := len(in.At); n > 0 {
			at = fmt.Sprintf("%v … %v", in.At[0], in.At[n-1])
		}
		t.row(append(row, bars(in.Mean, low, high), at)...)
	}
	t.done()
	fmt.Fprintf(w, "moves are in %s; ± is half the interval of 95 %%; the curve is the mean prediction", unit)
	if r.Class != "" {
		fmt.Fprintf(w, ", the share of %s,", r.Class)
	}
	fmt.Fprintf(w, " as the input moves and all else stays, from %.3g to %.3g\n", low, high)
	if j := r.Judged; j != nil {
		left := ""
		if r.LeftOut > 0 {
			left = fmt.Sprintf(", %d of them left out without an answer or truth", r.LeftOut)
		}
		fmt.Fprintf(w, "%d rows of %s (sha256 %.12s)%s, each input shuffled %d times, in %s, by %s\n", r.Rows,
			cmp.Or(r.Data, j.Table), j.Digest, left, r.Rounds, j.Job, j.By)
	}
}

func withHalf(b evidence.Between) string {
	return fmt.Sprintf("%.3g ± %.2g", b.Value, (b.High-b.Low)/2)
}
