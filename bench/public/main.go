// Public looks for drift in data that nobody here made: a table with dates, cut by time. The first part of it is the
// reference, the rest comes as traffic would, row after row, past the watches and beside the drift page's figures.
//
//	go run ./bench/public -date "Flight Date" birdstrikes.csv
package main

import (
	"cmp"
	"flag"
	"fmt"
	"hash/fnv"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/watch"
	"innerladder/internal/intake"
)

// row is one row of the table, with its date.
type row struct {
	at     time.Time
	values map[string]any
}

// read reads the rows of a table in the order of their dates.
func read(file, date string) ([]row, error) {
	var out []row
	err := intake.EachRowOf(file, map[string]bool{date: true}, func(_ int, values map[string]any) error {
		text, _ := values[date].(string)
		at, err := time.Parse(time.DateOnly, text[:min(len(text), 10)])
		if err != nil {
			return fmt.Errorf("%q is no date", text)
		}
		delete(values, date)
		out = append(out, row{at, values})
		return nil
	})
	slices.SortStableFunc(out, func(a, b row) int { return a.at.Compare(b.at) })
	return out, err
}

// binsOf are the bins of each column of some rows.
func binsOf(rows []row) map[string]sketch.Bins {
	numbers, all := map[string][]float64{}, map[string][]any{}
	for _, r := range rows {
		for name, v := range r.values {
			all[name] = append(all[name], v)
			if x, is := v.(float64); is {
				numbers[name] = append(numbers[name], x)
			}
		}
	}
	out := map[string]sketch.Bins{}
	for name, values := range all {
		if len(numbers[name]) == len(values) {
			out[name] = sketch.EqualFrequency(numbers[name], 20)
		} else {
			out[name] = sketch.BinsOfValues(values)
		}
	}
	return out
}

// contentOf counts rows, and says how many of them were not known.
func contentOf(rows []row, bins map[string]sketch.Bins, known map[uint64]bool) (c sketch.Content, fresh uint64) {
	c = sketch.Content{Rows: uint64(len(rows)), Bodies: uint64(len(rows)), Inputs: map[string]*sketch.Column{}}
	for name, b := range bins {
		c.Inputs[name] = sketch.NewColumn(b)
	}
	for _, r := range rows {
		h := fnv.New64a()
		for _, name := range slices.Sorted(maps.Keys(bins)) {
			c.Inputs[name].AddValue(r.values[name])
			fmt.Fprintf(h, "%v|", r.values[name])
		}
		sum := h.Sum64() * 0x9e3779b97f4a7c15
		c.Distinct.AddHash(sum)
		if !known[sum] {
			fresh++
		}
		known[sum] = true
	}
	return c, fresh
}

const (
	// look is how many rows come in a look, long by how many fresh ones a distribution is judged.
	look, long = 25, 500
)

func main() {
	date := flag.String("date", "date", "`COLUMN` with the date of a row")
	part := flag.Float64("reference", 0.3, "`SHARE` of the rows, the earliest, that are the reference")
	flag.Parse()
	rows, err := read(flag.Arg(0), *date)
	if err != nil || len(rows) < 1000 {
		fmt.Fprintf(os.Stderr, "%d rows: %v\n", len(rows), err)
		os.Exit(1)
	}
	cut := int(*part * float64(len(rows)))
	bins := binsOf(rows[:cut])
	reference, _ := contentOf(rows[:cut], bins, map[uint64]bool{})
	fmt.Printf("%d rows; the reference is the first %d, %s to %s\n\n", len(rows), cut,
		rows[0].at.Format(time.DateOnly), rows[cut-1].at.Format(time.DateOnly))
	byYear(rows[cut:], bins, &reference)
	watched(rows[cut:], bins, &reference)
}

// byYear prints how far each column was in each year, as the drift page says it.
func byYear(rows []row, bins map[string]sketch.Bins, reference *sketch.Content) {
	years := map[int][]row{}
	for _, r := range rows {
		years[r.at.Year()] = append(years[r.at.Year()], r)
	}
	for _, year := range slices.Sorted(maps.Keys(years)) {
		c, _ := contentOf(years[year], bins, map[uint64]bool{})
		items, _ := compare.Against(
			compare.Span{Whole: reference.Inputs, Distinct: reference.Distinct.Count()},
			compare.Span{Whole: c.Inputs, Distinct: c.Distinct.Count()}, drift.DefaultNeed)
		var parts []string
		for _, d := range items {
			if v := d.Movement.Verdict; v == drift.Moved || v == drift.Look {
				parts = append(parts, fmt.Sprintf("%s %s %.2f", d.Column, v, d.Movement.Effect()))
			}
		}
		fmt.Printf("%d, %4d rows: %s\n", year, len(years[year]), cmp.Or(strings.Join(parts, "; "), "nothing moved"))
	}
	fmt.Println()
}

// watched sends the rows past the watches that every endpoint has, and prints when one fires.
func watched(rows []row, bins map[string]sketch.Bins, reference *sketch.Content) {
	var w watch.Watched
	known := map[uint64]bool{}
	var far sketch.Content
	var farFresh uint64
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	missing := map[string]float64{}
	for name, c := range reference.Inputs {
		missing[name] = float64(c.Missing) / float64(max(1, c.Total()))
	}
	usual := &watch.Usual{Inputs: reference.Inputs, Missing: missing}
	for i := 0; i+look <= len(rows); i += look {
		c, fresh := contentOf(rows[i:i+look], bins, known)
		far.Merge(&c)
		farFresh += fresh
		s := &watch.Seen{
			All: watch.Part{Counts: sketch.Counts{Requests: look}}, Took: watch.Every, Content: c, Fresh: fresh,
		}
		if farFresh >= long {
			s.Long, s.LongFresh = &far, farFresh
		}
		at = at.Add(watch.Every)
		before := map[string]bool{}
		for name, st := range w.Stands {
			before[name] = st.State == watch.Firing
		}
		w.Step(&watch.Set{}, s, usual, at)
		for _, name := range slices.Sorted(maps.Keys(w.Stands)) {
			if st := w.Stands[name]; st.State == watch.Firing && !before[name] {
				fmt.Printf("%s, row %4d: %s fires: %s\n", rows[i+look-1].at.Format(time.DateOnly), i+look, name,
					st.Sentence)
			}
		}
		if s.Long != nil {
			far, farFresh = sketch.Content{}, 0
		}
	}
	for _, st := range w.List() {
		if st.State == watch.NotEnough {
			fmt.Printf("not told of: %s: %s\n", st.Signal, st.Sentence)
		}
	}
}
