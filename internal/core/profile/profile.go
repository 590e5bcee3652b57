package profile

import (
	"cmp"
	"encoding/binary"
	"maps"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/sketch"

	"github.com/cespare/xxhash/v2"
)

const (
	// leastProfileRows is the least number of rows that make a reference profile.
	leastProfileRows = 200
	// MostColumns is how many columns a table may have.
	MostColumns = 1000
	// mostCorrelated is how many numeric columns are correlated with one another.
	mostCorrelated = 64
	// mostLevels is how many different texts of a column are counted; once there are
	// more, only those known are.
	mostLevels = 10_000
	// longestLevel is the longest text, in bytes, that can be a level.
	longestLevel = 200
	// mostFew is how many different values are counted exactly.
	mostFew = 2048
	// keptRows is how many of the first rows are kept, for a sample request.
	keptRows = 1
)

// Profile is the reference profile of a version: the distributions of its inputs and
// outputs in the rows it was registered with.
type Profile struct {
	Rows    int                       `json:"rows"`
	Columns map[string]*sketch.Column `json:"columns"`
	// Distinct is how many different values each column has; beyond 2 048 an estimate
	// within about 1 %.
	Distinct map[string]uint64 `json:"distinct,omitempty"`
	// Fine are the fine cells of numeric columns, from which they are counted on other bins. They are kept
	// with a profile and shown to nobody: there are up to 512 of each.
	Fine map[string]*sketch.Fine `json:"-"`
	// Targets names the columns that are outputs.
	Targets []string `json:"targets,omitempty"`
	// Correlations lists pairs of numeric columns, the strongest first.
	Correlations []Correlation `json:"correlations,omitempty"`
}

// columnProfile gathers what is seen in one column.
type columnProfile struct {
	name     string
	forced   signature.Type
	numbers  sketch.Cutter
	booleans [2]uint64
	texts    uint64
	levels   map[string]uint64
	others   uint64
	missing  uint64
	// few are the hashes of the different values while those are few; then distinct
	// estimates how many there are.
	few      map[uint64]struct{}
	distinct sketch.Distinct
	// recent are hashes that were counted: most values come again and again.
	recent [256]uint64
	// first holds the first row, counted from 1, and the first value of each kind, to
	// say where kinds mix.
	firstRow  [signature.TextCell + 1]int
	firstText string
}

// Profiler reads a table batch by batch in flat memory and knows at the end its
// signature and its reference profile.
type Profiler struct {
	types   map[string]signature.Type
	names   []string
	columns []*columnProfile
	rows    int
	first   [][]signature.Cell
	cross   *crossProducts
}

// NewProfiler makes a profiler. Columns with a given type are read as that type.
func NewProfiler(types map[string]signature.Type) *Profiler { return &Profiler{types: types} }

// badSample is a fault of a table of rows.
func badSample(detail string, args ...any) *fault.Fault {
	return fault.New(fault.Invalid, "sample.unreadable", detail, args...).In("sample").
		Do("give a CSV file with a header line, Parquet, or JSON: a list of objects, or one object a line")
}

// Add takes in rows. Columns only ever grows from one call to the next; rows may be
// shorter than it, what lacks is missing. It does Begin, Column for every column, and
// End.
func (p *Profiler) Add(columns []string, rows [][]signature.Cell) error {
	if err := p.Begin(columns); err != nil {
		return err
	}
	for i := range p.columns {
		p.Column(i, rows)
	}
	p.End(rows)
	return nil
}

// Begin makes the columns known that are new. After it, Column may be called for every
// column at the same time, and End when all of them are done.
func (p *Profiler) Begin(columns []string) error {
	if len(columns) > MostColumns {
		return badSample("the table has more than %d columns", MostColumns)
	}
	for _, name := range columns[len(p.columns):] {
		if name == "" {
			return badSample("column %d has no name", len(p.columns)+1)
		}
		if slices.Contains(p.names, name) {
			return badSample("two columns are named %q", name)
		}
		p.columns = append(p.columns, &columnProfile{
			name: name, forced: p.types[name], missing: uint64(p.rows),
			few: map[uint64]struct{}{},
		})
		p.names = append(p.names, name)
	}
	return nil
}

// Column reads and takes in one column of the rows.
func (p *Profiler) Column(i int, rows [][]signature.Cell) {
	c := p.columns[i]
	text := c.forced == signature.Text
	for k, row := range rows {
		if i >= len(row) {
			c.missing++
			continue
		}
		row[i] = row[i].Read(text)
		c.add(&row[i], p.rows+k+1)
	}
}

// End takes in what concerns whole rows, once all their columns were read.
func (p *Profiler) End(rows [][]signature.Cell) {
	if p.cross == nil && len(rows) > 0 {
		p.cross = newCrossProducts(len(p.columns), rows)
	}
	for _, row := range rows {
		if len(p.first) < keptRows {
			kept := slices.Clone(row)
			for i := range kept {
				kept[i].Text = strings.Clone(kept[i].Text)
			}
			p.first = append(p.first, kept)
		}
		p.cross.add(row)
	}
	p.rows += len(rows)
}

func (c *columnProfile) add(v *signature.Cell, row int) {
	if c.firstRow[v.Kind] == 0 {
		c.firstRow[v.Kind] = row
		if v.Kind == signature.TextCell {
			c.firstText = strings.Clone(v.Text)
		}
	}
	switch v.Kind {
	case signature.NumberCell:
		if math.IsNaN(v.Number) {
			c.missing++
			return
		}
		c.numbers.Add(v.Number)
		c.hash(hashNumber(v.Number + 0)) // +0: one zero
	case signature.BooleanCell:
		c.booleans[int(v.Number)]++
	case signature.TextCell:
		c.texts++
		c.hash(xxhash.Sum64String(v.Text))
		if c.levels == nil {
			c.levels = map[string]uint64{}
		}
		n, known := c.levels[v.Text]
		switch {
		case known:
			c.levels[v.Text] = n + 1
		case len(c.levels) < mostLevels && len(v.Text) <= longestLevel:
			c.levels[strings.Clone(v.Text)] = 1
		default:
			c.others++
		}
	default:
		c.missing++
	}
}

// hash counts a value as distinct, unless it was just counted.
func (c *columnProfile) hash(h uint64) {
	h = max(h, 1) // 0 stands for nothing in recent
	at := &c.recent[h&255]
	if *at == h {
		return
	}
	*at = h
	if c.few == nil {
		c.distinct.AddHash(h)
		return
	}
	if c.few[h] = struct{}{}; len(c.few) <= mostFew {
		return
	}
	c.distinct = sketch.DenseDistinct()
	for h := range c.few {
		c.distinct.AddHash(h)
	}
	c.few = nil
}

// hashNumber hashes a number by its bits.
func hashNumber(x float64) uint64 {
	var b [8]byte
	binary.LittleEndian.PutUint64(b[:], math.Float64bits(x))
	return xxhash.Sum64(b[:])
}

// Rows is how many rows were added.
func (p *Profiler) Rows() int { return p.rows }

// Columns names the columns in their order.
func (p *Profiler) Columns() []string { return p.names }

// kind is the type of the column, or why it has none.
func (c *columnProfile) kind() (signature.Type, error) {
	numbers, booleans := c.numbers.Count(), c.booleans[0]+c.booleans[1]
	kinds := 0
	for _, n := range []uint64{numbers, booleans, c.texts} {
		if n > 0 {
			kinds++
		}
	}
	switch {
	case kinds == 0 && c.forced != "":
		return c.forced, nil
	case kinds == 0:
		return "", badSample("column %q has no value in any row", c.name).
			Do("leave the column out, or declare its type in a signature of your own")
	case kinds > 1:
		f := badSample("column %q mixes %d numbers, %d texts and %d booleans", c.name, numbers, c.texts, booleans)
		if c.texts > 0 && numbers > 0 {
			f = badSample("column %q mixes %d numbers and %d texts; the first text is %.40q in row %d", c.name, numbers,
				c.texts, c.firstText, c.firstRow[signature.TextCell]).
				Do("leave missing values empty, or declare the column as text in a signature of your own")
		}
		return "", f
	case booleans > 0:
		return signature.Boolean, nil
	case c.texts > 0:
		return signature.Text, nil
	case c.numbers.Whole():
		return signature.Integer, nil
	}
	return signature.Number, nil
}

// Signature reads the signature off the rows. The columns named in targets are the
// outputs, all others the inputs; units name the unit of some columns.
func (p *Profiler) Signature(targets []string, units map[string]string) (*signature.Signature, error) {
	for _, given := range []struct {
		names       []string
		field, code string
		what        string
	}{
		{targets, "target", "sample.no_target", "the sample has no column %q"},
		{
			slices.Sorted(maps.Keys(units)), "unit", "sample.no_column",
			"a unit is given for %q, which the sample does not have",
		},
	} {
		for _, name := range given.names {
			if !slices.Contains(p.names, name) {
				return nil, fault.New(fault.Invalid, given.code, given.what, name).In(given.field).
					Do("it has %s", strings.Join(p.names, ", "))
			}
		}
	}
	sig := &signature.Signature{Inputs: []signature.Column{}, Outputs: []signature.Column{}}
	for _, c := range p.columns {
		col, err := c.column()
		if err != nil {
			return nil, err
		}
		col.Unit = units[c.name]
		if slices.Contains(targets, c.name) {
			sig.Outputs = append(sig.Outputs, col)
		} else {
			sig.Inputs = append(sig.Inputs, col)
		}
	}
	return sig, nil
}

func (c *columnProfile) column() (signature.Column, error) {
	kind, err := c.kind()
	if err != nil {
		return signature.Column{}, err
	}
	col := signature.Column{Name: c.name, Type: kind, Nullable: c.missing > 0}
	switch {
	case kind == signature.Text && c.others == 0 && len(c.levels) <= sketch.MostLevels:
		col.Levels = slices.Sorted(maps.Keys(c.levels))
	case kind.Numeric() && c.numbers.Count() > 0:
		low, high := c.numbers.Range()
		col.Min, col.Max = &low, &high
	}
	return col, nil
}

// Profile is the reference profile of the rows, nil when there are too few to be one.
// Columns that mix kinds are left out.
func (p *Profiler) Profile(targets []string) *Profile {
	if p.rows < leastProfileRows {
		return nil
	}
	out := &Profile{Rows: p.rows, Columns: map[string]*sketch.Column{}, Distinct: map[string]uint64{}, Targets: targets}
	out.Fine = map[string]*sketch.Fine{}
	for _, c := range p.columns {
		if kind, err := c.kind(); err == nil {
			out.Columns[c.name], out.Distinct[c.name] = c.summary(kind), c.different(kind)
			if fine := c.numbers.Fine(); kind.Numeric() && fine != nil {
				out.Fine[c.name] = fine
			}
		}
	}
	out.Correlations = p.cross.correlations(p.names)
	return out
}

func (c *columnProfile) different(kind signature.Type) uint64 {
	switch {
	case kind != signature.Boolean && c.few != nil:
		return uint64(len(c.few))
	case kind != signature.Boolean:
		return c.distinct.Count()
	}
	n := uint64(0)
	for _, k := range c.booleans {
		if k > 0 {
			n++
		}
	}
	return n
}

func (c *columnProfile) summary(kind signature.Type) *sketch.Column {
	var col *sketch.Column
	switch kind {
	case signature.Text:
		col = topLevels(c.levels)
		col.Other += c.others
	case signature.Boolean:
		col = &sketch.Column{Bins: sketch.Bins{Levels: []string{"false", "true"}}, Counts: c.booleans[:]}
	default:
		col = c.numbers.Column(sketch.MostBins)
	}
	col.Missing = c.missing
	return col
}

// topLevels keeps the most frequent levels, in alphabetical order, and counts the rest
// as others.
func topLevels(count map[string]uint64) *sketch.Column {
	all := slices.Sorted(maps.Keys(count))
	slices.SortStableFunc(all, func(a, b string) int { return cmp.Compare(count[b], count[a]) })
	col := &sketch.Column{}
	for _, rest := range all[min(len(all), sketch.MostLevels):] {
		col.Other += count[rest]
	}
	col.Bins.Levels = slices.Sorted(slices.Values(all[:min(len(all), sketch.MostLevels)]))
	for _, l := range col.Bins.Levels {
		col.Counts = append(col.Counts, count[l])
	}
	return col
}

// First is the value of a column in the first row, the zero Cell when there is none. A nil
// Profiler has seen no rows.
func (p *Profiler) First(column string) signature.Cell {
	if p == nil || len(p.first) == 0 {
		return signature.Cell{}
	}
	if i := slices.Index(p.names, column); i >= 0 && i < len(p.first[0]) {
		return p.first[0][i]
	}
	return signature.Cell{}
}
