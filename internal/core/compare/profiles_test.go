package compare

import (
	"math/rand/v2"
	"slices"
	"testing"

	"innerladder/internal/core/profile"
	"innerladder/internal/core/signature"
)

// profileOf profiles rows of a number and a level.
func profileOf(t *testing.T, n int, row func(i int) (float64, string)) *profile.Profile {
	t.Helper()
	p := profile.NewProfiler(nil)
	for i := range n {
		x, level := row(i)
		if err := p.Add([]string{"x", "mix"},
			[][]signature.Cell{{
				{Kind: signature.NumberCell, Number: x},
				{Kind: signature.TextCell, Text: level},
			}}); err != nil {
			t.Fatal(err)
		}
	}
	return p.Profile([]string{"x"})
}

func TestProfilesAgainstOneAnother(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	levels := []string{"works", "harbour"}
	same := func(int) (float64, string) { return r.NormFloat64(), levels[r.IntN(2)] }
	a, b := profileOf(t, 3000, same), profileOf(t, 2000, same)
	moved := profileOf(t, 2000, func(int) (float64, string) {
		return r.NormFloat64()*1.8 + 32,
			levels[min(1, r.IntN(10))]
	})
	got := OfProfiles("m@1", "m@2", a, b)
	if got.FromRows != 3000 || got.ToRows != 2000 || len(got.Columns) != 2 {
		t.Fatalf("%+v", got)
	}
	for _, c := range got.Columns {
		if c.Movement.Verdict != "steady" || c.To.Seen() != 2000 || !c.To.Bins.Equal(c.From.Bins) {
			t.Errorf("%s: %+v", c.Name, c.Movement)
		}
	}
	got = OfProfiles("m@1", "m@3", a, moved)
	if got.Columns[0].Name != "x" || got.Columns[0].Movement.Verdict != "moved" ||
		got.Columns[1].Movement.Verdict != "moved" {
		t.Errorf("%+v", got.Columns)
	}
	delete(moved.Columns, "mix")
	moved.Columns["wind"] = moved.Columns["x"]
	got = OfProfiles("m@1", "m@3", a, moved)
	if !slices.Equal(got.OnlyFrom, []string{"mix"}) || !slices.Equal(got.OnlyTo, []string{"wind"}) {
		t.Errorf("only in one: %v, %v", got.OnlyFrom, got.OnlyTo)
	}
	// A column that is text on one side and numbers on the other cannot be compared.
	moved.Columns["mix"] = moved.Columns["x"]
	if got = OfProfiles("m@1", "m@3", a, moved); len(got.Columns) != 1 {
		t.Errorf("%+v", got.Columns)
	}
}
