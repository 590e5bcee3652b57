package rule

import (
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
)

// Shadowed demands that the version answered copies of real requests beside the
// incumbent, and seldom differently. The report of a shadow or a replay says so.
type Shadowed struct {
	Requests     uint64  `json:"requests"`
	Disagreement float64 `json:"disagreement"`
	// Replay has the report of a replay do as well: requests that were asked again later.
	Replay bool `json:"replay_too,omitempty"`
}

var shadowedKind = KindInfo{
	"shadowed",
	"it answered copies of real requests, and seldom differently from the incumbent",
	[]Setting{
		{"requests", "count", "how many at least", nil},
		{"disagreement", "number", "the greatest share of answers that differ, from 0 to 1", nil},
		{"replay_too", "yes_no", "the report of a replay, which the service made, will do too", nil},
	},
	as[Shadowed],
}

// Kind names it.
func (Shadowed) Kind() string { return shadowedKind.Kind }

func (q Shadowed) check(field string) error {
	if q.Requests < 1 || !(q.Disagreement >= 0 && q.Disagreement <= 1) {
		return fault.New(fault.Invalid, "requirement.shadowed", "%d requests with disagreement up to %v are demanded",
			q.Requests, q.Disagreement).In(field).Do("demand at least 1 request, and a share from 0 to 1")
	}
	return nil
}

// report finds the newest report that will do: of a shadow, or of a replay that the service made.
func (q Shadowed) report(f Facts) (*evidence.Evidence, *evidence.ShadowReport) {
	for i := range f.Evidence {
		e := &f.Evidence[i]
		switch {
		case e.Kind == evidence.ShadowKind && e.Shadow != nil:
			return e, e.Shadow
		case q.Replay && e.OwnReplay() != nil:
			return e, &e.Replay.ShadowReport
		}
	}
	return nil, nil
}

// Evaluate looks at the newest report of a shadow, or of a replay.
func (q Shadowed) Evaluate(f Facts) Outcome {
	e, s := q.report(f)
	if s == nil {
		return waits(f.Version.Ref, "It has not answered copies of real requests yet; %d are demanded.", q.Requests)
	}
	share := float64(s.Disagreed) / float64(max(s.Requests, 1))
	switch {
	case f.Incumbent != nil && s.Against != "" && s.Against != f.Incumbent.Ref:
		return waits(e.ID, "%s compares it with %s; the incumbent is %s now.", e.ID, s.Against, f.Incumbent.Ref)
	case s.Requests < q.Requests:
		return waits(e.ID, "It answered %d copies of real requests; %d are demanded.", s.Requests, q.Requests)
	case share > q.Disagreement:
		return failed(e.ID, "It answered %.3g %% of %d requests differently; %.3g %% is allowed.", share*100,
			s.Requests, q.Disagreement*100)
	}
	return passed(e.ID, "It answered %d copies of real requests, %.3g %% of them differently.", s.Requests, share*100)
}
