package ladder

import (
	"math/rand/v2"
	"testing"

	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
)

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
	half := 0.5
	w := &world{r: r}
	names := []string{"draft", "one", "two", "three", "four"}[:2+r.IntN(4)]
	for i, name := range names {
		rung := Rung{Name: name, Gate: []rule.Requirement{}}
		if i > 0 {
			rung.HoldsOne, rung.Skip = r.IntN(2) == 0, r.IntN(2) == 0
			if rung.HoldsOne && r.IntN(2) == 0 {
				rung.Displaced = Retired
			}
			if r.IntN(3) > 0 {
				signed := rule.SignOffs{Count: 1 + r.IntN(2), NotTrainer: r.IntN(2) == 0}
				rung.Gate = append(rung.Gate, rule.Requirement{Rule: signed})
			}
			if r.IntN(2) == 0 {
				rung.Gate = append(rung.Gate, rule.Requirement{Rule: rule.Metric{Metric: "rmse", AtMost: &half}})
			}
			if r.IntN(3) == 0 {
				looked := rule.Checklist{Items: []rule.Item{{Name: "looked", Text: "looked at it"}}}
				rung.Gate = append(rung.Gate, rule.Requirement{Rule: looked})
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

func (w *world) facts(n int, to string) rule.Facts {
	f := rule.Facts{Version: &registry.Version{
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
			_ = p.Tick(rule.Tick{
				Item: "looked", Note: "yes", By: by, CandidateDigest: f.Version.Digest,
				Incumbent: incumbent,
			}, w.l.Checklist(p))
		} else {
			_ = p.Sign(rule.SignOff{
				By: by, Answer: []rule.Answer{rule.Yes, rule.Yes, rule.Yes, rule.No}[w.r.IntN(4)],
				Note: "because", At: noon,
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
				switch demanded := q.Rule.(type) {
				case rule.SignOffs:
					yes := 0
					for _, s := range p.SignOffs {
						if s.Answer == rule.Yes && s.By != p.AskedBy && !s.Stale &&
							s.CandidateDigest == "d"+p.Version &&
							s.Incumbent == p.Incumbent && !(demanded.NotTrainer && s.By == crowd[w.number(p)]) {
							yes++
						}
					}
					// Those that were voided afterwards counted when it stepped.
					if yes < demanded.Count {
						t.Fatalf("seed %d: %s was carried out with %d of %d sign-offs: %+v", seed, p.ID, yes,
							demanded.Count, p.SignOffs)
					}
				case rule.Metric:
					if !w.metric[w.number(p)] {
						t.Fatalf("seed %d: %s was carried out past its metric", seed, p.ID)
					}
				case rule.Checklist:
					if len(p.Ticks) == 0 {
						t.Fatalf("seed %d: %s was carried out unticked", seed, p.ID)
					}
				}
			}
		}
	}
}
