package signature

import "slices"

// Completed is the signature with the ranges, levels and units of rows that were seen, where it
// does not say its own.
func (s *Signature) Completed(seen *Signature) *Signature {
	if seen == nil {
		return s
	}
	known := map[string]Column{}
	for _, c := range slices.Concat(seen.Inputs, seen.Outputs) {
		known[c.Name] = c
	}
	return &Signature{Inputs: completed(s.Inputs, known), Outputs: completed(s.Outputs, known)}
}

func completed(columns []Column, known map[string]Column) []Column {
	out := slices.Clone(columns)
	if out == nil {
		out = []Column{}
	}
	for i := range out {
		c := &out[i]
		k, there := known[c.Name]
		if !there || (k.Type != c.Type && !(c.Type == Number && k.Type == Integer)) {
			continue
		}
		if c.Min == nil && c.Max == nil {
			c.Min, c.Max = k.Min, k.Max
		}
		if len(c.Levels) == 0 {
			c.Levels = k.Levels
		}
		if c.Unit == "" {
			c.Unit = k.Unit
		}
		c.Nullable = c.Nullable || k.Nullable
	}
	return out
}

// TypedBy is the signature of rows that were seen, made exact by what the file of the model declares,
// completed by the rows. A file that calls its columns otherwise, as one that is fed by steps
// outside of it, tells nothing of what is served.
func (s *Signature) TypedBy(file *Signature) *Signature {
	if file == nil {
		return s
	}
	stranger := func(rows []Column) func(Column) bool {
		return func(c Column) bool { return !slices.Contains(Names(rows), c.Name) }
	}
	if slices.ContainsFunc(file.Inputs, stranger(s.Inputs)) || slices.ContainsFunc(file.Outputs, stranger(s.Outputs)) ||
		len(file.Inputs) == 0 {
		return s
	}
	whole := file.Completed(s)
	if len(whole.Outputs) == 0 {
		whole.Outputs = s.Outputs
	}
	return whole
}
