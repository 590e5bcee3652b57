package modelserver

import (
	"time"

	"innerladder/internal/core/signature"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

type served = signature.Tensor

// meter is what the server measures of itself. Times are in seconds.
type meter struct {
	requests *prometheus.CounterVec
	rows     prometheus.Counter
	// took is from the request read to the answer written; waited the part before it is computed, for others and for a
	// turn; computed that of a batch; batch how many rows it had.
	took, waited, computed, batch prometheus.Histogram
	serve                         fiber.Handler
}

func newMeter(inside func() float64, members *Members) *meter {
	seconds := prometheus.ExponentialBuckets(25e-6, 2, 18)
	histogram := func(name, help string, buckets []float64) prometheus.Histogram {
		return prometheus.NewHistogram(prometheus.HistogramOpts{
			Name: "innerladder_runner_" + name, Help: help, Buckets: buckets,
		})
	}
	m := &meter{
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "innerladder_runner_requests_total", Help: "Requests by the status that they were answered with.",
		}, []string{"status"}),
		rows: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "innerladder_runner_rows_total", Help: "Rows that were computed.",
		}),
		took:     histogram("request_seconds", "From the request read to the answer written.", seconds),
		waited:   histogram("wait_seconds", "How long a request waited before it was computed.", seconds),
		computed: histogram("compute_seconds", "How long a batch was computed.", seconds),
		batch:    histogram("batch_rows", "Rows that were computed together.", prometheus.ExponentialBuckets(1, 2, 14)),
	}
	r := prometheus.NewRegistry()
	r.MustRegister(m.requests, m.rows, m.took, m.waited, m.computed, m.batch, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{
			Name: "innerladder_runner_requests_inside", Help: "Requests that are computed or wait.",
		}, inside))
	if members != nil {
		r.MustRegister(members.took, members.differed)
	}
	m.serve = adaptor.HTTPHandler(promhttp.HandlerFor(r, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	return m
}

// Members measures what the members of an ensemble do. It is a compute.Watcher.
type Members struct{ took, differed *prometheus.HistogramVec }

// NewMembers makes one that has measured nothing yet.
func NewMembers() *Members {
	return &Members{
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "innerladder_runner_member_seconds", Help: "How long a member of an ensemble took for a batch.",
			Buckets: prometheus.ExponentialBuckets(25e-6, 2, 18),
		}, []string{"member"}),
		differed: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:    "innerladder_runner_member_difference",
			Help:    "How far what a member gave lies from what the ensemble gave: absolute, or a share of values.",
			Buckets: prometheus.ExponentialBuckets(1e-4, 4, 12),
		}, []string{"member", "output"}),
	}
}

// Ran runs a member and takes the time.
func (m *Members) Ran(member string, run func() error) error {
	begin := time.Now()
	err := run()
	m.took.WithLabelValues(member).Observe(time.Since(begin).Seconds())
	return err
}

// Differed notes how far a member is from the ensemble.
func (m *Members) Differed(member, output string, by float64) {
	m.differed.WithLabelValues(member, output).Observe(by)
}
