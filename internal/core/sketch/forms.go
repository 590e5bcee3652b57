package sketch

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// mostForms bounds how many forms are counted: what a model server calls its outputs is its own.
const mostForms = 64

// Form is an output as an answer has it: a name with a datatype.
type Form struct{ Name, Datatype string }

// Forms count in how many answers each form was. They tell an output that is not there, or is of
// another type, which distributions of values cannot.
type Forms struct {
	// Answers is how many answers were looked at.
	Answers uint64
	counts  map[Form]uint64
}

// Add takes note of the outputs of one answer.
func (f *Forms) Add(outputs []Form) {
	f.Answers++
	for i, o := range outputs {
		if !slices.Contains(outputs[:i], o) {
			f.add(o, 1)
		}
	}
}

// AddMany takes note that so many answers had a form; how many answers there were is told in Answers.
func (f *Forms) AddMany(o Form, n uint64) { f.add(o, n) }

func (f *Forms) add(o Form, n uint64) {
	if f.counts == nil {
		f.counts = map[Form]uint64{}
	}
	if _, there := f.counts[o]; !there {
		if len(f.counts) >= mostForms {
			return
		}
		// What is kept must not hold on to the answer that it was read from.
		o = Form{strings.Clone(o.Name), strings.Clone(o.Datatype)}
	}
	f.counts[o] += n
}

// Of is in how many answers a form was.
func (f *Forms) Of(o Form) uint64 { return f.counts[o] }

// All lists the forms that were seen, by name and datatype.
func (f *Forms) All() []Form {
	return slices.SortedFunc(maps.Keys(f.counts), func(a, b Form) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Datatype, b.Datatype))
	})
}

// Merge adds everything counted in o.
func (f *Forms) Merge(o *Forms) {
	f.Answers += o.Answers
	for _, form := range o.All() {
		f.add(form, o.counts[form])
	}
}

// AppendBinary appends the counts.
func (f *Forms) AppendBinary(b []byte) []byte {
	b = binary.AppendUvarint(append(b, binaryForm), f.Answers)
	for _, o := range f.All() {
		for _, text := range []string{o.Name, o.Datatype} {
			b = appendText(b, text)
		}
		b = binary.AppendUvarint(b, f.counts[o])
	}
	return b
}

// MergeBinary adds everything counted in what AppendBinary wrote.
func (f *Forms) MergeBinary(b []byte) error {
	r := readBinary(b, binaryForm)
	f.Answers += r.uint()
	for r.err == nil && len(r.b) > 0 {
		o := Form{Name: r.text(), Datatype: r.text()}
		if n := r.uint(); r.err == nil {
			f.add(o, n)
		}
	}
	if r.err != nil {
		return fmt.Errorf("reading forms of answers: %w", r.err)
	}
	return nil
}

// text reads a text with its length before it.
func (r *binaryReader) text() string {
	n := r.uint()
	if n > uint64(len(r.b)) {
		r.err, r.b = errCut, nil
		return ""
	}
	s := string(r.b[:n])
	r.b = r.b[n:]
	return s
}
