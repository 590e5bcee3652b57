package ladder

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
)

func candidate() Candidate {
	return Candidate{
		Version:         &registry.Version{Ref: "heat-demand@2", Digest: "d2", Metrics: map[string]float64{"rmse": 0.3}, Artifacts: []registry.Artifact{{Name: "m"}}},
		StoredArtifacts: 1,
	}
}

func ask(from, to string) *Promotion {
	return &Promotion{ID: "P-1", Version: "heat-demand@2", From: from, To: to, AskedBy: "runa", State: Open}
}

func sign(by string, a Answer, note string) SignOff {
	return SignOff{By: by, Answer: a, Note: note, At: time.Unix(0, 0), CandidateDigest: "d2"}
}

func TestTheOneWhoAskedNeverSigns(t *testing.T) {
	p := ask("draft", "live")
	if err := p.Sign(sign("runa", Yes, "")); fault.Code(err) != "sign_off.own" {
		t.Fatalf("got %v", err)
	}
	if got := Settle(Default().Evaluate(p, candidate())); got != Open {
		t.Errorf("unsigned: %s", got)
	}
	if err := p.Sign(sign("odd", Yes, "read it")); err != nil {
		t.Fatal(err)
	}
	if got := Settle(Default().Evaluate(p, candidate())); got != CarriedOut {
		t.Errorf("signed by another: %s", got)
	}
}

func TestSigning(t *testing.T) {
	p := ask("rehearsal", "live")
	if err := p.Sign(sign("odd", No, " ")); fault.Code(err) != "sign_off.reason" {
		t.Errorf("a no without a reason: %v", err)
	}
	if err := p.Sign(sign("odd", "perhaps", "")); fault.Code(err) != "sign_off.answer" {
		t.Errorf("no answer: %v", err)
	}
	if err := p.Sign(sign("odd", No, "worse in the harbour")); err != nil {
		t.Fatal(err)
	}
	if got := Settle(Default().Evaluate(p, candidate())); got != Denied {
		t.Errorf("refused: %s", got)
	}
	if err := p.Sign(sign("odd", Yes, "mended")); err != nil || len(p.SignOffs) != 1 {
		t.Errorf("a second answer replaces the first: %v, %v", err, p.SignOffs)
	}
	p.State = CarriedOut
	if err := p.Sign(sign("tove", Yes, "")); fault.Code(err) != "promotion.closed" {
		t.Errorf("a closed promotion: %v", err)
	}
}

func TestStaleSignOffsDoNotCount(t *testing.T) {
	for name, now := range map[string][2]string{"another incumbent": {"d2", "heat-demand@7"}, "other bytes": {"d3", ""}} {
		p := ask("rehearsal", "live")
		if err := p.Sign(sign("odd", Yes, "")); err != nil {
			t.Fatal(err)
		}
		p.MarkStale(now[0], now[1])
		if got := Settle(Default().Evaluate(p, candidate())); got != Open {
			t.Errorf("%s: %s, want open", name, got)
		}
		p.MarkStale("d2", "")
		if got := Settle(Default().Evaluate(p, candidate())); got != CarriedOut {
			t.Errorf("%s, and back: %s, want carried out", name, got)
		}
	}
}

func TestGatesOnTheWayCount(t *testing.T) {
	l := Default()
	broken := candidate()
	broken.Version.Signature = &registry.Signature{Inputs: []registry.Column{{Name: "wind_ms", Type: registry.Number}}}
	broken.Incumbent = &registry.Version{Ref: "heat-demand@1", Signature: &registry.Signature{}}
	noMetric, noBytes := candidate(), candidate()
	noMetric.Version.Metrics = nil
	noBytes.StoredArtifacts = 0
	cases := []struct {
		name, from, to string
		c              Candidate
		failed         RequirementKind
		says           string
	}{
		{"fine", "draft", "rehearsal", candidate(), "", ""},
		{"no metric, passed over", "draft", "live", noMetric, MetricRecorded, "-metric"},
		{"no metric, but proven long ago", "proven", "live", noMetric, "", ""},
		{"bytes are gone", "draft", "proven", noBytes, ArtifactStored, "1 of 1 artifact not in the store"},
		{"callers would break", "proven", "live", broken, SignatureNotBroken, "input wind_ms added"},
	}
	for _, c := range cases {
		p := ask(c.from, c.to)
		if err := p.Sign(sign("odd", Yes, "")); err != nil {
			t.Fatal(err)
		}
		findings := l.Evaluate(p, c.c)
		var failed []string
		says := ""
		for _, f := range findings {
			if f.State == Failed {
				failed = append(failed, string(f.Requirement))
				says += f.Sentence
			}
		}
		if strings.Join(failed, " ") != string(c.failed) || !strings.Contains(says, c.says) {
			t.Errorf("%s: failed %v (%s), want %q", c.name, failed, says, c.failed)
		}
		if (Settle(findings) == CarriedOut) != (c.failed == "") {
			t.Errorf("%s: settled as %s", c.name, Settle(findings))
		}
	}
}

func TestCheckClimb(t *testing.T) {
	cases := []struct{ from, to, code string }{
		{"draft", "live", ""}, {"proven", "rehearsal", ""},
		{"live", "live", "promotion.there_already"}, {"live", "draft", "promotion.downwards"},
		{"draft", "moon", "rung.unknown"}, {"draft", Retired, "rung.unknown"}, {Retired, "live", "promotion.retired"},
	}
	for _, c := range cases {
		if got := fault.Code(Default().CheckClimb("heat-demand@2", c.from, c.to)); got != c.code {
			t.Errorf("%s to %s: got %q, want %q", c.from, c.to, got, c.code)
		}
	}
}

// Whatever people answer in whatever order: nothing is carried out without a yes that
// counts, by someone other than the one who asked.
func TestNothingIsCarriedOutUnsigned(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	people := []string{"runa", "odd", "tove"}
	for range 2000 {
		p := ask("draft", "live")
		incumbent := ""
		for range r.IntN(8) {
			if r.IntN(4) == 0 {
				incumbent = []string{"", "heat-demand@1"}[r.IntN(2)]
			}
			s := sign(people[r.IntN(3)], []Answer{Yes, No}[r.IntN(2)], "because")
			s.Incumbent = incumbent
			_ = p.Sign(s)
		}
		p.MarkStale("d2", incumbent)
		signed := false
		for _, s := range p.SignOffs {
			signed = signed || (s.Answer == Yes && !s.Stale && s.By != p.AskedBy)
		}
		if Settle(Default().Evaluate(p, candidate())) == CarriedOut && !signed {
			t.Fatalf("carried out with %+v", p.SignOffs)
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
