package api

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"net/http"
	"regexp"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/recorder"

	"github.com/gofiber/fiber/v3"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
)

var (
	requestsDesc = prometheus.NewDesc(
		"innerladder_requests_total",
		"Requests answered, by how they ended.",
		[]string{"endpoint", "lane", "version", "outcome"},
		nil,
	)
	durationDesc = prometheus.NewDesc(
		"innerladder_request_duration_seconds",
		"Time from the request read to the answer written, of requests that were answered.",
		[]string{"endpoint", "lane", "version"},
		nil,
	)
	unreadDesc = prometheus.NewDesc(
		"innerladder_bodies_dropped_total",
		"Bodies that were to be read and were not: too large, or the reader was behind.",
		nil,
		nil,
	)

	jobRunsDesc = prometheus.NewDesc(
		"innerladder_job_runs_total",
		"Turns of a job, by how they ended.",
		[]string{"job", "outcome"},
		nil,
	)
	jobSpentDesc = prometheus.NewDesc(
		"innerladder_job_seconds_total",
		"Time that a job took in all.",
		[]string{"job"},
		nil,
	)
	jobLastDesc = prometheus.NewDesc(
		"innerladder_job_last_duration_seconds",
		"Time that a job took at its last turn.",
		[]string{"job"},
		nil,
	)
	callersDesc = prometheus.NewDesc("innerladder_gateway_connections", "Open connections of callers.", nil, nil)
	bodiesDesc  = prometheus.NewDesc(
		"innerladder_gateway_bodies_bytes",
		"Bytes of bodies that the gateway holds.",
		nil,
		nil,
	)
	panicsDesc = prometheus.NewDesc(
		"innerladder_gateway_failures_total",
		"Requests that went wrong in the gateway's own code.",
		nil,
		nil,
	)
	refusedDesc = prometheus.NewDesc(
		"innerladder_requests_refused_total",
		"Requests that the gateway turned away; without an endpoint, those that found none.",
		[]string{"endpoint", "reason"},
		nil,
	)
	unavailableDesc = prometheus.NewDesc(
		"innerladder_requests_unavailable_total",
		"Requests meant for a version none of whose addresses was healthy.",
		[]string{"endpoint", "lane", "version"},
		nil,
	)
)

// counted is what the recorder counted, as metrics.
type counted struct {
	rec  *recorder.Recorder
	conf Config
}

func (counted) Describe(ch chan<- *prometheus.Desc) {
	ch <- requestsDesc
	ch <- durationDesc
	ch <- unreadDesc
	for _, d := range []*prometheus.Desc{
		jobRunsDesc, jobSpentDesc, jobLastDesc, callersDesc, bodiesDesc, panicsDesc,
		unavailableDesc, refusedDesc,
	} {
		ch <- d
	}
}

// collectHouse tells how jobs and the gateway fare.
func (t counted) collectHouse(ch chan<- prometheus.Metric) {
	if t.conf.Jobs != nil {
		for _, r := range t.conf.Jobs() {
			ch <- prometheus.MustNewConstMetric(jobRunsDesc, prometheus.CounterValue, float64(r.Runs-r.Failures),
				r.Name, "done")
			ch <- prometheus.MustNewConstMetric(jobRunsDesc, prometheus.CounterValue, float64(r.Failures), r.Name,
				"failed")
			ch <- prometheus.MustNewConstMetric(jobSpentDesc, prometheus.CounterValue, r.Spent.Seconds(), r.Name)
			ch <- prometheus.MustNewConstMetric(jobLastDesc, prometheus.GaugeValue, r.Last.Seconds(), r.Name)
		}
	}
	if t.conf.Gateway != nil {
		s := t.conf.Gateway()
		ch <- prometheus.MustNewConstMetric(callersDesc, prometheus.GaugeValue, float64(s.Callers))
		ch <- prometheus.MustNewConstMetric(bodiesDesc, prometheus.GaugeValue, float64(s.Bodies))
		ch <- prometheus.MustNewConstMetric(panicsDesc, prometheus.CounterValue, float64(s.Panics))
	}
}

func (t counted) Collect(ch chan<- prometheus.Metric) {
	totals, unread := t.rec.Totals()
	for k, traffic := range totals {
		if n := traffic.Counts.Unavailable; n > 0 {
			ch <- prometheus.MustNewConstMetric(unavailableDesc, prometheus.CounterValue, float64(n), k.Endpoint,
				k.Lane, k.Version)
		}
		if traffic.Counts.Requests == 0 {
			continue // a lane that nobody called yet
		}
		for outcome, n := range outcomes(traffic.Counts) {
			ch <- prometheus.MustNewConstMetric(requestsDesc, prometheus.CounterValue, float64(n), k.Endpoint, k.Lane,
				k.Version, outcome)
		}
		ch <- prometheus.MustNewConstHistogram(durationDesc, traffic.Latency.Count(), traffic.Latency.Sum().Seconds(),
			buckets(&traffic.Latency), k.Endpoint, k.Lane, k.Version)
	}
	ch <- prometheus.MustNewConstMetric(unreadDesc, prometheus.CounterValue, float64(unread))
	for endpoint, refused := range t.rec.RefusedTotals() {
		for why, n := range refused {
			if n > 0 {
				ch <- prometheus.MustNewConstMetric(refusedDesc, prometheus.CounterValue, float64(n), endpoint,
					request.Reason(why).Code())
			}
		}
	}
	t.collectHouse(ch)
}

// bounds are the upper bounds of the buckets of latencies, in seconds: alike for all lanes and versions, so that a
// metrics server can add them up.
var bounds = []float64{
	0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30,
}

// buckets counts the latencies up to each bound. Each is placed within sketch.RelativeError of where it lies.
func buckets(q *sketch.Quantiles) map[float64]uint64 {
	out, below, i := make(map[float64]uint64, len(bounds)), 0.0, 0
	q.ForEach(func(ns, count float64) {
		for ; i < len(bounds) && ns > bounds[i]*1e9; i++ {
			out[bounds[i]] = uint64(math.Round(below))
		}
		below += count
	})
	for ; i < len(bounds); i++ {
		out[bounds[i]] = uint64(math.Round(below))
	}
	return out
}

func outcomes(c sketch.Counts) map[string]uint64 {
	return map[string]uint64{
		"answered": c.Requests - c.Failed() - c.CallerErrors, "caller_error": c.CallerErrors,
		"server_error": c.ServerErrors, "timed_out": c.TimedOut, "not_reached": c.NotReached,
		"malformed": c.Malformed, "abandoned": c.Abandoned,
	}
}

// metrics writes metrics in the form that is asked for, OpenMetrics or the text format before it: those of endpoints
// and projects that the caller may see.
func (a *API) metrics(rec *recorder.Recorder, conf Config) fiber.Handler {
	house := prometheus.NewRegistry()
	house.MustRegister(
		counted{rec, conf},
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{
			Name: "innerladder_records_writable", Help: "1 while changes can be recorded, else 0.",
		}, func() float64 {
			if a.app.DB.Trouble() != nil {
				return 0
			}
			return 1
		}),
		// Of the runtime's older names two say the same in OpenMetrics, which strict readers refuse.
		collectors.NewGoCollector(collectors.WithGoCollectorMemStatsMetricsDisabled(),
			collectors.WithGoCollectorRuntimeMetrics(collectors.GoRuntimeMetricsRule{
				Matcher: regexp.MustCompile(`^/(gc/heap/live|memory/classes/total|memory/classes/heap/objects):bytes$`),
			})),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)
	return func(c fiber.Ctx) error {
		by, err := a.admit(c, operation{permission: access.Read})
		if err != nil {
			return err
		}
		seen, err := a.seenBy(c.Context(), by)
		if err != nil {
			return err
		}
		var databases []Database
		if seen[""] && conf.Databases != nil {
			databases = conf.Databases()
		}
		now, err := a.asOf(c.Context(), by, databases)
		if err != nil {
			return err
		}
		once := prometheus.NewRegistry()
		once.MustRegister(now)
		families, err := prometheus.Gatherers{house, once}.Gather()
		if err != nil {
			return fmt.Errorf("gathering metrics: %w", err)
		}
		format := expfmt.NegotiateAccept(http.Header{fiber.HeaderAccept: {c.Get(fiber.HeaderAccept)}},
			expfmt.FmtOpenMetrics_1_0_0, expfmt.FmtOpenMetrics_0_0_1, expfmt.FmtText)
		text, err := written(families, format, seen)
		if err != nil {
			return fmt.Errorf("writing metrics: %w", err)
		}
		c.Vary(fiber.HeaderAccept)
		c.Set(fiber.HeaderContentType, string(format))
		return c.Send(text)
	}
}

// seenBy are the endpoints that somebody may see, and "" if they may see how the service itself does.
func (a *API) seenBy(ctx context.Context, by act.Actor) (map[string]bool, error) {
	endpoints, err := a.app.Traffic.Endpoints(ctx, by)
	seen := map[string]bool{"": by.Rights.May(access.Administer, "")}
	for _, e := range endpoints.Items {
		seen[e.Name] = true
	}
	return seen, err
}

// written are metrics in a form, without those of endpoints that are not seen.
func written(families []*dto.MetricFamily, format expfmt.Format, seen map[string]bool) ([]byte, error) {
	var b bytes.Buffer
	enc := expfmt.NewEncoder(&b, format)
	for _, f := range families {
		f.Metric = slices.DeleteFunc(f.Metric, func(m *dto.Metric) bool {
			return slices.ContainsFunc(m.Label, func(l *dto.LabelPair) bool {
				return l.GetName() == "endpoint" && !seen[l.GetValue()]
			})
		})
		if len(f.Metric) == 0 {
			continue
		}
		if err := enc.Encode(f); err != nil {
			return nil, err
		}
	}
	if closer, ok := enc.(expfmt.Closer); ok {
		if err := closer.Close(); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}
