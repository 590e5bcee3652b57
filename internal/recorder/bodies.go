package recorder

import (
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/signals"
)

const (
	// mostRows is how many rows of one request are looked at.
	mostRows = 1000
	// mostParts is how many values of one row of a tensor are looked at, each as a
	// column of its own.
	mostParts = 16
	// binsAfter is how many values of the main lane choose the bins of a column that
	// has no reference profile.
	binsAfter = 1000
	// mostColumns is how many columns of an endpoint are counted on either side, and
	// longestName how long their names may be: callers choose both.
	mostColumns = 512
	longestName = 128
	// mostPending is how many values of a column wait for their bins at most, mostWaiting
	// how many of an endpoint, and mostLanes of how many lanes.
	mostPending = 5000
	mostWaiting = 50_000
	mostLanes   = 64
)

// bodies are those of one answered request.
type bodies struct {
	lane            *Lane
	request, answer []byte
}

// scales are the bins of all columns, and what waits for them.
type scales struct {
	// attached is set once the store has told the bins that it has.
	attached bool
	bins     map[signals.Column]sketch.Bins
	sources  map[signals.Column]string
	pending  map[signals.Column]*pending
	// columns and values count the columns of each endpoint, with bins or without, and the
	// values that wait.
	columns, values map[string]int
	// fresh are bins that wait to be written.
	fresh []signals.FixedBins
}

// pending is a column whose bins are not chosen yet.
type pending struct {
	// fromMain are the values that choose them.
	fromMain []any
	all      []waiting
	// missing counts values that were missing: they need no bins.
	missing map[*Lane]uint64
}

type waiting struct {
	lane  *Lane
	value any
}

func (s *scales) reset() {
	s.bins, s.sources, s.pending = map[signals.Column]sketch.Bins{}, map[signals.Column]string{},
		map[signals.Column]*pending{}
	s.columns, s.values = map[string]int{}, map[string]int{}
}

// attach takes the bins that a store has fixed, and hands it those that it has not. What a
// store has fixed never changes, so it also takes the place of what was chosen while there
// was no store; those columns are returned, since what was counted of them counts no more.
func (s *scales) attach(fixed []signals.FixedBins) (changed []signals.Column) {
	s.attached = true
	there := map[signals.Column]bool{}
	for _, f := range fixed {
		there[f.Column] = true
		if ours, ok := s.bins[f.Column]; !ok {
			s.columns[f.Endpoint]++
		} else if !ours.Equal(f.Bins) {
			changed = append(changed, f.Column)
		}
		s.bins[f.Column], s.sources[f.Column] = f.Bins, f.Source
		if p := s.pending[f.Column]; p != nil { // what waited for bins of its own choosing is lost
			delete(s.pending, f.Column)
			s.values[f.Endpoint] -= len(p.all)
		}
	}
	s.fresh = nil
	for c, b := range s.bins {
		if !there[c] {
			s.fresh = append(s.fresh, signals.FixedBins{Column: c, Source: s.sources[c], Bins: b})
		}
	}
	return changed
}

// drop removes what was counted of columns. The recorder and the reader are locked.
func (r *Recorder) drop(columns []signals.Column) {
	for _, c := range columns {
		without := func(content *sketch.Content) {
			if c.Side == signals.Output {
				delete(content.Outputs, c.Name)
			} else {
				delete(content.Inputs, c.Name)
			}
		}
		for _, l := range r.lanes {
			if l.Endpoint != c.Endpoint {
				continue
			}
			without(&l.content)
			for _, w := range append(l.closed[:len(l.closed):len(l.closed)], l.running) {
				if w != nil {
					without(&w.summary.Content)
				}
			}
		}
		for _, t := range r.endpoint(c.Endpoint).trials {
			without(&t.incumbent.content)
			without(&t.candidate.content)
		}
	}
}

// read takes one pair of bodies apart and counts every column.
func (r *Recorder) read(b bodies) {
	inputs, err1 := oip.Tensors(b.request, "inputs")
	outputs, err2 := oip.Tensors(b.answer, "outputs")
	var hashes []uint64
	if err1 == nil && err2 == nil && len(inputs) > 0 {
		for i := range min(inputs[0].Rows(), mostRows) {
			hashes = append(hashes, oip.HashRow(inputs, i))
		}
	}
	l := b.lane
	r.reading.Lock()
	defer r.reading.Unlock()
	if err1 != nil || err2 != nil {
		l.content.Unread++
		return
	}
	values := 0
	for _, t := range slices.Concat(inputs, outputs) {
		values += len(t.Data)
	}
	l.sampler.hasRead(len(hashes), values)
	part := sketch.Content{Bodies: 1, Rows: uint64(len(hashes))}
	for _, h := range hashes {
		part.Distinct.AddHash(h)
		if l.Dealt() && l.of.known.isNew(h) {
			l.of.lately.Fresh++
		}
	}
	part.Forms.Add(forms(outputs))
	r.scales.count(l, signals.Input, inputs, &part.Inputs)
	r.scales.count(l, signals.Output, outputs, &part.Outputs)
	l.add(&part)
}

// forms are the outputs of an answer with their types. Names too long to be told are left out.
func forms(outputs []oip.Tensor) []sketch.Form {
	var out []sketch.Form
	for _, t := range outputs {
		if len(t.Name) <= longestName && len(t.Datatype) <= longestName {
			out = append(out, sketch.Form{Name: t.Name, Datatype: t.Datatype})
		}
	}
	return out
}

// add counts what was read of a lane.
func (l *Lane) add(part *sketch.Content) {
	l.content.Merge(part)
	if l.Dealt() {
		l.of.lately.Content.Merge(part)
	}
	for _, s := range l.sides {
		s.merge(part)
	}
}

// count adds the values of tensors to columns; those that have no bins yet wait.
func (s *scales) count(l *Lane, side string, tensors []oip.Tensor, into *map[string]*sketch.Column) {
	for _, t := range tensors {
		rows := t.Rows()
		if rows == 0 {
			continue
		}
		parts := t.Parts()
		for part := range min(parts, mostParts) {
			c := signals.Column{Endpoint: l.Endpoint, Side: side, Name: t.PartName(part)}
			row, column := 0, s.column(c, into)
			for ; column == nil && row < min(rows, mostRows); row++ {
				s.await(l, c, t.Data[row*parts+part])
				column = s.column(c, into)
			}
			for ; row < min(rows, mostRows); row++ {
				column.AddValue(t.Data[row*parts+part])
			}
		}
	}
}

// column is where the values of a column are counted, nil while it has no bins.
func (s *scales) column(c signals.Column, into *map[string]*sketch.Column) *sketch.Column {
	bins, ok := s.bins[c]
	if !ok {
		return nil
	}
	if *into == nil {
		*into = map[string]*sketch.Column{}
	}
	column := (*into)[c.Name]
	if column == nil {
		column = sketch.NewColumn(bins)
		(*into)[c.Name] = column
	}
	return column
}

// await keeps a value of a column that has no bins yet.
func (s *scales) await(l *Lane, c signals.Column, value any) {
	p := s.pending[c]
	if p == nil {
		if s.columns[c.Endpoint] >= mostColumns || len(c.Name) > longestName {
			return
		}
		s.columns[c.Endpoint]++
		p = &pending{missing: map[*Lane]uint64{}}
		s.pending[c] = p
	}
	s.wait(l, c, p, value)
}

// wait keeps a value until its column has bins, within every bound, and chooses the bins
// when enough is known.
func (s *scales) wait(l *Lane, c signals.Column, p *pending, value any) {
	if value == nil {
		if _, ok := p.missing[l]; ok || len(p.missing) < mostLanes {
			p.missing[l]++
		}
		return
	}
	if text, ok := value.(string); ok && len(text) > longestName {
		value = strings.Clone(text[:longestName]) // whatever it is, it will be no level
	}
	if len(p.all) < mostPending && s.values[c.Endpoint] < mostWaiting {
		s.values[c.Endpoint]++
		p.all = append(p.all, waiting{l, value})
		if l.Lane == string(traffic.Main) && len(p.fromMain) < binsAfter {
			p.fromMain = append(p.fromMain, value)
		}
	}
	if len(p.fromMain) >= binsAfter {
		s.choose(
			c,
			sketch.BinsOfValues(p.fromMain),
			"the first "+strconv.Itoa(binsAfter)+" observations of "+l.Version,
		)
	}
}

// choose fixes the bins of a column and counts what waited for them.
func (s *scales) choose(c signals.Column, b sketch.Bins, source string) {
	if !b.Defined() {
		return
	}
	s.bins[c], s.sources[c] = b, source
	s.fresh = append(s.fresh, signals.FixedBins{Column: c, Source: source, Bins: b})
	p := s.pending[c]
	if p == nil {
		return
	}
	delete(s.pending, c)
	s.values[c.Endpoint] -= len(p.all)
	columns := map[*Lane]*sketch.Column{}
	column := func(l *Lane) *sketch.Column {
		if columns[l] == nil {
			columns[l] = sketch.NewColumn(b)
		}
		return columns[l]
	}
	for _, w := range p.all {
		column(w.lane).AddValue(w.value)
	}
	for l, n := range p.missing {
		column(l).Missing += n
	}
	for l, counted := range columns {
		part := sketch.Content{Inputs: map[string]*sketch.Column{c.Name: counted}}
		if c.Side == signals.Output {
			part.Inputs, part.Outputs = nil, part.Inputs
		}
		l.add(&part)
	}
}

// FixBins chooses the bins of a column before any traffic, from a reference profile;
// bins that are chosen already stay. It does nothing, and says so, before the store has
// told which bins it has.
func (r *Recorder) FixBins(c signals.Column, b sketch.Bins, source string) (told bool) {
	r.reading.Lock()
	defer r.reading.Unlock()
	if !r.scales.attached {
		return false
	}
	if _, ok := r.scales.bins[c]; !ok {
		r.scales.choose(c, b, source)
	}
	return true
}

// Bins are those on which the columns of an endpoint are counted, as far as they are chosen.
func (r *Recorder) Bins(endpoint string) map[signals.Column]sketch.Bins {
	r.reading.Lock()
	defer r.reading.Unlock()
	out := map[signals.Column]sketch.Bins{}
	for c, b := range r.scales.bins {
		if c.Endpoint == endpoint {
			out[c] = b
		}
	}
	return out
}

// BinsFrom says where the bins of the columns of an endpoint came from.
func (r *Recorder) BinsFrom(endpoint string) map[signals.Column]string {
	r.reading.Lock()
	defer r.reading.Unlock()
	out := map[signals.Column]string{}
	for c, source := range r.scales.sources {
		if c.Endpoint == endpoint {
			out[c] = source
		}
	}
	return out
}
