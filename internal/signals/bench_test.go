package signals

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
)

// BenchmarkReadingAnHour reads what two lanes did in an hour at 200 requests a second, with
// nine columns, and merges it.
func BenchmarkReadingAnHour(b *testing.B) {
	s, err := Open(b.Context(), filepath.Join(b.TempDir(), "signals.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	batch := Batch{}
	dice := rand.New(rand.NewPCG(1, 1))
	m := minuteOf(12_000, 1)
	for c := range 9 {
		name := fmt.Sprintf("x%d", c)
		batch.Bins = append(batch.Bins, FixedBins{Column{"demand-hourly", Output, name}, "a bench", bins})
		column := sketch.NewColumn(bins)
		for range 12_000 {
			column.AddNumber(4 * dice.Float64())
		}
		m.Content.Outputs[name] = column
	}
	for minute := range 60 {
		for _, version := range []string{"heat-demand@1", "heat-demand@2"} {
			batch.Windows = append(batch.Windows,
				Window{
					Key: Key{Endpoint: "demand-hourly", Split: 1, Lane: "main", Version: version},
					At:  midnight.Add(time.Duration(minute) * time.Minute), Summary: m,
				})
		}
	}
	if err := s.Write(b.Context(), batch); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		windows, err := s.Windows(b.Context(),
			Query{Endpoint: "demand-hourly", From: midnight, To: midnight.Add(time.Hour), Latency: true, Content: true})
		if err != nil || len(windows) != 120 {
			b.Fatal(len(windows), err)
		}
		var sum sketch.Summary
		for _, w := range windows {
			sum.Merge(w.Summary)
		}
	}
}
