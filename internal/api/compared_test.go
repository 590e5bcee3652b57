package api_test

import (
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/compare"
)

// compared puts heat-demand@2 beside heat-demand@1.
func (r *rig) compared(over client.Over) compare.Comparison {
	r.t.Helper()
	all, err := r.runa.Compare(r.t.Context(), "demand-hourly", "heat-demand@1", []string{"heat-demand@2"}, over)
	must(r.t, err)
	if len(all.Items) != 1 {
		r.t.Fatalf("%d comparisons", len(all.Items))
	}
	return all.Items[0]
}

// calls calls the endpoint so many times.
func (r *rig) calls(n int) {
	for range n {
		r.infer(1)
	}
}

// A comparison is of a trial, a split or a window; of the last trial when nothing is said, however long ago
// that was.
func TestWhatIsCompared(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	_, err := r.runa.Compare(ctx, "demand-hourly", "", nil, client.Over{})
	wantCode(t, "before any trial", err, "compare.no_trial")
	never := r.compared(client.Over{})
	if !strings.Contains(never.Of, "never on trial together") || never.Rows[1].Incumbent != nil {
		t.Errorf("never tried: %+v", never)
	}
	for _, share := range []int{5000, 2000} {
		_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000-share, share), "a step", -1)
		must(t, err)
		r.calls(60)
	}
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "it was enough", -1)
	must(t, err)
	r.calls(20)
	var trial compare.Comparison
	until(t, "all requests of the trial are counted", func() bool {
		all, err := r.runa.Compare(ctx, "demand-hourly", "", nil, client.Over{})
		must(t, err)
		trial = all.Items[0]
		return trial.IncumbentRequests+trial.CandidateRequests == 120
	})
	if trial.Of != "the trial that began with #2" || trial.Incumbent != "heat-demand@1" || len(trial.Draws) != 2 ||
		trial.Candidate != "heat-demand@2" || len(trial.Notes) != 0 || trial.Draws[0].CandidateShare != 2000 {
		t.Errorf("%s: %+v, %q", trial.Of, trial.Draws, trial.Notes)
	}
	if one := r.compared(client.Over{Split: 3}); one.IncumbentRequests+one.CandidateRequests != 60 ||
		one.Of != "split #3" || len(one.Draws) != 1 {
		t.Errorf("%s: %d requests, %+v", one.Of, one.IncumbentRequests+one.CandidateRequests, one.Draws)
	}
	until(t, "what came after the trial is left out of a window", func() bool {
		window := r.compared(client.Over{Window: 10 * time.Minute})
		return window.IncumbentRequests+window.CandidateRequests == 120 && len(window.Notes) == 1 &&
			strings.HasPrefix(window.Sentence, "Left out: ") &&
			strings.Contains(window.Sentence, "in which only heat-demand@1 answered (20 requests)")
	})
	_, err = r.runa.Compare(ctx, "demand-hourly", "", []string{"heat-demand@2"}, client.Over{Split: 4})
	wantCode(t, "a split without a trial", err, "compare.no_trial")
	_, err = r.runa.Compare(ctx, "demand-hourly", "", nil, client.Over{Split: 40})
	wantCode(t, "no such split", err, "split.unknown")
	_, err = r.runa.Compare(ctx, "demand-hourly", "", nil, client.Over{Split: 3, Window: time.Hour})
	wantCode(t, "both", err, "compare.span")
	_, err = r.runa.Compare(ctx, "demand-hourly", "", nil, client.Over{Until: time.Now()})
	wantCode(t, "an end without a beginning", err, "compare.span")
	_, err = r.runa.Compare(ctx, "demand-hourly", "heat-demand@1", []string{"heat-demand@1"}, client.Over{})
	wantCode(t, "with itself", err, "compare.same")
	_, err = r.runa.Compare(ctx, "demand-hourly", "heat-demand@1", []string{"heat-demand@2", "heat-demand@2"},
		client.Over{})
	wantCode(t, "twice", err, "compare.twice")
	_, err = r.runa.Compare(ctx, "demand-hourly", "heat-demand@1", make([]string, 11), client.Over{})
	wantCode(t, "eleven", err, "compare.many")
}

// A lane whose server is gone hands its requests over: what it was drawn for and did not answer is said
// before anything else.
func TestALaneThatDiesIsAMismatch(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "half and half", -1)
	must(t, err)
	r.calls(100)
	two.Close()
	r.calls(900) // the test asks for some hundred before it calls it more than chance
	until(t, "the mismatch is said", func() bool {
		c := r.compared(client.Over{})
		return strings.Contains(c.Mismatch, "drawn for heat-demand@2 were answered by another version") &&
			strings.HasPrefix(c.Sentence, c.Mismatch)
	})
}

// A main lane that is out for moments now and then is no better than a trial that is so too: as much is allowed
// of that, and what fails for good is rolled back all the same.
func TestATrialIsHeldToWhatMainDoesItself(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	one, two := r.twoVersions()
	counted := func(n uint64) {
		until(t, "the requests are counted", func() bool {
			now, err := r.runa.EndpointNow(ctx, "demand-hourly")
			must(t, err)
			return now.Lanes[0].Requests >= n
		})
	}
	r.calls(300)
	counted(300)
	one.failing.Store(true)
	r.calls(120)
	one.failing.Store(false)
	r.calls(100)
	counted(520)
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "a look", -1)
	must(t, err)
	r.calls(200)
	two.failing.Store(true)
	r.calls(80)
	two.failing.Store(false)
	r.calls(100)
	until(t, "the guard has seen the failures", func() bool {
		now, err := r.runa.EndpointNow(ctx, "demand-hourly")
		must(t, err)
		return strings.Contains(now.Guards[0].Sentence, "was out for moments itself")
	})
	if e, err := r.runa.Endpoint(ctx, "demand-hourly"); err != nil || e.Split.Number != 2 {
		t.Fatalf("%+v, %v", e.Split, err)
	}
	two.failing.Store(true)
	until(t, "what fails for good is rolled back", func() bool {
		r.calls(50)
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return e.Split.Number == 3
	})
}
