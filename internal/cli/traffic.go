package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

func trafficCommands() []command {
	return []command{
		{
			name: "endpoint add", group: "Traffic", arguments: "NAME [REF=PERCENT …]",
			summary: "Add an endpoint, the stable name that callers call; with versions, who answers at once",
			least:   1, most: -1,
			example: "innerladder endpoint add demand-hourly -model heat-demand -env plant-north\n" +
				"innerladder endpoint add demand-hourly heat-demand@1=90 heat-demand@2=10 -env plant-north",
			setup: addEndpoint,
		},
		{
			name: "endpoint edit", group: "Traffic", arguments: "NAME",
			summary: "Change what is said about an endpoint and what it demands", least: 1, most: 1,
			example: "innerladder endpoint edit demand-hourly -about \"for the dispatch desk\" -error-margin 0.2",
			setup:   editEndpoint,
		},
		{
			name: "endpoint remove", group: "Traffic", arguments: "NAME",
			summary: "Take away an endpoint that nobody calls", least: 1, most: 1,
			example: "innerladder endpoint remove demand-houly -why \"mistyped\"",
			setup: func(c *call) func(context.Context) error {
				c.connect()
				why := c.flags.String("why", "", "`REASON`")
				return func(ctx context.Context) error {
					e, err := c.api.RemoveEndpoint(ctx, c.args[0], *why)
					return c.show(e, err, func() { c.say("%s was taken away", e.Name) })
				}
			},
		},
		{
			name: "endpoint list", group: "Traffic", summary: "List endpoints and who answers for them", most: 0,
			example: "innerladder endpoint list", setup: listEndpoints,
		},
		{
			name: "endpoint show", group: "Traffic", arguments: "NAME",
			summary: "Show what the lanes of an endpoint do now", least: 1, most: 1,
			example: "innerladder endpoint show demand-hourly", setup: showEndpoint,
		},
		{
			name: "split", group: "Traffic", arguments: "ENDPOINT REF=PERCENT …",
			summary: "Make a new split; the first version named is main, the others are on trial", least: 2, most: -1,
			example: "innerladder split demand-hourly heat-demand@1=90 heat-demand@2=10 -why \"first look\"\n" +
				"innerladder split demand-hourly heat-demand@1=100 heat-demand@2=0 " +
				"-rule \"key is beta-app to heat-demand@2\"\n" +
				"innerladder split demand-hourly heat-demand@1=100 -shadow heat-demand@3=25",
			setup: split,
		},
		{
			name: "route explain", group: "Traffic", arguments: "ENDPOINT", least: 1, most: 1,
			summary: "Say where a request would go now, and by which rule",
			example: "innerladder route explain demand-hourly -header X-Team=dispatch -key planning-tool " +
				"-input outdoor_c=-12",
			setup: explainRoute,
		},
		{
			name: "splits", group: "Traffic", arguments: "ENDPOINT",
			summary: "List the splits of an endpoint, newest first", least: 1, most: 1,
			example: "innerladder splits demand-hourly", setup: splits,
		},
		{
			name: "back", group: "Traffic", arguments: "ENDPOINT",
			summary: "Leave the split in force for a reason and return to the last without a trial lane, or -to " +
				"a revision",
			least: 1, most: 1,
			example: "innerladder back demand-hourly -why \"complaints from the harbour\"", setup: back,
		},
	}
}

func addEndpoint(c *call) func(context.Context) error {
	c.connect()
	model := c.flags.String("model", "", "`MODEL` whose versions answer")
	env := c.flags.String("env", "", "`ENVIRONMENT` where they run")
	rung := c.flags.String("rung", "", "`RUNG` they must stand on; live when not given")
	about := c.flags.String("about", "", "`TEXT` for people")
	repeatable := c.flags.Bool("repeatable", false,
		"asking a model server twice does no harm: send a request again whenever it failed")
	checked := c.flags.Bool("checked", false,
		"refuse requests that do not keep the contract before a model server sees them")
	plan := termsOptions(c)
	why := c.flags.String("why", "", "`TEXT`: why the versions that are named answer")
	return func(ctx context.Context) error {
		var lanes []traffic.Lane
		if len(c.args) > 1 {
			var err error
			if lanes, err = parseLanes(c.args[1:], nil, 0); err != nil {
				return err
			}
			if *model == "" {
				*model, _, _ = strings.Cut(lanes[0].Version, "@")
			}
		}
		if *model == "" || *env == "" {
			return wrongUse("an endpoint needs -model and -env")
		}
		held, _ := plan(guard.DefaultTerms())
		e, err := c.api.AddEndpoint(ctx,
			wire.NewEndpoint{
				Name: c.args[0], Model: *model, Environment: *env, Rung: *rung, Description: *about,
				Terms: &held, Repeatable: *repeatable, Checked: *checked,
			})
		if err != nil || len(lanes) == 0 {
			return c.show(e, err, func() { fmt.Fprintln(c.Out, e.Name) })
		}
		if err := c.newSplit(c.api.Split(ctx, e.Name, lanes, *why, 0)); err != nil {
			c.say("%s was added, and nothing answers for it yet", e.Name)
			return err
		}
		return nil
	}
}

// termsOptions defines the options of a plan. What comes back changes a plan by those that were given,
// and says whether any was.
func termsOptions(c *call) func(guard.Terms) (held guard.Terms, given bool) {
	usual := guard.DefaultTerms()
	failing, _ := usual.Of(guard.ErrorRate)
	latency, _ := usual.Of(guard.LatencyP99)
	drift, _ := usual.Of(guard.PredictionDrift)
	errorRatio := c.flags.Float64("error-ratio", failing.Ratio,
		"`TIMES`: how many times the main lane's errors a trial may have")
	errorMargin := c.flags.Float64("error-margin", failing.Margin*100,
		"`POINTS`: how many percentage points more errors a trial may have whatever the ratio")
	latencyRatio := c.flags.Float64("latency-ratio", latency.Ratio,
		"`TIMES`: how many times the main lane's p99 a trial's may be")
	latencyMargin := c.flags.Float64("latency-margin", latency.Margin,
		"`MS`: how many milliseconds more a trial's p99 may be whatever the ratio")
	driftMargin := c.flags.Float64("drift-margin", drift.Margin,
		"`GAP`: the largest gap that there may be between the distributions of predictions, 0 to 1")
	noLatency := c.flags.Bool("no-latency-guard", false, "let a trial be as slow as it likes")
	noDrift := c.flags.Bool("no-drift-guard", false, "let a trial predict what it likes")
	others, out := []guard.Guard{}, map[string]bool{}
	c.flags.Func("guard", "`SIGNAL=MARGIN[:RESPONSE]` of another guard, such as custom.dispatch_cost=0.5:hold or "+
		"accuracy=2%; SIGNAL=off takes it out; may be given several times", func(text string) error {
		g, off, err := parseGuard(text)
		others = append(others, g)
		out[g.Signal] = off
		return err
	})
	alpha := c.flags.Float64("alpha", usual.Alpha, "`CHANCE` that the guards ever end a harmless trial")
	return func(p guard.Terms) (_ guard.Terms, given bool) {
		held := map[string]guard.Guard{}
		for _, g := range p.Guards {
			held[g.Signal] = g
		}
		change := func(g guard.Guard, to func(*guard.Guard)) {
			if was, there := held[g.Signal]; there {
				g = was
			}
			to(&g)
			held[g.Signal] = g
		}
		c.flags.Visit(func(f *flag.Flag) {
			known := true
			switch f.Name {
			case "error-ratio":
				change(failing, func(g *guard.Guard) { g.Ratio = *errorRatio })
			case "error-margin":
				change(failing, func(g *guard.Guard) { g.Margin = *errorMargin / 100 })
			case "latency-ratio":
				change(latency, func(g *guard.Guard) { g.Ratio = *latencyRatio })
			case "latency-margin":
				change(latency, func(g *guard.Guard) { g.Margin = *latencyMargin })
			case "drift-margin":
				change(drift, func(g *guard.Guard) { g.Margin = *driftMargin })
			case "no-latency-guard":
				if change(latency, func(*guard.Guard) {}); *noLatency {
					delete(held, latency.Signal)
				}
			case "no-drift-guard":
				if change(drift, func(*guard.Guard) {}); *noDrift {
					delete(held, drift.Signal)
				}
			case "guard":
				for _, g := range others {
					g.Ratio = held[g.Signal].Ratio
					if held[g.Signal] = g; out[g.Signal] {
						delete(held, g.Signal)
					}
				}
			case "alpha":
				p.Alpha = *alpha
			default:
				known = false
			}
			given = given || known
		})
		p.Guards = slices.SortedFunc(maps.Values(held), func(a, b guard.Guard) int {
			return cmp.Or(cmp.Compare(guard.Place(a.Signal), guard.Place(b.Signal)), strings.Compare(a.Signal,
				b.Signal))
		})
		return p, given
	}
}

// parseGuard reads a guard that was written as SIGNAL=MARGIN[:RESPONSE], or as SIGNAL=off, which is no guard.
func parseGuard(text string) (g guard.Guard, off bool, err error) {
	signal, margin, _ := strings.Cut(text, "=")
	if margin == "off" {
		return guard.Guard{Signal: signal}, true, nil
	}
	margin, then, _ := strings.Cut(margin, ":")
	number, percent := strings.CutSuffix(margin, "%")
	x, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil {
		return g, false, errors.New("write SIGNAL=MARGIN, such as custom.dispatch_cost=0.5, or SIGNAL=off")
	}
	if percent {
		x /= 100
	}
	return guard.Guard{Signal: signal, Margin: x, Then: guard.Response(then)}, false, nil
}

// heldAgainst says what requests are held against; empty for nothing.
func heldAgainst(checked bool) string {
	if checked {
		return "must keep the contract"
	}
	return ""
}

func editEndpoint(c *call) func(context.Context) error {
	c.connect()
	var edit wire.EditEndpoint
	c.optional("rung", "`RUNG` that versions must stand on", &edit.Rung)
	c.optional("about", "`TEXT` for people", &edit.Description)
	c.optional("owner", "`NAME` of the person or team whose it is", &edit.Owner)
	c.optional("runbook", "`ADDRESS` of a page that says what to do", &edit.Runbook)
	c.optional(
		"sticky",
		"`WHAT` keeps callers on their lane: key, caller, header NAME, cookie NAME or input NAME; empty for "+
			"the header Inner-Ladder-Caller",
		&edit.Sticky,
	)
	for _, o := range []struct {
		name, about string
		into        **bool
	}{
		{"repeatable", "asking a model server twice does no harm", &edit.Repeatable},
		{"checked", "requests that do not keep the contract are refused by the gateway", &edit.Checked},
	} {
		c.flags.BoolFunc(o.name, o.about, func(s string) error {
			on, err := strconv.ParseBool(s)
			if err != nil {
				return errors.New("write true or false")
			}
			*o.into = &on
			return nil
		})
	}
	plan := termsOptions(c)
	keeping := keepingOptions(c)
	c.flags.StringVar(&edit.Reason, "why", "", "`REASON`")
	return func(ctx context.Context) error {
		was, err := c.api.Endpoint(ctx, c.args[0])
		if err != nil {
			return err
		}
		if held, given := plan(was.Terms); given {
			edit.Terms = &held
		}
		if kept, given := keeping(was.Requests); given {
			edit.Requests = &kept
		}
		e, err := c.api.EditEndpoint(ctx, c.args[0], edit)
		return c.show(e, err, func() {
			facts(c.Out, "endpoint", e.Name, "demands", e.Rung, "about", e.Description, "owner", e.Watches.Owner,
				"runbook", e.Watches.Runbook, "sticky by", e.Sticky, "guards", guards(e.Terms), "keeps",
				keepsWhat(e.Requests))
		})
	}
}

// guards says what a plan holds trials to.
func guards(p guard.Terms) string {
	var parts []string
	for _, g := range p.Guards {
		parts = append(parts, fmt.Sprintf("%s: %s", g.Signal, g.Allows()))
	}
	return strings.Join(parts, "; ")
}

func listEndpoints(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		all, err := c.api.Endpoints(ctx)
		if err != nil {
			return err
		}
		now, err := c.api.Now(ctx)
		states := map[string]string{}
		for _, n := range now {
			states[n.Endpoint] = string(n.State)
		}
		return c.show(all, err, func() {
			t := newTable(c.Out, "ENDPOINT", "MODEL", "ENVIRONMENT", "SPLIT", "LANES", "STATE", "SINCE")
			for _, e := range all.Items {
				if e.Split == nil {
					t.row(e.Name, e.Model, e.Environment, "", "nothing answers yet", "", "")
					continue
				}
				t.row(e.Name, e.Model, e.Environment, "#"+strconv.Itoa(e.Split.Number), e.Split.String(),
					states[e.Name], ago(sinceNow(e.Split.MadeAt)))
			}
			t.done()
		})
	}
}

func showEndpoint(c *call) func(context.Context) error {
	c.connect()
	return func(ctx context.Context) error {
		e, err := c.api.Endpoint(ctx, c.args[0])
		if err != nil {
			return err
		}
		now, err := c.api.EndpointNow(ctx, c.args[0])
		return c.show(now, err, func() {
			facts(c.Out, "endpoint", e.Name, "state", string(now.State), "model", e.Model, "environment",
				e.Environment, "demands", e.Rung, "about", e.Description, "owner", e.Watches.Owner, "runbook",
				e.Watches.Runbook, "sticky by", e.Sticky, "requests", heldAgainst(e.Checked))
			if e.Split == nil {
				fmt.Fprintf(c.Out, "\nnothing answers yet; make a split with: innerladder split %s %s@NUMBER=100\n",
					e.Name, e.Model)
				return
			}
			fmt.Fprintf(c.Out, "\n#%d by %s, %s %s\n\n", e.Split.Number, e.Split.Author, moment(e.Split.MadeAt),
				quote(e.Split.Reason))
			rulesOf(c.Out, e.Split.Rules)
			if e.Back != nil {
				fmt.Fprintf(c.Out, "back leads to #%d: %s\n\n", e.Back.Number, e.Back.String())
			}
			t := newTable(c.Out, "LANE", "VERSION", "SHARE", "HEALTH", "REQUESTS", "FAILED", "A SECOND", "ERRORS NOW",
				"P50", "P95", "P99")
			for _, l := range now.Lanes {
				health := "healthy"
				if !l.Healthy {
					health = "UNHEALTHY"
				}
				share := traffic.Percent(l.Share)
				if l.Kind == traffic.Shadow {
					share = "copies of " + share
				}
				row := []string{
					string(l.Kind), l.Version, share, health, count(l.Requests), count(l.Failed),
					fmt.Sprintf("%.1f", l.Rate),
				}
				if l.Rate > 0 { // of nothing there is no rate and no quantile
					row = append(row, percent(l.ErrorRate), millis(l.P50), millis(l.P95), millis(l.P99))
				} else {
					row = append(row, "", "", "", "")
				}
				t.row(row...)
			}
			t.done()
			for _, r := range now.Refused {
				fmt.Fprintf(c.Out, "turned away in the last %g s: %s that %s\n", now.RefusedOver, count(r.Count),
					r.What)
			}
			for _, l := range now.Lanes {
				printCopies(c.Out, l.Copies)
			}
			if len(now.Guards) > 0 {
				fmt.Fprintln(c.Out, "\nguards")
			}
			for _, g := range now.Guards {
				printGuard(c.Out, g.Reading, g.Version, slices.ContainsFunc(now.Lanes, func(l wire.LaneNow) bool {
					return l.Version == g.Version && l.Kind == traffic.Shadow
				}))
			}
			if e.Rollout != "" {
				fmt.Fprintf(c.Out, "\n%s moves it; see: innerladder rollout show %s\n", e.Rollout, e.Rollout)
			}
		})
	}
}

// printGuard says what a guard says of a version.
func printGuard(w io.Writer, g guard.Reading, version string, copies bool) {
	stands := fmt.Sprintf("at %.0f %% of its limit, which %s", g.Progress*100,
		map[guard.Response]string{
			guard.Notify: "tells somebody", guard.Hold: "holds it",
			guard.RollBack: map[bool]string{true: "ends its copies", false: "rolls it back"}[copies],
		}[g.Then])
	if g.Enough >= 1 {
		stands = "shown good"
	}
	fmt.Fprintf(w, "  %-16s %s: %s %s\n", g.Signal, stands, version, g.Sentence)
}

// parseLanes reads REF=PERCENT arguments; the first is main, and those of shadows get copies.
func parseLanes(args, shadows []string, tolerance float64) ([]traffic.Lane, error) {
	lanes := make([]traffic.Lane, len(args)+len(shadows))
	for i, arg := range slices.Concat(args, shadows) {
		ref, share, ok := strings.Cut(arg, "=")
		if !ok {
			return nil, wrongUse("%q is no lane; write REF=PERCENT, such as heat-demand@1=90", arg)
		}
		points, err := traffic.ParsePercent("share", share)
		if err != nil {
			return nil, wrongUse("%v", err)
		}
		lanes[i] = traffic.Lane{Kind: traffic.Trial, Version: ref, Share: points}
		if i >= len(args) {
			lanes[i].Kind, lanes[i].Tolerance = traffic.Shadow, tolerance
		}
	}
	lanes[0].Kind = traffic.Main
	if err := traffic.CheckLanes(lanes); err != nil && fault.Is(err, fault.Invalid) {
		return nil, wrongUse("%v", err)
	}
	return lanes, nil
}

func split(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT`: why")
	based := c.flags.Int("if", -1, "`NUMBER` of the split it was decided on; refused when another is in force")
	var rules []traffic.Rule
	c.flags.Func(
		"rule",
		"`RULE` that comes before shares: ON is A,B to VERSION, ON matches EXPRESSION to VERSION, or ON "+
			"from A below B to VERSION; ON is key, caller, header NAME, cookie NAME or input NAME; may be given again",
		func(text string) error {
			r, err := traffic.ParseRule("rule", text)
			rules = append(rules, r)
			return err
		},
	)
	var shadows []string
	c.flags.Func("shadow", "`REF=PERCENT`: a version that gets copies of so many requests and answers nobody; may be "+
		"given again", func(text string) error {
		shadows = append(shadows, text)
		return nil
	})
	tolerance := c.flags.Float64("tolerance", 0,
		"`SHARE` of the larger by which numbers of a shadow and of main may differ that agree; 0.05 when not given")
	noRules := c.flags.Bool("no-rules", false, "end the rules in force, which stay otherwise")
	return func(ctx context.Context) error {
		lanes, err := parseLanes(c.args[1:], shadows, *tolerance)
		switch {
		case err != nil:
			return err
		case *noRules && rules != nil:
			return wrongUse("-no-rules ends rules, and -rule gives some: use one of them")
		case *noRules:
			rules = []traffic.Rule{}
		}
		return c.newSplit(c.api.SplitBy(ctx, c.args[0], lanes, rules, *why, *based))
	}
}

// rulesOf prints the rules of a split, in the order in which they are asked.
func rulesOf(out io.Writer, rules []traffic.Rule) {
	for i, r := range rules {
		fmt.Fprintf(out, "  rule %d: %s\n", i+1, r)
	}
}

func explainRoute(c *call) func(context.Context) error {
	c.connect()
	e := wire.Explain{Headers: map[string]string{}, Inputs: map[string]string{}}
	pairs := func(into map[string]string) func(string) error {
		return func(text string) error {
			name, value, ok := strings.Cut(text, "=")
			if !ok {
				return errors.New("write NAME=VALUE")
			}
			into[name] = value
			return nil
		}
	}
	c.flags.Func("header", "`NAME=VALUE` that it has; may be given again", pairs(e.Headers))
	c.flags.Func("input", "`NAME=VALUE`: the first value of an input; may be given again", pairs(e.Inputs))
	c.flags.StringVar(&e.Key, "key", "", "`NAME` of the caller's key")
	c.flags.StringVar(&e.Version, "version", "", "`VERSION` that its path names")
	return func(ctx context.Context) error {
		where, err := c.api.Explain(ctx, c.args[0], e)
		return c.show(where, err, func() { fmt.Fprintf(c.Out, "#%d: %s\n", where.Split, where.Sentence) })
	}
}

func back(c *call) func(context.Context) error {
	c.connect()
	why := c.flags.String("why", "", "`TEXT`: why; needed")
	revision := 0
	to := &revision
	c.flags.Func("to", "`REVISION` to return to; when not given, the last without a trial lane that was not left for "+
		"a reason", func(s string) (err error) {
		if revision, err = strconv.Atoi(s); err != nil || revision < 1 {
			return errors.New("give the number of a split, from 1 on; innerladder splits lists them")
		}
		return nil
	})
	based := c.flags.Int("if", -1, "`NUMBER` of the split it was decided on; refused when another is in force")
	down := c.flags.Bool("step-down", false,
		"the version that is left steps down a rung and must be signed anew, as after a guard")
	return func(ctx context.Context) error {
		if *down {
			return c.newSplit(c.api.BackAndDown(ctx, c.args[0], *to, *why, *based))
		}
		return c.newSplit(c.api.Back(ctx, c.args[0], *to, *why, *based))
	}
}

// newSplit prints the split that a call put in force.
func (c *call) newSplit(s traffic.Split, err error) error {
	return c.show(s, err, func() {
		fmt.Fprintf(c.Out, "%s#%d is in force: %s\n", s.Endpoint, s.Number, s.String())
		rulesOf(c.Out, s.Rules)
		if s.Unrecorded {
			c.say("the record cannot be written now; it follows as soon as it can")
		}
	})
}

func splits(c *call) func(context.Context) error {
	c.connect()
	part := c.part()
	return func(ctx context.Context) error {
		all, err := c.api.Splits(ctx, c.args[0], part())
		return c.show(all, err, func() {
			t := newTable(c.Out, "SPLIT", "LANES", "WAY BACK", "LEFT", "BY", "WHEN", "WHY")
			for _, s := range all.Items {
				t.row("#"+strconv.Itoa(s.Number), s.String(), wayOf(s), leftBy(s.Left), s.Author,
					ago(sinceNow(s.MadeAt)), s.Reason)
			}
			t.done()
			c.more(all.Next)
		})
	}
}

// wayOf says from where and to where a split is a way back.
func wayOf(s traffic.Split) string {
	switch {
	case s.ReturnsTo > 0:
		return fmt.Sprintf("#%d to #%d", s.Leaves, s.ReturnsTo)
	case s.Leaves > 0:
		return fmt.Sprintf("from #%d", s.Leaves)
	}
	return ""
}

// leftBy says who left a split for a reason.
func leftBy(l *traffic.Left) string {
	if l == nil {
		return ""
	}
	return fmt.Sprintf("by %s for #%d", l.By, l.For)
}
