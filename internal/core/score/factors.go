package score

// Factor is a column of a table that goes into a request: a part of an input.
type Factor struct {
	Name        string
	Column      int // of the table
	Input, Part int
}

// Factors are the columns that go into requests, in the order in which they stand there.
func (f *Form) Factors(columns []string) (out []Factor) {
	for i := range f.inputs {
		for part, at := range f.inputs[i].at {
			out = append(out, Factor{columns[at], at, i, part})
		}
	}
	return out
}
