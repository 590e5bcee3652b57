package ladder

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
)

func value(x float64) *float64 { return &x }

func TestRules(t *testing.T) {
	report := func(id, kind, verdict string, age time.Duration, more func(*evidence.Evidence)) evidence.Evidence {
		e := evidence.Evidence{ID: id, Kind: kind, Name: "report", Verdict: verdict, AddedAt: noon.Add(-age)}
		if more != nil {
			more(&e)
		}
		return e
	}
	base := func(more func(*Facts)) Facts {
		f := candidate()
		f.To, f.Answers = "live", ask("rehearsal", "live").answers()
		if more != nil {
			more(&f)
		}
		return f
	}
	incumbent := func(f *Facts) {
		f.Incumbent = &registry.Version{Ref: "heat-demand@1", Metrics: map[string]float64{"rmse": 0.25, "r2": 0.9}}
	}
	tests := func(ran int) func(*evidence.Evidence) {
		return func(e *evidence.Evidence) { e.Tests = &evidence.TestReport{Total: ran} }
	}
	cases := []struct {
		name  string
		rule  Rule
		facts Facts
		want  State
		says  string
	}{
		{"metric within", Metric{Metric: "rmse", AtMost: value(0.3)}, base(nil), Passed, "0.3"},
		{"metric above", Metric{Metric: "rmse", AtMost: value(0.2)}, base(nil), Failed, "at most 0.2"},
		{"metric below", Metric{Metric: "rmse", AtLeast: value(0.4)}, base(nil), Failed, "at least 0.4"},
		{"metric missing", Metric{Metric: "mae", AtMost: value(1)}, base(nil), Failed, "No mae"},
		{
			"worse than the incumbent",
			Metric{Metric: "rmse", NoWorseBy: value(0.01)},
			base(incumbent), Failed,
			"0.05 worse than heat-demand@1",
		},
		{
			"just within the margin",
			Metric{Metric: "rmse", NoWorseBy: value(0.05)},
			base(incumbent), Passed,
			"heat-demand@1",
		},
		{"within a share", Metric{Metric: "rmse", NoWorseByShare: value(0.2)}, base(incumbent), Passed, ""},
		{
			"more is better",
			Metric{Metric: "r2", NoWorseBy: value(0)},
			base(func(f *Facts) { incumbent(f); f.Version.Metrics["r2"] = 0.91 }), Passed, "",
		},
		{
			"less is better, it is said",
			Metric{Metric: "r2", NoWorseBy: value(0), Better: "lower"},
			base(func(f *Facts) { incumbent(f); f.Version.Metrics["r2"] = 0.91 }), Failed, "worse than heat-demand@1",
		},
		{
			"nobody to compare with",
			Metric{Metric: "rmse", NoWorseBy: value(0)},
			base(nil), Passed,
			"nobody stands on live",
		},
		{
			"no evaluation",
			Metric{Metric: "rmse", AtMost: value(1), From: "evaluation"},
			base(nil), Waiting,
			"No report",
		},
		{
			"evaluation says otherwise",
			Metric{Metric: "rmse", AtMost: value(0.5), From: "evaluation"},
			base(func(f *Facts) {
				f.Evidence = []evidence.Evidence{report("E-1", evidence.EvaluationKind, "", 0,
					func(e *evidence.Evidence) { e.Metrics = map[string]float64{"rmse": 0.9} })}
			}), Failed, "0.9",
		},
		{"no tests", EvidenceOf{Evidence: "tests"}, base(nil), Waiting, "innerladder attach heat-demand@2 -kind tests"},
		{
			"tests failed",
			EvidenceOf{Evidence: "tests"},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "tests", "failed", 0, nil)} }), Failed,
			"E-1",
		},
		{"the newest counts", EvidenceOf{Evidence: "tests"}, base(func(f *Facts) {
			f.Evidence = []evidence.Evidence{
				report("E-2", "tests", "passed", 0, nil),
				report("E-1", "tests", "failed", time.Hour, nil),
			}
		}), Passed, "E-2"},
		{
			"too old",
			EvidenceOf{Evidence: "tests", NoOlder: Duration(time.Hour)},
			base(func(f *Facts) {
				f.Evidence = []evidence.Evidence{report("E-1", "tests", "passed", 2*time.Hour,
					nil)}
			}), Waiting, "no older than 1h",
		},
		{
			"too few tests",
			EvidenceOf{Evidence: "tests", LeastTests: 10},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "tests", "passed", 0, tests(9))} }),
			Failed, "9 tests of the 10",
		},
		{
			"unjudged",
			EvidenceOf{Evidence: "document"},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "document", "none", 0, nil)} }),
			Waiting, "neither",
		},
		{
			"unjudged will do",
			EvidenceOf{Evidence: "document", Unjudged: true},
			base(func(f *Facts) { f.Evidence = []evidence.Evidence{report("E-1", "document", "none", 0, nil)} }),
			Passed, "attached",
		},
		{"no card", CardSections{[]string{"limits"}}, base(nil), Failed, "no card"},
		{"an empty section", CardSections{[]string{"limits", "Data"}}, base(func(f *Facts) {
			f.Version.Card = &registry.Card{Sections: []registry.CardSection{
				{Kind: "limits", Title: "Limits"},
				{Title: "data", Body: "two winters"},
			}}
		}), Failed, "nothing of limits."},
		{"lineage", LineageComplete{}, base(nil), Failed, "its code, its run"},
		{
			"lineage of some",
			LineageComplete{Parts: []string{"run"}},
			base(func(f *Facts) { f.Version.Run = "run-1" }),
			Passed, "run",
		},
		{
			"evaluated is not trained",
			LineageComplete{Parts: []string{"data"}},
			base(func(f *Facts) { f.Version.Data = []lineage.DataUse{{Data: "w#1", Role: lineage.EvaluatedOn}} }),
			Failed, "trained on",
		},
		{
			"uncommitted code",
			LineageComplete{Parts: []string{"code"}, CleanCode: true},
			base(func(f *Facts) { f.Version.Code = &lineage.Code{Commit: "0123456789", Dirty: true} }), Failed,
			"01234567",
		},
		{"unknown needs", NoDenied{[]string{"oldlib"}}, base(nil), Waiting, "not known"},
		{"denied", NoDenied{[]string{"old-lib"}}, base(needs("Old_Lib", "")), Failed, "denied"},
		{"denied release", NoDenied{[]string{"numpy<1.22"}}, base(needs("numpy", "==1.9.5")), Failed, "1.9.5"},
		{"later release", NoDenied{[]string{"numpy<1.22"}}, base(needs("numpy", "==1.22")), Passed, "1 package"},
		{"perhaps denied", NoDenied{[]string{"numpy<1.22"}}, base(needs("numpy", ">=1.20")), Failed, "pin it"},
		{"not placed", Placed{"workbench"}, base(nil), Waiting, "not placed"},
		{
			"not healthy",
			Placed{"workbench"},
			base(func(f *Facts) { f.Places = []Place{{"workbench", false, "it is down"}} }), Waiting, "it is down",
		},
		{
			"placed",
			Placed{"workbench"},
			base(func(f *Facts) { f.Places = []Place{{"plant-north", false, ""}, {"workbench", true, ""}} }), Passed,
			"",
		},
		{"no shadow", Shadowed{1000, 0.01}, base(nil), Waiting, "1000 are demanded"},
		{
			"shadow of another",
			Shadowed{10, 0.01},
			base(func(f *Facts) { incumbent(f); shadow(100, 0, "heat-demand@9")(f) }), Waiting, "heat-demand@9",
		},
		{"shadow differs", Shadowed{10, 0.01}, base(shadow(100, 2, "")), Failed, "2 %"},
		{"shadow agrees", Shadowed{10, 0.02}, base(shadow(100, 2, "")), Passed, ""},
		{
			"not enough",
			SignOffs{Count: 2},
			base(func(f *Facts) { f.Answers.SignOffs = []SignOff{sign("odd", Yes, "")} }), Waiting, "1 sign-off",
		},
		{
			"the wrong role",
			SignOffs{Count: 1, Roles: []string{"safety"}},
			base(func(f *Facts) { f.Answers.SignOffs = []SignOff{sign("odd", Yes, "")} }), Waiting,
			"safety other than runa",
		},
		{
			"the trainer",
			SignOffs{Count: 1, NotTrainer: true},
			base(func(f *Facts) {
				f.Trainers = []string{"odd"}
				f.Answers.SignOffs = []SignOff{sign("odd", Yes,
					"")}
			}), Waiting, "trained",
		},
		{
			"an open list",
			Checklist{[]Item{{Name: "a", Text: "a"}, {Name: "b", Text: "b"}}},
			base(func(f *Facts) { f.Answers.Ticks = []Tick{{Rung: "live", Item: "a", By: "odd"}} }), Waiting,
			"1 of 2 items of the checklist open: b",
		},
		{
			"the list of one's own",
			Checklist{[]Item{{Name: "a", Text: "a"}}},
			base(func(f *Facts) { f.Answers.Ticks = []Tick{{Rung: "live", Item: "a", By: "runa"}} }), Waiting, "a",
		},
		{"no freeze", NoFreeze{}, base(func(f *Facts) { f.Frozen = &Frozen{} }), Passed, ""},
		{"freeze", NoFreeze{}, base(func(f *Facts) {
			l := Ladder{Freezes: []Freeze{
				{
					Name: "cold week", Zone: "UTC", From: "2026-01-12 00:00",
					To: "2026-01-19 08:00",
				},
				{Name: "spring", Zone: "UTC", From: "2026-04-01 00:00", To: "2026-04-02 00:00"},
			}}
			f.Frozen = new(l.Frozen(f.Now))
		}), Waiting, "until Mon 2026-01-19 08:00 UTC"},
	}
	seen := map[string]bool{}
	for _, c := range cases {
		seen[c.rule.Kind()] = true
		got := c.rule.Evaluate(c.facts)
		if got.State != c.want || !strings.Contains(got.Sentence, c.says) || !strings.HasSuffix(got.Sentence, ".") {
			t.Errorf("%s: %s, %q; want %s with %q", c.name, got.State, got.Sentence, c.want, c.says)
		}
	}
	for _, k := range Kinds() {
		if plain := k.Kind == "artifact_stored" || k.Kind == "metric_recorded" ||
			k.Kind == "signature_not_broken"; !seen[k.Kind] && !plain {
			t.Errorf("no case for %s", k.Kind)
		}
	}
}

func needs(name, want string) func(*Facts) {
	return func(f *Facts) { f.Version.Dependencies = []registry.Dependency{{Name: name, Want: want}} }
}

func shadow(requests, disagreed uint64, against string) func(*Facts) {
	return func(f *Facts) {
		f.Evidence = []evidence.Evidence{{
			ID: "E-9", Kind: evidence.ShadowKind,
			Findings: evidence.Findings{Shadow: &evidence.ShadowReport{
				Requests: requests, Disagreed: disagreed,
				Against: against,
			}},
		}}
	}
}

func TestFreezes(t *testing.T) {
	nights := Freeze{Name: "nights", Zone: "Europe/Stockholm", From: "22:00", To: "06:00", Days: []string{"fri"}}
	for at, until := range map[string]string{
		"2026-01-16T20:59:00Z": "",                     // Friday 21:59 there
		"2026-01-16T21:00:00Z": "2026-01-17T05:00:00Z", // 22:00
		"2026-01-17T04:59:00Z": "2026-01-17T05:00:00Z", // Saturday 05:59
		"2026-01-17T05:00:00Z": "",
		"2026-03-27T23:00:00Z": "2026-03-28T05:00:00Z",
		"2026-07-17T20:00:00Z": "2026-07-18T04:00:00Z", // summer time
	} {
		now, _ := time.Parse(time.RFC3339, at)
		got, on := nights.InForce(now)
		if on != (until != "") || (on && got.UTC().Format(time.RFC3339) != until) {
			t.Errorf("at %s: %v until %s, want %q", at, on, got.UTC().Format(time.RFC3339), until)
		}
	}
}

// Random ladders, and people who do anything in any order, some of it at the same time:
// whatever stands on a rung met its gate when it stepped there (or was marked as an
// emergency), nobody's own yes counts, stale ones neither, and rungs that hold one
// version hold one.
func TestNothingStandsWhereItMayNot(t *testing.T) {
	for seed := range uint64(400) {
		w := newWorld(rand.New(rand.NewPCG(seed, 11)))
		for range 120 {
			w.event()
			if t.Failed() {
				return
			}
			w.look(t, seed)
		}
	}
}

// world is a model with versions, a random ladder, and everything that can happen.
type world struct {
	r          *rand.Rand
	l          Ladder
	rungOf     []string
	stepped    []int  // by whom a version came where it stands, for the incumbent
	clock      int    // counts events
	metric     []bool // whether a version meets the metric
	promotions []*Promotion
}

var crowd = []string{"runa", "odd", "tove", "sif"}

func newWorld(r *rand.Rand) *world {
	w := &world{r: r}
	names := []string{"draft", "one", "two", "three", "four"}[:2+r.IntN(4)]
	for i, name := range names {
		rung := Rung{Name: name, Gate: []Requirement{}}
		if i > 0 {
			rung.HoldsOne, rung.Skip = r.IntN(2) == 0, r.IntN(2) == 0
			if rung.HoldsOne && r.IntN(2) == 0 {
				rung.Displaced = Retired
			}
			if r.IntN(3) > 0 {
				rung.Gate = append(rung.Gate, Requirement{SignOffs{Count: 1 + r.IntN(2), NotTrainer: r.IntN(2) == 0}})
			}
			if r.IntN(2) == 0 {
				rung.Gate = append(rung.Gate, Requirement{Metric{Metric: "rmse", AtMost: value(0.5)}})
			}
			if r.IntN(3) == 0 {
				rung.Gate = append(rung.Gate, Requirement{Checklist{[]Item{{Name: "looked", Text: "looked at it"}}}})
			}
		}
		w.l.Rungs = append(w.l.Rungs, rung)
	}
	w.l.CarryOut = []string{AtOnce, ByHand}[r.IntN(2)]
	if err := w.l.Check(); err != nil {
		panic(err)
	}
	for range 4 {
		w.rungOf, w.stepped, w.metric = append(w.rungOf, "draft"), append(w.stepped, 0), append(w.metric, r.IntN(4) > 0)
	}
	return w
}

func (w *world) ref(n int) string { return "m@" + string(rune('1'+n)) }

func (w *world) facts(n int, to string) Facts {
	f := Facts{Version: &registry.Version{
		Ref: w.ref(n), Digest: "d" + w.ref(n),
		Metrics: map[string]float64{"rmse": 1},
	}, Trainers: []string{crowd[n]}, Now: noon}
	if w.metric[n] {
		f.Version.Metrics["rmse"] = 0.1
	}
	best := -1
	for i, r := range w.rungOf {
		if i != n && r == to && (best < 0 || w.stepped[i] > w.stepped[best]) {
			best = i
		}
	}
	if best >= 0 {
		f.Incumbent = &registry.Version{Ref: w.ref(best), Metrics: map[string]float64{}}
	}
	return f
}

func (w *world) number(p *Promotion) int { return int(p.Version[2] - '1') }

func (w *world) step(p *Promotion) {
	standing := map[string][]int{}
	for i, r := range w.rungOf {
		standing[r] = append(standing[r], i)
	}
	for _, m := range w.l.Steps(w.number(p), p.From, p.To, standing, func(int) bool { return w.r.IntN(2) == 0 }) {
		w.clock++
		w.rungOf[m.Number], w.stepped[m.Number] = m.To, w.clock
	}
}

// settle does what the service does with a promotion.
func (w *world) settle(p *Promotion, byHand bool) {
	n := w.number(p)
	if p.State == Open && w.l.Height(w.rungOf[n]) != w.l.Height(p.From) {
		p.State = Withdrawn // it moved meanwhile
		return
	}
	was := p.State
	w.l.Judge(p, w.facts(n, p.To))
	p.State = w.l.Settle(p, byHand)
	if p.State == CarriedOut && was == Open {
		w.step(p)
	}
}

func (w *world) event() {
	n := w.r.IntN(len(w.rungOf))
	switch w.r.IntN(7) {
	case 0, 1: // someone asks
		to := w.l.Rungs[w.r.IntN(len(w.l.Rungs))].Name
		if w.l.CheckClimb(w.ref(n), w.rungOf[n], to) != nil {
			return
		}
		p := &Promotion{
			ID: ID(len(w.promotions) + 1), Version: w.ref(n), From: w.rungOf[n], To: to,
			AskedBy: crowd[w.r.IntN(4)], State: Open,
		}
		w.promotions = append(w.promotions, p)
		if w.r.IntN(8) == 0 {
			p.Emergency, p.State = true, ToReview
			w.l.Judge(p, w.facts(n, p.To))
			w.step(p)
			return
		}
		w.settle(p, false)
	case 2, 3, 4: // someone answers or ticks, having looked some time ago
		if len(w.promotions) == 0 {
			return
		}
		p := w.promotions[w.r.IntN(len(w.promotions))]
		f := w.facts(w.number(p), p.To)
		if w.r.IntN(5) == 0 {
			f = w.facts(n, p.To) // of something else altogether
		}
		incumbent := ""
		if f.Incumbent != nil {
			incumbent = f.Incumbent.Ref
		}
		by := crowd[w.r.IntN(4)]
		if w.r.IntN(3) == 0 {
			_ = p.Tick(Tick{
				Item: "looked", Note: "yes", By: by, CandidateDigest: f.Version.Digest,
				Incumbent: incumbent,
			}, w.l.Checklist(p))
		} else {
			_ = p.Sign(SignOff{
				By: by, Answer: []Answer{Yes, Yes, Yes, No}[w.r.IntN(4)], Note: "because", At: noon,
				CandidateDigest: f.Version.Digest, Incumbent: incumbent,
			}, w.l.Rung(p.To))
		}
		if p.State.Signable() {
			w.settle(p, false)
		}
	case 5: // someone carries out
		if len(w.promotions) > 0 {
			if p := w.promotions[w.r.IntN(len(w.promotions))]; p.State == Open {
				w.settle(p, true)
			}
		}
	case 6: // a version is rolled back by a rung
		if below, ok := w.l.Below(w.rungOf[n]); ok && !(w.l.Rung(below).HoldsOne && w.holds(below) > 0) {
			w.clock++
			w.rungOf[n], w.stepped[n] = below, w.clock
			for _, p := range w.promotions {
				if p.Version == w.ref(n) {
					for i := range p.SignOffs {
						p.SignOffs[i].Void = "rolled back"
					}
				}
			}
		}
	}
}

func (w *world) holds(rung string) int {
	n := 0
	for _, r := range w.rungOf {
		if r == rung {
			n++
		}
	}
	return n
}

func (w *world) look(t *testing.T, seed uint64) {
	t.Helper()
	for _, r := range w.l.Rungs {
		if n := w.holds(r.Name); r.HoldsOne && n > 1 {
			t.Fatalf("seed %d: %d versions stand on %s, which holds one", seed, n, r.Name)
		}
	}
	for _, p := range w.promotions {
		if p.State != CarriedOut || p.Emergency {
			continue
		}
		// What is checked here is written anew, not by the code that is tested.
		for h := w.l.Height(p.From) + 1; h <= w.l.Height(p.To); h++ {
			for _, q := range w.l.Rungs[h].Gate {
				switch rule := q.Rule.(type) {
				case SignOffs:
					yes := 0
					for _, s := range p.SignOffs {
						if s.Answer == Yes && s.By != p.AskedBy && !s.Stale && s.CandidateDigest == "d"+p.Version &&
							s.Incumbent == p.Incumbent && !(rule.NotTrainer && s.By == crowd[w.number(p)]) {
							yes++
						}
					}
					// Those that were voided afterwards counted when it stepped.
					if yes < rule.Count {
						t.Fatalf("seed %d: %s was carried out with %d of %d sign-offs: %+v", seed, p.ID, yes,
							rule.Count, p.SignOffs)
					}
				case Metric:
					if !w.metric[w.number(p)] {
						t.Fatalf("seed %d: %s was carried out past its metric", seed, p.ID)
					}
				case Checklist:
					if len(p.Ticks) == 0 {
						t.Fatalf("seed %d: %s was carried out unticked", seed, p.ID)
					}
				}
			}
		}
	}
}
