package pmml

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
)

// element is a part of the document.
type element struct {
	name       string
	attributes map[string]string
	children   []*element
	text       string
}

// deepest is how far elements may stand within each other, most how many there may be.
const (
	deepest = 1000
	most    = 5_000_000
)

func parse(r io.Reader) (*element, error) {
	d := xml.NewDecoder(r)
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	var open []*element
	root := &element{}
	open = append(open, root)
	count := 0
	for {
		t, err := d.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the document is no XML: %w", err)
		}
		top := open[len(open)-1]
		switch t := t.(type) {
		case xml.StartElement:
			if count++; count > most || len(open) > deepest {
				return nil, fmt.Errorf("the document has more than %d elements, or %d within each other", most, deepest)
			}
			e := &element{name: t.Name.Local, attributes: map[string]string{}}
			for _, a := range t.Attr {
				e.attributes[a.Name.Local] = a.Value
			}
			top.children = append(top.children, e)
			open = append(open, e)
		case xml.EndElement:
			if len(open) == 1 || t.Name.Local != top.name {
				return nil, fmt.Errorf("</%s> closes what is not open", t.Name.Local)
			}
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) > 1 {
				top.text += string(t)
			}
		}
	}
	if len(open) > 1 || len(root.children) != 1 || root.children[0].name != "PMML" {
		return nil, errors.New("the document is no whole PMML")
	}
	return root.children[0], nil
}

// child is the first child of a name, nil when there is none.
func (e *element) child(name string) *element {
	if e == nil {
		return nil
	}
	for _, c := range e.children {
		if c.name == name {
			return c
		}
	}
	return nil
}

// all are the children of a name.
func (e *element) all(name string) []*element {
	if e == nil {
		return nil
	}
	var out []*element
	for _, c := range e.children {
		if c.name == name {
			out = append(out, c)
		}
	}
	return out
}

// first is the first child of one of some names.
func (e *element) first(names ...string) *element {
	for _, c := range e.children {
		if slices.Contains(names, c.name) {
			return c
		}
	}
	return nil
}

// word is an attribute, or what it is when it is not given.
func (e *element) word(name, or string) string {
	if v, there := e.attributes[name]; there {
		return v
	}
	return or
}

// number is an attribute as a number.
func (e *element) number(name string, or float64) (float64, error) {
	v, there := e.attributes[name]
	if !there {
		return or, nil
	}
	x, err := strconv.ParseFloat(strings.TrimSpace(v), 64)
	if err != nil {
		return 0, fmt.Errorf("%s of %s is %.40q and no number", name, e.name, v)
	}
	return x, nil
}

// numbers reads the words of an Array of numbers.
func (e *element) numbers() ([]float64, error) {
	var out []float64
	for _, w := range strings.Fields(e.text) {
		x, err := strconv.ParseFloat(w, 64)
		if err != nil {
			return nil, fmt.Errorf("%.40q is no number", w)
		}
		out = append(out, x)
	}
	return out, nil
}

// words reads the words of an Array, of which some may be in quotes.
func (e *element) words() []string {
	var out []string
	text := e.content()
	for text = strings.TrimLeft(text, " \t\r\n"); text != ""; text = strings.TrimLeft(text, " \t\r\n") {
		if text[0] != '"' {
			end := strings.IndexAny(text, " \t\r\n")
			if end < 0 {
				end = len(text)
			}
			out, text = append(out, text[:end]), text[end:]
			continue
		}
		word, i := "", 1
		for ; i < len(text) && text[i] != '"'; i++ {
			if text[i] == '\\' && i+1 < len(text) && text[i+1] == '"' {
				i++
			}
			word += text[i : i+1]
		}
		out, text = append(out, word), text[min(i+1, len(text)):]
	}
	return out
}

// Value is a number, a text, or missing, which is its zero value.
type Value struct {
	Number float64
	Text   string
	kind   kind
}

type kind uint8

const (
	missing kind = iota
	number
	text
)

// Number makes a value of a number; one that is none is missing.
func Number(x float64) Value {
	if math.IsNaN(x) {
		return Value{}
	}
	return Value{Number: x, kind: number}
}

// Text makes a value of a text.
func Text(s string) Value { return Value{Text: s, kind: text} }

// Missing reports whether there is no value.
func (v Value) Missing() bool { return v.kind == missing }

// IsText reports whether the value is a text.
func (v Value) IsText() bool { return v.kind == text }

// float is the value as a number; a text that is written as one is one.
func (v Value) float() (float64, bool) {
	switch v.kind {
	case number:
		return v.Number, true
	case text:
		x, err := strconv.ParseFloat(v.Text, 64)
		return x, err == nil
	}
	return 0, false
}

// String writes the value as documents do.
func (v Value) String() string {
	if v.kind == number {
		return strconv.FormatFloat(v.Number, 'g', -1, 64)
	}
	return v.Text
}

// equals compares as documents do: numbers by size, however they are written.
func (v Value) equals(o Value) bool {
	if v.kind == number || o.kind == number {
		x, a := v.float()
		y, b := o.float()
		if a && b {
			return x == y
		}
	}
	return v.String() == o.String()
}

// is compares with what is written in the document.
func (v Value) is(written string) bool {
	if v.kind == number {
		x, err := strconv.ParseFloat(written, 64)
		return err == nil && x == v.Number
	}
	return v.Text == written
}
