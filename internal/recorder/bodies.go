package recorder

import (
	"encoding/binary"
	"hash/fnv"
	"math"
	"strconv"

	"innerladder/internal/core/sketch"
	"innerladder/internal/oip"
	"innerladder/internal/store"
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
	// mostPending is how many values wait for their bins at most.
	mostPending = 5000
)

// bodies are those of one answered request.
type bodies struct {
	lane            *Lane
	request, answer []byte
}

// pending are the values of a column whose bins are not chosen yet.
type pending struct {
	fromMain []any
	all      []waiting
}

type waiting struct {
	lane  *Lane
	value any
}

// read takes one pair of bodies apart and counts every column.
func (r *Recorder) read(b bodies) {
	inputs, err1 := oip.Tensors(b.request, "inputs")
	outputs, err2 := oip.Tensors(b.answer, "outputs")
	var hashes []uint64
	if err1 == nil && err2 == nil && len(inputs) > 0 {
		for i := range min(inputs[0].Rows(), mostRows) {
			hashes = append(hashes, hashRow(inputs, i))
		}
	}
	l := b.lane
	// Always the scales before a lane: see choose.
	r.scales.Lock()
	defer r.scales.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.dirty = true
	if err1 != nil || err2 != nil {
		l.minute.Content.Unread++
		l.total.Content.Unread++
		return
	}
	for _, c := range []*sketch.Content{&l.minute.Content, &l.total.Content} {
		c.Bodies++
		c.Rows += uint64(len(hashes))
		for _, h := range hashes {
			c.Distinct.AddHash(h)
		}
	}
	r.count(l, store.Input, inputs)
	r.count(l, store.Output, outputs)
}

// count adds the values of tensors to the lane's columns. The lane and the scales are
// locked.
func (r *Recorder) count(l *Lane, side string, tensors []oip.Tensor) {
	for _, t := range tensors {
		rows := t.Rows()
		if rows == 0 {
			continue
		}
		parts := len(t.Data) / rows
		for part := range min(parts, mostParts) {
			name := t.Name
			if parts > 1 {
				name += "[" + strconv.Itoa(part) + "]"
			}
			for row := range min(rows, mostRows) {
				r.countValue(l, store.Column{Endpoint: l.Key.Endpoint, Side: side, Name: name}, t.Data[row*parts+part])
			}
		}
	}
}

func (r *Recorder) countValue(l *Lane, c store.Column, value any) {
	if bins, ok := r.scales.bins[c]; ok {
		l.add(c, bins, value)
		return
	}
	p := r.scales.pending[c]
	if p == nil {
		if r.scales.columns[c.Endpoint] >= mostColumns || len(c.Name) > longestName {
			return
		}
		r.scales.columns[c.Endpoint]++
		p = &pending{}
		r.scales.pending[c] = p
	}
	if len(p.all) < mostPending {
		p.all = append(p.all, waiting{l, value})
	}
	if l.Key.Lane == "main" {
		p.fromMain = append(p.fromMain, value)
	}
	if len(p.fromMain) >= binsAfter {
		r.choose(l, c, sketch.BinsOfValues(p.fromMain), "the first "+strconv.Itoa(binsAfter)+" observations of "+l.Key.Version)
	}
}

// choose fixes the bins of a column and counts what waited for them. The scales are
// locked, and l when it is not nil; the lanes of other waiting values are locked one by
// one, which is safe because nobody holds two lanes without the scales.
func (r *Recorder) choose(l *Lane, c store.Column, b sketch.Bins, source string) {
	if !b.Defined() {
		return
	}
	r.scales.bins[c] = b
	r.scales.fresh = append(r.scales.fresh, store.FixedBins{Column: c, Source: source, Bins: b})
	p := r.scales.pending[c]
	delete(r.scales.pending, c)
	if p == nil {
		return
	}
	for _, w := range p.all {
		if w.lane == l {
			l.add(c, b, w.value)
			continue
		}
		w.lane.mu.Lock()
		w.lane.add(c, b, w.value)
		w.lane.dirty = true
		w.lane.mu.Unlock()
	}
}

// add counts one value in the lane's running window and total.
func (l *Lane) add(c store.Column, b sketch.Bins, value any) {
	for _, content := range []*sketch.Content{&l.minute.Content, &l.total.Content} {
		columns := &content.Inputs
		if c.Side == store.Output {
			columns = &content.Outputs
		}
		if *columns == nil {
			*columns = map[string]*sketch.Column{}
		}
		col := (*columns)[c.Name]
		if col == nil {
			col = sketch.NewColumn(b)
			(*columns)[c.Name] = col
		}
		col.AddValue(value)
	}
}

// hashRow hashes one row of the inputs: the same values under the same names give the
// same hash, whatever the order of the tensors.
func hashRow(inputs []oip.Tensor, row int) uint64 {
	var sum uint64
	for i := range inputs {
		t := &inputs[i]
		parts := len(t.Data) / max(1, t.Rows())
		h := fnv.New64a()
		_, _ = h.Write([]byte(t.Name))
		for _, v := range t.Data[row*parts : (row+1)*parts] {
			var b [9]byte
			switch v := v.(type) {
			case float64:
				b[0] = 1
				binary.LittleEndian.PutUint64(b[1:], math.Float64bits(v))
			case bool:
				b[0] = 2
				if v {
					b[1] = 1
				}
			case string:
				b[0] = 3
				_, _ = h.Write([]byte(v))
			}
			_, _ = h.Write(b[:])
		}
		sum += mix(h.Sum64()) // a sum does not depend on the order
	}
	return mix(sum)
}

// mix is the finaliser of SplitMix64 (Steele, Lea and Flood 2014).
func mix(x uint64) uint64 {
	x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9
	x = (x ^ (x >> 27)) * 0x94d049bb133111eb
	return x ^ (x >> 31)
}
