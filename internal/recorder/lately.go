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

// generation is how many rows are remembered at least, by their hashes.
const generation = 16 << 10

// generations remember which rows came: at least the last different ones of a generation, at most twice as many.
type generations struct{ now, before map[uint64]struct{} }

// isNew reports whether a row had not come, and remembers it.
func (g *generations) isNew(hash uint64) bool {
	if _, there := g.now[hash]; there {
		return false
	}
	_, there := g.before[hash]
	if g.now == nil || len(g.now) >= generation {
		g.now, g.before = map[uint64]struct{}{}, g.now
	}
	g.now[hash] = struct{}{}
	return !there
}
