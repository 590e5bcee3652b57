package scoring

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"innerladder/internal/core/job"
	"innerladder/internal/core/signature"
)

// What scoring itself costs for each row of eight numbers, without the model server.
func BenchmarkRows(b *testing.B) {
	const rows, batch = 200_000, 256
	var s signature.Signature
	var t strings.Builder
	for c := range 8 {
		name := fmt.Sprintf("c%d", c)
		s.Inputs = append(s.Inputs, signature.Column{Name: name, Type: signature.Number})
		t.WriteString(name + ",")
	}
	t.WriteString("id\n")
	for i := range rows {
		for c := range 8 {
			fmt.Fprintf(&t, "%d.%d,", (i*7+c)%100, i%1000)
		}
		fmt.Fprintf(&t, "%d\n", i)
	}
	answer := func(n int) []byte {
		return fmt.Appendf(nil, `{"model_name":"m","outputs":[{"name":"y","datatype":"FP64","shape":[%d],"data":[%s]}]}`, n,
			strings.TrimSuffix(strings.Repeat("123.45678,", n), ","))
	}
	whole, last := answer(batch), answer(rows%batch)
	for b.Loop() {
		b.StopTimer()
		dir := b.TempDir()
		write(b, dir, t.String())
		b.StartTimer()
		p, err := Run(context.Background(), Options{
			Dir: dir, Name: "rows.csv", Signature: &s, Batch: batch, Parallel: 4, Told: func(job.Progress) {},
			Ask: func(_ context.Context, body []byte) (int, []byte, error) {
				if strings.Contains(string(body[:200]), fmt.Sprintf("[%d]", batch)) {
					return 200, whole, nil
				}
				return 200, last, nil
			},
		})
		if err != nil || p.Answered != rows {
			b.Fatalf("%+v, %v", p, err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/rows, "ns/row")
}
