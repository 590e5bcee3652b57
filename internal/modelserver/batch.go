package modelserver

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"innerladder/internal/core/compute"
	"innerladder/internal/core/tensor"
)

// Batching says how rows of several requests are computed together. Its zero value computes each request by itself.
type Batching struct {
	// Rows is how many rows are computed together at most; below 2 none are.
	Rows int
	// Wait is how long the first of them waits for others at most. One that is the only one inside waits for nobody.
	Wait time.Duration
}

// waiting is a request that waits for others.
type waiting struct {
	in   []*tensor.Tensor
	rows int
	// came is when it began to wait.
	came time.Time
	done chan struct{}
	out  []*tensor.Tensor
	err  error
}

// batcher gathers requests and computes them together.
type batcher struct {
	model *compute.Model
	how   Batching
	meter *meter
	mu    sync.Mutex
	// open are those that wait by now, due when the first has waited long enough.
	open []*waiting
	rows int
	due  *time.Timer
	// alone reports whether nobody is inside but the one who asks.
	alone func() bool
	// slots bounds how many batches are computed at the same time.
	slots chan struct{}
}

// run computes a request, with others or by itself.
func (b *batcher) run(in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	rows, even := rowsOf(in)
	w := &waiting{in: in, rows: rows, came: time.Now(), done: make(chan struct{})}
	if b.how.Rows < 2 || !b.model.Rows || !even || rows >= b.how.Rows || rows == 0 || b.alone() {
		b.compute([]*waiting{w})
	} else {
		b.join(w)
	}
	<-w.done
	return w.out, w.err
}

// rowsOf is how many rows a request has. Where its inputs do not have as many each, which may be wrong or may be meant,
// it is not even: put behind others it would shift their rows against each other.
func rowsOf(in []*tensor.Tensor) (rows int, even bool) {
	rows, even = 1, true
	for i, t := range in {
		n := 1
		if len(t.Shape) > 0 {
			n = t.Shape[0]
		}
		if i == 0 {
			rows = n
		}
		even = even && n == rows && len(t.Shape) > 0
	}
	return rows, even
}

// join puts a request behind those that wait; a batch that is full begins at once.
func (b *batcher) join(w *waiting) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.open) > 0 && (b.rows+w.rows > b.how.Rows || !together(b.open[0].in, w.in)) {
		b.begin()
	}
	b.open, b.rows = append(b.open, w), b.rows+w.rows
	switch {
	case b.rows >= b.how.Rows:
		b.begin()
	case len(b.open) == 1:
		b.due = time.AfterFunc(b.how.Wait, func() {
			b.mu.Lock()
			defer b.mu.Unlock()
			if len(b.open) > 0 && b.open[0] == w { // else it has begun already
				b.begin()
			}
		})
	}
}

// begin computes what waits; b.mu is held.
func (b *batcher) begin() {
	all := b.open
	b.open, b.rows = nil, 0
	if b.due != nil {
		b.due.Stop()
	}
	go b.compute(all)
}

// together reports whether two requests can be put behind each other: the same types and sizes but for the rows.
func together(a, b []*tensor.Tensor) bool {
	return slices.EqualFunc(a, b, func(x, y *tensor.Tensor) bool {
		return x.Datatype() == y.Datatype() && len(x.Shape) > 0 && len(y.Shape) > 0 &&
			slices.Equal(x.Shape[1:], y.Shape[1:])
	})
}

// compute computes some requests as one and gives each what is its own.
func (b *batcher) compute(all []*waiting) {
	defer func() {
		for _, w := range all {
			close(w.done)
		}
	}()
	b.slots <- struct{}{}
	defer func() { <-b.slots }()
	begin := time.Now()
	rows := 0
	for _, w := range all {
		rows += w.rows
		b.meter.waited.Observe(begin.Sub(w.came).Seconds())
	}
	if len(all) == 1 || b.asOne(all, rows) != nil {
		// One request that cannot be computed must not fail the others.
		for _, w := range all {
			w.out, w.err = safely(b.model, w.in)
		}
	}
	b.meter.batch.Observe(float64(rows))
	b.meter.computed.Observe(time.Since(begin).Seconds())
}

// asOne computes requests of so many rows together as one; nobody has anything of it when that fails.
func (b *batcher) asOne(all []*waiting, rows int) error {
	in := make([]*tensor.Tensor, len(all[0].in))
	parts := make([]*tensor.Tensor, len(all))
	for i := range in {
		for k, w := range all {
			parts[k] = w.in[i]
		}
		var err error
		if in[i], err = tensor.Join(parts, 0); err != nil {
			return err
		}
	}
	out, err := safely(b.model, in)
	if err != nil {
		return err
	}
	for _, t := range out {
		if len(t.Shape) == 0 || t.Shape[0] != rows {
			return fmt.Errorf("%d rows gave an output of the shape %v", rows, t.Shape)
		}
	}
	at := 0
	for _, w := range all {
		for _, t := range out {
			w.out = append(w.out, compute.Part(t, at, at+w.rows))
		}
		at += w.rows
	}
	return nil
}
