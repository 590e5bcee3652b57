package signature

import (
	"encoding/json"
	"math"
	"strconv"
	"strings"
)

// AppendValue appends a cell of a table as JSON, as the column takes it: null for what is missing, whole numbers
// exactly. It is false for what is no value of the column.
func (c Column) AppendValue(dst []byte, cell Cell) ([]byte, bool) {
	switch c.Type {
	case Text:
		if cell = cell.Read(true); cell.Kind == TextCell {
			return AppendText(dst, cell.Text), true
		}
	case Integer:
		return c.appendWhole(dst, cell)
	case Number:
		if cell.Kind == RawCell && plainNumber(cell.Text) {
			return append(dst, cell.Text...), true
		}
		if cell = cell.Read(false); cell.Kind == NumberCell {
			return strconv.AppendFloat(dst, cell.Number, 'g', -1, 64), true
		}
	case Boolean:
		switch cell = cell.Read(false); {
		case cell.Kind == BooleanCell, cell.Kind == NumberCell && (cell.Number == 0 || cell.Number == 1):
			return strconv.AppendBool(dst, cell.Number == 1), true
		}
	}
	return append(dst, "null"...), cell.Kind == MissingCell
}

// appendWhole appends a whole number within the bounds of the column's datatype.
func (c Column) appendWhole(dst []byte, cell Cell) ([]byte, bool) {
	if cell.Kind == RawCell { // numbers beyond 2^53 have no exact float
		text := strings.TrimSpace(cell.Text)
		unsigned, bits := c.width()
		if n, err := strconv.ParseInt(text, 10, bits); err == nil && !(unsigned && n < 0) {
			return strconv.AppendInt(dst, n, 10), true
		}
		if n, err := strconv.ParseUint(text, 10, bits); err == nil && unsigned {
			return strconv.AppendUint(dst, n, 10), true
		}
	}
	low, high := bounds(c.datatype())
	if cell = cell.Read(false); cell.Kind == NumberCell {
		x := cell.Number
		return strconv.AppendFloat(dst, x, 'f', -1, 64), x == math.Trunc(x) && low <= x && x <= high
	}
	return append(dst, "null"...), cell.Kind == MissingCell
}

// width is what the datatype of a whole number holds.
func (c Column) width() (unsigned bool, bits int) {
	name, unsigned := strings.CutPrefix(c.datatype(), "U")
	bits, err := strconv.Atoi(strings.TrimPrefix(name, "INT"))
	if err != nil {
		return false, 64
	}
	return unsigned, bits
}

// plainNumber reports whether a text is a number as JSON writes it, without an exponent.
func plainNumber(s string) bool {
	if len(s) > 0 && s[0] == '-' {
		s = s[1:]
	}
	if len(s) == 0 || len(s) > 17 || s[0] == '.' || s[len(s)-1] == '.' ||
		s[0] == '0' && len(s) > 1 && s[1] != '.' {
		return false
	}
	points := 0
	for i := range len(s) {
		if s[i] == '.' {
			points++
		} else if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return points < 2
}

// isName reports whether digits are a name rather than a number: with zeros or a sign before them that a number does
// not have, such as 0042, or more of them than a number keeps.
func isName(s string) bool {
	digits := strings.TrimLeft(s, "+-")
	if digits == "" || strings.Trim(digits, "0123456789") != "" {
		return false
	}
	return s[0] == '+' || digits[0] == '0' && len(digits) > 1 || len(digits) > 15
}

// AppendCell appends what a cell of a table holds, as JSON: null, a number, a truth value or a text. Digits that are a
// name stay as they are.
func AppendCell(dst []byte, cell Cell) []byte {
	switch {
	case cell.Kind == RawCell && plainNumber(cell.Text):
		return append(dst, cell.Text...)
	case cell.Kind == RawCell && isName(cell.Text):
		return AppendText(dst, cell.Text)
	}
	switch cell = cell.Read(false); cell.Kind {
	case NumberCell:
		return strconv.AppendFloat(dst, cell.Number, 'g', -1, 64)
	case BooleanCell:
		return strconv.AppendBool(dst, cell.Number == 1)
	case TextCell:
		return AppendText(dst, cell.Text)
	}
	return append(dst, "null"...)
}

// AppendText appends a text as JSON.
func AppendText(dst []byte, s string) []byte {
	for i := range len(s) {
		if s[i] < 0x20 || s[i] == '"' || s[i] == '\\' || s[i] >= 0x80 {
			b, _ := json.Marshal(s) // a text can always be written
			return append(dst, b...)
		}
	}
	dst = append(dst, '"')
	dst = append(dst, s...)
	return append(dst, '"')
}

// Sent is the datatype in which the column is sent: as declared, else the widest of its family.
func (c Column) Sent() string { return c.datatype() }
