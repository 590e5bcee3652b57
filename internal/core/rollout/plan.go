// Package rollout is the state machine that moves an endpoint from one version to another by a plan. It is
// handed the rollout, what is seen, and the time, and answers with the next state and, when
// something changes, with a decision: what was seen, what it means, and what is done. It
// holds no clock and carries nothing out.
package rollout

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
)

// Kind is how a plan moves an endpoint.
type Kind string

const (
	// Canary gives the candidate more and more of the traffic.
	Canary Kind = "canary"
	// BlueGreen has the candidate take over all at once, after it has been warmed.
	BlueGreen Kind = "blue_green"
	// Shadow sends the candidate copies of what main answers, and nobody its answers; what it shows is evidence.
	Shadow Kind = "shadow"
	// Comparison gives the candidate a fixed share until it is decided which of both does better.
	Comparison Kind = "comparison"
)

// Kinds are all that there are.
var Kinds = []Kind{Canary, BlueGreen, Shadow, Comparison}

// Plan is how a rollout moves an endpoint: the steps, what must be seen before each next one, and what is done
// when something goes wrong. Numbered revisions of it are kept; a plan that is in force stays with its rollout.
type Plan struct {
	Name string `json:"name"`
	// Revision is 0 for a plan that is built in.
	Revision int    `json:"revision,omitempty" description:"0 for a plan that is built in"`
	About    string `json:"about,omitempty"`
	Kind     Kind   `json:"kind" enum:"canary,blue_green,shadow,comparison"`
	// Warm is how many requests a blue-green candidate must answer before it takes over: samples, or copies.
	Warm int `json:"warm,omitempty" minimum:"0" maximum:"10000" description:"requests before it takes over"`
	// Copies are what a shadow gets, or what a blue-green candidate is warmed with instead of sample requests.
	Copies Copies `json:"copies"`
	// Compare is what a comparison decides.
	Compare Compare `json:"compare"`
	// First are callers whom a canary sends to the candidate from its first step on, before shares: rules without a
	// version, such as: key is beta-app.
	First []string   `json:"first,omitempty" description:"rules before shares, such as: key is beta-app"`
	Steps []PlanStep `json:"steps,omitempty"`
	// Bake is for how long main is watched against what it replaced, which stays warm, after the
	// candidate has taken over.
	Bake Bake `json:"bake"`
	// Patience is how long the rollout waits for anything before it holds and says so.
	Patience span.Duration `json:"patience,omitempty" description:"how long it waits before it holds; else 24h"`
	Guards   []guard.Guard `json:"guards"`
	// Alpha and Beta are those of the guards.
	Alpha float64 `json:"alpha,omitempty" minimum:"0" maximum:"1" description:"of rolling back a good one; else 0.001"`
	Beta  float64 `json:"beta,omitempty" minimum:"0" maximum:"1" description:"chance a worse one passes; usually 0.05"`
	Harm  Harm    `json:"harm"`
	// Capacity is how many healthy addresses the candidate must have before it begins, as a share of
	// those of the version that it replaces.
	Capacity float64 `json:"capacity" minimum:"0" maximum:"10" description:"healthy addresses, as a share of main's"`
	// Hours are when it may go a step further; always when there are none.
	Hours []Hours `json:"hours,omitempty"`
}

// PlanStep is one step of a canary.
type PlanStep struct {
	// Share is the candidate's, in basis points.
	Share int `json:"share" minimum:"1" maximum:"9999" description:"basis points; 10000 is all"`
	// Time and Requests of the candidate are the least that must pass.
	Time     span.Duration `json:"time,omitempty" description:"how long it lasts at least"`
	Requests uint64        `json:"requests,omitempty" description:"how many requests the candidate answers at least"`
	// Good are the signals that must be shown good before the next step; all that could roll back or
	// hold when not given.
	Good []string `json:"good,omitempty" description:"signals that must be shown good; all if not given"`
}

// Copies are requests that main has answered, which the candidate gets too; nobody gets its answers.
type Copies struct {
	// Share is that of main's requests which are copied, in basis points.
	Share int `json:"share,omitempty" minimum:"0" maximum:"10000" description:"basis points of main's requests"`
	// Time and Requests of a shadow are the least that must pass.
	Time     span.Duration `json:"time,omitempty" description:"how long a shadow lasts at least"`
	Requests uint64        `json:"requests,omitempty" description:"how many copies a shadow answers at least"`
	// Good are the signals that a shadow must be shown good by; all that could stop it when not given.
	Good []string `json:"good,omitempty" description:"signals that must be shown good; all if not given"`
	// Tolerance is how far apart numbers may be that agree, as a share of the larger.
	Tolerance float64 `json:"tolerance,omitempty" minimum:"0" maximum:"1" description:"how far numbers may be apart that agree, as a share; else 0.05"`
}

// Compare is a fixed comparison: the share that the candidate has until a signal is decided.
type Compare struct {
	// Share is the candidate's, in basis points.
	Share int `json:"share,omitempty" minimum:"0" maximum:"9999" description:"basis points; 10000 is all"`
	// Signal is decided, Margin the smallest difference that matters, of shares or in the unit of the signal, Alpha the
	// chance that the interval for it is ever wrong.
	Signal string  `json:"signal,omitempty" description:"such as error_rate, latency_p99, mae.OUTPUT or custom.NAME"`
	Margin float64 `json:"margin,omitempty" minimum:"0" description:"smallest difference that matters"`
	Alpha  float64 `json:"alpha,omitempty" minimum:"0" maximum:"1" description:"chance that the interval is wrong; else 0.05"`
	// Time is how long it lasts at least, so that what it decides is of more than an hour of the day; after Most it
	// ends undecided.
	Time span.Duration `json:"time,omitempty" description:"how long it lasts at least"`
	Most span.Duration `json:"most,omitempty" description:"how long it lasts at most; then it is undecided"`
}

// Contest is what is decided.
func (c Compare) Contest() guard.Contest {
	return guard.Contest{Signal: c.Signal, Margin: c.Margin, Alpha: c.Alpha}
}

// step is what must pass and be shown good while a shadow gets copies.
func (c Copies) step() PlanStep {
	return PlanStep{Share: c.Share, Time: c.Time, Requests: c.Requests, Good: c.Good}
}

// Bake is what follows when the candidate has taken over.
type Bake struct {
	Time     span.Duration `json:"time,omitempty"`
	Requests uint64        `json:"requests,omitempty"`
	// Copies are those that the incumbent gets of what the candidate answers: only then is known whether both predict
	// the same.
	Copies BakeCopies `json:"copies"`
}

// BakeCopies are copies of what main answers for the version that it took over from.
type BakeCopies struct {
	// Share is that of main's requests, in basis points; 0 is none. Tolerance is how far apart numbers may be that
	// agree, as a share of the larger.
	Share     int     `json:"share,omitempty" minimum:"0" maximum:"10000" description:"basis points of main's requests"`
	Tolerance float64 `json:"tolerance,omitempty" minimum:"0" maximum:"1" description:"how far numbers may be apart that agree, as a share; else 0.05"`
}

// Harm is capped whatever the tests say.
type Harm struct {
	// BadAnswers is how many requests may fail beyond what the incumbent would have failed; 0 is no cap.
	BadAnswers float64 `json:"bad_answers,omitempty" minimum:"0" description:"failed beyond main's rate; 0 is no cap"`
	// Share is the largest that the candidate may have before every guard has shown it good, in basis
	// points; 0 is no cap.
	Share int `json:"share,omitempty" minimum:"0" maximum:"10000" description:"basis points until all is good; 0: any"`
}

// Hours are times of the week.
type Hours struct {
	// Days are mon to sun; every day when there are none.
	Days []string `json:"days,omitempty"`
	// From and To are such as 08:00 and 17:00; a span that ends before it begins goes over midnight.
	From string `json:"from"`
	To   string `json:"to"`
	// Zone is a name of the time zone database; UTC when not given.
	Zone string `json:"zone,omitempty"`
}

const (
	usualPatience = 24 * time.Hour
	usualAlpha    = 0.001
	// mostSteps, mostHours bound a plan; longest is the longest that anything in it may last.
	mostSteps, mostHours = 50, 50
	longest              = 90 * 24 * time.Hour
)

// Ref is how a plan is named: NAME, or NAME#REVISION of one that is kept.
func (p *Plan) Ref() string {
	if p.Revision == 0 {
		return p.Name
	}
	return fmt.Sprintf("%s#%d", p.Name, p.Revision)
}

// Terms are what the guards of the plan hold the candidate to.
func (p *Plan) Terms() guard.Terms {
	t := guard.Terms{Guards: p.Guards, Alpha: p.Alpha, Beta: p.Beta}
	if p.Kind == Comparison {
		c := p.Compare.Contest()
		t.Contest = &c
	}
	return t
}

// Signals that must be shown good before a rollout goes on: those whose guards can stop it.
func (p *Plan) stopping() (out []string) {
	for _, g := range p.Guards {
		if g.Response() != guard.Notify && (g.Signal != guard.Disagreement || p.Kind == Shadow) {
			out = append(out, g.Signal)
		}
	}
	return out
}

// good are the signals that must be shown good before the step after s.
func (p *Plan) good(s PlanStep) []string {
	if s.Good != nil {
		return s.Good
	}
	return p.stopping()
}

// Complete puts the usual in where a plan says nothing.
func (p *Plan) Complete() {
	if p.Patience == 0 {
		p.Patience = span.Duration(usualPatience)
	}
	if p.Alpha == 0 {
		p.Alpha = usualAlpha
	}
	if p.Beta == 0 {
		p.Beta = guard.UsualBeta
	}
	if p.Guards == nil {
		usual := guard.DefaultTerms()
		// After a takeover copies tell of drift alone: a new version is meant to answer a little otherwise.
		p.Guards = usual.For(guard.TrialPair{Copies: p.Kind == Shadow})
	}
}

// Check says whether a plan can be followed. Its errors name the field as a path, such as steps[1].share.
func (p *Plan) Check() error {
	if err := naming.Check("name", p.Name); err != nil {
		return err
	}
	bad := func(field, remedy, what string, args ...any) error {
		return fault.New(fault.Invalid, "plan."+strings.SplitN(strings.SplitN(field, "[", 2)[0], ".", 2)[0], what,
			args...).In(field).Do("%s", remedy)
	}
	if !slices.Contains(Kinds, p.Kind) {
		return bad("kind", "use one of "+list(Kinds), "%q is no kind of plan", p.Kind)
	}
	if p.Kind != Canary && len(p.Steps) > 0 {
		return bad("steps", "leave the steps out, or make it a canary", "only a canary goes by steps")
	}
	if err := p.checkCopies(bad); err != nil {
		return err
	}
	if err := p.checkCompare(bad); err != nil {
		return err
	}
	if p.Kind == Canary && (len(p.Steps) == 0 || len(p.Steps) > mostSteps) {
		return bad("steps", fmt.Sprintf("give from 1 to %d, each with a share", mostSteps), "a canary has %d steps",
			len(p.Steps))
	}
	if p.Kind != BlueGreen && p.Warm != 0 {
		return bad("warm", "leave it out", "only a blue-green candidate is warmed")
	}
	if p.Warm < 0 || p.Warm > 10_000 {
		return bad("warm", "give from 0 to 10000 requests", "warm is %d", p.Warm)
	}
	if err := p.checkSteps(bad); err != nil {
		return err
	}
	for field, d := range map[string]span.Duration{"bake.time": p.Bake.Time, "patience": p.Patience} {
		if d < 0 || time.Duration(d) > longest {
			return bad(field, "give a duration from 0 to 2160h, such as 30m", "%s is %s", field, d)
		}
	}
	if time.Duration(p.Patience) < time.Second {
		return bad("patience", "give a second at least, such as 24h", "patience is %s", p.Patience)
	}
	if err := p.checkBake(bad); err != nil {
		return err
	}
	if !(p.Harm.BadAnswers >= 0 && p.Harm.BadAnswers < 1e12) {
		return bad("harm.bad_answers", "give how many, or 0 for no cap", "bad_answers is %v", p.Harm.BadAnswers)
	}
	if p.Harm.Share < 0 || p.Harm.Share > traffic.Whole {
		return bad("harm.share", "give a share from 0 to 100 %", "the share is %d basis points", p.Harm.Share)
	}
	if !(p.Capacity >= 0 && p.Capacity <= 10) {
		return bad("capacity", "give a share from 0 to 10, such as 1 for as many addresses", "capacity is %v",
			p.Capacity)
	}
	terms := p.Terms()
	if err := terms.Check(); err != nil {
		var f *fault.Fault
		if errors.As(err, &f) {
			return f.In(strings.TrimPrefix(f.Field, "terms."))
		}
		return err
	}
	return p.checkHours(bad)
}

// checkBake says whether what follows when the candidate has taken over can be.
func (p *Plan) checkBake(bad func(field, remedy, what string, args ...any) error) error {
	b := p.Bake
	switch {
	case !p.TakesOver() && b != (Bake{}):
		return bad("bake", "leave it out", "a %s takes nothing over that could be watched", p.Kind)
	case p.TakesOver() && b.Time == 0 && b.Requests == 0:
		return bad("bake", "say how long main is watched after the candidate has taken over, such as time: 30m",
			"the plan has no bake")
	case b.Copies.Share < 0 || b.Copies.Share > traffic.Whole:
		return bad("bake.copies.share", "give the share of main's requests that are copied, from 0 to 100 %",
			"copies of %s are made", traffic.Percent(b.Copies.Share))
	case !(b.Copies.Tolerance >= 0 && b.Copies.Tolerance <= 1):
		return bad("bake.copies.tolerance", "give a share from 0 to 1, such as 0.05", "the tolerance is %v",
			b.Copies.Tolerance)
	case b.Copies.Tolerance > 0 && b.Copies.Share == 0:
		return bad("bake.copies.share", "say of which share of the requests copies are made, such as 10 %",
			"there is a tolerance, and there are no copies")
	}
	return nil
}

func (p *Plan) checkSteps(bad func(field, remedy, what string, args ...any) error) error {
	last := 0
	for i, s := range p.Steps {
		at := fmt.Sprintf("steps[%d].", i)
		if s.Share <= last || s.Share >= traffic.Whole {
			return bad(at+"share", "let shares grow from step to step, above 0 and below 100 %",
				"step %d has %s after %s", i+1, traffic.Percent(s.Share), traffic.Percent(last))
		}
		last = s.Share
		if s.Time < 0 || time.Duration(s.Time) > longest {
			return bad(at+"time", "give a duration from 0 to 2160h, such as 10m", "step %d lasts %s", i+1, s.Time)
		}
		if err := p.checkGood(at+"good", fmt.Sprintf("step %d", i+1), s.Good, bad); err != nil {
			return err
		}
	}
	if len(p.First) > 0 && p.Kind != Canary {
		return bad("first", "leave it out, or make it a canary", "only a canary sends some callers first")
	}
	rules, err := p.first("m@1")
	if err != nil {
		return err
	}
	return traffic.CheckTargets("first", rules, []traffic.Lane{{Version: "m@1"}})
}

// checkCopies says whether what a plan says of copies can be followed.
func (p *Plan) checkCopies(bad func(field, remedy, what string, args ...any) error) error {
	c := p.Copies
	switch {
	case (p.Kind == Canary || p.Kind == Comparison) &&
		(c.Share != 0 || c.Time != 0 || c.Requests != 0 || c.Good != nil):
		return bad("copies", "leave them out, or make it a shadow that comes before",
			"a %s answers requests and gets no copies", p.Kind)
	case c.Share < 0 || c.Share > traffic.Whole || (p.Kind == Shadow && c.Share == 0):
		return bad("copies.share", "give the share of requests that are copied, above 0 up to 100 %",
			"copies of %s are made", traffic.Percent(c.Share))
	case !(c.Tolerance >= 0 && c.Tolerance <= 1):
		return bad("copies.tolerance", "give a share from 0 to 1, such as 0.05", "the tolerance is %v", c.Tolerance)
	case p.Kind == BlueGreen && (c.Time > 0 || c.Requests > 0 || c.Good != nil):
		return bad("copies", "leave time, requests and good out; warm is how many are answered",
			"a blue-green candidate is warmed with a number of copies")
	case p.Kind == BlueGreen && c.Share > 0 && p.Warm == 0:
		return bad("warm", "give how many copies must be answered, such as 100", "the copies are for nothing")
	case c.Time < 0 || time.Duration(c.Time) > longest:
		return bad("copies.time", "give a duration from 0 to 2160h, such as 30m", "the copies last %s", c.Time)
	case p.Kind == Shadow && c.Time == 0 && c.Requests == 0:
		return bad("copies", "say how long at least, such as time: 30m, or how many, such as requests: 1000",
			"the shadow has no least time and no least requests")
	}
	return p.checkGood("copies.good", "the shadow", c.Good, bad)
}

// TakesOver reports whether a plan ends with the candidate as main.
func (p *Plan) TakesOver() bool { return p.Kind == Canary || p.Kind == BlueGreen }

// checkCompare says whether what a plan compares can be decided.
func (p *Plan) checkCompare(bad func(field, remedy, what string, args ...any) error) error {
	c := p.Compare
	switch {
	case p.Kind != Comparison && c != (Compare{}):
		return bad("compare", "leave it out, or make it a comparison", "a %s compares no signal", p.Kind)
	case p.Kind != Comparison:
		return nil
	case c.Share <= 0 || c.Share >= traffic.Whole:
		return bad("compare.share", "give the candidate's share, above 0 and below 100 %, such as 50 %",
			"the candidate has %s", traffic.Percent(c.Share))
	case c.Time < 0 || time.Duration(c.Time) > longest:
		return bad("compare.time", "give a duration from 0 to 2160h, such as 24h", "it lasts %s", c.Time)
	case c.Most <= 0 || time.Duration(c.Most) > longest || c.Most < c.Time:
		return bad("compare.most", "give how long it lasts at most, not less than time, up to 2160h, such as 72h",
			"it lasts at most %s", c.Most)
	}
	return c.Contest().Check("compare")
}

// checkGood says whether signals that must be shown good are watched.
func (p *Plan) checkGood(at, who string, good []string,
	bad func(field, remedy, what string, args ...any) error,
) error {
	for _, signal := range good {
		if !slices.ContainsFunc(p.Guards, func(g guard.Guard) bool { return g.Signal == signal }) {
			return bad(at, "name signals of the plan's guards: "+strings.Join(signals(p.Guards), ", "),
				"%s wants %q shown good, which no guard watches", who, signal)
		}
		if signal == guard.Disagreement && p.Kind != Shadow {
			return bad(at, "leave it out", "%s wants %s shown good, which is only known of copies", who, signal)
		}
	}
	return nil
}

// first are the rules of a plan that send callers to a candidate.
func (p *Plan) first(candidate string) (out []traffic.Rule, err error) {
	for i, text := range p.First {
		r, err := traffic.ParseRule(fmt.Sprintf("first[%d]", i), text+" to "+candidate)
		var f *fault.Fault
		if errors.As(err, &f) { // the version is the candidate, which a plan does not name
			return nil, f.Do("%s", strings.ReplaceAll(f.Remedy, " to VERSION", ""))
		}
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// Rules are those of a split with lanes that the rollout makes, when now are those in force: the plan's while the
// candidate is on trial, and before them those of the endpoint whose versions have a lane.
func (r *Rollout) Rules(now []traffic.Rule, lanes []traffic.Lane) []traffic.Rule {
	first, err := r.Plan.first(r.Candidate)
	if err != nil { // it was checked when it was made
		first = nil
	}
	own := func(x traffic.Rule) bool {
		return slices.ContainsFunc(first, func(f traffic.Rule) bool { return f.String() == x.String() })
	}
	out := traffic.KeepRules(slices.DeleteFunc(slices.Clone(now), own), lanes)
	if len(lanes) > 1 {
		out = append(out, first...)
	}
	return out
}

func (p *Plan) checkHours(bad func(field, remedy, what string, args ...any) error) error {
	if len(p.Hours) > mostHours {
		return bad("hours", fmt.Sprintf("give at most %d", mostHours), "there are %d spans of hours", len(p.Hours))
	}
	for i, h := range p.Hours {
		if err := h.window().Check(fmt.Sprintf("hours[%d]", i)); err != nil {
			return err
		}
	}
	return nil
}

func signals(guards []guard.Guard) (out []string) {
	for _, g := range guards {
		out = append(out, g.Signal)
	}
	return out
}

func list[T ~string](all []T) string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = string(x)
	}
	return strings.Join(out, ", ")
}

// window is the same as a time that comes every week.
func (h Hours) window() rule.Freeze {
	w := rule.Freeze{Name: "the hours of a plan", Zone: cmp.Or(h.Zone, "UTC"), From: h.From, To: h.To, Days: h.Days}
	if len(w.Days) == 0 {
		w.Days = rule.Weekdays
	}
	return w
}

// String is the hours in words: mon to fri 08:00 to 17:00 Europe/Oslo.
func (h Hours) String() string {
	zone := h.Zone
	if zone == "" {
		zone = "UTC"
	}
	return strings.TrimSpace(fmt.Sprintf("%s %s to %s %s", strings.Join(h.Days, ", "), h.From, h.To, zone))
}

// Open reports whether the plan's hours allow a step now.
func (p *Plan) Open(now time.Time) bool {
	return len(p.Hours) == 0 || slices.ContainsFunc(p.Hours, func(h Hours) bool {
		_, open := h.window().InForce(now)
		return open
	})
}

// hoursInWords says when steps are allowed.
func (p *Plan) hoursInWords() string {
	var out []string
	for _, h := range p.Hours {
		out = append(out, h.String())
	}
	return strings.Join(out, "; ")
}

// BuiltIn are the plans that come with the service.
func BuiltIn() []Plan {
	plans := []Plan{
		{
			Name: "careful", Kind: Canary, About: "Four steps, an hour of bake: for what many rely on.",
			Steps: []PlanStep{
				{Share: 100, Time: minute(10), Requests: 100},
				{Share: 500, Time: minute(10), Requests: 200},
				{Share: 2500, Time: minute(10), Requests: 500},
				{Share: 5000, Time: minute(10), Requests: 500},
			},
			Bake: Bake{Time: minute(60), Requests: 100, Copies: BakeCopies{Share: 1000}},
			Harm: Harm{BadAnswers: 100, Share: 2500}, Capacity: 1,
		},
		{
			Name: "brisk", Kind: Canary, About: "Two steps of a minute, ten minutes of bake: for a small change.",
			Steps: []PlanStep{
				{Share: 1000, Time: minute(1), Requests: 100},
				{Share: 5000, Time: minute(1), Requests: 200},
			},
			Bake: Bake{Time: minute(10), Requests: 100}, Harm: Harm{BadAnswers: 100}, Capacity: 1,
		},
		{
			Name: "twin", Kind: BlueGreen,
			About: "The candidate is warmed, takes over all at once, and is watched for half an hour.",
			Warm:  100, Bake: Bake{Time: minute(30), Requests: 100, Copies: BakeCopies{Share: 2500}},
			Harm: Harm{BadAnswers: 100}, Capacity: 1,
		},
		{
			Name: "quiet", Kind: Shadow,
			About: "A quarter of the requests is copied for half an hour; nobody gets the candidate's answers.",
			// Of rates that are as low as what guards allow, copies tell in many hours only, and nobody is harmed.
			Copies: Copies{
				Share: 2500, Time: minute(30), Requests: 500,
				Good: []string{guard.LatencyP50, guard.MissingOutputs},
			},
		},
		{
			Name: "halves", Kind: Comparison,
			About: "Half each until it is known which of both fails less, for three days at most.",
			Compare: Compare{
				Share: 5000, Signal: guard.ErrorRate, Margin: 0.01, Time: minute(60), Most: minute(3 * 24 * 60),
			},
			Harm: Harm{BadAnswers: 100}, Capacity: 1,
		},
	}
	for i := range plans {
		plans[i].Complete()
	}
	return plans
}

func minute(n int) span.Duration { return span.Duration(time.Duration(n) * time.Minute) }

// Usual is the name of the plan that is followed where none is named.
const Usual = "careful"

// IsBuiltIn reports whether a plan of a name comes with the service.
func IsBuiltIn(name string) bool {
	return slices.ContainsFunc(BuiltIn(), func(p Plan) bool { return p.Name == name })
}
