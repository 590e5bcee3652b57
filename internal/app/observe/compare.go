package observe

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/compare"
	"innerladder/internal/core/drift"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

// Question says what is compared. Without a window or a split it is the last trial there was, or the last
// one of the versions that are named, however long ago that is.
type Question struct {
	Endpoint string
	// Incumbent and Candidates are refs; empty for those of the trial or the split.
	Incumbent  string
	Candidates []string
	// Split is compared alone when it is not 0.
	Split int
	// Window is how far back, until Until, or now for the zero time. 0 is for no window.
	Window time.Duration
	Until  time.Time
}

// span is what one pair is compared over.
type span struct {
	incumbent, candidate string
	from, to             time.Time
	of                   string
	// first and last bound the splits; 0 for any.
	first, last int
}

const (
	// dayBack is how far back two versions are looked at that were never on trial together.
	dayBack = 24 * time.Hour
	// mostCandidates is how many versions are compared with an incumbent at once.
	mostCandidates = 10
)

// Compare puts versions that answer for an endpoint beside their incumbent, over the times in which both
// did.
func (s *Service) Compare(ctx context.Context, by act.Actor, q Question) ([]compare.Comparison, error) {
	e, err := s.traffic.Endpoint(ctx, by, q.Endpoint)
	if err != nil {
		return nil, err
	}
	if err := s.named(ctx, by, e, &q); err != nil {
		return nil, err
	}
	splits, _, err := s.Read(by).Splits(ctx, e.Name, records.Page{Limit: traffic.LookBack})
	if err != nil {
		return nil, err
	}
	spans, err := q.spans(splits, s.Now())
	if err != nil {
		return nil, err
	}
	var out []compare.Comparison
	for _, span := range spans {
		c, err := s.compare(ctx, by, e, span, splits, len(spans))
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// named resolves the refs of the question, which must be of versions of the endpoint's model.
func (s *Service) named(ctx context.Context, by act.Actor, e *traffic.Endpoint, q *Question) error {
	resolve := func(field string, ref *string) error {
		v, err := s.registry.Resolve(ctx, s.Read(by), field, *ref)
		if err != nil {
			return err
		}
		if v.Model != e.Model {
			return fault.New(fault.Invalid, "compare.model", "%s is not a version of %s, which %s serves", v.Ref,
				e.Model, e.Name).In(field).Do("name versions of %s", e.Model)
		}
		*ref = v.Ref
		return nil
	}
	if q.Incumbent != "" {
		if err := resolve("incumbent", &q.Incumbent); err != nil {
			return err
		}
	}
	if len(q.Candidates) > mostCandidates {
		return fault.New(fault.Invalid, "compare.many", "%d candidates are named", len(q.Candidates)).In("candidate").
			Do("name %d at most", mostCandidates)
	}
	q.Candidates = slices.Clone(q.Candidates)
	for i := range q.Candidates {
		if err := resolve("candidate", &q.Candidates[i]); err != nil {
			return err
		}
		if q.Candidates[i] == q.Incumbent {
			return fault.New(fault.Invalid, "compare.same", "%s is compared with itself", q.Incumbent).In("candidate").
				Do("name two versions")
		}
		if slices.Contains(q.Candidates[:i], q.Candidates[i]) {
			return fault.New(fault.Invalid, "compare.twice", "%s is named twice", q.Candidates[i]).In("candidate").
				Do("name each candidate once")
		}
	}
	return nil
}

// wants reports whether the question is about a pair.
func (q *Question) wants(incumbent, candidate string) bool {
	return (q.Incumbent == "" || q.Incumbent == incumbent) &&
		(len(q.Candidates) == 0 || slices.Contains(q.Candidates, candidate))
}

// spans finds the pairs that are compared, each over its span.
func (q *Question) spans(splits []traffic.Split, now time.Time) ([]span, error) {
	switch {
	case q.Split != 0 && (q.Window != 0 || !q.Until.IsZero()):
		return nil, fault.New(fault.Invalid, "compare.span", "both a split and a window are given").In("split").
			Do("give one of them")
	case !q.Until.IsZero() && q.Window == 0:
		return nil, fault.New(fault.Invalid, "compare.span", "the end of a window is given, and not how long it is").
			In("window").Do("give it, such as 1h")
	case q.Split != 0:
		return q.ofSplit(splits, now)
	case q.Window != 0:
		return q.ofWindow(splits, now)
	}
	return q.ofTrials(splits, now)
}

// ofSplit compares what one split had.
func (q *Question) ofSplit(splits []traffic.Split, now time.Time) ([]span, error) {
	i := slices.IndexFunc(splits, func(s traffic.Split) bool { return s.Number == q.Split })
	if i < 0 {
		return nil, fault.New(fault.Unknown, "split.unknown", "%s has no split #%d, or it is too long ago", q.Endpoint,
			q.Split).In("split").Do("list them with: innerladder splits %s", q.Endpoint)
	}
	split, to := splits[i], now
	if i > 0 {
		to = splits[i-1].MadeAt
	}
	var out []span
	for _, l := range append(split.Trials(), split.Shadows()...) {
		if q.wants(split.Main().Version, l.Version) {
			out = append(out, span{
				split.Main().Version, l.Version, split.MadeAt, to, fmt.Sprintf("split #%d", split.Number), split.Number,
				split.Number,
			})
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Invalid, "compare.no_trial", "split #%d had no such trial: %s", q.Split,
			split.String()).In("split").Do("name a split with a trial lane of the versions that you compare")
	}
	return out, nil
}

// ofWindow compares what was in a window of time.
func (q *Question) ofWindow(splits []traffic.Split, now time.Time) ([]span, error) {
	if err := checkWindow(q.Window); err != nil {
		return nil, err
	}
	incumbent, candidates := q.Incumbent, q.Candidates
	if incumbent == "" || len(candidates) == 0 {
		trials, err := q.ofTrials(splits, now)
		if err != nil {
			return nil, err
		}
		incumbent, candidates = trials[0].incumbent, nil
		for _, t := range trials {
			candidates = append(candidates, t.candidate)
		}
	}
	of := "the last " + shortly(q.Window)
	to := now
	if whole := q.Until.Truncate(time.Minute).Add(time.Minute); !q.Until.IsZero() && whole.Before(now) {
		to = whole // the minute in which it ended counts, which is all of a short trial
		of = shortly(q.Window) + " until " + q.Until.UTC().Format("2006-01-02 15:04 UTC")
	}
	var out []span
	for _, candidate := range candidates {
		out = append(out, span{incumbent, candidate, startOf(to, q.Window), to, of, 0, 0})
	}
	return out, nil
}

// shortly writes a whole duration without its zeros.
func shortly(d time.Duration) string {
	text := d.String()
	for _, zeros := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(text, zeros) {
			text = text[:len(text)-2]
		}
	}
	return text
}

// ofTrials compares the trials that go on, or else those that ended last, of the versions in question.
func (q *Question) ofTrials(splits []traffic.Split, now time.Time) ([]span, error) {
	var out []span
	last := 0
	for _, t := range traffic.TrialsIn(splits) {
		if !q.wants(t.Incumbent, t.Candidate) || slices.ContainsFunc(out, func(s span) bool {
			return s.candidate == t.Candidate || s.incumbent != t.Incumbent
		}) {
			continue
		}
		if len(q.Candidates) == 0 && last != 0 && t.Last != last {
			break
		}
		last = t.Last
		to := now
		if !t.Until.IsZero() {
			to = t.Until
		}
		of := fmt.Sprintf("the trial that began with #%d", t.Begun)
		if t.Copies {
			of = fmt.Sprintf("the copies that began with #%d", t.Begun)
		}
		out = append(out, span{t.Incumbent, t.Candidate, t.Since, to, of, t.Begun, t.Last})
	}
	for _, candidate := range q.Candidates {
		if q.Incumbent != "" && !slices.ContainsFunc(out, func(s span) bool { return s.candidate == candidate }) {
			of := "the last day; they were never on trial together"
			out = append(out, span{q.Incumbent, candidate, startOf(now, dayBack), now, of, 0, 0})
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Invalid, "compare.no_trial", "%s has had no such trial", q.Endpoint).
			In("candidate").Do("name an incumbent and a candidate that answered for it")
	}
	return out, nil
}

// compare compares one pair.
func (s *Service) compare(ctx context.Context, by act.Actor, e *traffic.Endpoint, p span, splits []traffic.Split,
	candidates int,
) (compare.Comparison, error) {
	var notes []string
	from := p.from
	if earliest := startOf(p.to, longestWindow); from.Before(earliest) {
		notes = append(notes, "Of what is longer ago than 30 days before its end nothing is compared.")
		from = earliest
	}
	windows, err := s.recorder.Windows(ctx, signals.Query{
		Endpoint: e.Name, Versions: []string{p.incumbent, p.candidate}, Longest: longestFor(p.to.Sub(from)),
		From: startOf(p.to, p.to.Sub(from)), To: p.to, Latency: true, Content: true,
	})
	if err != nil {
		return compare.Comparison{}, err
	}
	asked := question(windows, splits, p, candidates)
	if asked.Values, err = s.comparedValues(ctx, e, p, from); err != nil {
		return compare.Comparison{}, err
	}
	c := compare.Compare(asked)
	c.Endpoint, c.From, c.To, c.Of = e.Name, from, p.to, p.of
	c.Notes = append(append([]string{}, notes...), c.Notes...)
	var v *registry.Version
	if v, err = s.registry.Resolve(ctx, s.Read(by), "candidate", p.candidate); err != nil {
		return c, err
	}
	s.describeColumns(&c, v.Signature)
	return c, nil
}

// question puts the windows of both versions together: those of one split and time are a stratum. What
// callers asked for by name is not compared.
func question(windows []signals.Window, splits []traffic.Split, p span, candidates int) compare.Question {
	q := compare.Question{
		Incumbent: p.incumbent, Candidate: p.candidate, Need: drift.DefaultNeed, Candidates: candidates,
	}
	draws := map[int]*compare.Draw{}
	for _, split := range splits {
		if d, both := compare.SharesOf(split, p.incumbent, p.candidate); both {
			draws[split.Number] = &d
		}
	}
	type key struct {
		split int
		level signals.Level
		at    int64
	}
	places := map[key]int{}
	for _, w := range windows { // they are in the order of time
		if !w.Dealt() && (p.first == 0 || w.Lane != signals.Shadow) {
			continue
		}
		if p.first != 0 && (w.Split < p.first || w.Split > p.last) {
			continue
		}
		id := key{w.Split, w.Level, w.At.Unix()}
		at, known := places[id]
		if !known {
			at = len(q.Strata)
			places[id] = at
			q.Strata = append(q.Strata, compare.Stratum{Length: w.Level.Length()})
		}
		d := draws[w.Split]
		if d == nil {
			d = &compare.Draw{}
		}
		if n := w.Summary.Counts; w.Version == p.incumbent {
			q.Strata[at].Incumbent = w.Summary
			d.Incumbent, d.IncumbentLost, d.IncumbentKept = d.Incumbent+n.Drawn, d.IncumbentLost+n.Lost,
				d.IncumbentKept+n.Kept()
		} else {
			q.Strata[at].Candidate = w.Summary
			d.Candidate, d.CandidateLost, d.CandidateKept = d.Candidate+n.Drawn, d.CandidateLost+n.Lost,
				d.CandidateKept+n.Kept()
		}
	}
	for _, split := range splits {
		if d := draws[split.Number]; d != nil && d.Incumbent+d.Candidate+d.IncumbentKept+d.CandidateKept > 0 {
			q.Draws = append(q.Draws, *d)
		}
	}
	return q
}

// describeColumns adds units and the origin of the bins.
func (s *Service) describeColumns(c *compare.Comparison, sig *signature.Signature) {
	s.describe(c.Endpoint, signals.Input, c.Inputs, sig)
	s.describe(c.Endpoint, signals.Output, c.Predictions, sig)
}

// describe does so with the columns of one side.
func (s *Service) describe(endpoint, side string, list []compare.Distribution, sig *signature.Signature) {
	source := s.recorder.BinsFrom(endpoint)
	for i := range list {
		list[i].BinsFrom = source[signals.Column{Endpoint: endpoint, Side: side, Name: list[i].Column}]
		if sig == nil {
			continue
		}
		for _, col := range slices.Concat(sig.Inputs, sig.Outputs) {
			if col.Name == list[i].Column {
				list[i].Unit, list[i].Whole = col.Unit, col.Type == signature.Integer
			}
		}
	}
}
