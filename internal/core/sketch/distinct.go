package sketch

import (
	"encoding/json"
	"fmt"

	"github.com/axiomhq/hyperloglog"
)

// Distinct estimates how many different things were seen, within about 1 %
// (HyperLogLog; Flajolet et al. 2007, Heule et al. 2013). Its zero value is empty
// and ready. Not safe for use by several goroutines at once.
type Distinct struct{ sketch *hyperloglog.Sketch }

// DenseDistinct is an empty count that takes its full 16 KiB at once, which is quicker
// when there will be many things.
func DenseDistinct() Distinct { return Distinct{hyperloglog.NewNoSparse()} }

// AddHash records one thing by a well-mixed 64-bit hash of it.
func (d *Distinct) AddHash(h uint64) {
	if d.sketch == nil {
		d.sketch = hyperloglog.New14()
	}
	d.sketch.InsertHash(h)
}

// Count is the estimated number of different hashes.
func (d *Distinct) Count() uint64 {
	if d == nil || d.sketch == nil {
		return 0
	}
	return d.sketch.Estimate()
}

// Merge adds everything recorded in o.
func (d *Distinct) Merge(o *Distinct) {
	if o == nil || o.sketch == nil {
		return
	}
	if d.sketch == nil {
		d.sketch = o.sketch.Clone()
		return
	}
	// Merge fails only for unequal precisions; there is one.
	_ = d.sketch.Merge(o.sketch)
}

// Clone returns an independent copy.
func (d *Distinct) Clone() *Distinct {
	c := &Distinct{}
	c.Merge(d)
	return c
}

// MarshalJSON writes the sketch in its library's own binary encoding, null when empty.
func (d *Distinct) MarshalJSON() ([]byte, error) {
	if d.sketch == nil {
		return []byte("null"), nil
	}
	b, err := d.sketch.MarshalBinary()
	if err != nil {
		return nil, err
	}
	return json.Marshal(b)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (d *Distinct) UnmarshalJSON(b []byte) error {
	d.sketch = nil
	var raw []byte
	if err := json.Unmarshal(b, &raw); err != nil || len(raw) == 0 {
		return err
	}
	s := hyperloglog.New14()
	if err := s.UnmarshalBinary(raw); err != nil {
		return fmt.Errorf("reading a distinct count: %w", err)
	}
	d.sketch = s
	return nil
}
