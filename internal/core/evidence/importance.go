package evidence

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
)

// ImportanceReport is on which inputs a version relies, and how its predictions go with each, over the rows of a table.
type ImportanceReport struct {
	// Rows were drawn of those of the table; LeftOut got no answer, or have no truth.
	Rows    int    `json:"rows" description:"drawn from the table"`
	LeftOut int    `json:"left_out,omitempty" description:"of them without an answer, or without truth"`
	Data    string `json:"data,omitempty" description:"the data set, such as winters-2024#2"`
	Output  string `json:"output" description:"what is explained"`
	Unit    string `json:"unit,omitempty"`
	// Class is whose predictions are looked at as an input moves, where predictions are classes.
	Class string `json:"class,omitempty" description:"the class that is looked at as an input moves"`
	// Measure is the error that rises, mae or error_rate; Loss is what it is for the rows as they are.
	Measure string   `json:"measure,omitempty" enum:"mae,error_rate" description:"the error that rises"`
	Loss    *float64 `json:"loss,omitempty" description:"that error for the rows as they are"`
	Rounds  int      `json:"rounds" description:"how often each input was shuffled"`
	// Inputs are those that matter most first.
	Inputs []InputImportance `json:"importances"`
	Judged *Judged           `json:"judged,omitempty"`
}

// InputImportance is what is known of one input.
type InputImportance struct {
	Input string `json:"input"`
	Unit  string `json:"unit,omitempty"`
	// Rows were answered with values of other rows, each time; with none, nothing is known of the input.
	Rows int `json:"rows" description:"answered with values of other rows, each time"`
	// Moves is by how much predictions are others with values of other rows; Loss by how much the error rises.
	Moves Between  `json:"moves" description:"mean absolute difference of predictions; of classes, the share"`
	Loss  *Between `json:"loss,omitempty" description:"by how much the error rises"`
	// Claimed is what was said at registration.
	Claimed *float64 `json:"claimed,omitempty" description:"what was said at registration"`
	// At are the values at which it was looked at, numbers or levels; the others have one number for each.
	At     []any       `json:"at,omitempty" description:"values, numbers or levels, at which predictions were found"`
	Mean   []float64   `json:"mean,omitempty" description:"the mean prediction at each value; of classes, the share"`
	Low    []float64   `json:"low,omitempty" description:"a tenth of the rows lies below"`
	High   []float64   `json:"high,omitempty" description:"a tenth of the rows lies above"`
	Curves [][]float64 `json:"curves,omitempty" description:"predictions for single rows at each value"`
}

// Sentence is the report in words.
func (r *ImportanceReport) Sentence() string {
	says := fmt.Sprintf("on %d rows predictions surely move with no input", r.Rows)
	if most := r.most(func(i InputImportance) *Between { return &i.Moves }); len(most) > 0 {
		says = fmt.Sprintf("on %d rows predictions move most with %s", r.Rows, strings.Join(most, ", "))
	}
	if r.Loss != nil {
		if rises := r.most(func(i InputImportance) *Between { return i.Loss }); len(rises) > 0 {
			says += fmt.Sprintf("; %s rises most with %s", r.Measure, strings.Join(rises, ", "))
		} else {
			says += fmt.Sprintf("; %s surely rises with none", r.Measure)
		}
	}
	var idle, unanswered []string
	for _, i := range r.Inputs {
		switch {
		case i.Rows == 0:
			unanswered = append(unanswered, i.Input)
		case i.Moves.Value == 0:
			idle = append(idle, i.Input)
		}
	}
	return says + some("no effect", idle) + some("not answered with values of other rows", unanswered)
}

// some names a few of several inputs.
func some(what string, names []string) string {
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("; %s: %s", what, strings.Join(names[:min(len(names), mostInWords)], ", "))
}

// most are the inputs of which a figure is surely above 0, the largest first.
func (r *ImportanceReport) most(of func(InputImportance) *Between) (names []string) {
	var all []InputImportance
	for _, i := range r.Inputs {
		if b := of(i); b != nil && b.Low > 0 {
			all = append(all, i)
		}
	}
	slices.SortStableFunc(all, func(a, b InputImportance) int { return cmp.Compare(of(b).Value, of(a).Value) })
	for _, i := range all[:min(len(all), mostInWords)] {
		names = append(names, i.Input)
	}
	return names
}

func readImportance(in io.Reader) (Findings, string, error) {
	var r ImportanceReport
	if err := readJSONReport(in, ImportanceKind, &r); err != nil {
		return Findings{}, "", err
	}
	if r.Rows < 1 || len(r.Inputs) == 0 {
		return Findings{}, "", invalidReport(ImportanceKind, "there are %d rows and %d inputs", r.Rows, len(r.Inputs))
	}
	for _, i := range r.Inputs {
		for _, x := range slices.Concat([][]float64{i.Mean, i.Low, i.High}, i.Curves) {
			if len(x) != len(i.At) {
				return Findings{}, "", invalidReport(ImportanceKind, "%s has %d numbers at %d values", i.Input, len(x),
					len(i.At))
			}
		}
	}
	return Findings{Importance: &r, Says: r.Sentence()}, Unjudged, nil
}
