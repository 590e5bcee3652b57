package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/service"
	"innerladder/internal/standin"
	"innerladder/internal/store"
)

// Options say how to play the demo.
type Options struct {
	// Data is where everything is kept; empty is a new temporary directory.
	Data            string
	Listen, Gateway string
	// For is how long it runs; 0 is until ctx is done.
	For  time.Duration
	Seed uint64
	// Rate is that of requests to demand-hourly, a second.
	Rate     float64
	Out, Err io.Writer
}

// play is one playing of the demo.
type play struct {
	Options
	town     *town
	begin    time.Time
	children []*child
	server   string
	gateway  string
	// runa belongs to the forecasting team and asks; tove runs the dispatch desk and
	// signs.
	runa, tove *client.Client
	callers    map[string]*callers
	calling    sync.WaitGroup
	// done holds what the story has shown.
	done []string
}

// Run plays the demo until ctx is done, or for as long as was asked. It fails when the
// story did not play out.
func Run(ctx context.Context, o Options) error {
	p := &play{Options: o, begin: time.Now(), callers: map[string]*callers{}}
	if err := p.prepare(); err != nil {
		return err
	}
	deadline := ctx
	if o.For > 0 {
		var cancel context.CancelFunc
		deadline, cancel = context.WithTimeout(ctx, o.For)
		defer cancel()
	}
	calling, stopCalling := context.WithCancel(context.WithoutCancel(ctx))
	defer func() {
		// In this order nobody notices: first the callers, then the service, then the
		// model servers.
		stopCalling()
		p.calling.Wait()
		p.stopChildren()
	}()
	err := p.story(deadline, calling)
	switch {
	case ctx.Err() != nil:
		p.say("stopping")
		return nil
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("the story did not play out within %s; it got as far as: %s", o.For, strings.Join(p.done, ", "))
	case err != nil:
		return err
	}
	p.whereToLook()
	select {
	case <-deadline.Done():
	case broken := <-p.broken():
		return fmt.Errorf("%s ended by itself: %w", broken.name, errors.Join(broken.err, errors.New("see its log in "+filepath.Join(p.Data, "logs"))))
	}
	if ctx.Err() == nil {
		return p.summary(context.WithoutCancel(ctx))
	}
	p.say("stopping")
	return nil
}

func (p *play) say(format string, args ...any) {
	fmt.Fprintf(p.Out, "%6.1f s  %s\n", time.Since(p.begin).Seconds(), fmt.Sprintf(format, args...))
}

// prepare makes the directories; a data directory that holds something already is left
// alone.
func (p *play) prepare() (err error) {
	if p.Data == "" {
		if p.Data, err = os.MkdirTemp("", "innerladder-demo-"); err != nil {
			return err
		}
	}
	entries, err := os.ReadDir(p.Data)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(entries) > 0 {
		return fmt.Errorf("%s is not empty; give the demo a new directory with -data", p.Data)
	}
	for _, d := range []string{"town", "logs", "people"} {
		if err := os.MkdirAll(filepath.Join(p.Data, d), 0o700); err != nil {
			return err
		}
	}
	return nil
}

// broken tells of the first child that ends by itself.
func (p *play) broken() <-chan *child {
	ch := make(chan *child, len(p.children))
	for _, c := range p.children {
		go func() {
			<-c.done
			ch <- c
		}()
	}
	return ch
}

func (p *play) stopChildren() {
	// The service was started first and stops first; the model servers then all at once.
	if len(p.children) == 0 {
		return
	}
	p.children[0].stop()
	var wait sync.WaitGroup
	for _, c := range p.children[1:] {
		wait.Go(c.stop)
	}
	wait.Wait()
}

// step does one thing of the story and remembers it.
func (p *play) step(ctx context.Context, what string, do func() error) error {
	if err := do(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%s: %w", what, err)
	}
	p.done = append(p.done, what)
	return nil
}

// story plays everything in order.
func (p *play) story(ctx, calling context.Context) error {
	for _, s := range []struct {
		what string
		do   func() error
	}{
		{"the service runs", func() error { return p.startService(ctx) }},
		{"the town is generated", p.generate},
		{"versions are registered, approved and placed", func() error { return p.openingNight(ctx) }},
		{"callers call", func() error { p.startCalling(calling); return nil }},
		{"a good canary takes over", func() error { return p.goodCanary(ctx) }},
		{"a bad canary is rolled back", func() error { return p.badCanary(ctx) }},
		{"something waits for review", func() error { return p.leaveReview(ctx) }},
	} {
		if err := p.step(ctx, s.what, s.do); err != nil {
			return err
		}
	}
	return nil
}

// startService starts the service and signs both people in.
func (p *play) startService(ctx context.Context) error {
	data := filepath.Join(p.Data, "service")
	c, err := start("service", filepath.Join(p.Data, "logs"), "serve", "-data", data, "-listen", p.Listen, "-gateway", p.Gateway, "-first-person", "runa")
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
	if _, err := c.line(ctx); err != nil { // where the first token is, which we know
		return err
	}
	first, err := os.ReadFile(filepath.Join(data, "first-token"))
	if err != nil {
		return err
	}
	p.runa = client.New(p.server, strings.TrimSpace(string(first)))
	tove, err := p.runa.AddPerson(ctx, "tove", service.Member)
	if err != nil {
		return err
	}
	p.tove = client.New(p.server, tove.Token)
	for name, token := range map[string]string{"runa": strings.TrimSpace(string(first)), "tove": tove.Token} {
		if err := os.WriteFile(p.tokenFile(name), []byte(token+"\n"), 0o600); err != nil {
			return err
		}
	}
	p.say("the service answers at %s, the gateway at %s", p.server, p.gateway)
	return nil
}

func (p *play) tokenFile(person string) string {
	return filepath.Join(p.Data, "people", person+".token")
}

const (
	threeYears = 3 * hoursInYear
	twoYears   = 2 * hoursInYear
	// winter is the January of the third year, in which the demo plays.
	winter = 2*hoursInYear + 190*24
)

func (p *play) generate() error {
	p.town = newTown(p.Seed, threeYears)
	p.say("Tarnholm has %d substations; two winters to fit on, and the weather of a third", substations)
	return nil
}

// release is a version to register.
type release struct {
	model, note string
	fitted      *standin.Model
	metrics     map[string]float64
	params      map[string]string
	inputs      []registry.Column
	target      string
	unit        string
	sample      []example
	about       string
}

// demandRelease fits a version of heat-demand on the first two years and measures it on
// the third.
func (p *play) demandRelease(note string, terms []standin.Term, see func([]example) []example) (*release, error) {
	train, test := see(p.town.demandExamples(12000, 24, twoYears)), see(p.town.demandExamples(4000, twoYears, threeYears))
	m, err := fitNumber("heat-demand", demandInputs, "demand_mw", terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureNumber(m, test)
	if err != nil {
		return nil, err
	}
	return &release{model: "heat-demand", note: note, fitted: m, metrics: metrics, inputs: demandInputs, target: "demand_mw", unit: "MW", sample: test,
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge), "rows": fmt.Sprint(len(train))},
		about:  "heat demand of a substation in the next hour"}, nil
}

func asTheyAre(e []example) []example { return e }

// inFahrenheit is the mistake: the outdoor temperature was exported in °F.
func inFahrenheit(examples []example) []example {
	out := slices.Clone(examples)
	for i := range out {
		out[i].row = maps.Clone(out[i].row)
		out[i].row["outdoor_c"] = round(out[i].row["outdoor_c"].(float64)*1.8+32, 1)
	}
	return out
}

func (p *play) valveRelease(note string, terms []standin.Term) (*release, error) {
	train, test := p.town.valveExamples(8000), p.town.valveExamples(3000)
	m, err := fitClasses("valve-fault", valveInputs, "fault", valveStates, terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureClasses(m, test)
	return &release{model: "valve-fault", note: note, fitted: m, metrics: metrics, inputs: valveInputs, target: "fault", sample: test,
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge)}, about: "what is wrong with a valve"}, err
}

func (p *play) returnRelease(note string, terms []standin.Term) (*release, error) {
	train, test := p.town.returnExamples(6000, 24, twoYears), p.town.returnExamples(3000, twoYears, threeYears)
	m, err := fitNumber("return-temp", returnInputs, "return_c", terms, train)
	if err != nil {
		return nil, err
	}
	metrics, err := measureNumber(m, test)
	return &release{model: "return-temp", note: note, fitted: m, metrics: metrics, inputs: returnInputs, target: "return_c", unit: "°C", sample: test,
		params: map[string]string{"terms": fmt.Sprint(len(terms)), "ridge": fmt.Sprint(ridge)}, about: "temperature of the water that comes back"}, err
}

// register writes the model and its sample to files and registers them.
func (p *play) register(ctx context.Context, r *release) (ref, modelFile string, err error) {
	dir := filepath.Join(p.Data, "town")
	n, err := filepath.Glob(filepath.Join(dir, r.model+"-*.model.json"))
	if err != nil {
		return "", "", err
	}
	stem := filepath.Join(dir, fmt.Sprintf("%s-%d", r.model, len(n)+1))
	modelFile = stem + ".model.json"
	if err := r.fitted.Save(modelFile); err != nil {
		return "", "", err
	}
	if err := writeCSV(stem+".rows.csv", r.inputs, r.target, r.sample); err != nil {
		return "", "", err
	}
	reg := service.Registration{Model: r.model, Note: r.note, Description: r.about, Metrics: r.metrics, Params: r.params, Targets: []string{r.target}}
	if r.unit != "" {
		reg.Units = map[string]string{r.target: r.unit}
	}
	v, err := p.runa.Register(ctx, reg, []string{modelFile}, stem+".rows.csv")
	return v.Ref, modelFile, err
}

// approve has runa ask and tove sign.
func (p *play) approve(ctx context.Context, ref, why string) error {
	asked, err := p.runa.Promote(ctx, ref, "live", why)
	if err != nil {
		return err
	}
	signed, err := p.tove.Sign(ctx, asked.ID, ladder.Yes, "read the measures")
	if err == nil && signed.State != ladder.CarriedOut {
		err = fmt.Errorf("%s is %s", signed.ID, signed.State)
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
	c, err := start(strings.ReplaceAll(ref, "@", "-"), filepath.Join(p.Data, "logs"), "standin", "-listen", "127.0.0.1:0", "-model", file, "-delay", computing)
	if err != nil {
		return "", err
	}
	p.children = append(p.children, c)
	said, err := c.line(ctx)
	if err != nil {
		return "", err
	}
	address, _, _ := strings.Cut(said, " ")
	_, err = p.runa.Place(ctx, ref, environment, []string{address}, "")
	return ref, err
}

// openingNight brings the first version of every model and sends all traffic to it.
func (p *play) openingNight(ctx context.Context) error {
	for name, about := range map[string]string{"workbench": "where versions rehearse", "plant-north": "the north plant's model servers", "plant-south": "the south plant's model servers"} {
		if _, err := p.runa.AddEnvironment(ctx, name, about); err != nil {
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
		ref, err := p.bring(ctx, r, o.environment)
		if err != nil {
			return err
		}
		if _, err := p.runa.AddEndpoint(ctx, service.NewEndpoint{Name: o.endpoint, Model: r.model, Environment: o.environment, Description: o.about}); err != nil {
			return err
		}
		if _, err := p.runa.Split(ctx, o.endpoint, []traffic.Lane{{Kind: traffic.Main, Version: ref, Share: traffic.Whole}}, "opening night", -1); err != nil {
			return err
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
		"demand-hourly":   newCallers(p.gateway, "demand-hourly", p.Rate, demandInputs, p.town.demandExamples(distinctRows, winter, winter+14*24)),
		"valve-check":     newCallers(p.gateway, "valve-check", p.Rate/10, valveInputs, p.town.valveExamples(distinctRows)),
		"return-forecast": newCallers(p.gateway, "return-forecast", p.Rate/5, returnInputs, p.town.returnExamples(distinctRows, winter, winter+14*24)),
	} {
		p.callers[endpoint] = c
		p.calling.Go(func() { c.run(ctx) })
	}
	p.say("callers send %v requests a second to demand-hourly, %v to the others", p.Rate, p.Rate/10+p.Rate/5)
}

// wait lets time pass in the story.
func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (p *play) split(ctx context.Context, why string, lanes ...traffic.Lane) error {
	s, err := p.runa.Split(ctx, "demand-hourly", lanes, why, -1)
	if err == nil {
		p.say("demand-hourly#%d: %s", s.Number, s.String())
	}
	return err
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
	ref, err := p.bring(ctx, r, "plant-north")
	if err != nil {
		return err
	}
	p.say("%s is registered, signed by tove and placed (%s)", ref, measures(r.metrics))
	main := traffic.Lane{Kind: traffic.Main, Version: "heat-demand@1", Share: 7500}
	if err := p.split(ctx, "the wind added: a careful look", main, traffic.Lane{Kind: traffic.Trial, Version: ref, Share: 2500}); err != nil {
		return err
	}
	if err := wait(ctx, 18*time.Second); err != nil {
		return err
	}
	e, err := p.runa.Endpoint(ctx, "demand-hourly")
	if err != nil {
		return err
	}
	if len(e.Split.Trials()) == 0 {
		return fmt.Errorf("the good canary was rolled back: %s", e.Split.Reason)
	}
	c, err := p.runa.Compare(ctx, "demand-hourly", "heat-demand@1", ref, 2*time.Minute)
	if err != nil {
		return err
	}
	p.say("%s", c.Sentence)
	return p.split(ctx, "nothing speaks against it", traffic.Lane{Kind: traffic.Main, Version: ref, Share: traffic.Whole})
}

// rolledBackWithin is how long the service may take to find the bad canary out.
const rolledBackWithin = 90 * time.Second

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
	p.say("%s is registered, signed by tove and placed (%s); nobody noticed that its weather feed is in °F", ref, measures(r.metrics))
	main := traffic.Lane{Kind: traffic.Main, Version: "heat-demand@2", Share: 8000}
	if err := p.split(ctx, "fresh data", main, traffic.Lane{Kind: traffic.Trial, Version: ref, Share: 2000}); err != nil {
		return err
	}
	limit, cancel := context.WithTimeout(ctx, rolledBackWithin)
	defer cancel()
	for begin := time.Now(); ; {
		if err := wait(limit, 200*time.Millisecond); err != nil {
			if ctx.Err() == nil {
				return fmt.Errorf("the service did not roll %s back within %s", ref, rolledBackWithin)
			}
			return err
		}
		e, err := p.runa.Endpoint(ctx, "demand-hourly")
		if err != nil {
			return err
		}
		if len(e.Split.Trials()) == 0 {
			p.say("rolled back by the service after %.0f s: demand-hourly#%d: %s", time.Since(begin).Seconds(), e.Split.Number, e.Split.String())
			break
		}
	}
	alerts, err := p.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	if err != nil {
		return err
	}
	i := slices.IndexFunc(alerts.Items, func(a store.Alert) bool { return a.Kind == "rolled_back" && a.Subject == ref })
	if i < 0 {
		return fmt.Errorf("there is no alert about %s", ref)
	}
	p.say("%s: %s", alerts.Items[i].ID, alerts.Items[i].Sentence)
	return nil
}

// leaveReview leaves a promotion open, so that there is something to do.
func (p *play) leaveReview(ctx context.Context) error {
	r, err := p.returnRelease("the mix of buildings added", append(returnTerms(), is("mix", "harbour"), is("mix", "terraces"), is("mix", "works")))
	if err != nil {
		return err
	}
	ref, _, err := p.register(ctx, r)
	if err != nil {
		return err
	}
	asked, err := p.runa.Promote(ctx, ref, "live", "knows the buildings now")
	if err == nil {
		p.say("%s: runa asks for %s to live; it waits for tove", asked.ID, ref)
	}
	return err
}

// whereToLook says what to do next.
func (p *play) whereToLook() {
	read := func(name string) string {
		b, err := os.ReadFile(p.tokenFile(name))
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(b))
	}
	fmt.Fprintf(p.Out, `
The story has been played; traffic goes on. Look around:

  console, as tove   %s/sign-in#token=%s
  command line       innerladder login -server %s -token-file %s
                     innerladder endpoint show demand-hourly
                     innerladder compare demand-hourly heat-demand@2 heat-demand@3
                     innerladder reviews
  make trouble       innerladder standin tell URL -fail 20   (URLs: innerladder placements)
  data and logs      %s
`, p.server, read("tove"), p.server, p.tokenFile("tove"), p.Data)
	if p.For == 0 {
		fmt.Fprintln(p.Out, "\nCtrl-C ends all of it.")
	}
}

// summary says what happened, and fails when something did not.
func (p *play) summary(ctx context.Context) error {
	fmt.Fprintf(p.Out, "\nplayed: %s\n", strings.Join(p.done, "; "))
	var lost uint64
	for _, name := range slices.Sorted(maps.Keys(p.callers)) {
		c := p.callers[name]
		by := c.byVersion()
		var parts []string
		for _, v := range slices.Sorted(maps.Keys(by)) {
			parts = append(parts, fmt.Sprintf("%s %d", v, by[v]))
		}
		fmt.Fprintf(p.Out, "%-16s %d requests, %d failed, %d not sent in time; answered by %s\n", name, c.sent.Load(), c.failed.Load(), c.late.Load(), strings.Join(parts, ", "))
		lost += c.failed.Load()
	}
	if lost > 0 {
		return fmt.Errorf("%d requests failed, although no model server did", lost)
	}
	e, err := p.runa.Endpoint(ctx, "demand-hourly")
	if err != nil {
		return err
	}
	if len(e.Split.Trials()) > 0 {
		fmt.Fprintf(p.Out, "demand-hourly is on trial again: %s\n", e.Split.String())
	}
	return nil
}
