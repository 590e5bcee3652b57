package registry

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/sketch"
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
	// keptRows is how many of the first rows are kept, for a sample request.
	keptRows = 1
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

// read finds out what a raw cell holds; forced columns are text whatever they look like.
func (c Cell) read(text bool) Cell {
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

// Correlation is how two numeric columns go together: Pearson's r over the rows in
// which both are present. Columns that do not vary have none.
type Correlation struct {
	A    string  `json:"a"`
	B    string  `json:"b"`
	R    float64 `json:"r" description:"Pearson's correlation, −1 to 1"`
	Rows int     `json:"rows"`
}

// Profile is the reference profile of a version: the distributions of its inputs and
// outputs in the rows it was registered with.
type Profile struct {
	Rows    int                       `json:"rows"`
	Columns map[string]*sketch.Column `json:"columns"`
	// Distinct estimates how many different values each column has, within about 1 %.
	Distinct map[string]uint64 `json:"distinct,omitempty"`
	// Targets names the columns that are outputs.
	Targets []string `json:"targets,omitempty"`
	// Correlations lists pairs of numeric columns, the strongest first.
	Correlations []Correlation `json:"correlations,omitempty"`
}

// columnProfile gathers what is seen in one column.
type columnProfile struct {
	name     string
	forced   Type
	rows     int // rows seen before the column first came up
	numbers  sketch.Cutter
	booleans [2]uint64
	texts    uint64
	levels   map[string]uint64
	others   uint64
	missing  uint64
	distinct sketch.Distinct
	// recent are hashes that were counted: most values come again and again.
	recent [256]uint64
	// first holds the first row, counted from 1, and the first value of each kind, to
	// say where kinds mix.
	firstRow  [TextCell + 1]int
	firstText string
}

// Profiler reads a table batch by batch in flat memory and knows at the end its
// signature and its reference profile.
type Profiler struct {
	types   map[string]Type
	names   []string
	columns []*columnProfile
	rows    int
	first   [][]Cell
	cross   *crossProducts
}

// NewProfiler makes a profiler. Columns with a given type are read as that type.
func NewProfiler(types map[string]Type) *Profiler { return &Profiler{types: types} }

// badSample is a fault of a table of rows.
func badSample(detail string, args ...any) *fault.Fault {
	return fault.New(fault.Invalid, "sample.unreadable", detail, args...).In("sample").
		Do("give a CSV file with a header line, Parquet, or JSON: a list of objects, or one object a line")
}

// Add takes in rows. Columns only ever grows from one call to the next; rows may be
// shorter than it, what lacks is missing. It does Begin, Column for every column, and
// End.
func (p *Profiler) Add(columns []string, rows [][]Cell) error {
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
		p.columns = append(p.columns, &columnProfile{name: name, forced: p.types[name], missing: uint64(p.rows), rows: p.rows, distinct: sketch.DenseDistinct()})
		p.names = append(p.names, name)
	}
	return nil
}

// Column reads and takes in one column of the rows.
func (p *Profiler) Column(i int, rows [][]Cell) {
	c := p.columns[i]
	text := c.forced == Text
	for k, row := range rows {
		if i >= len(row) {
			c.missing++
			continue
		}
		row[i] = row[i].read(text)
		c.add(&row[i], p.rows+k+1)
	}
}

// End takes in what concerns whole rows, once all their columns were read.
func (p *Profiler) End(rows [][]Cell) {
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

func (c *columnProfile) add(v *Cell, row int) {
	if c.firstRow[v.Kind] == 0 {
		c.firstRow[v.Kind] = row
		if v.Kind == TextCell {
			c.firstText = strings.Clone(v.Text)
		}
	}
	switch v.Kind {
	case NumberCell:
		if math.IsNaN(v.Number) {
			c.missing++
			return
		}
		c.numbers.Add(v.Number)
		c.hash(mix(math.Float64bits(v.Number + 0))) // +0: one zero
	case BooleanCell:
		c.booleans[int(v.Number)]++
	case TextCell:
		c.texts++
		c.hash(hashText(v.Text))
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
	if at := &c.recent[h&255]; *at != h {
		*at = h
		c.distinct.AddHash(h)
	}
}

// mix is the finalizer of MurmurHash3, which spreads any change over all bits.
func mix(h uint64) uint64 {
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	h *= 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}

// hashText is FNV-1a, mixed.
func hashText(s string) uint64 {
	h := uint64(14695981039346656037)
	for i := 0; i < len(s); i++ {
		h = (h ^ uint64(s[i])) * 1099511628211
	}
	return mix(h)
}

// Rows is how many rows were added.
func (p *Profiler) Rows() int { return p.rows }

// Columns names the columns in their order.
func (p *Profiler) Columns() []string { return p.names }

// kind is the type of the column, or why it has none.
func (c *columnProfile) kind() (Type, error) {
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
		return "", badSample("column %q has no value in any row", c.name)
	case kinds > 1:
		f := badSample("column %q mixes %d numbers, %d texts and %d booleans", c.name, numbers, c.texts, booleans)
		if c.texts > 0 && numbers > 0 {
			f = badSample("column %q mixes %d numbers and %d texts; the first text is %.40q in row %d", c.name, numbers, c.texts, c.firstText, c.firstRow[TextCell]).
				Do("leave missing values empty, or declare the column as text in a signature of your own")
		}
		return "", f
	case booleans > 0:
		return Boolean, nil
	case c.texts > 0:
		return Text, nil
	case c.numbers.Whole():
		return Integer, nil
	}
	return Number, nil
}

// Signature reads the signature off the rows. The columns named in targets are the
// outputs, all others the inputs; units name the unit of some columns.
func (p *Profiler) Signature(targets []string, units map[string]string) (*Signature, error) {
	for _, given := range []struct {
		names       []string
		field, code string
		what        string
	}{{targets, "target", "sample.no_target", "the sample has no column %q"}, {sortedKeys(units), "unit", "sample.no_column", "a unit is given for %q, which the sample does not have"}} {
		for _, name := range given.names {
			if !slices.Contains(p.names, name) {
				return nil, fault.New(fault.Invalid, given.code, given.what, name).In(given.field).Do("it has %s", strings.Join(p.names, ", "))
			}
		}
	}
	sig := &Signature{Inputs: []Column{}, Outputs: []Column{}}
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

func (c *columnProfile) column() (Column, error) {
	kind, err := c.kind()
	if err != nil {
		return Column{}, err
	}
	col := Column{Name: c.name, Type: kind, Nullable: c.missing > 0}
	switch {
	case kind == Text && c.others == 0 && len(c.levels) <= sketch.MostLevels:
		col.Levels = sortedKeys(c.levels)
	case kind.numeric() && c.numbers.Count() > 0:
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
	for _, c := range p.columns {
		if kind, err := c.kind(); err == nil {
			out.Columns[c.name], out.Distinct[c.name] = c.summary(kind), c.different(kind)
		}
	}
	out.Correlations = p.cross.correlations(p.names)
	return out
}

func (c *columnProfile) different(kind Type) uint64 {
	if kind != Boolean {
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

func (c *columnProfile) summary(kind Type) *sketch.Column {
	var col *sketch.Column
	switch kind {
	case Text:
		col = topLevels(c.levels)
		col.Other += c.others
	case Boolean:
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
	all := sortedKeys(count)
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

// crossProducts accumulates what correlations need. Rows in which all of the columns
// are present share one set of sums; others are added pair by pair.
type crossProducts struct {
	at    []int // positions of the columns
	shift []float64
	x     []float64
	full  moments
	pairs map[[2]int]*pairMoments
	fullN int
}

// moments are Σx and Σxy of shifted values, by column and by pair (upper triangle).
type moments struct {
	sum   []float64
	cross []float64
}

type pairMoments struct {
	n                int
	x, y, xx, yy, xy float64
}

// newCrossProducts takes the columns that hold numbers in the first batch.
func newCrossProducts(columns int, rows [][]Cell) *crossProducts {
	c := &crossProducts{pairs: map[[2]int]*pairMoments{}}
	for i := range columns {
		numeric, shift := false, 0.0
		for _, row := range rows {
			if i >= len(row) || row[i].Kind == MissingCell {
				continue
			}
			if row[i].Kind != NumberCell || math.Abs(row[i].Number) > 1e120 {
				numeric = false
				break
			}
			if !numeric {
				shift = row[i].Number // keeps the sums small, so little is lost in the differences
			}
			numeric = true
		}
		if numeric && len(c.at) < mostCorrelated {
			c.at, c.shift = append(c.at, i), append(c.shift, shift)
		}
	}
	d := len(c.at)
	c.x = make([]float64, d)
	c.full = moments{make([]float64, d), make([]float64, d*(d+1)/2)}
	return c
}

func (c *crossProducts) add(row []Cell) {
	whole := true
	for k, i := range c.at {
		if i >= len(row) || row[i].Kind != NumberCell || math.Abs(row[i].Number) > 1e120 {
			c.x[k], whole = math.NaN(), false
			continue
		}
		c.x[k] = row[i].Number - c.shift[k]
	}
	if whole {
		c.fullN++
		cross := c.full.cross
		for a, xa := range c.x {
			c.full.sum[a] += xa
			rest := c.x[a:]
			for b, xb := range rest {
				cross[b] += xa * xb
			}
			cross = cross[len(rest):]
		}
		return
	}
	for a, xa := range c.x {
		if math.IsNaN(xa) {
			continue
		}
		for b := a + 1; b < len(c.x); b++ {
			xb := c.x[b]
			if math.IsNaN(xb) {
				continue
			}
			p := c.pairs[[2]int{a, b}]
			if p == nil {
				p = &pairMoments{}
				c.pairs[[2]int{a, b}] = p
			}
			p.n++
			p.x, p.y, p.xx, p.yy, p.xy = p.x+xa, p.y+xb, p.xx+xa*xa, p.yy+xb*xb, p.xy+xa*xb
		}
	}
}

func (c *crossProducts) correlations(names []string) []Correlation {
	if c == nil {
		return nil
	}
	d := len(c.at)
	index := func(a, b int) int { return a*d - a*(a-1)/2 + b - a }
	var out []Correlation
	for a := range d {
		for b := a + 1; b < d; b++ {
			p := pairMoments{c.fullN, c.full.sum[a], c.full.sum[b], c.full.cross[index(a, a)], c.full.cross[index(b, b)], c.full.cross[index(a, b)]}
			if q := c.pairs[[2]int{a, b}]; q != nil {
				p.n, p.x, p.y, p.xx, p.yy, p.xy = p.n+q.n, p.x+q.x, p.y+q.y, p.xx+q.xx, p.yy+q.yy, p.xy+q.xy
			}
			n := float64(p.n)
			vx, vy := p.xx-p.x*p.x/n, p.yy-p.y*p.y/n
			// Less than what rounding leaves of the squares is no variation.
			if p.n < 3 || vx <= 1e-12*p.xx || vy <= 1e-12*p.yy {
				continue
			}
			r := (p.xy - p.x*p.y/n) / math.Sqrt(vx*vy)
			if math.IsNaN(r) {
				continue
			}
			out = append(out, Correlation{names[c.at[a]], names[c.at[b]], math.Max(-1, math.Min(1, r)), p.n})
		}
	}
	slices.SortStableFunc(out, func(x, y Correlation) int { return cmp.Compare(math.Abs(y.R), math.Abs(x.R)) })
	return out
}
