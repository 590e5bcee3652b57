package signature

import (
	"math"
	"strconv"
	"strings"
)

// Kind is what a cell of a table holds.
type Kind uint8

// The kinds of cells.
const (
	// MissingCell holds nothing.
	MissingCell Kind = iota
	// RawCell holds text whose kind is still to be read, as in CSV.
	RawCell
	NumberCell
	BooleanCell
	TextCell
)

// Cell is one value of a table. Number is 1 or 0 for booleans.
type Cell struct {
	Kind   Kind
	Number float64
	Text   string
}

// Read finds out what a raw cell holds; forced columns are text whatever they look like.
func (c Cell) Read(text bool) Cell {
	if c.Kind != RawCell {
		if text && c.Kind == NumberCell {
			return Cell{Kind: TextCell, Text: strconv.FormatFloat(c.Number, 'g', -1, 64)}
		}
		return c
	}
	s := c.Text
	if !text {
		if x, ok := decimal(s); ok {
			return Cell{Kind: NumberCell, Number: x}
		}
	}
	s = strings.TrimSpace(s)
	if len(s) <= 4 {
		switch strings.ToLower(s) {
		case "", "na", "nan", "null":
			return Cell{}
		case "true":
			if !text {
				return Cell{Kind: BooleanCell, Number: 1}
			}
		}
	}
	if text {
		return Cell{Kind: TextCell, Text: s}
	}
	if len(s) == 5 && strings.EqualFold(s, "false") {
		return Cell{Kind: BooleanCell}
	}
	if b := s[0]; b <= '9' || b == 'i' || b == 'I' { // no number begins with another letter
		if x, err := strconv.ParseFloat(s, 64); err == nil && !math.IsInf(x, 0) {
			return Cell{Kind: NumberCell, Number: x}
		}
	}
	return Cell{Kind: TextCell, Text: s}
}

// tens are the powers of ten that a float64 holds exactly.
var tens = [...]float64{1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// decimal reads plain numbers such as -12.345 quickly. With at most 15 digits both the
// digits and the power of ten are exact, so one division rounds correctly.
func decimal(s string) (x float64, ok bool) {
	if len(s) == 0 || len(s) > 17 {
		return 0, false
	}
	i, negative := 0, s[0] == '-'
	if negative {
		i++
	}
	var digits uint64
	count, point := 0, -1
	for ; i < len(s); i++ {
		d := s[i] - '0'
		switch {
		case d <= 9:
			digits = digits*10 + uint64(d)
			count++
		case s[i] == '.' && point < 0:
			point = count
		default:
			return 0, false
		}
	}
	if count == 0 || count > 15 {
		return 0, false
	}
	x = float64(digits)
	if point >= 0 {
		x /= tens[count-point]
	}
	if negative {
		x = -x
	}
	return x, true
}
