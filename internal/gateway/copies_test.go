package gateway

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/test/poll"
)

// shadowed routes all to one version, of whose requests another gets copies.
func (r *rig) shadowed(main, shadow string, share int) {
	r.t.Helper()
	if err := r.g.Route(traffic.Route{
		Endpoint: "demand-hourly", Split: 4, Since: time.Now(),
		Lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, 10000, main), laneTo(traffic.Shadow, 2, share, shadow)},
		Watched: []guard.TrialPair{{
			Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 4, Since: time.Now(), Copies: true,
		}},
	}); err != nil {
		r.t.Fatal(err)
	}
}

// copied waits until so many copies have come to an end, and says what came of them and of main's requests.
func (r *rig) copied(ended uint64) guard.Pair {
	r.t.Helper()
	var pair guard.Pair
	if !poll.Within(10*time.Second, func() bool {
		r.rec.Tick(time.Now())
		all, _ := r.rec.Evidence("demand-hourly")
		pair = all[guard.TrialKey{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 4}]
		return pair.Paired != nil && pair.Candidate.Counts.Requests+pair.Paired.Dropped >= ended
	}) {
		r.t.Fatalf("%+v, %+v", pair.Candidate.Counts, pair.Paired)
	}
	return pair
}

// A copy is the request as main got it, said to be one, without the caller's key; the caller gets main's answer, and
// both are compared. Who names a version, or is told that one is there, is not told of the shadow.
func TestCopies(t *testing.T) {
	r := newRig(t)
	var mu sync.Mutex
	var got []*http.Request
	var bodies []string
	main := model(t, says("one"))
	shadow := model(t, func(w http.ResponseWriter, q *http.Request) {
		b, _ := io.ReadAll(q.Body)
		mu.Lock()
		got, bodies = append(got, q), append(bodies, string(b))
		n := len(got)
		mu.Unlock()
		says([]string{"one", "two"}[n%2])(w, q)
	})
	r.shadowed(main, shadow, 10000)
	for range 10 {
		status, header, body := r.call("POST", infer, "Inner-Ladder-Key", keyStart+"secret", "X-Team", "dispatch",
			traffic.CopyHeader, "a lie")
		if status != 200 || header.Get(VersionHeader) != "heat-demand@1" || !strings.Contains(body, `"one"`) {
			t.Fatalf("%d %v %s", status, header, body)
		}
	}
	pair := r.copied(10)
	c := pair.Candidate.Counts
	if c.Requests != 10 || c.Failed() != 0 || pair.Incumbent.Counts.Requests != 10 || pair.Paired.Pairs != 10 ||
		pair.Paired.Disagreed != 5 || pair.Paired.Dropped != 0 {
		t.Errorf("%+v %+v", c, pair.Paired)
	}
	mu.Lock()
	defer mu.Unlock()
	for i, q := range got {
		if q.Header.Get(traffic.CopyHeader) != "true" || q.Header.Get("X-Team") != "dispatch" ||
			q.Header.Get("Inner-Ladder-Key") != "" || q.Header.Get(RequestHeader) == "" ||
			!strings.Contains(bodies[i], `"datatype":"FP64","data":[1]`) {
			t.Errorf("%v %s", q.Header, bodies[i])
		}
	}
	before := len(got)
	if status, _, body := r.call("POST", "/v2/models/demand-hourly/versions/2/infer"); status != 404 ||
		strings.Contains(body, "these are: heat-demand@1, heat-demand@2") {
		t.Errorf("%d %s", status, body)
	}
	if status, _, _ := r.call("POST", "/v2/models/demand-hourly/versions/1/infer"); status != 200 ||
		len(got) != before {
		t.Errorf("%d, %d copies of what asked for a version", status, len(got)-before)
	}
}

// The real requests of callers never say that they are copies, whatever the callers send.
func TestNobodyPassesForACopy(t *testing.T) {
	r := newRig(t)
	var said string
	main := model(t, func(w http.ResponseWriter, q *http.Request) {
		said = q.Header.Get(traffic.CopyHeader)
		says("one")(w, q)
	})
	r.route(laneTo(traffic.Main, 1, 10000, main))
	if status, _, _ := r.call("POST", infer, traffic.CopyHeader, "true"); status != 200 || said != "" {
		t.Errorf("%d %q", status, said)
	}
}

// A shadow that hangs makes nobody wait: so many copies are under way as may be, the others are dropped and counted.
func TestAShadowThatHangs(t *testing.T) {
	r := newRigWith(t, Config{Timeout: 2 * time.Second, Connections: 1000})
	hold := make(chan struct{})
	main := model(t, says("one"))
	shadow := model(t, func(w http.ResponseWriter, q *http.Request) {
		<-hold
		says("two")(w, q)
	})
	r.shadowed(main, shadow, 10000)
	const calls = 3 * mostCopies
	begin := time.Now()
	for range calls {
		if status, _, _ := r.call("POST", infer); status != 200 {
			t.Fatal(status)
		}
	}
	if took := time.Since(begin); took > 2*time.Second {
		t.Errorf("callers waited for the shadow: %s", took)
	}
	close(hold)
	pair := r.copied(calls)
	if n := pair.Candidate.Counts.Requests; n != mostCopies || pair.Paired.Dropped != calls-mostCopies {
		t.Errorf("%d copies, %+v", n, pair.Paired)
	}
}

// Copies have a part of the budget of bodies; callers come first.
func TestCopiesLeaveRoomForCallers(t *testing.T) {
	r := newRigWith(t, Config{Timeout: 2 * time.Second, Connections: 1000, Bodies: 8 << 20})
	hold := make(chan struct{})
	r.shadowed(model(t, says("one")), model(t, func(w http.ResponseWriter, q *http.Request) {
		<-hold
		says("one")(w, q)
	}), 10000)
	body := append([]byte(`{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]}],"id":"`),
		append(bytes.Repeat([]byte("x"), 300<<10), `"}`...)...)
	for range 20 {
		res, err := http.Post(r.url+infer, "application/json", bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		_ = res.Body.Close()
		if res.StatusCode != 200 {
			t.Fatal(res.StatusCode)
		}
	}
	if held := r.g.copies.held.Load(); held > 1<<20 || held == 0 {
		t.Errorf("copies hold %d bytes", held)
	}
	close(hold)
	if pair := r.copied(20); pair.Paired.Dropped < 15 || pair.Candidate.Counts.Requests < 2 {
		t.Errorf("%+v %+v", pair.Candidate.Counts, pair.Paired)
	}
}

// Whatever a shadow does, callers get main's answer, and it counts as the shadow's failure.
func TestWhateverAShadowSends(t *testing.T) {
	for name, c := range map[string]struct {
		shadow http.HandlerFunc
		class  func(sketch.Counts) uint64
	}{
		"500":       {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) }, serverErrors},
		"400":       {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(400) }, serverErrors},
		"elsewhere": {http.RedirectHandler("/there", http.StatusFound).ServeHTTP, malformeds},
		"no JSON":   {func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "<html>") }, malformeds},
		"too slow":  {func(_ http.ResponseWriter, q *http.Request) { hangs(q) }, late},
		"a panic":   {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, unreached},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newHastyRig(t)
			r.shadowed(model(t, says("one")), model(t, c.shadow), 10000)
			for range 3 {
				if status, _, _ := r.call("POST", infer); status != 200 {
					t.Fatal(status)
				}
			}
			pair := r.copied(3)
			if got := c.class(pair.Candidate.Counts); got != 3 || pair.Paired.Pairs != 0 ||
				pair.Incumbent.Counts.Failed() != 0 {
				t.Errorf("%+v", pair.Candidate.Counts)
			}
		})
	}
}

// hangs until whoever asks has given up.
func hangs(q *http.Request) {
	_, _ = io.Copy(io.Discard, q.Body) // else the server does not notice
	<-q.Context().Done()
}

func serverErrors(c sketch.Counts) uint64 { return c.ServerErrors }
func malformeds(c sketch.Counts) uint64   { return c.Malformed }
func late(c sketch.Counts) uint64         { return c.TimedOut }
func unreached(c sketch.Counts) uint64    { return c.NotReached }

// A shadow answers for nobody, also when main cannot.
func TestAShadowDoesNotHelpOut(t *testing.T) {
	r := newRig(t)
	gone := model(t, says("one"))
	r.shadowed(gone, model(t, says("two")), 10000)
	if err := r.g.Route(traffic.Route{Endpoint: "demand-hourly", Split: 5, Lanes: []traffic.RouteLane{
		laneTo(traffic.Main, 1, 10000), laneTo(traffic.Shadow, 2, 10000, gone),
	}}); err != nil {
		t.Fatal(err)
	}
	if status, _, body := r.call("POST", infer); status != 503 || strings.Contains(body, "heat-demand@2") {
		t.Errorf("%d %s", status, body)
	}
}

// Servers of other makers are shadows as well as mains: what they answer to copies is compared.
func TestShadowsOfOtherMakers(t *testing.T) {
	for name, start := range map[string]func(*testing.T) string{
		"node":   func(t *testing.T) string { return node(t, "5000") },
		"python": func(t *testing.T) string { return python(t, "1.1", "30") },
		"nginx":  func(t *testing.T) string { return nginx(t, model(t, says("one"))) },
	} {
		t.Run(name, func(t *testing.T) {
			shadow := start(t)
			r := newRigWith(t, Config{Timeout: 5 * time.Second, Connections: 64})
			r.shadowed(model(t, says("one")), shadow, 10000)
			for i := range 60 {
				if status, _, _ := r.call("POST", infer); status != 200 {
					t.Fatal(status)
				}
				if i%20 == 19 {
					r.copied(uint64(i + 1)) // so that none is dropped
				}
			}
			pair := r.copied(60)
			if c := pair.Candidate.Counts; c.Requests != 60 || c.Failed() != 0 || pair.Paired.Pairs != 60 {
				t.Errorf("%+v %s", c, fmt.Sprint(pair.Paired))
			}
		})
	}
}
