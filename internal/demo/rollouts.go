package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/wire"
)

// Stories are those that can be played alone.
var Stories = []string{
	"good-canary", "bad-canary", "slow-twin", "repeated-rows", "quiet-draft", "cold-snap",
	"caught-early",
}

// alone is one story with what must be there for it.
func (p *play) alone(ctx, calling context.Context) []chapter {
	tell := map[string]chapter{
		"good-canary":   {"a good canary takes over", func() error { return p.goodCanary(ctx) }},
		"bad-canary":    {"a bad canary is rolled back", func() error { return p.badCanary(ctx) }},
		"slow-twin":     {"a slow twin is switched back", func() error { return p.slowTwin(ctx) }},
		"repeated-rows": {"a test script proves nothing", func() error { return p.repeatedRows(ctx) }},
		"cold-snap":     {"the weather moves, and nothing else", func() error { return p.coldSnap(ctx) }},
		"caught-early":  {"a proof keeps a bad version from everybody", func() error { return p.caughtEarly(ctx) }},
		"quiet-draft":   {"a draft answers copies and nobody else", func() error { return p.leaveReview(ctx) }},
	}
	return []chapter{
		{"the service runs", func() error { return p.startService(ctx) }},
		{"the town is generated", p.generate},
		{"projects, people and data sets are there", func() error { return p.furnish(ctx) }},
		{"versions are registered, approved and placed", func() error { return p.openingNight(ctx) }},
		{"callers call", func() error { p.startCalling(calling); return nil }},
		tell[p.Story],
	}
}

// swift is the plan of the demo's canaries: what takes hours elsewhere takes seconds here. It asks for the 95th
// percentile: to show the 99th good takes a thousand requests and more, on a busy machine most of the first minute.
const swift = `name: swift
kind: canary
about: "A quarter, then half, some seconds each: for trying things out."
steps:
  - share: 25 %
    time: 6s
    requests: 200
  - share: 50 %
    time: 4s
    requests: 200
bake:
  time: 10s
  requests: 200
guards:
  - signal: error_rate
    ratio: 2
    margin: 0.02
  - signal: timeout_rate
    ratio: 2
    margin: 0.02
  - signal: latency_p50
    ratio: 2
    margin: 10
  - signal: latency_p95
    ratio: 2
    margin: 25
  - signal: prediction_drift
    margin: 0.2
  - signal: missing_outputs
    margin: 0.05
harm:
  bad_answers: 100
  share: 25 %
capacity: 1
patience: 5m
`

// twin is the plan of the slow twin.
const twin = `name: swift-twin
kind: blue_green
about: "Warmed, then everything at once: for trying things out."
warm: 30
bake:
  time: 40s
  requests: 200
guards:
  - signal: error_rate
    ratio: 2
    margin: 0.02
  - signal: latency_p50
    ratio: 1.5
    margin: 10
  - signal: missing_outputs
    margin: 0.05
capacity: 1
patience: 5m
`

// beside is the plan of a draft that answers copies.
const beside = `name: beside
kind: shadow
about: "Half of the requests is copied for some seconds: for trying things out."
copies:
  share: 50 %
  time: 8s
  requests: 100
  tolerance: 0.02
guards:
  - signal: error_rate
    ratio: 2
    margin: 0.05
  - signal: disagreement
    margin: 0.05
    then: notify
capacity: 0
patience: 5m
`

// onCopies has a draft answer copies of what callers of return-forecast ask, and says what that showed.
func (p *play) onCopies(ctx context.Context) (ref string, err error) {
	r, err := p.returnRelease("the mix of buildings added",
		append(returnTerms(), is("mix", "harbour"), is("mix", "terraces"), is("mix", "works")))
	if err != nil {
		return "", err
	}
	ref, file, err := p.register(ctx, r)
	if err != nil {
		return "", err
	}
	if err := p.place(ctx, r, ref, file, "plant-north"); err != nil {
		return "", err
	}
	o, err := p.roll(ctx, move{
		endpoint: "return-forecast", project: forecasting, to: ref, plan: beside,
		why: "before anybody is asked to sign",
	})
	if err != nil {
		return "", err
	}
	if o.Phase != rollout.Finished || o.Copies == nil || o.Evidence == "" {
		return "", fmt.Errorf("the draft is %s", o.Phase.InWords())
	}
	p.say("%s: %s", o.Evidence, o.Copies.Sentence())
	return ref, nil
}

// move is a rollout of the demo.
type move struct {
	endpoint, project string
	to, plan, why     string
	// until says when the demo has seen enough; when it is over where that is nil.
	until func(wire.ShownRollout) bool
}

// roll moves an endpoint to a version by a plan and says each decision, until enough was seen.
func (p *play) roll(ctx context.Context, m move) (wire.ShownRollout, error) {
	if m.endpoint == "" {
		m.endpoint, m.project = "demand-hourly", forecasting
	}
	if m.until == nil {
		m.until = func(o wire.ShownRollout) bool { return o.Phase.Over() }
	}
	name, _, _ := strings.Cut(strings.TrimPrefix(m.plan, "name: "), "\n")
	if _, err := p.runa.PutPlan(ctx, m.project, m.plan, "for trying things out"); err != nil &&
		client.Code(err) != "plan.same" {
		return wire.ShownRollout{}, err
	}
	started, err := p.runa.Roll(ctx, m.endpoint, wire.NewRollout{To: m.to, Plan: name, Reason: m.why})
	if err != nil {
		return wire.ShownRollout{}, err
	}
	limit, cancel := context.WithTimeout(ctx, overWithin)
	defer cancel()
	for said := 0; ; {
		o, err := p.runa.Rollout(limit, started.ID)
		if err != nil {
			return o, err
		}
		for ; said < len(o.Decisions); said++ {
			p.say("%s: %s", o.ID, o.Decisions[said].Sentence())
		}
		if m.until(o) {
			return o, nil
		}
		if err := wait(limit, 200*time.Millisecond); err != nil {
			if ctx.Err() == nil {
				return o, fmt.Errorf("%s is not over within %s", o.ID, overWithin)
			}
			return o, err
		}
	}
}

// slowTwin switches valve-check to a version that is as right and takes ten times as long; main goes back.
func (p *play) slowTwin(ctx context.Context) error {
	if err := wait(ctx, 6*time.Second); err != nil { // what was before must be known
		return err
	}
	r, err := p.valveRelease("more thorough", valveTerms())
	if err != nil {
		return err
	}
	r.computing = "60ms"
	ref, err := p.bring(ctx, r, "plant-south")
	if err != nil {
		return err
	}
	p.say("%s is registered, signed and placed; it computes for %s", ref, r.computing)
	o, err := p.roll(ctx, move{
		endpoint: "valve-check", project: maintenance, to: ref, plan: twin, why: "more thorough",
	})
	if err != nil {
		return err
	}
	if o.Phase != rollout.RolledBack || o.Decisions[len(o.Decisions)-1].Signal != guard.LatencyP50 {
		return fmt.Errorf("the slow twin is %s", o.Phase.InWords())
	}
	return nil
}

// repeatedRows has a script send the same two rows for as long as a canary lasts: nothing is proven by that, and
// nothing alarmed.
func (p *play) repeatedRows(ctx context.Context) error {
	c := p.callers["demand-hourly"]
	c.only(2)
	if err := wait(ctx, 3*time.Second); err != nil {
		return err
	}
	r, err := p.demandRelease("the wind added", windTerms(), asTheyAre)
	if err != nil {
		return err
	}
	ref, err := p.bring(ctx, r, "plant-north")
	if err != nil {
		return err
	}
	o, err := p.roll(ctx, move{
		to: ref, plan: strings.Replace(swift, "patience: 5m", "patience: 15s", 1), why: "the wind added",
		until: func(o wire.ShownRollout) bool { return o.Held != nil || o.Phase.Over() },
	})
	if err != nil {
		return err
	}
	if o.Held == nil || !strings.Contains(o.Held.Why, guard.PredictionDrift) {
		return errors.New("two rows proved something, or alarmed somebody")
	}
	i := slices.IndexFunc(o.Guards, func(g guard.Reading) bool { return g.Signal == guard.PredictionDrift })
	if i < 0 || !strings.Contains(o.Guards[i].Sentence, "not enough to tell") {
		return fmt.Errorf("the guard on predictions does not say that it cannot tell: %+v", o.Guards)
	}
	p.say("%s: %s", ref, o.Guards[i].Sentence)
	return nil
}
