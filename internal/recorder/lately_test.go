package recorder

import (
	"math/rand/v2"
	"path/filepath"
	"testing"

	"innerladder/internal/core/sketch"
)

// Rows that come again are known, and rows that have not come are new, but for few.
func TestRowsThatCameBefore(t *testing.T) {
	var m remembered
	r := rand.New(rand.NewPCG(1, 2))
	rows := make([]uint64, 5000)
	for i := range rows {
		rows[i] = r.Uint64()
		if !m.isNew(rows[i]) {
			t.Fatal("a row that has not come is known")
		}
	}
	for range 10 { // a script that sends the same rows
		again := 0
		for _, h := range rows {
			if m.isNew(h) {
				again++
			}
		}
		if again > len(rows)/20 {
			t.Errorf("%d of %d rows that came before are taken for new", again, len(rows))
		}
	}
}

// What is taken lately is taken once, and copies are not among it.
func TestLately(t *testing.T) {
	r, _ := start(t, filepath.Join(t.TempDir(), "signals.db"), 1000)
	main, shadow := lane(r, "main", "heat-demand@1"), lane(r, "shadow", "heat-demand@2")
	asked := []byte(`{"inputs":[{"name":"x","datatype":"FP64","shape":[3],"data":[1,2,1]}]}`)
	answered := []byte(`{"outputs":[{"name":"y","datatype":"FP64","shape":[3],"data":[1,2,1]}]}`)
	for range 5 {
		r.read(bodies{main, asked, answered})
		r.read(bodies{shadow, asked, answered})
	}
	if l := r.Lately("demand-hourly"); l.Rows != 15 || l.Fresh != 2 || l.Distinct.Count() != 2 {
		t.Errorf("%d rows, %d new, %d different", l.Rows, l.Fresh, l.Distinct.Count())
	}
	if l := r.Lately("demand-hourly"); l.Rows != 0 || l.Fresh != 0 {
		t.Errorf("%+v", l)
	}
	if called := r.LastCalled("demand-hourly"); !called.IsZero() {
		t.Errorf("called at %s", called)
	}
	observe(r, main, minute, 3, sketch.Answered)
	if called := r.LastCalled("demand-hourly"); !called.Equal(minute) {
		t.Errorf("called at %s", called)
	}
}
