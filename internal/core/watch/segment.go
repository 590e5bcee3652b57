package watch

import (
	"fmt"
	"slices"

	"innerladder/internal/core/signature"
)

// leastFine is of how many requests that are fine it is told how those in trouble differ from them.
const leastFine = 20

// part is a part of the requests: those whose column is as it says.
type part struct {
	words string
	has   func(inputs map[string]any) bool
}

// OneSegment says in which part of the requests nearly all that is in trouble lies, and few others do: of a level of an
// input, below or above the middle half of its numbers, or without it. Columns are those of the contract, whose levels
// everybody in the project knows.
func OneSegment(columns []signature.Column, troubled, fine []map[string]any, what string) string {
	if len(troubled) < leastTrouble || len(fine) < leastFine {
		return ""
	}
	share := func(of []map[string]any, p part) (n int, share float64) {
		for _, inputs := range of {
			if p.has(inputs) {
				n++
			}
		}
		return n, float64(n) / float64(len(of))
	}
	best, says := 0.0, ""
	for _, c := range columns {
		for _, p := range partsOf(c, fine) {
			n, here := share(troubled, p)
			_, others := share(fine, p)
			if here >= nearlyAll && others <= few && here-others > best {
				best = here - others
				says = fmt.Sprintf("%d of %d that %s %s, as %.0f %% of the others.", n, len(troubled), what, p.words,
					100*others)
			}
		}
	}
	return says
}

// partsOf are the parts of requests by a column.
func partsOf(c signature.Column, fine []map[string]any) (out []part) {
	name := c.Name
	out = append(out, part{"lack " + name, func(inputs map[string]any) bool { return inputs[name] == nil }})
	for _, level := range c.Levels {
		out = append(out, part{
			fmt.Sprintf("have %s %s", name, level), func(inputs map[string]any) bool { return inputs[name] == level },
		})
	}
	var numbers []float64
	for _, inputs := range fine {
		if x, is := inputs[name].(float64); is {
			numbers = append(numbers, x)
		}
	}
	if len(numbers) < leastFine {
		return out
	}
	slices.Sort(numbers)
	low, high := numbers[len(numbers)/4], numbers[len(numbers)*3/4]
	return append(out,
		part{fmt.Sprintf("have %s below %.4g", name, low), func(inputs map[string]any) bool {
			x, is := inputs[name].(float64)
			return is && x < low
		}},
		part{fmt.Sprintf("have %s above %.4g", name, high), func(inputs map[string]any) bool {
			x, is := inputs[name].(float64)
			return is && x > high
		}})
}
