package recorder

import "innerladder/internal/core/sketch"

// Lately is what was read of an endpoint's answered requests in a while, over all lanes that callers are dealt to.
type Lately struct {
	sketch.Content
	// Fresh is how many rows of it had not come before, as far back as is known.
	Fresh uint64
}

// Lately takes what was read of an endpoint's requests since it was called last.
func (r *Recorder) Lately(endpoint string) Lately {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading.Lock()
	defer r.reading.Unlock()
	e := r.endpoint(endpoint)
	out := e.lately
	e.lately = Lately{}
	return out
}

const (
	// sets and ways are how many rows are remembered: so many sets of so many.
	sets, ways = 4096, 4
)

// remembered are the rows that came lately, by their hashes: some sixteen thousand, in 64 KiB, of which the oldest of a
// set gives way. Few of fewer rows are ever taken for new again.
type remembered struct{ sets *[sets][ways]uint32 }

// isNew reports whether a row had not come, and remembers it.
func (m *remembered) isNew(hash uint64) bool {
	if m.sets == nil {
		m.sets = new([sets][ways]uint32)
	}
	set := &m.sets[hash%sets]
	mark := uint32(hash>>32) | 1 // 0 is for none
	for _, known := range set {
		if known == mark {
			return false
		}
	}
	copy(set[1:], set[:])
	set[0] = mark
	return true
}
