package proof

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"innerladder/internal/core/signature"
	"innerladder/internal/intake"
)

// Classes are told by their names, also where those look like numbers or truth values.
func TestTruthsOfRows(t *testing.T) {
	r := relying{truth: []signature.Cell{
		{Kind: signature.RawCell, Text: "1"},
		{Kind: signature.NumberCell, Number: 0},
		{Kind: signature.BooleanCell, Number: 1},
		{Kind: signature.TextCell, Text: "leaking"},
		{},
	}}
	classes, numbers := r.truths(true), r.truths(false)
	if !slices.Equal(classes.Class, []string{"1", "0", "true", "leaking", ""}) ||
		!slices.Equal(classes.There, []bool{true, true, true, true, false}) {
		t.Errorf("%+v", classes)
	}
	if !slices.Equal(numbers.There, []bool{true, true, false, false, false}) || numbers.Number[0] != 1 {
		t.Errorf("%+v", numbers)
	}
}

// Rows are drawn evenly, in their order, and the same each time; of a table with fewer all are taken.
func TestRowsAreDrawnEvenly(t *testing.T) {
	file := filepath.Join(t.TempDir(), "rows.csv")
	var b strings.Builder
	b.WriteString("x\n")
	for i := range 5000 {
		b.WriteString(strconv.Itoa(i) + "\n")
	}
	if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	drawn := func(most int) (out []int) {
		t.Helper()
		table, err := intake.OpenTable("rows.csv", file)
		if err != nil {
			t.Fatal(err)
		}
		defer table.Close()
		rows, err := drawRows(table, most)
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range rows {
			out = append(out, int(row[0].Read(false).Number))
		}
		return out
	}
	some := drawn(500)
	if len(some) != 500 || !slices.IsSorted(some) || !slices.Equal(some, drawn(500)) {
		t.Fatal(some)
	}
	early := 0
	for _, x := range some {
		if x < 1250 {
			early++
		}
	}
	if early < 87 || early > 163 { // 125, by four standard deviations
		t.Errorf("%d of 500 from the first quarter", early)
	}
	if all := drawn(9000); len(all) != 5000 || all[4999] != 4999 {
		t.Errorf("%d of 5000", len(all))
	}
}
