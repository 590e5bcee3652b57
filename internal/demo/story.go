package demo

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

// chapter is one part of a story.
type chapter struct {
	what string
	do   func() error
}

// story plays everything in order, or only the one story that was asked for.
func (p *play) story(ctx, calling context.Context) error {
	chapters := p.whole(ctx, calling)
	if p.Story != "" {
		chapters = p.alone(ctx, calling)
	}
	for _, s := range chapters {
		if err := p.step(ctx, s.what, s.do); err != nil {
			return err
		}
	}
	return nil
}

// whole is what is played when nothing else is asked for.
func (p *play) whole(ctx, calling context.Context) []chapter {
	return []chapter{
		{"the service runs", func() error { return p.startService(ctx) }},
		{"the town is generated", p.generate},
		{"projects, people and data sets are there", func() error { return p.furnish(ctx) }},
		{"a base model is vetted", func() error { return p.openArchive(ctx) }},
		{"versions are registered, approved and placed", func() error { return p.openingNight(ctx) }},
		{"trials are archived", func() error { return p.trials(ctx) }},
		{"callers call", func() error { p.startCalling(calling); return nil }},
		{"controllers answer elsewhere", func() error { return p.controllers(ctx, calling) }},
		{"a good canary takes over", func() error { return p.goodCanary(ctx) }},
		{"a bad canary is rolled back", func() error { return p.badCanary(ctx) }},
		{"people talk about it", func() error { return p.talk(ctx) }},
		{"something waits for review", func() error { return p.leaveReview(ctx) }},
		{"some truth waits to be told", p.leaveTruth},
	}
}

// startService starts the service and lets everybody in.
func (p *play) startService(ctx context.Context) error {
	data := filepath.Join(p.Data, "service")
	c, err := start("service", filepath.Join(p.Data, "logs"), "serve", "-data", data, "-listen", p.Listen, "-gateway",
		p.Gateway, "-fetch-private", "127.0.0.0/8", "-stop-runners", "-runners-away", "30s")
	if err != nil {
		return err
	}
	p.children = append(p.children, c)
	for _, into := range []*string{&p.server, &p.gateway} {
		said, err := c.line(ctx)
		if err != nil {
			return err
		}
		*into = said[strings.LastIndex(said, " ")+1:]
	}
	said, err := c.line(ctx)
	if err != nil {
		return err
	}
	if err := p.invite(ctx, said[strings.LastIndex(said, " ")+1:]); err != nil {
		return err
	}
	p.say("the service answers at %s, the gateway at %s", p.server, p.gateway)
	return nil
}

func (p *play) tokenFile(person string) string {
	return filepath.Join(p.Data, "people", person+".token")
}

// approve has runa ask and tove sign.
func (p *play) approve(ctx context.Context, ref, why string) error {
	asked, err := p.runa.Promote(ctx, ref, "live", why)
	if err != nil {
		return err
	}
	signed, err := p.review(ctx, asked.ID)
	if err == nil && signed.State != ladder.CarriedOut {
		err = fmt.Errorf("%s is %s: %+v", signed.ID, signed.State, signed.Findings)
	}
	return err
}

// computing is how long the model servers take: real ones are larger.
const computing = "6ms"

// bring registers a version, has it approved, starts a model server for it, and places
// it.
func (p *play) bring(ctx context.Context, r *release, environment string) (string, error) {
	ref, file, err := p.register(ctx, r)
	if err != nil {
		return "", err
	}
	if err := p.approve(ctx, ref, r.note); err != nil {
		return "", err
	}
	return ref, p.place(ctx, r, ref, file, environment)
}

// place starts a model server for a version and places it there, or has the service run it.
func (p *play) place(ctx context.Context, r *release, ref, file, environment string) error {
	if r.runs {
		_, err := p.runa.PlaceRun(ctx, ref, environment,
			wire.NewRunner{Replicas: "1..3", BatchRows: 32, BatchWait: "1ms"})
		return err
	}
	c, err := start(strings.ReplaceAll(ref, "@", "-"), filepath.Join(p.Data, "logs"), "standin", "-listen",
		"127.0.0.1:0", "-model", file, "-delay", cmp.Or(r.computing, computing))
	if err != nil {
		return err
	}
	p.children = append(p.children, c)
	said, err := c.line(ctx)
	if err != nil {
		return err
	}
	address, _, _ := strings.Cut(said, " ")
	_, err = p.runa.Place(ctx, ref, environment, []string{address}, "")
	return err
}

// openingNight brings the first version of every model and sends all traffic to it.
func (p *play) openingNight(ctx context.Context) error {
	for name, about := range map[string]string{
		"workbench":   "where versions rehearse",
		"plant-north": "the north plant's model servers", "plant-south": "the south plant's model servers",
	} {
		if _, err := p.sif.AddEnvironment(ctx, wire.NewEnvironment{
			Name: name, Description: about, Project: forecasting, SharedWith: []string{maintenance},
			Allowed: []string{"127.0.0.1"},
		}); err != nil {
			return err
		}
	}
	for _, o := range []struct {
		endpoint, environment, about string
		release                      func() (*release, error)
	}{
		{"demand-hourly", "plant-north", "asked for by the dispatch desk", func() (*release, error) {
			return p.demandRelease("two winters, without the wind", calmTerms(), asTheyAre)
		}},
		{"valve-check", "plant-south", "asked for by the maintenance app", func() (*release, error) {
			return p.valveRelease("all sensors", valveTerms())
		}},
		{"return-forecast", "plant-north", "asked for by the boiler room", func() (*release, error) {
			return p.returnRelease("two winters", returnTerms())
		}},
	} {
		r, err := o.release()
		if err != nil {
			return err
		}
		if r.model == "heat-demand" {
			r.parents, p.delivered = p.base, r.fitted
		}
		ref, err := p.bring(ctx, r, o.environment)
		if err != nil {
			return err
		}
		if _, err := p.runa.AddEndpoint(ctx,
			wire.NewEndpoint{
				Name: o.endpoint, Model: r.model, Environment: o.environment,
				Description: o.about,
			}); err != nil {
			return err
		}
		if _, err := p.runa.Split(ctx, o.endpoint,
			[]traffic.Lane{{Kind: traffic.Main, Version: ref, Share: traffic.Whole}}, "opening night", -1); err != nil {
			return err
		}
		if o.endpoint == "demand-hourly" {
			if _, err := p.runa.SetCustomSignal(ctx, o.endpoint, "dispatch_cost", wire.EditCustom{
				Unit: "EUR", Better: "lower", About: "what the wrong forecast of an hour costs: oil for what lacks, " +
					"heat let go for what is too much", Reason: "the desk counts in money",
			}); err != nil {
				return err
			}
		}
		if o.endpoint == "valve-check" {
			if err := p.giveKeys(ctx); err != nil {
				return err
			}
		}
		p.say("%s answers for %s (%s)", ref, o.endpoint, measures(r.metrics))
	}
	return nil
}

func measures(m map[string]float64) string {
	parts := make([]string, 0, len(m))
	for _, k := range slices.Sorted(maps.Keys(m)) {
		parts = append(parts, fmt.Sprintf("%s %v", k, m[k]))
	}
	return strings.Join(parts, ", ")
}

// distinctRows is how many different rows the callers of one endpoint send.
const distinctRows = 5000

func (p *play) startCalling(ctx context.Context) {
	for endpoint, c := range map[string]*callers{
		"demand-hourly": newCallers(p.gateway, "demand-hourly", "demand_mw", p.Rate, demandInputs,
			p.town.demandExamples(distinctRows, winter, winter+14*24)),
		"valve-check": newCallers(p.gateway, "valve-check", "fault", p.Rate/10, valveInputs,
			p.town.valveExamples(distinctRows)),
		"return-forecast": newCallers(p.gateway, "return-forecast", "return_c", p.Rate/5, returnInputs,
			p.town.returnExamples(distinctRows, winter, winter+14*24)),
	} {
		switch endpoint {
		case "valve-check":
			c.key = p.key
		case "demand-hourly":
			c.cost = dispatchCost
		}
		p.callers[endpoint] = c
		p.calling.Go(func() { c.run(ctx) })
	}
	p.calling.Go(func() { p.readMeters(ctx) })
	p.say("callers send %v requests a second to demand-hourly, %v to the others", p.Rate, p.Rate/10+p.Rate/5)
}

// metersEvery is how often the meters are read, which say what really was.
const metersEvery = 5 * time.Second

// readMeters tells the truth of some predictions, a while after they were made. What has not reached the log yet is
// told as unmatched, and nobody minds.
func (p *play) readMeters(ctx context.Context) {
	for wait(ctx, metersEvery) == nil {
		for endpoint, c := range p.callers {
			var err error
			if items := c.read(); len(items) > 0 {
				_, err = p.runa.TellOutcomes(ctx, endpoint, wire.NewOutcomes{Items: items})
			}
			if items := c.reckoned(); err == nil && len(items) > 0 {
				_, err = p.runa.ReportValues(ctx, endpoint, wire.NewReports{Items: items})
			}
			if err != nil && ctx.Err() == nil {
				fmt.Fprintf(p.Err, "the meters of %s could not be told: %v\n", endpoint, err)
			}
		}
	}
}

// leaveTruth writes the truth of some predictions into a file, for whoever plays on; one line is of a request that
// there never was.
func (p *play) leaveTruth() error {
	rows := [][]string{{"request", "demand_mw"}, {"00000000-0000-7000-8000-000000000000", "1.5"}}
	for _, t := range p.callers["demand-hourly"].read() {
		rows = append(rows, []string{t.Request, fmt.Sprint(t.Values["demand_mw"])})
	}
	return writeRows(p.truthFile(), rows)
}

func (p *play) truthFile() string { return filepath.Join(p.Data, "town", "meters.csv") }

// wait lets time pass in the story.
func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// goodCanary tries a version with the wind added, which is better, and lets it take
// over.
func (p *play) goodCanary(ctx context.Context) error {
	if err := wait(ctx, 4*time.Second); err != nil {
		return err
	}
	r, err := p.demandRelease("the wind added", windTerms(), asTheyAre)
	if err != nil {
		return err
	}
	r.tags, r.parents = []string{"winter", "wind"},
		append([]lineage.Parent{{Version: "heat-demand@1", Relation: "refitted"}}, p.base...)
	ref, err := p.bring(ctx, r, "plant-north")
	if err != nil {
		return err
	}
	if _, err := p.runa.PutLabel(ctx, "heat-demand", 2, "beta", "plant-north",
		"for those who want the wind in early"); err != nil {
		return err
	}
	p.say("%s is registered, signed by tove and placed (%s)", ref, measures(r.metrics))
	o, err := p.roll(ctx, move{to: ref, plan: swift, why: "the wind added"})
	if err != nil {
		return err
	}
	if o.Phase != rollout.Finished {
		return fmt.Errorf("the good canary is %s", o.Phase.InWords())
	}
	all, err := p.runa.Compare(ctx, "demand-hourly", "heat-demand@1", []string{ref}, client.Over{})
	if err != nil {
		return err
	}
	for _, c := range all.Items {
		p.say("%s", c.Sentence)
	}
	return nil
}

// overWithin is how long a rollout of the demo may take.
const overWithin = 2 * time.Minute

// badCanary tries the version with the mistake. Its measures are as good as the other's;
// the service finds it out.
func (p *play) badCanary(ctx context.Context) error {
	if err := wait(ctx, 5*time.Second); err != nil {
		return err
	}
	r, err := p.demandRelease("fitted on the new weather feed", windTerms(), inFahrenheit)
	if err != nil {
		return err
	}
	ref, err := p.bring(ctx, r, "plant-north")
	if err != nil {
		return err
	}
	p.say("%s is registered, signed by tove and placed (%s); nobody noticed that its weather feed is in °F", ref,
		measures(r.metrics))
	o, err := p.roll(ctx, move{to: ref, plan: swift, why: "fresh data"})
	if err != nil {
		return err
	}
	if o.Phase != rollout.RolledBack {
		return fmt.Errorf("the bad canary is %s", o.Phase.InWords())
	}
	alerts, err := p.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	if err != nil {
		return err
	}
	i := slices.IndexFunc(alerts.Items, func(a watch.Alert) bool { return a.Kind == "rolled_back" && a.Subject == ref })
	if i < 0 {
		return fmt.Errorf("there is no alert about %s", ref)
	}
	p.say("%s: %s", alerts.Items[i].ID, alerts.Items[i].Sentence)
	return nil
}

// leaveReview leaves a promotion open, so that there is something to do: of a draft that has answered copies, which
// tells the reviewers how it does with real requests.
func (p *play) leaveReview(ctx context.Context) error {
	ref, err := p.onCopies(ctx)
	if err != nil {
		return err
	}
	asked, err := p.runa.Promote(ctx, ref, "live", "knows the buildings now")
	if err == nil {
		p.say("%s: runa asks for %s to live; it waits for tove", asked.ID, ref)
	}
	return err
}
