package sketch

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"

	"github.com/DataDog/sketches-go/ddsketch"
)

// The binary forms of summaries are what is stored: a byte that numbers the form, then
// variable-length integers and the libraries' own encodings. What they were counted on,
// the bins, is stored once and not in them.
const binaryForm = 1

// columnForm is that of columns; form 1 kept the sum of the squared numbers.
const columnForm = 2

var errCut = errors.New("a summary is cut short")

// binaryReader takes a binary form apart; its error is the first one.
type binaryReader struct {
	form byte
	b    []byte
	err  error
}

// readBinary begins to read what has a form up to the newest.
func readBinary(b []byte, newest byte) *binaryReader {
	r := &binaryReader{b: b}
	if len(b) == 0 {
		r.err = errCut
	} else if r.form = b[0]; r.form < binaryForm || r.form > newest {
		r.err = fmt.Errorf("a summary has form %d, which is not known", b[0])
	} else {
		r.b = b[1:]
	}
	return r
}

func (r *binaryReader) uint() uint64 {
	n, size := binary.Uvarint(r.b)
	if size <= 0 {
		r.err = errors.Join(r.err, errCut)
		r.b = nil
		return 0
	}
	r.b = r.b[size:]
	return n
}

func (r *binaryReader) float() float64 {
	if len(r.b) < 8 {
		r.err = errors.Join(r.err, errCut)
		r.b = nil
		return 0
	}
	f := math.Float64frombits(binary.LittleEndian.Uint64(r.b))
	r.b = r.b[8:]
	return f
}

func appendFloat(b []byte, f float64) []byte {
	return binary.LittleEndian.AppendUint64(b, math.Float64bits(f))
}

// AppendBinary appends the sum and the sketch in its library's own encoding.
func (q *Quantiles) AppendBinary(b []byte) []byte {
	b = binary.AppendUvarint(append(b, binaryForm), uint64(max(q.sum, 0)))
	if q.Count() > 0 {
		q.sketch.Encode(&b, true)
	}
	return b
}

// MergeBinary adds everything recorded in what AppendBinary wrote.
func (q *Quantiles) MergeBinary(b []byte) error {
	r := readBinary(b, binaryForm)
	sum := r.uint()
	if r.err != nil {
		return fmt.Errorf("reading a quantile sketch: %w", r.err)
	}
	if len(r.b) > 0 {
		s, err := ddsketch.DecodeDDSketch(r.b, newStore, indexMapping)
		if err != nil {
			return fmt.Errorf("reading a quantile sketch: %w", err)
		}
		q.Merge(&Quantiles{sketch: s})
	}
	q.sum += durationOf(sum)
	return nil
}

// AppendBinary appends the sketch in its library's own encoding.
func (d *Distinct) AppendBinary(b []byte) []byte {
	b = append(b, binaryForm)
	if d.sketch == nil {
		return b
	}
	raw, err := d.sketch.MarshalBinary()
	if err != nil {
		return b // it never fails
	}
	return append(b, raw...)
}

// MergeBinary adds everything recorded in what AppendBinary wrote.
func (d *Distinct) MergeBinary(b []byte) error {
	r := readBinary(b, binaryForm)
	if r.err != nil {
		return fmt.Errorf("reading a distinct count: %w", r.err)
	}
	if len(r.b) == 0 {
		return nil
	}
	s := newSparse()
	if err := s.UnmarshalBinary(r.b); err != nil {
		return fmt.Errorf("reading a distinct count: %w", err)
	}
	d.Merge(&Distinct{s})
	return nil
}

// AppendBinary appends everything but the bins.
func (c *Column) AppendBinary(b []byte) []byte {
	b = append(b, columnForm)
	for _, n := range c.Counts {
		b = binary.AppendUvarint(b, n)
	}
	for _, n := range []uint64{c.Under, c.Over, c.Other, c.Missing} {
		b = binary.AppendUvarint(b, n)
	}
	if !c.Bins.Numeric() {
		return b
	}
	for i, n := range c.numericCells() { // where nothing was counted there is no sum
		if n > 0 {
			b = appendFloat(b, c.Sums[i])
		}
	}
	for _, f := range []float64{c.Squares, c.Min, c.Max} {
		b = appendFloat(b, f)
	}
	return b
}

// numericCells are the counts below, in, and above the bins.
func (c *Column) numericCells() []uint64 {
	return append(append([]uint64{c.Under}, c.Counts...), c.Over)
}

// ReadColumn reads what AppendBinary wrote of a column on bins.
func ReadColumn(bins Bins, b []byte) (*Column, error) {
	c := NewColumn(bins)
	r := readBinary(b, columnForm)
	for i := range c.Counts {
		c.Counts[i] = r.uint()
	}
	for _, n := range []*uint64{&c.Under, &c.Over, &c.Other, &c.Missing} {
		*n = r.uint()
	}
	if bins.Numeric() {
		for i, n := range c.numericCells() {
			if n > 0 {
				c.Sums[i] = r.float()
			}
		}
		for _, f := range []*float64{&c.Squares, &c.Min, &c.Max} {
			*f = r.float()
		}
		if r.form == binaryForm {
			c.Squares = about(c.Squares, c.sum(), float64(c.Seen()), 0, c.Bins.origin())
		}
	}
	if r.err == nil && len(r.b) > 0 {
		r.err = fmt.Errorf("%d bytes are left over", len(r.b))
	}
	if r.err != nil {
		return nil, fmt.Errorf("reading a column: %w", r.err)
	}
	c.begun = bins.Numeric() && c.Seen() > 0
	return c, nil
}
