package demo

import (
	"context"
	"fmt"
	"math"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/watch"
)

// colder makes some hours of the town colder, in °C, with all that follows: people heat, and the plant sends hotter
// water.
func (t *town) colder(from, to int, by float64) {
	for h := from; h < to; h++ {
		t.weather[h].outdoor -= by
		for s := range substations {
			t.demand[s][h] = math.Max(0.02, t.expected(s, h)*(1+0.05*t.r.NormFloat64()))
		}
	}
}

// coldSnap has the planners go through a year hour by hour, which is what the model was made on, and then through
// one in which it is fourteen degrees colder. Nothing is wrong with the model: the watches say what moved, and
// nobody rolls anything back.
func (p *play) coldSnap(ctx context.Context) error {
	c := p.callers["demand-hourly"]
	c.ask(demandInputs, p.town.demandExamples(3*distinctRows, twoYears, threeYears))
	const signal = watch.FeatureDrift + ".outdoor_c"
	p.say("the planners go through a year, hour by hour; the watches learn that it is like the reference")
	if _, err := p.watched(ctx, signal, watch.Quiet); err != nil {
		return err
	}
	before, err := p.tove.Endpoint(ctx, "demand-hourly")
	if err != nil {
		return err
	}
	p.say("a cold snap: fourteen degrees less")
	p.town.colder(twoYears, threeYears, 14)
	c.ask(demandInputs, p.town.demandExamples(3*distinctRows, twoYears, threeYears))
	if _, err := p.watched(ctx, signal, watch.Firing); err != nil {
		return err
	}
	alerts, err := p.tove.Alerts(ctx, "open", "demand-hourly", client.Part{})
	if err != nil {
		return err
	}
	for _, a := range alerts.Items {
		p.say("%s: %s", a.ID, a.Sentence)
	}
	now, err := p.tove.EndpointNow(ctx, "demand-hourly")
	if err != nil {
		return err
	}
	if len(alerts.Items) == 0 || now.Split != before.Split.Number || now.State != watch.Drifting {
		return fmt.Errorf("%d alerts, split #%d, %s", len(alerts.Items), now.Split, now.State)
	}
	p.say("demand-hourly is %s; %s answers all of it as before", now.State, before.Split.Main().Version)
	return nil
}

// watched waits until a watch of demand-hourly is in a state.
func (p *play) watched(ctx context.Context, signal string, state watch.State) (s watch.Stand, err error) {
	limit, cancel := context.WithTimeout(ctx, overWithin)
	defer cancel()
	for {
		all, err := p.tove.Watches(limit, "demand-hourly")
		if err != nil {
			return s, err
		}
		for _, s = range all.Items {
			if s.Signal == signal && s.State == state {
				return s, nil
			}
		}
		if err := wait(limit, 300*time.Millisecond); err != nil {
			return s, fmt.Errorf("%s is not %s: %w", signal, state, err)
		}
	}
}
