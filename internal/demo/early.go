package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/wire"
)

// demandCases are what every version of heat-demand must answer, whoever made it.
const demandCases = `# What the dispatch desk knows of its town. Whatever a model was fitted on, this must come back.
base: {hour: 7, weekday: 1, wind_ms: 3, solar_wm2: 0, mix: harbour}
cases:
  - name: a cold morning in the harbour
    inputs: {outdoor_c: -8, supply_c: 80, demand_1h_mw: 1.7, demand_24h_mw: 1.6}
    between: {demand_mw: [1.3, 2.2]}
  - name: a warm noon needs next to nothing
    inputs: {hour: 12, outdoor_c: 20, solar_wm2: 300, supply_c: 53, demand_1h_mw: 0.1, demand_24h_mw: 0.1}
    between: {demand_mw: [-0.3, 0.4]}
  - name: colder means more
    inputs: {supply_c: 65, demand_1h_mw: 0.8, demand_24h_mw: 0.8}
    falls_with: {outdoor_c: [-15, -5, 5, 15]}
  - name: a tenth of a degree of supply hardly matters
    inputs: {supply_c: 70, outdoor_c: 0, demand_1h_mw: 1, demand_24h_mw: 1}
    unmoved_by: {supply_c: [69.9, 70.1]}
    tolerance: 0.03
  - name: a request without inputs is refused
    request: '{"inputs":[]}'
    refused: true
  - name: an answer comes in time
    within: 2s
`

// writeCases writes them into the town, for trying.
func (p *play) writeCases() error {
	return os.WriteFile(filepath.Join(p.Data, "town", "heat-demand.cases.yaml"), []byte(demandCases), 0o600)
}

// caughtEarly has a gate ask for checks of what is deployed: the version that was fitted on Fahrenheit does not come to
// any caller. Disturbances of rows as callers send them, and a replay of what they asked, say the same.
func (p *play) caughtEarly(ctx context.Context) error {
	cases, err := p.sif.SetCases(ctx, "heat-demand", demandCases, "what the dispatch desk knows of its town")
	if err != nil {
		return err
	}
	l, err := p.sif.Ladder(ctx, forecasting)
	if err != nil {
		return err
	}
	gate := &l.Rungs[len(l.Rungs)-1].Gate
	*gate = slices.Insert(*gate, 0, rule.Requirement{Rule: rule.Checked{Environment: "workbench"}})
	_, err = p.sif.SetLadder(ctx, forecasting, l.Ladder, "what is deployed is asked before it is live", -1)
	if err != nil {
		return err
	}
	p.say("the gate of live asks for the cases %s now, on what runs in the workbench", cases.ID())
	r, err := p.demandRelease("fitted on the new weather feed", windTerms(), inFahrenheit)
	if err != nil {
		return err
	}
	ref, file, err := p.register(ctx, r)
	if err == nil {
		err = p.place(ctx, r, ref, file, "workbench")
	}
	if err != nil {
		return err
	}
	p.say("%s is registered (%s) and placed in the workbench", ref, measures(r.metrics))
	checked, err := p.awaitReport(ctx, ref, func(e *evidence.Evidence) bool { return e.OwnTests() != nil })
	if err != nil {
		return err
	}
	p.say("%s, made as soon as it was healthy: %s", checked.ID, checked.Says)
	for _, f := range checked.Tests.Failed {
		p.say("   %s: %s", f.Name, f.Message)
	}
	found, err := p.runa.Gate(ctx, ref, "live")
	if err != nil {
		return err
	}
	i := slices.IndexFunc(found.Findings, func(f rule.Finding) bool { return f.Requirement == "checked" })
	if i < 0 || found.Findings[i].State != rule.Failed {
		return fmt.Errorf("the gate says of %s: %+v", ref, found.Findings)
	}
	p.say("the gate of live: %s", found.Findings[i].Sentence)
	if _, err := p.runa.Robustness(ctx, wire.NewRobustness{Asked: ref, Environment: "workbench"}); err != nil {
		return err
	}
	disturbed, err := p.awaitReport(ctx, ref, func(e *evidence.Evidence) bool { return e.OwnRobustness() != nil })
	if err != nil {
		return err
	}
	p.say("%s, tested for robustness with rows as callers send them: %s", disturbed.ID, disturbed.Says)
	for _, t := range disturbed.Robustness.Tried {
		if t.Fault {
			p.say("   %s", t.Says())
		}
	}
	if _, err := p.runa.Replay(ctx, wire.NewReplay{
		Endpoint: "demand-hourly", To: ref, Since: "1h", Most: 500, Rate: 200, AtMost: "disagreement=0.05",
	}); err != nil {
		return err
	}
	replayed, err := p.awaitReport(ctx, ref, func(e *evidence.Evidence) bool { return e.OwnReplay() != nil })
	if err == nil {
		p.say("%s, what callers asked today, asked again: %s", replayed.ID, replayed.Says)
	}
	return err
}

// awaitReport waits for a report of a version.
func (p *play) awaitReport(ctx context.Context, ref string, is func(*evidence.Evidence) bool,
) (*evidence.Evidence, error) {
	for {
		all, err := p.runa.Evidence(ctx, ref)
		if err != nil {
			return nil, err
		}
		for i := range all.Items {
			if is(&all.Items[i]) {
				return &all.Items[i], nil
			}
		}
		if err := wait(ctx, 300*time.Millisecond); err != nil {
			return nil, err
		}
	}
}
