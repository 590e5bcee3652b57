package rollout

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
)

var t0 = time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC) // a Monday

func plan(t *testing.T, change ...func(*Plan)) Plan {
	t.Helper()
	p := Plan{
		Name: "tried", Kind: Canary,
		Steps: []PlanStep{
			{Share: 500, Time: span.Duration(10 * time.Second), Requests: 50},
			{Share: 5000, Time: span.Duration(5 * time.Second), Good: []string{guard.ErrorRate}},
		},
		Bake: Bake{Time: span.Duration(20 * time.Second)}, Harm: Harm{BadAnswers: 30, Share: 5000},
		Patience: span.Duration(time.Minute),
		Guards:   []guard.Guard{{Signal: guard.ErrorRate, Ratio: 2}, {Signal: guard.LatencyP99, Ratio: 2}},
	}
	for _, c := range change {
		c(&p)
	}
	p.Complete()
	if err := p.Check(); err != nil {
		t.Fatal(err)
	}
	return p
}

func twin(p *Plan) { p.Kind, p.Steps, p.Warm = BlueGreen, nil, 10 }

// copied is a twin that is warmed with copies and then held against the other by copies, shadow one that only gets
// those.
func copied(p *Plan) { twin(p); p.Copies.Share, p.Bake.Copies.Share = 2000, 1000 }

func shadow(p *Plan) {
	p.Kind, p.Steps, p.Bake = Shadow, nil, Bake{}
	p.Copies = Copies{Share: 2000, Time: span.Duration(10 * time.Second), Requests: 50}
	p.Guards = append(p.Guards, guard.Guard{Signal: guard.Disagreement, Margin: 0.1})
}

// contest is a comparison of failures.
func contest(p *Plan) {
	p.Kind, p.Steps, p.Bake = Comparison, nil, Bake{}
	p.Compare = Compare{
		Share: 5000, Signal: guard.ErrorRate, Margin: 0.01, Time: span.Duration(10 * time.Second),
		Most: span.Duration(time.Minute),
	}
}

// world is what a rollout is stepped in: it puts in force what is decided, as the service does.
type world struct {
	Rollout
	seen  Seen
	now   time.Time
	split int
	log   []Decision
}

func newWorld(p Plan) *world {
	w := &world{now: t0, split: 4, Rollout: Rollout{
		ID: "R-1", Endpoint: "demand-hourly", Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Plan: p,
		State: Start(t0),
	}}
	w.seen = Seen{Ready: true, CandidateHealthy: 1, IncumbentHealthy: 1, Split: 4, PairSince: t0}
	return w
}

func (w *world) take(next State, d *Decision) *Decision {
	if d != nil {
		if next.Share != w.Share || next.Copies != w.Copies {
			w.split++
			next.Split = w.split
			w.seen.Split = w.split
			if w.Share == 0 || next.Share == traffic.Whole || next.Copies > 0 {
				w.seen.Candidate, w.seen.Incumbent, w.seen.PairSince = sketch.Counts{}, sketch.Counts{}, w.now
			}
		}
		w.log = append(w.log, *d)
	}
	w.State = next
	return d
}

// second lets a second pass in which so many requests came.
func (w *world) second(requests, failed uint64) *Decision {
	w.now = w.now.Add(time.Second)
	if w.Share+w.Copies > 0 {
		w.seen.Candidate.Requests += requests
		w.seen.Candidate.ServerErrors += failed
		w.seen.Incumbent.Requests += 10 * requests
	}
	d := w.take(Step(w.Rollout, w.seen, w.now))
	w.seen.Actions = nil
	return d
}

func (w *world) good(signals ...string) {
	w.seen.Readings = nil
	for _, s := range signals {
		w.seen.Readings = append(w.seen.Readings, guard.Reading{Signal: s, Enough: 1})
	}
}

func (w *world) run(seconds int) {
	for range seconds {
		w.second(10, 0)
	}
}

// A canary goes up when its time has passed, its requests have come and its signals are shown good; not before.
func TestAGoodCanary(t *testing.T) {
	w := newWorld(plan(t))
	w.run(1)
	if w.Phase != Stepping || w.Share != 500 {
		t.Fatalf("%+v", w.State)
	}
	w.run(30)
	if w.Step != 0 {
		t.Fatalf("nothing is shown good, and it is at step %d", w.Step)
	}
	w.good(guard.ErrorRate)
	w.run(1)
	if w.Step != 0 { // the first step asks for all
		t.Fatal("p99 is not shown good")
	}
	w.good(guard.ErrorRate, guard.LatencyP99)
	w.run(1)
	if w.Step != 1 || w.Share != 5000 {
		t.Fatalf("%+v", w.State)
	}
	w.good(guard.ErrorRate) // the second asks for errors alone, but everything is past the cap on the share
	w.run(10)
	if w.Phase != Stepping {
		t.Fatalf("past the cap all must be shown good: %+v", w.State)
	}
	w.good(guard.ErrorRate, guard.LatencyP99)
	w.run(1)
	if w.Phase != Baking || w.Share != traffic.Whole {
		t.Fatalf("%+v", w.State)
	}
	w.run(19)
	if w.Phase != Baking {
		t.Fatal("the bake is too short")
	}
	w.run(1)
	if w.Phase != Finished || w.split != 7 {
		t.Fatalf("%+v, split %d", w.State, w.split)
	}
	want := []string{"It begins with 5 %.", "from 5 % to 50 %", "It takes over", "heat-demand@2 stays"}
	for i, d := range w.log {
		if !strings.Contains(d.Did, want[i]) || (i > 0 && !strings.Contains(d.Seen, "heat-demand@2 answered")) {
			t.Errorf("%d: %s", i, d.Sentence())
		}
	}
	if len(w.log) != 4 || !strings.Contains(w.log[1].Means, "error_rate and latency_p99 are shown good") {
		t.Errorf("%+v", w.log)
	}
}

// Time alone, or requests alone, are not enough.
func TestLeastTimeAndRequests(t *testing.T) {
	w := newWorld(plan(t))
	w.good(guard.ErrorRate, guard.LatencyP99)
	w.second(0, 0)
	for range 40 {
		w.second(1, 0)
	}
	if w.Step != 0 {
		t.Fatal("forty of fifty requests")
	}
	s := Look(w.Rollout, w.seen, w.now)
	if len(s.Waits) != 1 || s.Waits[0].For != "10 more of 50 requests" || s.Left == nil ||
		*s.Left != span.Duration(10*time.Second) {
		t.Errorf("%+v", s)
	}
	w.second(20, 0)
	if w.Step != 1 {
		t.Fatalf("%+v", w.State)
	}
	w.second(1000, 0)
	if w.Step != 1 || w.Phase != Stepping {
		t.Fatal("five seconds of time")
	}
}

func action(then guard.Response) []guard.Action {
	return []guard.Action{{
		Signal: guard.ErrorRate, Then: then, Sentence: "heat-demand@2 failed 20 of 40 requests.",
	}}
}

func TestGuards(t *testing.T) {
	for then, want := range map[guard.Response]struct {
		phase Phase
		share int
		held  bool
	}{
		guard.Notify: {Stepping, 500, false}, guard.Hold: {Stepping, 500, true}, guard.RollBack: {RolledBack, 0, false},
	} {
		w := newWorld(plan(t))
		w.run(3)
		w.seen.Actions = action(then)
		d := w.second(10, 5)
		if w.Phase != want.phase || w.Share != want.share || (w.Held != nil) != want.held || d == nil || !d.Alarm ||
			d.Signal != guard.ErrorRate || !strings.Contains(d.Sentence(), "failed 20 of 40") {
			t.Errorf("%s: %+v, %+v", then, w.State, d)
		}
	}
	// What holds does not keep a sterner guard from rolling back.
	w := newWorld(plan(t))
	w.run(3)
	w.seen.Actions = action(guard.Hold)
	w.run(1)
	w.seen.Actions = action(guard.RollBack)
	w.run(1)
	if w.Phase != RolledBack {
		t.Errorf("%+v", w.State)
	}
}

// The cap holds whatever the tests say; who resumes answers for going past it.
func TestCapOnHarm(t *testing.T) {
	w := newWorld(plan(t))
	w.run(2)
	w.seen.Incumbent.ServerErrors = w.seen.Incumbent.Requests / 10
	w.second(100, 10)
	if w.Held != nil {
		t.Fatalf("as many as the incumbent fails are no harm: %+v", w.Held)
	}
	d := w.second(40, 40)
	if w.Held == nil || !w.Held.Cap || !d.Alarm || !strings.Contains(d.Sentence(), "the plan allows 30") {
		t.Fatalf("%+v", d)
	}
	w.good(guard.ErrorRate, guard.LatencyP99)
	w.run(60)
	if w.Step != 0 {
		t.Fatal("it moved while it was held")
	}
	next, d, err := ByHand(w.Rollout, w.seen, ToResume, "runa", "the sensor was mended", w.now)
	if err != nil {
		t.Fatal(err)
	}
	w.take(next, d)
	w.run(1)
	if w.Step != 1 || !w.Waived {
		t.Errorf("%+v", w.State)
	}
}

// A version that took over and has no healthy address gives main back at once; if the other has none either,
// as soon as it has.
func TestTwin(t *testing.T) {
	w := newWorld(plan(t, twin))
	w.run(1)
	if w.Phase != Warming || w.Share != 0 {
		t.Fatalf("%+v", w.State)
	}
	w.seen.Warmed, w.seen.Cold = 4, "answered 500"
	w.run(1)
	if s := Look(w.Rollout, w.seen, w.now); w.Phase != Warming || !strings.Contains(s.Waits[0].For, "answered 500") {
		t.Fatalf("%+v", s)
	}
	w.seen.Warmed = 10
	w.run(1)
	if w.Phase != Baking || w.Share != traffic.Whole || len(w.Lanes(w.Share, w.Copies)) != 1 {
		t.Fatalf("%+v", w.State)
	}
	w.seen.CandidateHealthy, w.seen.IncumbentHealthy = 0, 0
	w.run(5)
	if w.Phase != Baking || w.Owed == "" || w.Held == nil {
		t.Fatalf("nobody can answer: %+v", w.State)
	}
	w.seen.IncumbentHealthy = 1
	d := w.second(10, 0)
	if w.Phase != RolledBack || w.Share != 0 || !d.Alarm {
		t.Errorf("%+v", w.State)
	}
}

// A shadow gets copies for as long as its plan says and until it is shown good, answers nobody, and is given up when a
// guard says so. A twin may be warmed with copies.
func TestCopies(t *testing.T) {
	w := newWorld(plan(t, shadow))
	w.run(1)
	lanes := w.Lanes(w.Share, w.Copies)
	if w.Phase != Copying || w.Share != 0 || len(lanes) != 2 || lanes[1].Kind != traffic.Shadow ||
		lanes[1].Share != 2000 || lanes[0].Share != traffic.Whole {
		t.Fatalf("%+v %+v", w.State, lanes)
	}
	w.run(20)
	if s := Look(w.Rollout, w.seen, w.now); w.Phase != Copying || !strings.Contains(inWords(s.Waits), "disagreement") {
		t.Fatalf("it is not shown good: %+v", s)
	}
	w.seen.Candidate.ServerErrors += 1000
	w.good(guard.ErrorRate, guard.LatencyP99, guard.Disagreement)
	w.run(1)
	if w.Phase != Finished || w.Share != 0 || w.Copies != 0 || w.Harm(w.seen) > 1000 {
		t.Fatalf("%+v", w.State)
	}
	w = newWorld(plan(t, shadow))
	w.run(5)
	w.seen.Actions = action(guard.RollBack)
	if d := w.second(10, 0); w.Phase != Ended || w.Copies != 0 || !d.Alarm {
		t.Fatalf("%+v %+v", w.State, d)
	}
	w = newWorld(plan(t, shadow))
	w.run(5)
	next, d, err := ByHand(w.Rollout, w.seen, ToFinish, "runa", "enough", w.now)
	if err != nil || next.Phase != Finished || next.Share != 0 || d.By != "runa" {
		t.Fatalf("%v %+v", err, next)
	}
	w.seen.Split++
	if w.second(1, 0); w.Phase != Ended || w.Copies == 0 {
		t.Fatalf("another split is in force, which stays as it is: %+v", w.State)
	}
	w = newWorld(plan(t, copied))
	w.run(1)
	if w.Phase != Warming || w.Copies != 2000 {
		t.Fatalf("%+v", w.State)
	}
	for range 10 {
		w.second(1, 0)
	}
	if w.run(1); w.Phase != Baking || w.Copies != 1000 || w.Unheard() ||
		!strings.Contains(w.log[len(w.log)-1].Did, "heat-demand@1 gets copies of 10 % while main is watched") {
		t.Fatalf("%+v %+v", w.State, w.log)
	}
	lanes = w.Lanes(w.Share, w.Copies)
	if len(lanes) != 2 || lanes[0].Version != "heat-demand@2" || lanes[1].Version != "heat-demand@1" ||
		lanes[1].Kind != traffic.Shadow || lanes[1].Share != 1000 {
		t.Errorf("%+v", lanes)
	}
	bad := w.Rollout
	_, d = Step(bad, Seen{
		Ready: true, Split: w.split, CandidateHealthy: 1, IncumbentHealthy: 1,
		Actions: []guard.Action{{Signal: guard.PredictionDrift, Then: guard.RollBack, Sentence: "Another y."}},
	}, w.now)
	if d == nil || d.Phase != RolledBack || d.Share != 0 {
		t.Errorf("it predicts otherwise with the same inputs: %+v", d)
	}
	w.run(40)
	if w.Phase != Finished || w.Share != traffic.Whole || w.Copies != 0 {
		t.Errorf("%+v", w.State)
	}
}

// A comparison keeps its share until it is decided and has lasted, ends undecided after its longest time, gives main
// everything back without a way back, and is rolled back for harm as any trial.
func TestComparison(t *testing.T) {
	w := newWorld(plan(t, contest))
	w.run(1)
	if w.Phase != Comparing || w.Share != 5000 || len(w.Lanes(w.Share, 0)) != 2 || w.Plan.Terms().Contest == nil {
		t.Fatalf("%+v", w.State)
	}
	w.seen.Verdict = &guard.Judgement{Decision: guard.Better, Low: -0.3, High: -0.1, Sentence: "It failed less."}
	w.run(5)
	if w.Phase != Comparing {
		t.Fatalf("it was decided by a few seconds: %+v", w.State)
	}
	w.run(5)
	last := w.log[len(w.log)-1]
	if w.Phase != Finished || w.Share != 0 || w.Verdict == nil || w.Verdict.Decision != guard.Better ||
		!strings.Contains(last.Sentence(), "heat-demand@2 does better. heat-demand@1 answers all") {
		t.Fatalf("%+v %s", w.State, last.Sentence())
	}
	w = newWorld(plan(t, contest))
	w.seen.Verdict = &guard.Judgement{Decision: guard.Undecided, Low: -0.02, High: 0.02}
	w.run(30)
	if s := Look(w.Rollout, w.seen, w.now); w.Phase != Comparing || s.Waits[0].Done != 0.25 ||
		!strings.Contains(inWords(s.Waits), "to be decided") {
		t.Fatalf("%+v %+v", w.State, s)
	}
	if _, _, err := ByHand(w.Rollout, w.seen, ToSpeed, "runa", "now", w.now); err == nil {
		t.Error("it was sped on undecided")
	}
	w.run(40)
	if last = w.log[len(w.log)-1]; w.Phase != Finished || !strings.Contains(last.Sentence(), "It is not decided") {
		t.Fatalf("%+v", last)
	}
	w = newWorld(plan(t, contest))
	w.run(3)
	w.seen.Actions = action(guard.RollBack)
	if w.second(10, 5); w.Phase != RolledBack || w.Share != 0 {
		t.Fatalf("%+v", w.State)
	}
	f := Foresee(plan(t, contest), Traffic{Rate: 100, Failing: 0.02})
	if len(f.Differences) != 4 || f.Differences[1].Requests <= f.Differences[3].Requests || f.Steps[0].Takes == nil ||
		f.Differences[3].Chance <= f.Differences[1].Chance || len(f.Harms) == 0 {
		t.Errorf("%+v", f)
	}
}

// While the candidate is unwell the time of a step stands still, and while hours or a freeze keep it, its patience.
func TestTimeThatDoesNotCount(t *testing.T) {
	w := newWorld(plan(t, func(p *Plan) {
		p.Hours = []Hours{{Days: []string{"mon"}, From: "08:00", To: "10:00"}}
	}))
	w.good(guard.ErrorRate, guard.LatencyP99)
	w.run(6)
	w.seen.CandidateHealthy = 0
	w.run(30)
	w.seen.CandidateHealthy = 1
	w.run(4)
	if w.Step != 0 {
		t.Fatal("the time in which it was away counted")
	}
	w.run(4)
	if w.Step != 1 {
		t.Fatalf("%+v", w.State)
	}
	w.now = t0.Add(time.Hour)
	for range 10 {
		w.now = w.now.Add(12 * time.Hour)
		w.run(1)
	}
	if w.Held != nil || w.Phase != Stepping {
		t.Fatalf("it lost its patience with the hours of its own plan: %+v", w.State)
	}
	w.now = t0.Add(7 * 24 * time.Hour)
	w.run(2)
	if w.Phase != Baking {
		t.Errorf("the hours are there again: %+v", w.State)
	}
}

// No state waits for ever: after its patience a rollout holds or is given up, and says for what it waited.
func TestPatience(t *testing.T) {
	w := newWorld(plan(t))
	w.seen.Lacking = []string{"heat-demand@2 stands on draft; demand-hourly demands live"}
	w.run(61)
	if w.Phase != Refused || !strings.Contains(w.log[0].Sentence(), "stands on draft") {
		t.Errorf("%+v, %+v", w.State, w.log)
	}
	w = newWorld(plan(t))
	w.run(80)
	if w.Held == nil || !strings.Contains(w.Held.Why, "error_rate to be shown good") || len(w.log) != 2 {
		t.Errorf("%+v, %+v", w.State, w.log)
	}
	start := t0.Add(time.Hour)
	w = newWorld(plan(t))
	w.StartsAt = &start
	w.run(3599)
	if w.Phase != Waiting {
		t.Fatalf("%+v", w.State)
	}
	w.run(1)
	if w.Phase != Stepping {
		t.Errorf("%+v", w.State)
	}
}

func TestByHand(t *testing.T) {
	do := func(w *world, verb Verb) error {
		next, d, err := ByHand(w.Rollout, w.seen, verb, "runa", "because", w.now)
		if err == nil {
			if d.By != "runa" || !strings.Contains(d.Sentence(), "because") {
				t.Errorf("%s: %+v", verb, d)
			}
			w.take(next, d)
		}
		return err
	}
	w := newWorld(plan(t))
	w.seen.Frozen = "the cold week"
	w.run(5)
	if err := do(w, ToSpeed); !fault.Is(err, fault.Refused) || w.Phase != Waiting {
		t.Errorf("a freeze: %v", err)
	}
	w.seen.Frozen = ""
	for _, verb := range []Verb{ToSpeed, ToHold, ToResume, ToSpeed} {
		if err := do(w, verb); err != nil {
			t.Fatalf("%s: %v", verb, err)
		}
	}
	if w.Step != 1 || w.Share != 5000 {
		t.Fatalf("%+v", w.State)
	}
	if err := do(w, ToSpeed); !fault.Is(err, fault.Refused) {
		t.Errorf("past the cap on the share: %v", err)
	}
	if err := do(w, ToFinish); err != nil || w.Phase != Baking {
		t.Fatalf("%v, %+v", err, w.State)
	}
	if err := do(w, ToSpeed); !fault.Is(err, fault.Refused) {
		t.Errorf("nothing comes after the bake: %v", err)
	}
	if err := do(w, ToEnd); err != nil || w.Phase != Ended || w.Share != 0 {
		t.Fatalf("%v, %+v", err, w.State)
	}
	if err := do(w, ToHold); !fault.Is(err, fault.Refused) {
		t.Errorf("it is over: %v", err)
	}
	if _, _, err := ByHand(w.Rollout, w.seen, ToEnd, "runa", " ", w.now); fault.Code(err) != "reason.missing" {
		t.Error(err)
	}
	if _, _, err := ByHand(w.Rollout, w.seen, "dance", "runa", "x", w.now); fault.Code(err) != "rollout.do" {
		t.Error(err)
	}
}

// From any state that can be reached every event leads to one that is defined: shares add up, steps come one
// by one, a way back is always there, and a state that waits says for what.
func TestAnyOrderOfEvents(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 14))
		p := plan(t, [](func(*Plan)){func(*Plan) {}, twin, copied, shadow, contest}[r.IntN(5)])
		w := newWorld(p)
		for event := range 150 {
			before, logged := w.State, len(w.log)
			what := w.random(r)
			ok := func(cond bool, why string) {
				if !cond {
					t.Fatalf("seed %d, event %d, %s: %s\nbefore %+v\nafter %+v\n%+v", seed, event, what, why, before,
						w.State, w.log)
				}
			}
			if before.Phase.Over() {
				ok(reflect.DeepEqual(before, w.State), "what is over changed")
				break
			}
			ok(traffic.CheckLanes(w.Lanes(w.Share, w.Copies)) == nil, "shares do not add up")
			ok(w.Phase != Stepping || w.Share == p.Steps[w.Step].Share, "the share is not that of the step")
			ok((w.Phase == Baking || w.Phase == Finished) == (w.Share == traffic.Whole) || w.Phase.Over(),
				"share and phase differ")
			ok(p.Kind != Shadow || w.Share == 0, "a shadow answers callers")
			ok((w.Phase == Comparing) == (w.Share == p.Compare.Share && w.Share > 0) || w.Phase.Over() ||
				p.Kind != Comparison, "a comparison has another share than its plan")
			ok((w.Copies > 0) == (w.Phase == Copying || (w.Phase == Warming && p.Copies.Share > 0) ||
				(w.Phase == Baking && p.Bake.Copies.Share > 0)) || w.Phase.Over(),
				"copies and phase differ")
			ok(w.Step-before.Step <= 1 || w.Phase != Stepping, "a step was skipped")
			ok(w.Step >= before.Step || w.Phase.Over(), "a step was gone back")
			changed := before.Phase != w.Phase || before.Share != w.Share || before.Step != w.Step ||
				(before.Held == nil) != (w.Held == nil)
			ok(changed == (len(w.log) > logged) || !changed, "it moved without a word")
			if !w.Phase.Over() {
				s := Look(w.Rollout, w.seen, w.now)
				next, _ := Step(w.Rollout, w.seen, w.now)
				moves := next.Phase != w.Phase || next.Share != w.Share || next.Held != nil ||
					next.Copies != w.Copies
				ok(len(s.Waits) > 0 || moves || w.Held != nil, "it waits for nothing that it names")
				if w.seen.IncumbentHealthy > 0 {
					_, _, err := ByHand(w.Rollout, w.seen, ToEnd, "runa", "away", w.now)
					ok(err == nil, fmt.Sprintf("there is no way back: %v", err))
				}
			}
			stored, err := json.Marshal(w.State)
			var back State
			ok(err == nil && json.Unmarshal(stored, &back) == nil, "it cannot be stored")
			w.State = back
		}
	}
}

// random makes something happen.
func (w *world) random(r *rand.Rand) string {
	coin := func(n int) bool { return r.IntN(n) == 0 }
	w.seen.CandidateHealthy, w.seen.IncumbentHealthy = r.IntN(3), r.IntN(3)
	if w.seen.Ready = !coin(10); coin(2) {
		w.good(guard.ErrorRate, guard.LatencyP99, guard.Disagreement)
	}
	w.seen.Frozen, w.seen.Lacking = "", nil
	if coin(15) {
		w.seen.Frozen = "quiet week"
	}
	if coin(10) {
		w.seen.Lacking = []string{"a signature"}
	}
	w.seen.Warmed = r.IntN(12)
	w.seen.Verdict = &guard.Judgement{Decision: guard.Undecided, Low: -1, High: 1}
	if coin(8) {
		w.seen.Verdict = &guard.Judgement{Decision: guard.Worse, Low: 0, High: 0.1}
	}
	if coin(12) && w.Share+w.Copies > 0 {
		w.seen.Actions = action(guard.Responses[r.IntN(3)])
	}
	if coin(60) {
		w.split++
		w.seen.Split = w.split
	}
	if coin(4) {
		w.seen.Actions = nil // they are for whoever steps it
		verb := Verbs[r.IntN(len(Verbs))]
		next, d, err := ByHand(w.Rollout, w.seen, verb, "runa", "by the way", w.now)
		var f *fault.Fault
		if err != nil && !errors.As(err, &f) {
			panic(err)
		}
		if err == nil {
			w.take(next, d)
		}
		return string(verb)
	}
	w.now = w.now.Add(time.Duration(r.IntN(20)) * time.Second)
	w.second(uint64(r.IntN(40)), uint64(r.IntN(3)))
	return "a second"
}

func TestPlansThatCannotBeFollowed(t *testing.T) {
	for field, change := range map[string]func(*Plan){
		"name":              func(p *Plan) { p.Name = "A b" },
		"kind":              func(p *Plan) { p.Kind = "leap" },
		"steps":             func(p *Plan) { p.Steps = nil },
		"steps[1].share":    func(p *Plan) { p.Steps[1].Share = 500 },
		"steps[0].time":     func(p *Plan) { p.Steps[0].Time = -1 },
		"steps[1].good":     func(p *Plan) { p.Steps[1].Good = []string{"wrath"} },
		"first":             func(p *Plan) { p.Kind, p.Steps, p.First = BlueGreen, nil, []string{"key is beta-app"} },
		"first[0]":          func(p *Plan) { p.First = []string{"key"} },
		"first[1].on":       func(p *Plan) { p.First = []string{"key is app", "moon is full"} },
		"first[0].matches":  func(p *Plan) { p.First = []string{"key matches ["} },
		"warm":              func(p *Plan) { p.Warm = 5 },
		"bake":              func(p *Plan) { p.Bake = Bake{} },
		"bake.time":         func(p *Plan) { p.Bake.Time = -1 },
		"bake.copies.share": func(p *Plan) { p.Bake.Copies.Share = 10_001 },
		"patience":          func(p *Plan) { p.Patience = 1 },
		"harm.bad_answers":  func(p *Plan) { p.Harm.BadAnswers = -1 },
		"harm.share":        func(p *Plan) { p.Harm.Share = 10_001 },
		"capacity":          func(p *Plan) { p.Capacity = -1 },
		"guards[0].margin":  func(p *Plan) { p.Guards[0].Margin = 7 },
		"alpha":             func(p *Plan) { p.Alpha = 2 },
		"hours[0].zone":     func(p *Plan) { p.Hours = []Hours{{From: "08:00", To: "09:00", Zone: "Mars/Base"}} },
		"hours[0].from":     func(p *Plan) { p.Hours = []Hours{{From: "8", To: "09:00"}} },
		"hours[0].to":       func(p *Plan) { p.Hours = []Hours{{From: "08:00", To: "25:00"}} },
		"hours[0].days":     func(p *Plan) { p.Hours = []Hours{{From: "08:00", To: "09:00", Days: []string{"moon"}}} },
	} {
		p := plan(t)
		change(&p)
		err := p.Check()
		var f *fault.Fault
		if !errors.As(err, &f) || f.Field != field || f.Remedy == "" {
			t.Errorf("%s: %v (%+v)", field, err, f)
		}
	}
	for _, p := range BuiltIn() {
		if err := p.Check(); err != nil || !IsBuiltIn(p.Name) || p.About == "" {
			t.Errorf("%s: %v", p.Name, err)
		}
	}
}

// Whom a plan names goes to the candidate while that is on trial; rules of the endpoint come before, and stay.
func TestRulesOfAPlan(t *testing.T) {
	p := plan(t)
	p.First = []string{"key is beta-app"}
	r := Rollout{Plan: p, Incumbent: "m@1", Candidate: "m@2"}
	own, err := traffic.ParseRule("rule", "header X-Team is desk to m@1")
	if err != nil {
		t.Fatal(err)
	}
	first := r.Rules([]traffic.Rule{own}, r.Lanes(500, 0))
	second := r.Rules(first, r.Lanes(5000, 0))
	if len(first) != 2 || first[1].String() != "key is beta-app → m@2" || !reflect.DeepEqual(first, second) {
		t.Errorf("%v, then %v", first, second)
	}
	if after := r.Rules(second, r.Lanes(traffic.Whole, 0)); len(after) != 0 {
		t.Errorf("after it has taken over: %v", after)
	}
}

func TestHours(t *testing.T) {
	night := Hours{Days: []string{"fri"}, From: "22:00", To: "02:00"}
	day := Hours{Days: []string{"mon", "tue"}, From: "08:00", To: "16:30", Zone: "Europe/Oslo"}
	for text, want := range map[string][2]bool{
		"2026-01-16T22:00:00Z": {true, false}, "2026-01-17T01:59:59Z": {true, false},
		"2026-01-17T02:00:00Z": {false, false}, "2026-01-16T01:00:00Z": {false, false},
		"2026-01-12T07:00:00Z": {false, true}, "2026-01-12T15:30:00Z": {false, false},
		"2026-07-13T06:00:00Z": {false, true}, // summer time
	} {
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			t.Fatal(err)
		}
		_, isNight := night.window().InForce(at)
		_, isDay := day.window().InForce(at)
		if isNight != want[0] || isDay != want[1] {
			t.Errorf("%s: %v, %v", text, isNight, isDay)
		}
	}
}

// A forecast grows with what is asked for and shrinks with traffic, and says when it cannot tell.
func TestForesee(t *testing.T) {
	beyond := map[string]float64{guard.LatencyP99: 0.001}
	quiet := Foresee(plan(t), Traffic{Rate: 1, Rows: 1, Failing: 0.001, Beyond: beyond})
	busy := Foresee(plan(t), Traffic{Rate: 100, Rows: 100, Failing: 0.001, Beyond: beyond})
	if busy.Takes == nil || quiet.Takes == nil || *busy.Takes >= *quiet.Takes {
		t.Fatalf("busy %v, quiet %v", busy.Takes, quiet.Takes)
	}
	if len(busy.Steps) != 3 || !strings.Contains(busy.Steps[0].Because, "must be shown good") {
		t.Errorf("%+v", busy.Steps)
	}
	last := -1.0
	for _, h := range busy.Harms { // from the worst on
		if h.More < 1 && h.After != nil && time.Duration(*h.After).Seconds() < last {
			t.Errorf("a smaller harm is noticed sooner: %+v", busy.Harms)
		}
		if h.After != nil {
			last = time.Duration(*h.After).Seconds()
		}
		if h.Noticed < 0 || h.Noticed > 1 || (h.Noticed == 1 && h.BadAnswers <= 0) {
			t.Errorf("%+v", h)
		}
	}
	if none := Foresee(plan(t), Traffic{}); none.Takes != nil || len(none.Notes) == 0 || len(none.Harms) != 0 {
		t.Errorf("%+v", none)
	}
	if f := Foresee(plan(t, twin), Traffic{Rate: 10}); f.Takes == nil || len(f.Steps) != 2 {
		t.Errorf("%+v", f)
	}
	if _, err := json.Marshal(Foresee(plan(t), Traffic{Rate: 1e-9})); err != nil {
		t.Error(err)
	}
}

// While a rollout waits, what somebody did by hand is still held to the endpoint's own terms; its plan's count with
// the first share.
func TestWhoseTermsCount(t *testing.T) {
	own := guard.Terms{Guards: []guard.Guard{{Signal: guard.ErrorRate, Margin: 0.003}}, Alpha: 0.01}
	r := &Rollout{Plan: plan(t)}
	if got := r.Terms(own); got.Alpha != own.Alpha || got.Guards[0] != own.Guards[0] {
		t.Errorf("while it waits: %+v", got)
	}
	r.Share = 500
	if got := r.Terms(own); got.Alpha != r.Plan.Alpha {
		t.Errorf("on its way: %+v", got)
	}
	r = nil
	if got := r.Terms(own); got.Alpha != own.Alpha {
		t.Errorf("without one: %+v", got)
	}
}

// Of signals whose values come later a forecast knows how many come and how far they spread; where none came it says
// that nothing is known.
func TestForeseeValues(t *testing.T) {
	with := func(p *Plan) {
		p.Guards = append(p.Guards, guard.Guard{Signal: "custom.cost", Margin: 0.5, Then: guard.Hold},
			guard.Guard{Signal: "accuracy", Margin: 0.05, Then: guard.Hold})
	}
	busy := Traffic{
		Rate: 100, Rows: 100, Failing: 0.001, Beyond: map[string]float64{guard.LatencyP99: 0.001},
	}
	none := Foresee(plan(t, with), busy)
	if says := none.Sentence(); none.Takes != nil || !strings.Contains(says, "Of custom.cost fewer than 20 values") ||
		!strings.Contains(says, "Of accuracy fewer than") {
		t.Errorf("%s", says)
	}
	takes := func(rate, deviation float64) time.Duration {
		t.Helper()
		r := rand.New(rand.NewPCG(1, 2))
		var costs, wrong Reported
		for i := range 1000 {
			costs.Add(3 + deviation*r.NormFloat64())
			wrong.Add(float64(i % 20 / 19))
		}
		costs.Rate, wrong.Rate = rate, rate
		busy.Reported = map[string]Reported{"custom.cost": costs, "accuracy.state": wrong}
		f := Foresee(plan(t, with), busy)
		if f.Takes == nil || strings.Contains(f.Sentence(), "fewer than 20 values") {
			t.Fatalf("%s", f.Sentence())
		}
		return time.Duration(*f.Takes)
	}
	usual, seldom, wide := takes(50, 1), takes(1, 1), takes(1, 4)
	if usual >= seldom || seldom >= wide {
		t.Errorf("many reports %s, few %s, few that spread %s", usual, seldom, wide)
	}
}

// A comparison by values knows how long it takes from those that came, and says so where none did.
func TestForeseeAComparisonByValues(t *testing.T) {
	by := func(signal string, margin float64) func(*Plan) {
		return func(p *Plan) {
			contest(p)
			p.Compare.Signal, p.Compare.Margin = signal, margin
		}
	}
	r := rand.New(rand.NewPCG(1, 2))
	var costs, wrong Reported
	for i := range 1000 {
		costs.Add(3 + r.NormFloat64())
		wrong.Add(float64(i % 20 / 19))
	}
	costs.Rate, wrong.Rate = 50, 50
	busy := Traffic{
		Rate: 100, Failing: 0.02, Reported: map[string]Reported{"custom.cost": costs, "accuracy.state": wrong},
	}
	for signal, margin := range map[string]float64{"custom.cost": 0.5, "accuracy.state": 0.05} {
		p := plan(t, by(signal, margin))
		f := Foresee(p, busy)
		if len(f.Differences) != 4 || f.Differences[1].Requests <= f.Differences[3].Requests ||
			f.Differences[1].After == nil ||
			f.Differences[3].Chance < f.Differences[1].Chance {
			t.Errorf("%s: %+v", signal, f)
		}
		none := Foresee(p, Traffic{Rate: 100})
		if len(none.Differences) != 0 || !strings.Contains(none.Sentence(), "Of "+signal+" fewer than 20 values") ||
			!strings.Contains(none.Steps[0].Because, "without values of "+signal) {
			t.Errorf("%s: %s, %+v", signal, none.Sentence(), none.Steps)
		}
	}
}
