package sketch

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"
)

const (
	// mostClasses bounds how many different pairs of classes are counted of an output, longestClass how long what a
	// class is called may be: model servers choose both.
	mostClasses, longestClass = 400, 128
	// OtherClass stands for classes beyond those that are counted one by one.
	OtherClass = "other"
)

// Paired sums up how a version answered copies of requests that main has answered: whether both said the same, how
// far apart numbers were, and how their times compare. It merges exactly, but for quantiles, which keep RelativeError.
// Its zero value is empty and ready.
type Paired struct {
	// Pairs are answers that were held against main's, Disagreed of them were different.
	Pairs, Disagreed uint64
	// Dropped are copies that were not sent, because there was no room for them; Unread were answered and not
	// compared, because an answer was too large or of a form that is not taken apart.
	Dropped, Unread uint64
	// Outputs are main's, by name.
	Outputs map[string]*Difference
	// timed, logs and squares are the number, the sum and the sum of squares of the logarithm of the ratio of both
	// times.
	timed         uint64
	logs, squares float64
}

// Difference is how one output of both versions differed, row by row.
type Difference struct {
	// Rows were compared, Differing of them were different; Lacking are rows of main that the other did not give, or
	// not in the same shape or kind.
	Rows, Differing, Lacking uint64
	// Sum is the sum of the other's value less main's over rows that are one number, in the unit of the output.
	Sum float64
	// sizes are the sizes of differences of numbers, in the unit of the output: of a row with several, the largest.
	sizes Quantiles
	// sized is the exact sum of them.
	sized float64
	// classes count what main said with what the other said.
	classes map[[2]string]uint64
}

// Output is an output of one answer: its values row by row, all rows of the same length.
type Output struct {
	Name string
	Rows int
	// Data are float64, string or bool; Whole is set for numbers that are whole by their type, such as classes.
	Data  []any
	Whole bool
}

// Agree reports whether an answer says the same as main's, and takes note of it. Numbers are the same that differ by
// at most tolerance times the larger of them, in a row of several times the largest of the row; whole numbers, texts
// and truths must be equal. What only the other gives does not count.
func (p *Paired) Agree(main, other []Output, tolerance float64) bool {
	agrees := true
	for _, m := range main {
		d := p.output(m.Name)
		i := slices.IndexFunc(other, func(o Output) bool { return o.Name == m.Name })
		if i < 0 || other[i].Rows != m.Rows || len(other[i].Data) != len(m.Data) {
			agrees = false
			d.lack(m.Rows)
			continue
		}
		width := len(m.Data) / max(1, m.Rows)
		for row := range m.Rows {
			at, end := row*width, (row+1)*width
			exact := m.Whole && other[i].Whole
			if !d.row(m.Data[at:end], other[i].Data[at:end], tolerance, exact) {
				agrees = false
			}
		}
	}
	p.Pairs++
	if !agrees {
		p.Disagreed++
	}
	return agrees
}

// output is where an output is counted, nil where there are too many.
func (p *Paired) output(name string) *Difference {
	d := p.Outputs[name]
	if d == nil && len(p.Outputs) < mostForms && len(name) <= longestClass {
		if p.Outputs == nil {
			p.Outputs = map[string]*Difference{}
		}
		d = &Difference{}
		p.Outputs[strings.Clone(name)] = d
	}
	return d
}

func (d *Difference) lack(rows int) {
	if d != nil {
		d.Lacking += uint64(rows)
	}
}

// row compares one row and reports whether it is the same; d may be nil.
func (d *Difference) row(main, other []any, tolerance float64, exact bool) bool {
	var apart, largest, by float64
	same, numbers := true, true
	for i := range main {
		m, number := main[i].(float64)
		o, otherNumber := other[i].(float64)
		if !number || !otherNumber {
			numbers = false
			same = same && main[i] == other[i]
			continue
		}
		by = o - m
		apart = math.Max(apart, math.Abs(by))
		largest = math.Max(largest, math.Max(math.Abs(m), math.Abs(o)))
	}
	if exact {
		tolerance = 0
	}
	same = same && apart <= tolerance*largest
	if d == nil {
		return same
	}
	d.Rows++
	if !same {
		d.Differing++
	}
	if numbers && len(main) > 0 {
		_ = d.sizes.ensure().Add(apart) // fails only for what is no number
		d.sized += apart
		if len(main) == 1 {
			d.Sum += by
		}
	}
	if len(main) == 1 && (exact || !numbers) {
		d.class(class(main[0]), class(other[0]), 1)
	}
	return same
}

// class is what a class is called.
func class(v any) string {
	if v == nil {
		return "null"
	}
	return fmt.Sprint(v)
}

func (d *Difference) class(main, other string, n uint64) {
	key := [2]string{main, other}
	for i, s := range key {
		if len(s) > longestClass {
			s = s[:longestClass]
		}
		key[i] = strings.Clone(s)
	}
	if d.classes == nil {
		d.classes = map[[2]string]uint64{}
	}
	if _, there := d.classes[key]; !there && len(d.classes) >= mostClasses {
		if key = [2]string{OtherClass, OtherClass}; main != other {
			key[1] = "another"
		}
	}
	d.classes[key] += n
}

// Times takes note of how long main and the other took for the same request.
func (p *Paired) Times(main, other time.Duration) {
	if main <= 0 || other <= 0 {
		return
	}
	log := math.Log(float64(other) / float64(main))
	p.timed++
	p.logs += log
	p.squares += log * log
}

// Slower is how many times as long as main the other took, as the geometric mean over pairs, with the standard error
// of its logarithm; 0 where fewer than two pairs were timed.
func (p *Paired) Slower() (ratio, logError float64) {
	if p.timed < 2 {
		return 0, 0
	}
	n := float64(p.timed)
	mean := p.logs / n
	variance := math.Max(0, p.squares-n*mean*mean) / (n - 1)
	return math.Exp(mean), math.Sqrt(variance / n)
}

// Numbers is how many rows were compared as numbers.
func (d *Difference) Numbers() uint64 { return d.sizes.Count() }

// Size is the p-quantile of the sizes of differences, in the unit of the output, within RelativeError.
func (d *Difference) Size(p float64) float64 { return d.sizes.Nanoseconds(p) }

// MeanSize is the mean of the sizes of differences, in the unit of the output; 0 where there are none.
func (d *Difference) MeanSize() float64 {
	if n := d.sizes.Count(); n > 0 {
		return d.sized / float64(n)
	}
	return 0
}

// Kappa is Cohen's (1960): how much more often than by chance both give the same class, 1 for always. There is none
// where the rows were no classes, or all of one.
func (d *Difference) Kappa() (kappa float64, there bool) {
	mains, others := map[string]float64{}, map[string]float64{}
	var n, same float64
	for pair, count := range d.classes {
		c := float64(count)
		n += c
		mains[pair[0]] += c
		others[pair[1]] += c
		if pair[0] == pair[1] {
			same += c
		}
	}
	var chance float64
	for name, c := range mains {
		chance += c * others[name]
	}
	if n == 0 || chance == n*n {
		return 0, false
	}
	chance /= n * n
	return (same/n - chance) / (1 - chance), true
}

// Classes calls f with what main said, what the other said, and how often, the most frequent first.
func (d *Difference) Classes(f func(main, other string, n uint64)) {
	for _, pair := range slices.SortedFunc(maps.Keys(d.classes), func(a, b [2]string) int {
		return cmp.Or(cmp.Compare(d.classes[b], d.classes[a]), slices.Compare(a[:], b[:]))
	}) {
		f(pair[0], pair[1], d.classes[pair])
	}
}

// Empty reports whether nothing was counted.
func (p *Paired) Empty() bool { return p.Pairs+p.Dropped+p.Unread+p.timed == 0 }

// Merge adds everything counted in o.
func (p *Paired) Merge(o *Paired) {
	p.Pairs += o.Pairs
	p.Disagreed += o.Disagreed
	p.Dropped += o.Dropped
	p.Unread += o.Unread
	p.timed += o.timed
	p.logs += o.logs
	p.squares += o.squares
	for _, name := range slices.Sorted(maps.Keys(o.Outputs)) {
		if d := p.output(name); d != nil {
			d.merge(o.Outputs[name])
		}
	}
}

func (d *Difference) merge(o *Difference) {
	d.Rows += o.Rows
	d.Differing += o.Differing
	d.Lacking += o.Lacking
	d.Sum += o.Sum
	d.sized += o.sized
	d.sizes.Merge(&o.sizes)
	o.Classes(d.class)
}

// AppendBinary appends what was counted.
func (p *Paired) AppendBinary(b []byte) []byte {
	b = append(b, binaryForm)
	for _, n := range []uint64{p.Pairs, p.Disagreed, p.Dropped, p.Unread, p.timed} {
		b = binary.AppendUvarint(b, n)
	}
	b = appendFloat(appendFloat(b, p.logs), p.squares)
	for _, name := range slices.Sorted(maps.Keys(p.Outputs)) {
		d := p.Outputs[name]
		b = appendText(b, name)
		for _, n := range []uint64{d.Rows, d.Differing, d.Lacking, uint64(len(d.classes))} {
			b = binary.AppendUvarint(b, n)
		}
		b = appendFloat(appendFloat(b, d.Sum), d.sized)
		b = appendText(b, string(d.sizes.AppendBinary(nil)))
		d.Classes(func(main, other string, n uint64) {
			b = binary.AppendUvarint(appendText(appendText(b, main), other), n)
		})
	}
	return b
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// MergeBinary adds everything counted in what AppendBinary wrote.
func (p *Paired) MergeBinary(b []byte) error {
	r := readBinary(b, binaryForm)
	o := Paired{
		Pairs: r.uint(), Disagreed: r.uint(), Dropped: r.uint(), Unread: r.uint(), timed: r.uint(),
		logs: r.float(), squares: r.float(), Outputs: map[string]*Difference{},
	}
	for r.err == nil && len(r.b) > 0 {
		name := r.text()
		d := &Difference{Rows: r.uint(), Differing: r.uint(), Lacking: r.uint()}
		classes := r.uint()
		d.Sum, d.sized = r.float(), r.float()
		if err := d.sizes.MergeBinary([]byte(r.text())); err != nil && r.err == nil {
			return err
		}
		for ; classes > 0 && r.err == nil; classes-- {
			d.class(r.text(), r.text(), r.uint())
		}
		o.Outputs[name] = d
	}
	if r.err != nil {
		return fmt.Errorf("reading pairs of answers: %w", r.err)
	}
	p.Merge(&o)
	return nil
}
