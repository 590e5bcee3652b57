package load

import (
	"context"
	"math"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"innerladder/internal/core/load"
)

// The generator's own error: against a server whose answers take times of a known distribution, and that stalls for a
// second, it reports the quantiles that callers who come on their own clock have.
func TestWhatIsReportedIsTrue(t *testing.T) {
	const rate, seconds = 200, 4
	const stallAt, stallFor = 1500 * time.Millisecond, time.Second
	var begin atomic.Pointer[time.Time]
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		now := time.Now()
		begin.CompareAndSwap(nil, &now)
		takes := time.Duration(rand.ExpFloat64() * float64(10*time.Millisecond))
		if since := now.Sub(*begin.Load()); since >= stallAt && since < stallAt+stallFor {
			takes += stallAt + stallFor - since
		}
		sleep(r.Context(), takes) // unless the caller leaves
	}))
	defer server.Close()
	r, err := Run(t.Context(), Options{
		Plan: load.Plan{Rate: rate, For: seconds * time.Second}, URL: server.URL, Bodies: [][]byte{[]byte("{}")},
		Connections: 1000, Timeout: 10 * time.Second,
	})
	if err != nil || r.Requests != rate*seconds || r.Errors != 0 {
		t.Fatalf("%+v, %v", r, err)
	}
	// What callers have is known by simulation.
	var truth []float64
	for i := range 200_000 {
		due := time.Duration(i) * seconds * time.Second / 200_000
		took := time.Duration(rand.ExpFloat64() * float64(10*time.Millisecond))
		if due >= stallAt && due < stallAt+stallFor {
			took += stallAt + stallFor - due
		}
		truth = append(truth, float64(took)/1e6)
	}
	slices.Sort(truth)
	for name, q := range map[string]float64{"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99} {
		want := truth[int(q*float64(len(truth)))]
		if got := r.LatencyMs[name]; math.Abs(got-want) > 0.1*want+15 { // chance, and a machine that has other work
			t.Errorf("%s is %.1f ms, in truth %.1f", name, got, want)
		}
	}
}

func TestFailuresAreCounted(t *testing.T) {
	var n atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch i := n.Add(1); {
		case r.Header.Get("Inner-Ladder-Key") != "sesame":
			w.WriteHeader(http.StatusUnauthorized)
		case i%4 == 0:
			w.WriteHeader(http.StatusInternalServerError)
		case i%4 == 1:
			panic(http.ErrAbortHandler)
		}
	}))
	defer server.Close()
	var told atomic.Int64
	o := Options{
		Plan: load.Plan{Rate: 100, For: 2 * time.Second}, URL: server.URL, Bodies: [][]byte{[]byte("{}")},
		Connections: 10, Timeout: time.Second, Header: map[string]string{"Inner-Ladder-Key": "sesame"},
		Progress: func(p Progress) { told.Store(p.Ended) },
	}
	r, err := Run(t.Context(), o)
	if err != nil || r.Requests != 200 || r.Errors < 90 || r.Errors > 110 ||
		r.Failures["status 500"] < 45 || told.Load() == 0 {
		t.Errorf("%+v, %v; %d were told", r, err, told.Load())
	}
	ctx, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer stop()
	if r, err := Run(ctx, o); err != nil || r.Requests < 10 || r.Requests > 60 {
		t.Errorf("stopped: %+v, %v", r, err)
	}
	o.URL = "nowhere"
	if _, err := Run(t.Context(), o); err == nil {
		t.Error("it was sent nowhere")
	}
	o.URL, o.Bodies = server.URL, nil
	if _, err := Run(t.Context(), o); err == nil {
		t.Error("nothing was sent")
	}
}
