// Package conductor is the clock: every second it checks the health of all placements,
// steps the watching of every trial and every open promotion, and has the service carry
// out what follows.
package conductor

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"innerladder/internal/core/rollout"
	"innerladder/internal/core/watch"
	"innerladder/internal/service"
	"innerladder/internal/store"
)

const (
	// every is how often everything is looked at.
	every = time.Second
	// unhealthyAfter is how many checks in a row must fail.
	unhealthyAfter = 2
)

// Gateway is what the conductor tells the gateway.
type Gateway interface {
	// MarkUp says that a model was found ready at an address.
	MarkUp(address, model string)
}

// Conductor drives what must happen without anybody asking.
type Conductor struct {
	service *service.Service
	gateway Gateway
	log     *slog.Logger

	// health is where the health watch of each address of each placement stands.
	mu     sync.Mutex
	health map[addressKey]watch.State
	// forgot is when what is old was last removed.
	forgot time.Time
	// hurry asks for a round of checks at once.
	hurry chan struct{}
}

type addressKey struct {
	placement int64
	url       string
}

// New makes a conductor.
func New(s *service.Service, g Gateway, log *slog.Logger) *Conductor {
	return &Conductor{service: s, gateway: g, log: log, health: map[addressKey]watch.State{}, hurry: make(chan struct{}, 1)}
}

// Unreachable asks for a round of health checks at once; it never waits.
func (c *Conductor) Unreachable(string) {
	select {
	case c.hurry <- struct{}{}:
	default:
	}
}

// Run works until ctx is done.
func (c *Conductor) Run(ctx context.Context) {
	ctx = service.BySelf(ctx)
	var wait sync.WaitGroup
	// Health checks wait for model servers; the guards must not wait with them.
	wait.Go(func() { c.loop(ctx, "health", c.hurry, c.checkHealth) })
	wait.Go(func() { c.loop(ctx, "guards", nil, c.stepTrials) })
	wait.Go(func() { c.loop(ctx, "promotions", nil, c.service.StepPromotions) })
	wait.Go(func() { c.loop(ctx, "deliveries", nil, c.service.Deliver) })
	wait.Go(func() { c.loop(ctx, "index of the record", nil, c.service.IndexRecord) })
	wait.Go(func() { c.loop(ctx, "forgetting", nil, c.forgetOld) })
	wait.Wait()
}

func (c *Conductor) loop(ctx context.Context, what string, hurry <-chan struct{}, work func(context.Context) error) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		if err := work(ctx); err != nil && ctx.Err() == nil {
			c.log.Error("a round was not finished; trying again", "round", what, "error", err)
		}
		select {
		case <-tick.C:
		case <-hurry:
		case <-ctx.Done():
			return
		}
	}
}

// forgetEvery is how often what is old is removed.
const forgetEvery = time.Hour

// forgetOld removes from time to time what is older than it is kept for.
func (c *Conductor) forgetOld(ctx context.Context) error {
	if time.Since(c.forgot) < forgetEvery {
		return nil
	}
	err := c.service.Forget(ctx)
	if err == nil {
		c.forgot = time.Now()
	}
	return err
}

// checkHealth asks every address of every placement whether it is ready.
func (c *Conductor) checkHealth(ctx context.Context) error {
	if c.service.Unrouted() {
		if err := c.service.Reroute(ctx); err != nil {
			return err
		}
	}
	placements, err := c.service.Placements(ctx, "")
	if err != nil {
		return err
	}
	c.forget(placements.Items)
	var wait sync.WaitGroup
	for _, p := range placements.Items {
		for _, a := range p.Addresses {
			wait.Go(func() {
				if err := c.check(ctx, p, a); err != nil && ctx.Err() == nil {
					c.log.Error("a change of health was not recorded", "version", p.Version, "address", a.URL, "error", err)
				}
			})
		}
	}
	wait.Wait()
	return nil
}

func (c *Conductor) check(ctx context.Context, p store.Placement, a store.Address) error {
	reason := ""
	if err := c.service.Check(ctx, p, a.URL); err != nil {
		if ctx.Err() != nil {
			return nil // we are stopping; that says nothing about the server
		}
		reason = err.Error()
	}
	key := addressKey{p.ID, a.URL}
	c.mu.Lock()
	state, known := c.health[key]
	if !known {
		state = watch.State{Healthy: a.Healthy}
	}
	state, turn := watch.Health{After: unhealthyAfter}.Step(state, reason, time.Now())
	c.health[key] = state
	c.mu.Unlock()
	if reason == "" {
		c.gateway.MarkUp(a.URL, p.ServedAs)
	}
	// What is recorded counts, not what was turned: a change that was not recorded the
	// last time is recorded now.
	switch {
	case turn == watch.Fell, !state.Healthy && a.Healthy:
		c.log.Warn("a placement fell", "version", p.Version, "environment", p.Environment, "address", a.URL, "reason", reason)
		return c.service.SetHealth(ctx, p, a.URL, state.Reason, state.Sentence(p.Version, p.Environment))
	case turn == watch.Recovered, state.Healthy && !a.Healthy:
		c.log.Info("a placement recovered", "version", p.Version, "environment", p.Environment, "address", a.URL)
		return c.service.SetHealth(ctx, p, a.URL, "", "")
	}
	return nil
}

// forget drops what is known of placements that are gone.
func (c *Conductor) forget(placements []store.Placement) {
	there := map[int64]bool{}
	for _, p := range placements {
		there[p.ID] = true
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for key := range c.health {
		if !there[key.placement] {
			delete(c.health, key)
		}
	}
}

// stepTrials steps the watching of every endpoint whose split has a trial lane.
func (c *Conductor) stepTrials(ctx context.Context) error {
	endpoints, err := c.service.Endpoints(ctx)
	if err != nil {
		return err
	}
	for _, e := range endpoints.Items {
		if e.Split == nil || len(e.Split.Trials()) == 0 {
			continue
		}
		if err := c.stepTrial(ctx, e); err != nil {
			return fmt.Errorf("watching %s: %w", e.Name, err)
		}
	}
	return nil
}

func (c *Conductor) stepTrial(ctx context.Context, e store.Endpoint) error {
	now := time.Now().UTC()
	last, err := c.service.Watching(ctx, e.Name)
	if err != nil {
		return err
	}
	if last == nil || last.Split != e.Split.Number {
		fresh := rollout.Start(e.Plan, *e.Split, now)
		last = &fresh
	}
	state, actions := rollout.Step(e.Plan, *e.Split, *last, c.service.Evidence(e.Name, e.Split.Number), now)
	for _, a := range actions {
		c.log.Warn("a guard fired", "endpoint", e.Name, "split", e.Split.Number, "version", a.RollBack, "signal", a.Signal, "why", a.Sentence)
		if err := c.service.RollBack(ctx, e.Name, e.Split.Number, a); err != nil {
			return err // the state is not kept, so the guard fires again at the next step
		}
	}
	return c.service.PutWatching(ctx, e.Name, state)
}
