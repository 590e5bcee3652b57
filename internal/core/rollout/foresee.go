package rollout

import (
	"fmt"
	"math"
	"strings"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/span"
	"innerladder/internal/core/traffic"

	"gonum.org/v1/gonum/stat/distuv"
)

// Traffic is what an endpoint has had lately.
type Traffic struct {
	// Rate is requests a second, Rows those of their rows that are read.
	Rate float64 `json:"rate" description:"requests a second"`
	Rows float64 `json:"rows" description:"rows of inputs that are read, a second"`
	// Failing and TimingOut are shares of the main lane's requests.
	Failing   float64 `json:"failing" description:"share of requests that failed"`
	TimingOut float64 `json:"timing_out" description:"share of requests that timed out"`
	// Beyond is, for each guard on latency, the share of main's answers that are slower than what is
	// allowed of the candidate: what one that is equally fast would have.
	Beyond map[string]float64 `json:"-"`
	// Reported is what came of main by signals whose values come after the answers.
	Reported map[string]Reported `json:"-"`
	// Over is the span that was looked at.
	Over span.Duration `json:"over"`
}

// Forecast is what a plan would do to an endpoint with its traffic.
type Forecast struct {
	Traffic Traffic `json:"traffic"`
	// Steps are those of the plan with what each takes, the bake last.
	Steps []StepForecast `json:"steps"`
	// Takes is how long all of it takes with a candidate that is as good as main; absent where the traffic
	// does not tell.
	Takes *span.Duration `json:"takes,omitempty" description:"with one as good as main; absent if not known"`
	// Harms are what would become of candidates that are worse.
	Harms []HarmForecast `json:"harms"`
	// Differences are what a comparison would decide.
	Differences []DifferenceForecast `json:"differences,omitempty"`
	// Replayed is what a replay of the endpoint's requests has shown of the candidate beside main.
	Replayed *Replayed `json:"replayed,omitempty"`
	Notes    []string  `json:"notes"`
}

// Replayed is what a replay has shown of a candidate beside main.
type Replayed struct {
	Evidence string `json:"evidence" description:"the report, E-NUMBER"`
	// Requests were asked again. Differing and Failing are shares of them that were answered differently, and failed.
	Requests  uint64  `json:"requests" description:"that were asked again"`
	Differing float64 `json:"differing" description:"share that was answered differently"`
	Failing   float64 `json:"failing" description:"share that failed"`
}

// StepForecast is one step of a forecast.
type StepForecast struct {
	Name  string         `json:"name"`
	Share int            `json:"share" description:"basis points"`
	Takes *span.Duration `json:"takes,omitempty"`
	// Because says what it is that takes so long.
	Because  string  `json:"because"`
	Requests float64 `json:"requests" description:"answered by the candidate meanwhile"`
	// Differing and Failing are how many of them a replay has one expect to be answered differently, and to fail.
	Differing *float64 `json:"differing,omitempty" description:"of them, as a replay has one expect"`
	Failing   *float64 `json:"failing,omitempty" description:"of them, as a replay has one expect"`
}

// HarmForecast is what would become of a candidate that fails more.
type HarmForecast struct {
	More float64 `json:"more" description:"share of its requests that fails beyond main's"`
	// Noticed is the chance that a guard rolls it back before it has everything.
	Noticed float64 `json:"noticed" minimum:"0" maximum:"1" description:"chance of a rollback before it has all"`
	// After is about when, BadAnswers about how many callers get by then.
	After      *span.Duration `json:"after,omitempty"`
	BadAnswers float64        `json:"bad_answers"`
	Step       string         `json:"step" description:"where it would be"`
}

// DifferenceForecast is what a comparison would decide of a true difference.
type DifferenceForecast struct {
	More float64 `json:"more" description:"the candidate's share less main's; 0 for both alike"`
	// Requests of the candidate that it takes on average, and how long that is.
	Requests float64        `json:"requests" description:"of the candidate, on average, until it is decided"`
	After    *span.Duration `json:"after,omitempty"`
	// Chance is that it is decided within the longest time of the plan.
	Chance float64 `json:"chance" minimum:"0" maximum:"1" description:"that it is decided within the longest time"`
}

// overhead is how many more requests the guards need than a test that knows all rates: measured in bench/guard.
const overhead = 1.4

// harms are how much worse the candidates are of which a forecast tells.
var harms = []float64{1, 0.2, 0.05, 0.01, 0.002}

// Foresee says what a plan would do: how long it takes with a candidate that is as good as main, what would
// happen with worse ones, and how likely that is noticed. It holds for the traffic it is given.
func Foresee(p Plan, t Traffic) Forecast {
	f := Forecast{Traffic: t, Steps: []StepForecast{}, Harms: []HarmForecast{}, Notes: []string{}}
	if t.Rate == 0 {
		f.Notes = append(f.Notes,
			"The endpoint has had no requests lately, so nothing can be told of how long it takes.")
	}
	p.noteReported(&f)
	var total float64
	known := true
	// proven is how much of what shows each signal good there is already.
	proven := map[string]float64{}
	for i, s := range p.Steps {
		name := fmt.Sprintf("step %d, %s", i+1, traffic.Percent(s.Share))
		seconds, because := p.duration(s, t, proven)
		f.add(name, s.Share, seconds, because, t)
		known = known && !math.IsInf(seconds, 1)
		total += seconds
	}
	switch p.Kind {
	case Shadow:
		return p.foreseeCopies(f)
	case Comparison:
		return p.foreseeComparison(f)
	}
	if p.Kind == BlueGreen {
		warming, with := 0.0, "sample requests"
		if p.Copies.Share > 0 {
			with = "copies"
			warming = float64(p.Warm) / (t.Rate * float64(p.Copies.Share) / traffic.Whole)
			known = known && !math.IsInf(warming, 1)
			total += warming
		}
		f.add("warming", 0, warming, fmt.Sprintf("%d %s", p.Warm, with), t)
		f.Notes = append(f.Notes, "Before it takes over nothing shows how it does with real requests.")
	}
	bake, because := time.Duration(p.Bake.Time).Seconds(), "the plan asks for "+p.Bake.Time.String()
	if t.Rate > 0 && float64(p.Bake.Requests)/t.Rate > bake {
		bake, because = float64(p.Bake.Requests)/t.Rate, fmt.Sprintf("the plan asks for %d requests", p.Bake.Requests)
	} else if t.Rate == 0 && p.Bake.Requests > 0 {
		bake = math.Inf(1)
	}
	f.add("bake, 100 %", traffic.Whole, bake, because, t)
	if total += bake; known && !math.IsInf(total, 1) {
		d := span.Duration(time.Duration(total * float64(time.Second)).Round(time.Second))
		f.Takes = &d
	}
	for _, s := range f.Steps {
		if t.Rate == 0 {
			break // that is said
		}
		if s.Takes == nil || time.Duration(*s.Takes) > time.Duration(p.Patience) {
			f.Notes = append(f.Notes, fmt.Sprintf(
				"In %s, it would wait longer than the plan is patient (%s), and hold.", s.Name, p.Patience))
		}
	}
	p.addHarms(&f)
	return f
}

// Expect adds what a replay has one expect of each step: callers are taken to ask what they asked then.
func (f *Forecast) Expect(r Replayed) {
	f.Replayed = &r
	for i := range f.Steps {
		s := &f.Steps[i]
		if s.Takes != nil && s.Share > 0 {
			differing, failing := s.Requests*r.Differing, s.Requests*r.Failing
			s.Differing, s.Failing = &differing, &failing
		}
	}
	f.Notes = append(f.Notes, fmt.Sprintf("%s asked it again %d requests: %.3g %% were answered differently, %.3g %% "+
		"failed.", r.Evidence, r.Requests, 100*r.Differing, 100*r.Failing))
}

// foreseeComparison says what a fixed comparison would do: how many requests it takes to decide some differences, and
// with what chance it does in the time that it has.
func (p *Plan) foreseeComparison(f Forecast) Forecast {
	t, c := f.Traffic, p.Compare
	share := float64(c.Share) / traffic.Whole
	if c.Contest().OfValues() {
		return p.foreseeValues(f)
	}
	base := math.Max(least, t.Failing)
	switch q := guard.Quantile(c.Signal); {
	case q > 0:
		base = 1 - q
	case c.Signal == guard.TimeoutRate:
		base = math.Max(least, t.TimingOut)
	}
	pace, longest := t.Rate*share, time.Duration(c.Most).Seconds()
	alpha := c.Contest().Level() / 2
	for _, units := range differences {
		f.difference(units*c.Margin, p.needsOf(base, units, share, alpha), pace, longest, alpha)
	}
	return p.comparisonTakes(f, pace, longest)
}

// differences are those of which a comparison's forecast tells, in margins.
var differences = []float64{0, 1, 2, 4}

// needsOf is how many requests of the candidate it takes to decide a difference of so many margins of shares.
func (p *Plan) needsOf(base, units, share, alpha float64) float64 {
	margin := p.Compare.Margin
	candidate := math.Min(0.999, base+units*margin)
	needs := seqtest.Line{Slope: 1}.Bound(base, candidate, share, alpha)
	if units == 0 { // both ends must come within the margin
		needs = math.Max(seqtest.Line{Slope: 1, Offset: margin}.Bound(base, base, share, alpha),
			seqtest.Line{Slope: 1, Offset: -margin}.Bound(base, base, share, alpha))
	}
	return needs * overhead
}

// difference adds a true difference, which takes so many requests of the candidate, of which pace come a second.
func (f *Forecast) difference(more, needs, pace, longest, alpha float64) {
	d := DifferenceForecast{More: more, Requests: needs}
	if pace > 0 {
		after := span.Duration(time.Duration(needs / pace * float64(time.Second)).Round(time.Second))
		d.After = &after
		d.Chance = reaches(pace*longest/needs*-math.Log(alpha), -math.Log(alpha))
	}
	f.Differences = append(f.Differences, d)
}

// comparisonTakes says how long a comparison takes where both are alike.
func (p *Plan) comparisonTakes(f Forecast, pace, longest float64) Forecast {
	t, c := f.Traffic, p.Compare
	seconds, because := time.Duration(c.Time).Seconds(), "the plan asks for "+c.Time.String()
	needs := math.Inf(1)
	if pace > 0 {
		needs = f.Differences[0].Requests / pace
	}
	switch {
	case pace == 0 && c.Contest().OfValues():
		seconds, because = longest, "without values of "+c.Signal+" nothing is decided"
	case pace == 0:
		seconds, because = longest, "without traffic nothing is decided"
	case needs > longest:
		seconds, because = longest, fmt.Sprintf("it would still be undecided after %s", c.Most)
	case needs > seconds:
		seconds, because = needs, c.Signal+" must be decided"
	}
	f.add("comparison, "+traffic.Percent(c.Share), c.Share, seconds, because, t)
	f.Takes = f.Steps[0].Takes
	p.addHarms(&f)
	return f
}

// reaches is about the chance that a walk with so many nats in all, and a variance of twice that, has ever reached a
// limit.
func reaches(total, limit float64) float64 {
	if total <= 0 {
		return 0
	}
	root := math.Sqrt(2 * total)
	return math.Min(1, distuv.UnitNormal.CDF((total-limit)/root)+
		math.Exp(limit)*distuv.UnitNormal.CDF(-(total+limit)/root))
}

// foreseeCopies says what a shadow would do.
func (p *Plan) foreseeCopies(f Forecast) Forecast {
	t := f.Traffic
	seconds, because := p.duration(p.Copies.step(), t, map[string]float64{})
	f.add("copies of "+traffic.Percent(p.Copies.Share), 0, seconds, because, t)
	s := &f.Steps[0]
	if s.Takes != nil {
		rate := t.Rate * float64(p.Copies.Share) / traffic.Whole
		s.Requests = seconds * rate
		f.Takes = s.Takes
		if t.Rate > 0 {
			f.Notes = append(f.Notes, fmt.Sprintf(
				"Nobody gets its answers, so no caller is harmed; its servers get %.3g requests a second.", rate))
		}
	}
	if t.Rate > 0 && (s.Takes == nil || time.Duration(*s.Takes) > time.Duration(p.Patience)) {
		f.Notes = append(f.Notes,
			fmt.Sprintf("It would wait longer than the plan is patient (%s), and hold.", p.Patience))
	}
	return f
}

// addHarms adds what would become of candidates that fail more, where there is traffic to tell it.
func (p *Plan) addHarms(f *Forecast) {
	if f.Traffic.Rate == 0 {
		return
	}
	for _, more := range harms {
		if h, ok := p.harmed(more, f.Traffic, f.Steps); ok {
			f.Harms = append(f.Harms, h)
		}
	}
}

func (f *Forecast) add(name string, share int, seconds float64, because string, t Traffic) {
	s := StepForecast{Name: name, Share: share, Because: because}
	if !math.IsInf(seconds, 1) && seconds < longest.Seconds()*100 {
		d := span.Duration(time.Duration(seconds * float64(time.Second)).Round(time.Second))
		s.Takes = &d
		s.Requests = seconds * t.Rate * float64(share) / traffic.Whole
	}
	f.Steps = append(f.Steps, s)
}

// duration is how many seconds a step takes with a candidate that is as good as main, and why. What shows a
// signal good is added to proven.
func (p *Plan) duration(s PlanStep, t Traffic, proven map[string]float64) (seconds float64, because string) {
	seconds, because = time.Duration(s.Time).Seconds(), "the plan asks for "+s.Time.String()
	share := float64(s.Share) / traffic.Whole
	longer := func(x float64, why string) {
		if x > seconds {
			seconds, because = x, why
		}
	}
	if s.Requests > 0 {
		longer(float64(s.Requests)/(t.Rate*share), fmt.Sprintf("the plan asks for %d requests", s.Requests))
	}
	pace := map[string]float64{}
	for _, g := range p.Guards {
		pace[g.Signal] = p.pace(g, t, share)
	}
	for _, signal := range p.good(s) {
		left := math.Max(0, 1-proven[signal])
		longer(left/pace[signal], signal+" must be shown good")
	}
	if math.IsInf(seconds, 1) && t.Rate > 0 {
		because += ", which cannot be with this traffic"
	}
	for signal, x := range pace {
		if !math.IsInf(seconds, 1) {
			proven[signal] += x * seconds
		}
	}
	return seconds, because
}

// pace is how much of what shows a signal good a second brings, where the candidate is as good as main.
func (p *Plan) pace(g guard.Guard, t Traffic, share float64) float64 {
	if guard.OfValues(g.Signal) {
		return p.valuePace(g, t, share)
	}
	requests := t.Rate
	if g.Signal == guard.PredictionDrift || g.Signal == guard.MissingOutputs {
		requests = t.Rows
	}
	needs := math.Inf(1)
	for _, l := range linesOf(g, t) {
		if l.candidate < l.line.Of(l.main) {
			needs = math.Min(needs, l.line.Bound(l.main, l.candidate, share, p.Beta))
		}
	}
	if requests == 0 || math.IsInf(needs, 1) {
		return 0
	}
	return requests * share / (needs * overhead)
}

// held is a line that a signal is held to, with the rates on both sides of a candidate that is as good as main.
type held struct {
	line            seqtest.Line
	main, candidate float64
}

// least is the smallest rate that is reckoned with: that nothing ever fails is never known.
const least = 1e-5

func linesOf(g guard.Guard, t Traffic) []held {
	fails := math.Max(least, t.Failing)
	switch g.Signal {
	case guard.TimeoutRate:
		fails = math.Max(least, t.TimingOut)
		fallthrough
	case guard.ErrorRate:
		return []held{
			{seqtest.Line{Slope: math.Max(1, g.Ratio)}, fails, fails},
			{seqtest.Line{Slope: 1, Offset: g.Margin}, fails, fails},
		}
	case guard.PredictionDrift:
		return []held{{seqtest.Line{Slope: 1, Offset: g.Margin}, 0.5, 0.5}}
	case guard.Disagreement:
		return []held{{seqtest.Line{Offset: math.Max(least, g.Margin)}, least, least}}
	case guard.MissingOutputs:
		return []held{{seqtest.Line{Slope: 1, Offset: g.Margin}, least, least}}
	}
	q := guard.Quantile(g.Signal)
	return []held{{seqtest.Line{Slope: 1}, 1 - q, math.Max(least, t.Beyond[g.Signal])}}
}

// harmed says what becomes of a candidate that fails a share more of its requests. ok is false where that
// is allowed.
func (p *Plan) harmed(more float64, t Traffic, steps []StepForecast) (h HarmForecast, ok bool) {
	i := -1
	for j, g := range p.Guards {
		if g.Signal == guard.ErrorRate {
			i = j
		}
	}
	if i < 0 {
		return h, false
	}
	g := p.Guards[i]
	alpha := p.Alpha / float64(len(p.Guards))
	main := math.Max(least, t.Failing)
	bad := math.Min(0.999, main+more)
	if bad <= (seqtest.Allowance{Ratio: math.Max(1, g.Ratio), Difference: g.Margin}).Of(main) {
		return h, false
	}
	h = HarmForecast{More: more}
	limit := -math.Log(alpha)
	var nats, requests, seconds float64
	for _, s := range steps {
		share := float64(s.Share) / traffic.Whole
		if share == 0 || share == 1 {
			continue
		}
		// What one of its requests brings, in nats: the weaker of both lines counts.
		each := math.Inf(1)
		for _, l := range linesOf(g, t) {
			each = math.Min(each, limit/(overhead*l.line.Bound(main, bad, share, alpha)))
		}
		left := (limit - nats) / each
		if s.Takes == nil || left <= s.Requests {
			requests, seconds = requests+left, seconds+left/(t.Rate*share)
			nats, h.Step = limit, s.Name
			break
		}
		nats, requests, seconds = nats+each*s.Requests, requests+s.Requests, seconds+time.Duration(*s.Takes).Seconds()
	}
	h.BadAnswers = more * requests
	// A worse candidate is hardly shown good, so the steps last longer and the chance is larger than this,
	// which is of reaching the bound with the requests of a good one: of a walk with drift m and variance 2m.
	h.Noticed = reaches(nats, limit)
	if nats >= limit {
		d := span.Duration(time.Duration(seconds * float64(time.Second)).Round(time.Second))
		h.After = &d
		h.Noticed = 1
		return h, true
	}
	h.Step = "never"
	return h, true
}

// Sentence is a forecast in a few words.
func (f *Forecast) Sentence() string {
	var out []string
	if f.Takes != nil {
		out = append(out, fmt.Sprintf("At %.3g requests a second it takes about %s.", f.Traffic.Rate,
			span.Rounded(time.Duration(*f.Takes))))
	}
	for _, h := range f.Harms {
		if h.After != nil && h.More < 1 {
			out = append(out, fmt.Sprintf(
				"A candidate that fails %.3g %% more is noticed after about %s, and %.0f bad answers.", 100*h.More,
				span.Rounded(time.Duration(*h.After)), h.BadAnswers))
			break
		}
	}
	return strings.Join(append(out, f.Notes...), " ")
}
