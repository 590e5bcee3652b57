package ladder

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/span"
)

func candidate() rule.Facts {
	return rule.Facts{
		Version: &registry.Version{
			Ref: "heat-demand@2", Digest: "d2", Metrics: map[string]float64{"rmse": 0.3},
			Measured:  map[string]metric.Measured{"rmse": metric.Took(0.3, nil, "E-1", "", noon)},
			Artifacts: []registry.Artifact{{Name: "m"}},
		},
		StoredArtifacts: 1, ReadAt: noon, Now: noon,
	}
}

var noon = time.Date(2026, 1, 14, 12, 0, 0, 0, time.UTC) // a Wednesday

func ask(from, to string) *Promotion {
	return &Promotion{
		ID: "P-1", Version: "heat-demand@2", From: from, To: to, AskedBy: "runa", State: Open,
		OpenedAt: noon,
	}
}

func sign(by string, a rule.Answer, note string) rule.SignOff {
	return rule.SignOff{By: by, Answer: a, Note: note, At: noon, CandidateDigest: "d2"}
}

// signed adds an answer and judges by a ladder.
func signed(t *testing.T, l Ladder, p *Promotion, f rule.Facts, answers ...rule.SignOff) PromotionState {
	t.Helper()
	for _, s := range answers {
		if err := p.Sign(s, l.Rung(p.To)); err != nil {
			t.Fatal(err)
		}
	}
	l.Judge(p, f)
	return l.Settle(p, false)
}

func TestTheOneWhoAskedNeverSigns(t *testing.T) {
	p := ask("draft", "live")
	if err := p.Sign(sign("runa", rule.Yes, ""), Rung{}); fault.Code(err) != "sign_off.own" {
		t.Fatalf("got %v", err)
	}
	if got := signed(t, Default(), p, candidate()); got != Open {
		t.Errorf("unsigned: %s", got)
	}
	if got := signed(t, Default(), p, candidate(), sign("odd", rule.Yes, "read it")); got != CarriedOut {
		t.Errorf("signed by another: %s", got)
	}
}

func TestSigning(t *testing.T) {
	later, past := noon.Add(time.Hour), noon.Add(-time.Hour)
	withUntil := func(u *time.Time) rule.SignOff { s := sign("odd", rule.Later, ""); s.Until = u; return s }
	handTo := func(to string) rule.SignOff { s := sign("odd", rule.HandOver, ""); s.To = to; return s }
	for name, c := range map[string]struct {
		s    rule.SignOff
		rung Rung
		code string
	}{
		"a no without a reason":      {sign("odd", rule.No, " "), Rung{}, "sign_off.reason"},
		"no answer":                  {sign("odd", "perhaps", ""), Rung{}, "sign_off.answer"},
		"later without a time":       {withUntil(nil), Rung{}, "sign_off.until"},
		"later in the past":          {withUntil(&past), Rung{}, "sign_off.until"},
		"later":                      {withUntil(&later), Rung{}, ""},
		"handed to nobody":           {handTo(""), Rung{}, "sign_off.to"},
		"handed to oneself":          {handTo("odd"), Rung{}, "sign_off.to"},
		"handed to the one who asks": {handTo("runa"), Rung{}, "sign_off.to"},
		"handed over":                {handTo("tove"), Rung{}, ""},
		"not the role":               {sign("odd", rule.Yes, ""), Rung{Sign: []string{"approver"}}, "sign_off.role"},
	} {
		if got := fault.Code(ask("rehearsal", "live").Sign(c.s, c.rung)); got != c.code {
			t.Errorf("%s: %q, want %q", name, got, c.code)
		}
	}
	p := ask("rehearsal", "live")
	if got := signed(t, Default(), p, candidate(), sign("odd", rule.No, "worse in the harbour")); got != Denied {
		t.Errorf("refused: %s", got)
	}
	if err := p.Sign(sign("odd", rule.Yes, "mended"), Rung{}); err != nil || len(p.SignOffs) != 1 {
		t.Errorf("a second answer replaces the first: %v, %v", err, p.SignOffs)
	}
	p.State = CarriedOut
	if err := p.Sign(sign("tove", rule.Yes, ""), Rung{}); fault.Code(err) != "promotion.closed" {
		t.Errorf("a closed promotion: %v", err)
	}
}

func TestStaleAndVoidSignOffsDoNotCount(t *testing.T) {
	other, bytes := candidate(), candidate()
	other.Incumbent = &registry.Version{Ref: "heat-demand@7"}
	bytes.Version.Digest = "d3"
	for name, now := range map[string]rule.Facts{"another incumbent": other, "other bytes": bytes} {
		p := ask("rehearsal", "live")
		if got := signed(t, Default(), p, now, sign("odd", rule.Yes, "")); got != Open ||
			!slices.ContainsFunc(p.Findings, func(f rule.Finding) bool {
				return strings.Contains(f.Sentence, "stale")
			}) {
			t.Errorf("%s: %s, %v; want open, and to hear why", name, got, p.Findings)
		}
		if got := signed(t, Default(), p, candidate()); got != CarriedOut {
			t.Errorf("%s, and back: %s, want carried out", name, got)
		}
		p.SignOffs[0].Void = "rolled back"
		if got := signed(t, Default(), p, candidate()); got != Open {
			t.Errorf("void: %s, want open", got)
		}
	}
}

func TestGatesOnTheWayCount(t *testing.T) {
	l := Default()
	broken := candidate()
	broken.Version.Signature = &signature.Signature{
		Inputs: []signature.Column{{Name: "wind_ms", Type: signature.Number}},
	}
	broken.Incumbent = &registry.Version{Ref: "heat-demand@1", Signature: &signature.Signature{}}
	noMetric, claimed, noBytes := candidate(), candidate(), candidate()
	noMetric.Version.Metrics, noMetric.Version.Measured = nil, nil
	claimed.Version.Measured = nil
	noBytes.StoredArtifacts = 0
	cases := []struct {
		name, from, to string
		c              rule.Facts
		failed         string
		says           string
	}{
		{"fine", "draft", "rehearsal", candidate(), "", ""},
		{"no metric, passed over", "draft", "rehearsal", noMetric, "metric_recorded", "No metric is known"},
		{"claimed is enough below", "draft", "rehearsal", claimed, "", ""},
		{"only claimed", "proven", "live", claimed, "metric_recorded", "no report measured any"},
		{"bytes are gone", "draft", "proven", noBytes, "artifact_stored", "1 of 1 artifact not in the store"},
		{"callers would break", "proven", "live", broken, "signature_not_broken", "input wind_ms is added"},
	}
	for _, c := range cases {
		p := ask(c.from, c.to)
		s := sign("odd", rule.Yes, "")
		if c.c.Incumbent != nil {
			s.Incumbent = c.c.Incumbent.Ref
		}
		state := signed(t, l, p, c.c, s)
		var failed []string
		says := ""
		for _, f := range p.Findings {
			if f.State != rule.Passed {
				failed = append(failed, f.Requirement)
				says += f.Sentence
			}
		}
		if strings.Join(failed, " ") != c.failed || !strings.Contains(says, c.says) {
			t.Errorf("%s: failed %v (%s), want %q", c.name, failed, says, c.failed)
		}
		if (state == CarriedOut) != (c.failed == "") {
			t.Errorf("%s: settled as %s", c.name, state)
		}
	}
}

func TestCheckClimb(t *testing.T) {
	strict := Default()
	strict.Rungs[3].Skip = false
	cases := []struct {
		l              Ladder
		from, to, code string
	}{
		{Default(), "draft", "live", ""},
		{Default(), "proven", "rehearsal", ""},
		{strict, "draft", "live", "promotion.skips"},
		{strict, "proven", "live", "promotion.skips"},
		{strict, "rehearsal", "live", ""},
		{strict, "draft", "rehearsal", ""},
		{Default(), "live", "live", "promotion.there_already"},
		{Default(), "live", "draft", "promotion.downwards"},
		{Default(), "draft", "moon", "rung.unknown"},
		{Default(), "draft", Retired, "rung.unknown"},
		{Default(), Retired, "live", "promotion.retired"},
	}
	for _, c := range cases {
		if got := fault.Code(c.l.CheckClimb("heat-demand@2", c.from, c.to)); got != c.code {
			t.Errorf("%s to %s: got %q, want %q", c.from, c.to, got, c.code)
		}
	}
}

func TestParseID(t *testing.T) {
	if n, err := ParseID("promotion", "p-12"); n != 12 || err != nil {
		t.Errorf("got %d, %v", n, err)
	}
	for _, bad := range []string{"12", "P-", "P-0", "A-1"} {
		if _, err := ParseID("promotion", bad); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}

func TestCarryingOutByHand(t *testing.T) {
	l := Default()
	l.CarryOut = ByHand
	p := ask("rehearsal", "live")
	if got := signed(t, l, p, candidate(), sign("odd", rule.Yes, "")); got != Open || !p.Ready {
		t.Errorf("%s, ready %v; want open and ready", got, p.Ready)
	}
	if got := l.Settle(p, true); got != CarriedOut {
		t.Errorf("by hand: %s", got)
	}
}

func TestAnEmergencyWaitsForSomeoneElse(t *testing.T) {
	l := Default()
	p := ask("draft", "live")
	p.State, p.Emergency = ToReview, true
	if got := signed(t, l, p, candidate()); got != ToReview {
		t.Errorf("unsigned: %s", got)
	}
	if err := p.Sign(sign("runa", rule.Yes, ""), l.Rung("live")); err == nil {
		t.Error("its author signed it")
	}
	if got := signed(t, l, p, candidate(), sign("odd", rule.Yes, "it was right")); got != CarriedOut {
		t.Errorf("signed: %s", got)
	}
	if l.DueAt(&Promotion{State: ToReview, OpenedAt: noon}, noon.Add(1e4*time.Hour)) != Remind {
		t.Error("the review of an emergency is not asked for")
	}
}

func TestRemindersAndTheEnd(t *testing.T) {
	l := Default()
	l.RemindAfter, l.ExpireAfter = span.Duration(24*time.Hour), span.Duration(72*time.Hour)
	at := func(h int) time.Time { return noon.Add(time.Duration(h) * time.Hour) }
	until, reminded := at(30), at(25)
	deferred := sign("odd", rule.Later, "")
	deferred.Until = &until
	for name, c := range map[string]struct {
		p    Promotion
		h    int
		want Due
	}{
		"fresh":                     {Promotion{}, 1, Nothing},
		"a day":                     {Promotion{}, 24, Remind},
		"reminded":                  {Promotion{RemindedAt: &reminded}, 26, Nothing},
		"reminded a day ago":        {Promotion{RemindedAt: &reminded}, 50, Remind},
		"nobody answers":            {Promotion{RemindedAt: &reminded}, 72, Expire},
		"put off":                   {Promotion{SignOffs: []rule.SignOff{deferred}}, 29, Nothing},
		"put off until now":         {Promotion{SignOffs: []rule.SignOff{deferred}}, 30, Remind},
		"put off, three days later": {Promotion{SignOffs: []rule.SignOff{deferred}, RemindedAt: &until}, 72, Remind},
		"put off, and nothing since": {
			Promotion{
				SignOffs: []rule.SignOff{deferred}, RemindedAt: &until,
			}, 102, Expire,
		},
		"ready to be carried out":      {Promotion{Ready: true}, 100, Remind},
		"closed":                       {Promotion{State: CarriedOut}, 100, Nothing},
		"a tick is an answer of sorts": {Promotion{Ticks: []rule.Tick{{At: at(70)}}}, 72, Nothing},
	} {
		c.p.OpenedAt = noon
		if c.p.State == "" {
			c.p.State = Open
		}
		if got := l.DueAt(&c.p, at(c.h)); got != c.want {
			t.Errorf("%s after %d h: %d, want %d", name, c.h, got, c.want)
		}
	}
}

// Whatever happened to a promotion: when time alone brings something about for it, somebody has
// looked at it at that moment, if they look whenever NextAt says so.
func TestTheNextLookIsNeverTooLate(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 5))
		hours := func(most int) time.Duration { return time.Duration(r.IntN(most*60)) * time.Minute }
		l := Default()
		l.RemindAfter, l.ExpireAfter = span.Duration(time.Minute+hours(48)), span.Duration(time.Minute+hours(200))
		p := Promotion{State: []PromotionState{Open, ToReview}[r.IntN(2)], OpenedAt: noon, Ready: r.IntN(4) == 0}
		for range r.IntN(4) {
			s := sign([]string{
				"odd", "tove", "sif",
			}[r.IntN(3)], []rule.Answer{
				rule.Yes, rule.Later, rule.HandOver,
			}[r.IntN(3)], "")
			s.At, s.Stale = noon.Add(hours(100)), r.IntN(4) == 0
			if s.Answer == rule.Later {
				until := s.At.Add(time.Minute + hours(100))
				s.Until = &until
			}
			p.SignOffs = append(p.SignOffs, s)
		}
		if r.IntN(2) == 0 {
			p.Ticks = []rule.Tick{{At: noon.Add(hours(100))}}
		}
		if r.IntN(2) == 0 {
			reminded := noon.Add(hours(100))
			p.RemindedAt = &reminded
		}
		now := noon.Add(hours(150))
		if l.DueAt(&p, now) != Nothing {
			continue
		}
		next := l.NextAt(&p, rule.Frozen{}, now)
		for at := now; at.Before(now.Add(400 * time.Hour)); at = at.Add(time.Minute) {
			if due := l.DueAt(&p, at); due != Nothing {
				if next.IsZero() || next.After(at) {
					t.Fatalf("seed %d: %d is due at %s, and the next look is at %s", seed, due, at, next)
				}
				break
			}
		}
	}
	frozen := rule.Frozen{Until: noon.Add(time.Hour)}
	if got := Default().NextAt(&Promotion{State: Open, OpenedAt: noon}, frozen, noon); !got.Equal(frozen.Until) {
		t.Errorf("in a freeze until %s it is looked at %s", frozen.Until, got)
	}
	if got := Default().NextAt(&Promotion{State: Denied, OpenedAt: noon}, rule.Frozen{}, noon); !got.IsZero() {
		t.Errorf("a closed one is looked at %s", got)
	}
}

func TestWhomItWaitsFor(t *testing.T) {
	until := noon.Add(time.Hour)
	p := ask("rehearsal", "live")
	deferred, handed := sign("odd", rule.Later, ""), sign("tove", rule.HandOver, "")
	deferred.Until, handed.To = &until, "sif"
	p.SignOffs = []rule.SignOff{deferred, handed, sign("gro", rule.Yes, "")}
	for who, want := range map[string]bool{
		"runa": false, "odd": false, "tove": false, "sif": true, "gro": false,
		"anyone": true,
	} {
		if got := p.Awaits(who, noon); got != want {
			t.Errorf("waits for %s: %v", who, got)
		}
	}
	if !p.Awaits("odd", until) {
		t.Error("later has come")
	}
	p.SignOffs[2].Stale = true
	if !p.Awaits("gro", noon) {
		t.Error("a stale answer must be given again")
	}
	back := sign("sif", rule.HandOver, "")
	back.To, back.At = "tove", noon.Add(time.Minute)
	p.SignOffs = append(p.SignOffs, back)
	if !p.Awaits("tove", noon) || p.Awaits("sif", noon) {
		t.Error("handed back")
	}
}

func TestWhoseAnswerCounts(t *testing.T) {
	l := Ladder{Rungs: []Rung{
		{Name: "draft"},
		{Name: "proven"},
		{Name: "rehearsal", Sign: []string{"operator"}},
		{Name: "live", Skip: true, Gate: []rule.Requirement{
			{Rule: rule.SignOffs{Count: 1, Roles: []string{"approver"}, NotTrainer: true}},
			{Rule: rule.SignOffs{Count: 1, Roles: []string{"safety"}}},
		}},
	}}
	for _, c := range []struct {
		to, who string
		roles   []string
		state   PromotionState
		want    bool
	}{
		{"live", "tove", []string{"approver"}, Open, true},
		{"live", "runa", []string{"approver"}, Open, false}, // asked
		{"live", "gro", []string{"approver"}, Open, false},  // trained it
		{"live", "gro", []string{"safety"}, Open, true},     // which that requirement allows
		{"live", "sif", []string{"owner"}, Open, false},
		{"live", "sif", []string{"owner"}, ToReview, true},
		{"rehearsal", "sif", []string{"owner"}, Open, false},
		{"rehearsal", "odd", []string{"operator"}, Open, true},
		{"proven", "sif", []string{"owner"}, Open, true},
	} {
		p := ask("draft", c.to)
		p.State = c.state
		if got := l.AnswerCounts(p, c.who, c.roles, []string{"gro"}); got != c.want {
			t.Errorf("%s as %v for %s, %s: %v", c.who, c.roles, c.to, c.state, got)
		}
	}
	if gates := l.gates("live", "proven"); gates != nil {
		t.Errorf("downwards: %+v", gates)
	}
}

func TestStepsOnRungsThatHoldOne(t *testing.T) {
	l := Ladder{Rungs: []Rung{
		{Name: "draft"},
		{Name: "proven", HoldsOne: true},
		{Name: "rehearsal", HoldsOne: true},
		{Name: "live", HoldsOne: true, Displaced: Retired},
	}}
	none := func(int) bool { return false }
	for name, c := range map[string]struct {
		from, to string
		standing map[string][]int
		busy     func(int) bool
		want     string
	}{
		"nobody there":   {"rehearsal", "live", nil, none, "4→live"},
		"one is retired": {"rehearsal", "live", map[string][]int{"live": {1}}, none, "4→live 1→retired"},
		"one that answers": {
			"rehearsal", "live",
			map[string][]int{"live": {1}, "rehearsal": {4}},
			func(n int) bool { return n == 1 }, "4→live 1→rehearsal",
		},
		"one that answers, a row": {
			"draft", "live",
			map[string][]int{"live": {1}, "rehearsal": {2}, "proven": {3}},
			func(n int) bool { return n == 1 }, "4→live 1→rehearsal 2→proven 3→draft",
		},
		"below": {
			"proven", "rehearsal",
			map[string][]int{"rehearsal": {1}, "proven": {4}},
			none,
			"4→rehearsal 1→proven",
		},
	} {
		var got []string
		for _, m := range l.Steps(4, c.from, c.to, c.standing, c.busy) {
			got = append(got, strings.TrimSpace(string(rune('0'+m.Number))+"→"+m.To))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: %s, want %s", name, strings.Join(got, " "), c.want)
		}
	}
}

func TestALadderAsJSON(t *testing.T) {
	text := `{"rungs":[{"name":"draft"},{"name":"live","holds_one":true,"displaced":"retired","gate":[{"kind":"metric","metric":"rmse","at_most":0.5},{"kind":"sign_offs","count":2,"roles":["approver"]},{"kind":"no_freeze"}]}],"remind_after":"4h",
		"freezes":[{"name":"nights","zone":"Europe/Stockholm","from":"22:00","to":"06:00","days":["mon","fri"]}]}`
	var l Ladder
	if err := json.Unmarshal([]byte(text), &l); err != nil {
		t.Fatal(err)
	}
	if err := l.Check(); err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(l)
	if err != nil {
		t.Fatal(err)
	}
	var again Ladder
	if err := json.Unmarshal(b, &again); err != nil {
		t.Fatal(err)
	}
	c, _ := json.Marshal(again)
	if string(b) != string(c) || !strings.Contains(string(b), `{"kind":"sign_offs","count":2,"roles":["approver"]}`) ||
		!strings.Contains(string(b), `"remind_after":"4h"`) {
		t.Errorf("it came back as %s, then %s", b, c)
	}
	for bad, code := range map[string]string{
		`{"rungs":[{"name":"draft"}]}`:                                                                                             "ladder.rungs",
		`{"rungs":[{"name":"draft"},{"name":"draft"}]}`:                                                                            "ladder.rung_twice",
		`{"rungs":[{"name":"draft"},{"name":"retired"}]}`:                                                                          "ladder.rung_twice",
		`{"rungs":[{"name":"draft"},{"name":"Live 1"}]}`:                                                                           "ladder.rung_name",
		`{"rungs":[{"name":"draft","holds_one":true},{"name":"live"}]}`:                                                            "ladder.lowest",
		`{"rungs":[{"name":"draft"},{"name":"live","displaced":"below"}]}`:                                                         "ladder.displaced",
		`{"rungs":[{"name":"draft"},{"name":"live","gate":[{"kind":"sorcery"}]}]}`:                                                 "requirement.kind",
		`{"rungs":[{"name":"draft"},{"name":"live","gate":[{"kind":"sign_offs","cuont":2}]}]}`:                                     "requirement.settings",
		`{"rungs":[{"name":"draft"},{"name":"live","gate":[{"kind":"sign_offs"}]}]}`:                                               "requirement.count",
		`{"rungs":[{"name":"draft"},{"name":"live","gate":[{"kind":"metric","metric":"rmse"}]}]}`:                                  "requirement.limit",
		`{"rungs":[{"name":"draft"},{"name":"live","gate":[{"kind":"metric","metric":"savings","no_worse_by":0}]}]}`:               "requirement.better",
		`{"rungs":[{"name":"draft"},{"name":"live","gate":[{"kind":"metric","metric":"savings","no_worse_by":0,"better":"up"}]}]}`: "requirement.better",
		`{"rungs":[{"name":"draft"},{"name":"live"}],"carry_out":"never"}`:                                                         "ladder.carry_out",
		`{"rungs":[{"name":"draft"},{"name":"live"}],"freezes":[{"name":"x","zone":"Mars/Olympus"}]}`:                              "freeze.zone",
		`{"rungs":[{"name":"draft"},{"name":"live"}],"freezes":[{"name":"x","zone":"UTC","from":"10:00"}]}`:                        "freeze.from",
		`{"rungs":[{"name":"draft"},{"name":"live"}],"remind_after":"soon"}`:                                                       "duration.form",
	} {
		var l Ladder
		err := json.Unmarshal([]byte(bad), &l)
		if err == nil {
			err = l.Check()
		}
		if fault.Code(err) != code {
			t.Errorf("%s: %v (%q), want %q", bad, err, fault.Code(err), code)
		}
	}
	d := Default()
	if err := d.Check(); err != nil {
		t.Errorf("the default ladder: %v", err)
	}
}
