package api

import (
	"context"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"

	"github.com/prometheus/client_golang/prometheus"
)

// Database is how a database of the service stands.
type Database struct {
	Name string
	// Bytes is what it takes on the disk, with what is not merged into it yet.
	Bytes int64
	// Written is when something was written last; zero when nothing was.
	Written time.Time
}

var (
	shareDesc = prometheus.NewDesc("innerladder_lane_share",
		"Share of the requests that a lane of the split in force draws; of a shadow, of main's requests.",
		[]string{"endpoint", "lane", "version"}, nil)
	addressesDesc = prometheus.NewDesc("innerladder_lane_addresses",
		"Addresses of the version on a lane, by whether they are healthy.",
		[]string{"endpoint", "lane", "version", "health"}, nil)
	splitDesc = prometheus.NewDesc("innerladder_split_number", "Number of the split in force.",
		[]string{"endpoint"}, nil)
	guardDesc = prometheus.NewDesc("innerladder_guard_progress",
		"Evidence against a trial as a share of what makes the guard fire.",
		[]string{"endpoint", "version", "signal"}, nil)
	enoughDesc = prometheus.NewDesc("innerladder_guard_enough",
		"Evidence that a trial is good enough as a share of what proves it.",
		[]string{"endpoint", "version", "signal"}, nil)
	alertsDesc = prometheus.NewDesc("innerladder_alerts",
		"Alerts that are not resolved; without an endpoint, those about the service itself.",
		[]string{"endpoint", "kind", "state"}, nil)
	promotionsDesc = prometheus.NewDesc("innerladder_promotions",
		"Promotions that are not closed, by the rung that is asked for.",
		[]string{"project", "rung", "state"}, nil)
	databaseDesc = prometheus.NewDesc("innerladder_database_bytes", "What a database takes on the disk.",
		[]string{"database"}, nil)
	writtenDesc = prometheus.NewDesc("innerladder_database_written_timestamp_seconds",
		"When something was written to a database last.", []string{"database"}, nil)
)

// mostCounted bounds how many alerts, and how many promotions, are counted: beyond it the counts say so many.
const mostCounted = 2000

// asOfNow is how things are as of a scrape, read once, for whoever asks.
type asOfNow struct {
	endpoints []wire.EndpointNow
	// alerts are counted by endpoint, kind and state, promotions by project, rung and state.
	alerts, promotions map[[3]string]int
	databases          []Database
}

func (a *API) asOf(ctx context.Context, by act.Actor, databases []Database) (s asOfNow, err error) {
	s.databases = databases
	if s.endpoints, err = a.now(ctx); err != nil {
		return s, err
	}
	alerts, err := a.app.Observe.Alerts(ctx, by, "unresolved", "", records.Page{Limit: mostCounted})
	if err != nil {
		return s, err
	}
	s.alerts = map[[3]string]int{}
	for _, x := range alerts.Items {
		s.alerts[[3]string{x.Endpoint, string(x.Kind), x.State}]++
	}
	s.promotions, err = a.app.Ladder.Unclosed(ctx, by, mostCounted)
	return s, err
}

func (asOfNow) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		shareDesc, addressesDesc, splitDesc, guardDesc, enoughDesc, alertsDesc, promotionsDesc, databaseDesc,
		writtenDesc,
	} {
		ch <- d
	}
}

func (s asOfNow) Collect(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, value float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	for _, e := range s.endpoints {
		if e.Split == 0 {
			continue
		}
		gauge(splitDesc, float64(e.Split), e.Endpoint)
		for _, l := range e.Lanes {
			of := []string{e.Endpoint, string(l.Kind), l.Version}
			gauge(shareDesc, float64(l.Share)/traffic.Whole, of...)
			gauge(addressesDesc, float64(l.HealthyAddresses), append(of, "healthy")...)
			gauge(addressesDesc, float64(l.Addresses-l.HealthyAddresses), append(of, "unhealthy")...)
		}
		for _, g := range e.Guards {
			gauge(guardDesc, g.Progress, e.Endpoint, g.Version, g.Signal)
			gauge(enoughDesc, g.Enough, e.Endpoint, g.Version, g.Signal)
		}
	}
	for of, n := range s.alerts {
		gauge(alertsDesc, float64(n), of[:]...)
	}
	for of, n := range s.promotions {
		gauge(promotionsDesc, float64(n), of[:]...)
	}
	for _, d := range s.databases {
		gauge(databaseDesc, float64(d.Bytes), d.Name)
		if !d.Written.IsZero() {
			gauge(writtenDesc, float64(d.Written.UnixMilli())/1000, d.Name)
		}
	}
}
