package outcome

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/request"
)

// Keyed are truths that say of which request they are by the values of input columns and a time, rather than by an id.
// They are found by what they say, so that a request is looked at once, however many truths are told together.
type Keyed struct {
	within   time.Duration
	from, to time.Time
	truths   map[int]*Truth
	forms    []form
}

// form are the truths that have the same columns as keys.
type form struct {
	columns []string
	// by are the numbers of truths by their values, of which numbers are written in one way.
	by map[string][]int
}

// NewKeyed are no truths yet, each of a request that ended at most so far from its time.
func NewKeyed(within time.Duration) *Keyed { return &Keyed{within: within, truths: map[int]*Truth{}} }

// Put adds a truth under a number of its own.
func (d *Keyed) Put(number int, t *Truth) {
	if low := t.At.Add(-d.within); d.from.IsZero() || low.Before(d.from) {
		d.from = low
	}
	if high := t.At.Add(d.within); high.After(d.to) {
		d.to = high
	}
	d.truths[number] = t
	columns := slices.Sorted(maps.Keys(t.Keys))
	n := slices.IndexFunc(d.forms, func(f form) bool { return slices.Equal(f.columns, columns) })
	if n < 0 {
		n, d.forms = len(d.forms), append(d.forms, form{columns: columns, by: map[string][]int{}})
	}
	f := &d.forms[n]
	key, _ := f.key(func(column string) (string, bool) { return t.Keys[column], true })
	f.by[key] = append(f.by[key], number)
}

// Truths are all of them by their numbers.
func (d *Keyed) Truths() map[int]*Truth { return d.truths }

// Span is the time in which a request must have ended to be wanted by any.
func (d *Keyed) Span() (from, to time.Time) { return d.from, d.to }

// Wanted says that a truth could be of a row of a request.
type Wanted struct{ Number, Row int }

// Of says which truths could be of which rows of a request.
func (d *Keyed) Of(k *request.Kept) (out []Wanted) {
	rows := request.RowsOf(k)
	for _, f := range d.forms {
		for row := range rows {
			key, whole := f.key(func(column string) (string, bool) {
				v, there := rows[row].Inputs[column]
				return class(v), there && v != nil
			})
			if !whole {
				continue
			}
			for _, number := range f.by[key] {
				t := d.truths[number]
				if k.Ended.Sub(*t.At).Abs() <= d.within && t.hasKeys(rows[row]) {
					out = append(out, Wanted{Number: number, Row: row})
				}
			}
		}
	}
	return out
}

// key puts values together, unless one is not there. Values that are equal have the same key; that others have it too,
// as texts that look like the same number, is seen later.
func (f *form) key(value func(column string) (string, bool)) (key string, whole bool) {
	var b strings.Builder
	for _, column := range f.columns {
		text, there := value(column)
		if !there {
			return "", false
		}
		text = strings.TrimSpace(text)
		if x, err := strconv.ParseFloat(text, 64); err == nil {
			text = class(x + 0) // of which -0 is 0
		}
		b.WriteString(strconv.Quote(text))
	}
	return b.String(), true
}

// hasKeys reports whether a row of a request has the values of a truth's keys.
func (t *Truth) hasKeys(r request.Row) bool {
	for name, want := range t.Keys {
		if got, there := r.Inputs[name]; !there || !equal(got, want) {
			return false
		}
	}
	return true
}

// equal holds a value against its text; numbers are the same however they are written.
func equal(v any, text string) bool {
	if x, number := v.(float64); number {
		y, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
		return err == nil && x == y
	}
	return class(v) == strings.TrimSpace(text)
}

// KeysInWords are the keys of a truth in a sentence.
func (t *Truth) KeysInWords() string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(t.Keys)) {
		out = append(out, name+" "+t.Keys[name])
	}
	return strings.Join(out, ", ")
}
