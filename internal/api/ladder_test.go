package api_test

import (
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

func demand[R rule.Rule](r R) rule.Requirement { return rule.Requirement{Rule: r} }

// strict is a ladder that is climbed rung by rung, with one version on live.
func strict() ladder.Ladder {
	return ladder.Ladder{Rungs: []ladder.Rung{
		{Name: "draft"},
		{Name: "proven", Gate: []rule.Requirement{demand(rule.EvidenceOf{Evidence: "tests"})}},
		{
			Name: "live", HoldsOne: true, Displaced: ladder.Retired, Sign: []string{"approver"},
			Gate: []rule.Requirement{
				demand(rule.SignOffs{Count: 2, NotTrainer: true}),
				demand(rule.Checklist{Items: []rule.Item{{
					Name: "cold", Text: "looked at the cold",
					Link: true,
				}}}),
			},
		},
	}}
}

const (
	passing = `<testsuite name="s"><testcase name="a" time="0.5"/><testcase name="b"><skipped/></testcase></testsuite>`
	failing = `<testsuites><testsuite name="s"><testcase name="a"><failure message="the harbour is off"/></testcase></testsuite></testsuites>`
)

func TestALadderOfOnesOwn(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	now, err := r.runa.Ladder(ctx, "default")
	must(t, err)
	if now.Number != 0 || now.Highest() != "live" {
		t.Errorf("the default ladder: %+v", now)
	}
	unfit := func(what, code string, change func(*ladder.Ladder)) {
		t.Helper()
		l := strict()
		change(&l)
		_, err := r.runa.SetLadder(ctx, "default", l, "trying", -1)
		wantCode(t, what, err, code)
	}
	unfit("no place for those that stand there", "ladder.in_use", func(l *ladder.Ladder) { l.Rungs[0].Name = "sketch" })
	unfit("no such environment", "environment.unknown", func(l *ladder.Ladder) {
		l.Rungs[1].Gate = append(l.Rungs[1].Gate, demand(rule.Placed{Environment: "moon"}))
	})
	unfit("no such role", "role.unknown", func(l *ladder.Ladder) { l.Rungs[2].Sign = []string{"wizard"} })
	unfit("no gate at all", "ladder.rungs", func(l *ladder.Ladder) { l.Rungs = l.Rungs[:1] })
	_, err = r.runa.SetLadder(ctx, "default", strict(), " ", -1)
	wantCode(t, "no reason", err, "reason.missing")
	_, err = r.runa.SetLadder(ctx, "nowhere", strict(), "x", -1)
	wantCode(t, "no such project", err, "project.unknown")
	_, err = r.tove.SetLadder(ctx, "default", strict(), "x", -1)
	wantCode(t, "by someone who may not", err, "permission.missing")

	made, err := r.runa.SetLadder(ctx, "default", strict(), "tests first", 0)
	must(t, err)
	if made.Number != 1 || made.CarryOut != ladder.AtOnce || made.Author != "runa" {
		t.Errorf("made %+v", made)
	}
	other := strict()
	other.CarryOut = ladder.ByHand
	_, err = r.runa.SetLadder(ctx, "default", other, "x", 0)
	wantCode(t, "made from an older one", err, "ladder.changed")
	_, err = r.runa.SetLadder(ctx, "default", strict(), "again", -1)
	wantCode(t, "the same again", err, "ladder.same")
	_, err = r.runa.Promote(ctx, ref, "live", "")
	wantCode(t, "skipping a rung", err, "promotion.skips")
	_, err = r.runa.Register(ctx, wire.Registration{Model: "heat-demand", Labels: []string{"proven"}},
		client.Artifacts(r.file("m", "b")))
	wantCode(t, "a label like a rung", err, "label.rung")
	_, err = r.runa.PutLabel(ctx, "heat-demand", 1, "rehearsal", "", "")
	must(t, err) // no rung any more
	unfit("a rung like a label", "ladder.label", func(l *ladder.Ladder) { l.Rungs[1].Name = "rehearsal" })
	revisions, err := r.runa.LadderRevisions(ctx, "default", client.Part{})
	must(t, err)
	if len(revisions.Items) != 1 || revisions.Items[0].Reason != "tests first" {
		t.Errorf("revisions: %+v", revisions)
	}
	// what would pass today
	tried, err := r.runa.TryLadder(ctx, "default", nil)
	must(t, err)
	if tried.Judged != 1 || tried.Rungs[0].Blocked != 1 || tried.Versions[0].State != "blocked" ||
		tried.Rungs[0].Open[0].Requirement != "evidence" {
		t.Errorf("preview: %+v", tried)
	}
	lenient := strict()
	lenient.Rungs[1].Gate = []rule.Requirement{demand(rule.SignOffs{Count: 1})}
	if tried, err = r.runa.TryLadder(ctx, "default", &lenient); err != nil || tried.Rungs[0].People != 1 {
		t.Errorf("preview of another: %+v, %v", tried, err)
	}
	if again, err := r.runa.Ladder(ctx, "default"); err != nil || again.Number != 1 {
		t.Errorf("trying changed it: %+v, %v", again, err)
	}
}

// The whole climb: evidence lets it pass by itself, two people sign, the list is ticked,
// and the one that stood on live goes.
func TestTheClimb(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	kari := client.New(r.server, r.person("kari", everywhere("approver")...))
	_, err := r.runa.SetLadder(ctx, "default", strict(), "tests first", -1)
	must(t, err)
	climb := func(ref string) {
		t.Helper()
		p, err := r.runa.Promote(ctx, ref, "proven", "")
		must(t, err)
		if p.State != ladder.Open || p.Findings[0].State != rule.Waiting {
			t.Fatalf("without tests: %+v", p)
		}
		e, err := r.runa.AttachEvidence(ctx, ref, "tests", "", r.file("report.xml", failing))
		must(t, err)
		if e.Verdict != "failed" || e.Tests.Failed[0].Message != "the harbour is off" {
			t.Errorf("%+v", e)
		}
		g, err := r.runa.Gate(ctx, ref, "")
		must(t, err)
		if g.Met || g.To != "proven" || g.Findings[0].State != rule.Failed || g.Findings[0].Proof != e.ID ||
			g.Promotion != p.ID {
			t.Errorf("with failing tests: %+v", g)
		}
		_, err = r.runa.AttachEvidence(ctx, ref, "tests", "passed", r.file("report.xml", failing))
		wantCode(t, "a verdict against the report", err, "evidence.verdict")
		_, err = r.runa.AttachEvidence(ctx, ref, "tests", "", r.file("again.xml", passing))
		must(t, err)
		await(t, "being carried out", func() bool {
			v, err := r.runa.Version(ctx, ref)
			must(t, err)
			return v.Rung == "proven" && v.RungBy == p.ID
		})
		p, err = r.runa.Promote(ctx, ref, "live", "")
		must(t, err)
		_, err = r.tove.Sign(ctx, p.ID, rule.Yes, "")
		must(t, err)
		_, err = r.tove.Tick(ctx, p.ID, wire.NewTick{Item: "cold", Note: "fine"})
		wantCode(t, "no link", err, "tick.link")
		_, err = r.runa.Tick(ctx, p.ID, wire.NewTick{Item: "cold", Link: "https://x.example"})
		wantCode(t, "one's own list", err, "tick.own")
		_, err = r.tove.Tick(ctx, p.ID, wire.NewTick{Item: "cold", Link: "https://wiki.example/cold"})
		must(t, err)
		p, err = kari.Sign(ctx, p.ID, rule.Yes, "")
		must(t, err)
		if p.State != ladder.CarriedOut {
			t.Fatalf("%+v", p)
		}
	}
	one, two := r.register("heat-demand", "a", nil), r.register("heat-demand", "b", nil)
	climb(one)
	climb(two)
	m, err := r.runa.Model(ctx, "heat-demand")
	must(t, err)
	if !slices.Equal(m.Standing["live"], []int{2}) || !slices.Equal(m.Standing[ladder.Retired], []int{1}) {
		t.Errorf("they stand on %+v", m.Standing)
	}
	// what was read by the report is what a review shows
	found, err := r.runa.Review(ctx, "P-4")
	must(t, err)
	if len(found.Evidence) != 1 || found.Evidence[0].Tests.Total != 2 || len(found.Checklist) != 1 ||
		found.Checklist[0].Tick == nil || found.Candidate.Ref != two || found.Incumbent == nil || found.Diff == nil {
		t.Errorf("the review: %+v", found)
	}
}

func TestLaterAndHandingOver(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	kari := client.New(r.server, r.person("kari", everywhere("approver")...))
	r.person("odd", everywhere("reader")...)
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	p, err := r.runa.Promote(ctx, ref, "live", "")
	must(t, err)
	waits := func(who *client.Client) bool {
		t.Helper()
		found, err := who.Promotions(ctx, client.PromotionSearch{ForMe: true}, client.Part{})
		must(t, err)
		return len(found.Items) == 1
	}
	if !waits(r.tove) || !waits(kari) || waits(r.runa) {
		t.Error("it waits for those who may sign, and not for who asked")
	}
	until := time.Now().Add(2 * time.Hour)
	_, err = r.tove.Answer(ctx, p.ID, wire.NewAnswer{Answer: rule.Later, Until: &until})
	must(t, err)
	if waits(r.tove) || !waits(kari) {
		t.Error("later waits for nobody who said it")
	}
	for to, code := range map[string]string{
		"odd": "sign_off.cannot", "nobody": "person.unknown", "runa": "sign_off.to",
		"": "sign_off.to",
	} {
		_, err = kari.Answer(ctx, p.ID, wire.NewAnswer{Answer: rule.HandOver, To: to})
		wantCode(t, "handing it to "+to, err, code)
	}
	_, err = kari.Answer(ctx, p.ID,
		wire.NewAnswer{Answer: rule.HandOver, To: "tove", Note: "you know the harbour"})
	must(t, err)
	inbox, err := r.tove.Inbox(ctx, true, client.Part{})
	must(t, err)
	if len(inbox.Items) == 0 || !strings.Contains(inbox.Items[0].Entry.Sentence,
		"kari handed the review of heat-demand@1 to tove") {
		t.Errorf("tove's inbox: %+v", inbox.Items)
	}
	if waits(kari) {
		t.Error("handed over")
	}
	r.skew.Store(int64(3 * time.Hour))
	if !waits(r.tove) {
		t.Error("later has come")
	}
	await(t, "a reminder for who put it off", func() bool {
		found, err := r.tove.Inbox(ctx, true, client.Part{})
		must(t, err)
		return len(found.Items) > 0 && strings.Contains(found.Items[0].Entry.Sentence, "still waits for tove")
	})
	r.skew.Store(int64(20 * 24 * time.Hour))
	await(t, "its end", func() bool {
		p, err = r.runa.Promotion(ctx, p.ID)
		must(t, err)
		return p.State == ladder.Expired
	})
	_, err = r.tove.Sign(ctx, p.ID, rule.Yes, "")
	wantCode(t, "too late", err, "promotion.closed")
}

// A gate that names roles waits for those who have them, and a ladder whose rungs change
// places ends what asked for a rung that is now below.
func TestOtherLaddersUnderAnOpenPromotion(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	kari := client.New(r.server, r.person("kari", everywhere("owner")...))
	l := ladder.Default()
	l.Rungs[3].Gate = []rule.Requirement{{Rule: rule.SignOffs{Count: 1, Roles: []string{"approver"}}}}
	_, err := r.runa.SetLadder(ctx, "default", l, "approvers sign", -1)
	must(t, err)
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	_, err = r.runa.Promote(ctx, ref, "proven", "")
	must(t, err)
	p, err := r.runa.Promote(ctx, ref, "live", "")
	must(t, err)
	for who, want := range map[*client.Client]int{kari: 0, r.tove: 1} {
		found, err := who.Promotions(ctx, client.PromotionSearch{ForMe: true}, client.Part{})
		must(t, err)
		if len(found.Items) != want {
			t.Errorf("waits for %+v", found.Items)
		}
	}
	_, err = r.tove.Answer(ctx, p.ID, wire.NewAnswer{Answer: rule.HandOver, To: "kari"})
	wantCode(t, "handing it to an owner", err, "sign_off.cannot")

	l.Rungs[1], l.Rungs[3] = l.Rungs[3], l.Rungs[1] // draft, live, rehearsal, proven
	_, err = r.runa.SetLadder(ctx, "default", l, "the other way round", -1)
	must(t, err)
	await(t, "its end", func() bool {
		p, err := r.runa.Promotion(ctx, p.ID)
		must(t, err)
		return p.State == ladder.Withdrawn
	})
}

func TestAnEmergency(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	emergency := func(who *client.Client, ref, note string) (ladder.Promotion, error) {
		return who.Ask(ctx, wire.NewPromotion{Version: ref, To: "live", Note: note, Emergency: true})
	}
	ref := r.register("heat-demand", "a", nil) // no metric: its gate is not met
	_, err := emergency(r.tove, ref, "the plant stands still")
	wantCode(t, "without the permission", err, "permission.missing")
	_, err = emergency(r.runa, ref, "")
	wantCode(t, "without a reason", err, "promotion.emergency")
	p, err := emergency(r.runa, ref, "the plant stands still")
	must(t, err)
	v, err := r.runa.Version(ctx, ref)
	must(t, err)
	if p.State != ladder.ToReview || v.Rung != "live" || v.Emergency != "to_review" || v.RungBy != p.ID {
		t.Fatalf("%+v, %+v", p, v)
	}
	if rule.Met(p.Findings) {
		t.Error("what was passed by is not written down")
	}
	_, err = r.runa.Sign(ctx, p.ID, rule.Yes, "")
	wantCode(t, "its author reviews it", err, "sign_off.own")
	_, err = r.runa.Withdraw(ctx, p.ID, "")
	wantCode(t, "taking it back", err, "promotion.to_review")
	inbox, err := r.tove.Inbox(ctx, true, client.Part{})
	must(t, err)
	if len(inbox.Items) == 0 || !strings.HasPrefix(inbox.Items[0].Entry.Sentence, "EMERGENCY") {
		t.Errorf("tove was not told: %+v", inbox.Items)
	}
	p, err = r.tove.Sign(ctx, p.ID, rule.Yes, "it was right")
	must(t, err)
	if v, err = r.runa.Version(ctx, ref); err != nil || p.State != ladder.CarriedOut || !p.Emergency ||
		v.Emergency != "reviewed" || v.Rung != "live" {
		t.Errorf("reviewed: %+v, %+v, %v", p, v, err)
	}
	// one that was not right goes back to where it was
	wrong := r.register("heat-demand", "b", nil)
	p, err = emergency(r.runa, wrong, "in a hurry")
	must(t, err)
	_, err = r.tove.Sign(ctx, p.ID, rule.No, "nothing was urgent")
	must(t, err)
	if v, err = r.runa.Version(ctx, wrong); err != nil || v.Rung != "draft" || v.Emergency != "" {
		t.Errorf("not right: %+v, %v", v, err)
	}
}

// A rollback by a guard takes the version down a rung; what was signed for it is void.
func TestARollbackStepsDown(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	split, err := r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "", -1)
	must(t, err)
	must(t, r.app.Rollouts.RollBack(ctx, "demand-hourly", split.Number,
		guard.Action{
			Pair: guard.TrialPair{Candidate: "heat-demand@2"}, Signal: "error_rate", Sentence: "It fails.",
		}))
	v, err := r.runa.Version(ctx, "heat-demand@2")
	must(t, err)
	if v.Rung != "rehearsal" {
		t.Errorf("it stands on %s", v.Rung)
	}
	found, err := r.runa.Vouchers(ctx, "heat-demand@2")
	must(t, err)
	if len(found.Statements) != 1 || found.Statements[0].Counts || !found.Sound {
		t.Errorf("%+v", found)
	}
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "once more", -1)
	wantCode(t, "it answers again unsigned", err, "split.rung")
	r.approve("heat-demand@2")
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "signed again", -1)
	must(t, err)
}

// Each pair acts on one promotion at the same time: one wins, the other is told, and the
// record has one end of it.
func TestTwoActAtOnce(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	kari := client.New(r.server, r.person("kari", everywhere("approver")...))
	for i, second := range []func(id string) error{
		func(id string) error { _, err := kari.Sign(ctx, id, rule.No, "worse"); return err },
		func(id string) error { _, err := r.runa.Withdraw(ctx, id, "wrong one"); return err },
		func(id string) error {
			_, err := kari.Answer(ctx, id, wire.NewAnswer{Answer: rule.HandOver, To: "tove"})
			return err
		},
	} {
		ref := r.register("heat-demand", fmt.Sprint("bytes ", i), map[string]float64{"rmse": 1})
		p, err := r.runa.Promote(ctx, ref, "live", "")
		must(t, err)
		var one, two error
		var wait sync.WaitGroup
		wait.Go(func() { _, one = r.tove.Sign(ctx, p.ID, rule.Yes, "") })
		wait.Go(func() { two = second(p.ID) })
		wait.Wait()
		for _, err := range []error{one, two} {
			if err != nil {
				wantCode(t, "the one who was too late", err, "promotion.closed")
			}
		}
		log, err := r.runa.Audit(ctx, map[string]string{"subject": p.ID}, client.Part{Limit: 50})
		must(t, err)
		ends := 0
		for _, e := range log.Items {
			if slices.Contains([]string{"promotion.carried_out", "promotion.refused", "promotion.withdrawn"}, e.Kind) {
				ends++
			}
		}
		if ends != 1 || (one != nil && two != nil) {
			t.Errorf("%d: it ended %d times; %v, %v", i, ends, one, two)
		}
	}
}

func TestAVersionIsVouchedFor(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	p, err := r.runa.Promote(ctx, ref, "live", "")
	must(t, err)
	public, private, err := ed25519.GenerateKey(nil)
	must(t, err)
	_, err = r.tove.AddSigningKey(ctx, "AAAA", "")
	wantCode(t, "no key", err, "signing_key.form")
	key, err := r.tove.AddSigningKey(ctx, base64.StdEncoding.EncodeToString(public), "laptop")
	must(t, err)
	_, err = r.runa.AddSigningKey(ctx, base64.StdEncoding.EncodeToString(public), "mine too")
	wantCode(t, "the key of another", err, "signing_key.exists")

	// The envelope is made here by the standard's own words, not by our package.
	envelope := func(payload []byte, with ed25519.PrivateKey) json.RawMessage {
		const kind = "application/vnd.in-toto+json"
		sig := ed25519.Sign(with, fmt.Appendf(nil, "DSSEv1 %d %s %d %s", len(kind), kind, len(payload), payload))
		b, err := json.Marshal(map[string]any{
			"payloadType": kind,
			"payload":     base64.StdEncoding.EncodeToString(payload),
			"signatures": []map[string]string{{
				"keyid": key.Fingerprint,
				"sig":   base64.StdEncoding.EncodeToString(sig),
			}},
		})
		must(t, err)
		return b
	}
	yes := wire.NewAnswer{Answer: rule.Yes, Note: "read it"}
	st, err := r.tove.Statement(ctx, p.ID, yes)
	must(t, err)
	body, err := base64.StdEncoding.DecodeString(st.Payload)
	must(t, err)
	var said struct {
		Type    string `json:"_type"`
		Subject []struct {
			Name   string
			Digest map[string]string
		}
		Predicate struct{ Answer, Version, By string }
	}
	must(t, json.Unmarshal(body, &said))
	if said.Type != "https://in-toto.io/Statement/v1" || len(said.Subject) != 1 ||
		len(said.Subject[0].Digest["sha256"]) != 64 || said.Predicate.By != "tove" {
		t.Errorf("%s", body)
	}
	_, stranger, _ := ed25519.GenerateKey(nil)
	yes.Envelope = envelope(body, stranger)
	_, err = r.tove.Answer(ctx, p.ID, yes)
	wantCode(t, "signed by a stranger", err, "envelope.key")
	yes.Envelope = envelope([]byte(strings.Replace(string(body), `"to":"live"`, `"to":"moon"`, 1)), private)
	_, err = r.tove.Answer(ctx, p.ID, yes)
	wantCode(t, "something else was signed", err, "envelope.other")
	yes.Envelope, yes.Note = envelope(body, private), "another note"
	_, err = r.tove.Answer(ctx, p.ID, yes)
	wantCode(t, "something else is said", err, "envelope.other")
	yes.Note = "read it"
	p, err = r.tove.Answer(ctx, p.ID, yes)
	must(t, err)
	found, err := r.runa.Vouchers(ctx, ref)
	must(t, err)
	if s := found.Statements[0]; p.State != ladder.CarriedOut || !found.Sound || s.KeyOwner != "tove" ||
		s.Key != key.Fingerprint || !s.Genuine || !s.Fits || !s.Counts || found.Files[0].State != "right" {
		t.Errorf("%+v", found)
	}
	_, err = r.tove.EndSigningKey(ctx, key.Fingerprint)
	must(t, err)
	if found, err = r.runa.Vouchers(ctx, ref); err != nil || !found.Sound {
		t.Errorf("what was signed stays signed: %+v, %v", found, err)
	}
	r.forgeriesAreFound(ref)
	r.robotsDoNotSign()
}

// forgeriesAreFound puts other bytes under the name of a file, and another answer into the records.
func (r *rig) forgeriesAreFound(ref string) {
	t, ctx := r.t, r.t.Context()
	t.Helper()
	v, err := r.runa.Version(ctx, ref)
	must(t, err)
	digest := v.Artifacts[0].Digest
	file := filepath.Join(r.dir, "blobs", digest[:2], digest)
	must(t, os.Chmod(file, 0o600))
	must(t, os.WriteFile(file, []byte("others"), 0o600))
	found, err := r.runa.Vouchers(ctx, ref)
	if err != nil || found.Sound || found.Files[0].State != "changed" ||
		found.Statements[0].Fits {
		t.Errorf("with other bytes: %+v, %v", found, err)
	}
	must(t, os.Remove(file))
	if found, err = r.runa.Vouchers(ctx, ref); err != nil || found.Sound || found.Files[0].State != "missing" {
		t.Errorf("without bytes: %+v, %v", found, err)
	}
	must(t, os.WriteFile(file, []byte("a"), 0o600))
	db, err := sql.Open("sqlite", "file:"+filepath.Join(r.dir, "ladder.db")+"?_pragma=busy_timeout(10000)")
	must(t, err)
	defer db.Close()
	for _, q := range []string{`DROP TRIGGER answers_are_immutable`, `UPDATE answers SET note = 'never read it'`} {
		_, err := db.ExecContext(ctx, q)
		must(t, err)
	}
	if found, err = r.runa.Vouchers(ctx, ref); err != nil || found.Sound || found.Statements[0].Genuine ||
		found.Files[0].State != "right" {
		t.Errorf("with another answer: %+v, %v", found, err)
	}
}

func (r *rig) robotsDoNotSign() {
	t, ctx := r.t, r.t.Context()
	t.Helper()
	robot, err := r.runa.AddPerson(ctx,
		wire.NewPerson{
			Name: "nightly", Robot: true,
			Memberships: []access.Membership{{Project: "default", Role: "author"}},
		})
	must(t, err)
	made, err := r.runa.MakeToken(ctx, wire.NewToken{Title: "x", Robot: robot.Name})
	must(t, err)
	other := r.register("heat-demand", "b", map[string]float64{"rmse": 1})
	p, err := r.runa.Promote(context.WithoutCancel(ctx), other, "live", "")
	must(t, err)
	_, err = client.New(r.server, made.Secret).Sign(ctx, p.ID, rule.Yes, "")
	wantCode(t, "a robot signs", err, "permission.missing")
	_, err = client.New(r.server, made.Secret).Tick(ctx, p.ID, wire.NewTick{Item: "x", Note: "x"})
	wantCode(t, "a robot ticks", err, "permission.missing")
}

func TestCarryingOutByHandIsAsked(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	l := ladder.Default()
	l.CarryOut = ladder.ByHand
	_, err := r.runa.SetLadder(ctx, "default", l, "at a good moment", -1)
	must(t, err)
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	p, err := r.runa.Promote(ctx, ref, "live", "")
	must(t, err)
	_, err = r.runa.CarryOut(ctx, p.ID)
	wantCode(t, "unsigned", err, "promotion.not_met")
	p, err = r.tove.Sign(ctx, p.ID, rule.Yes, "")
	must(t, err)
	if p.State != ladder.Open || !p.Ready {
		t.Errorf("%+v", p)
	}
	p, err = r.runa.CarryOut(ctx, p.ID)
	must(t, err)
	if v, err := r.runa.Version(ctx, ref); err != nil || v.Rung != "live" || p.State != ladder.CarriedOut {
		t.Errorf("%+v, %v", v, err)
	}
}

// Of many promotions of a project, those move for which something changed, and only those: by
// evidence of their own, by another ladder, and by time.
func TestManyPromotionsWait(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	l := strict()
	l.ExpireAfter = span.Duration(24 * time.Hour)
	_, err := r.runa.SetLadder(ctx, "default", l, "tests first", -1)
	must(t, err)
	const many = 24 // enough that their facts are read in bulk
	for i := range many {
		ref := r.register(fmt.Sprintf("model-%d", i), fmt.Sprint("bytes ", i), nil)
		_, err := r.tove.Promote(ctx, ref, "proven", "")
		must(t, err)
	}
	states := func() map[ladder.PromotionState]int {
		t.Helper()
		all, err := r.runa.Promotions(ctx, client.PromotionSearch{}, client.Part{Limit: 100})
		must(t, err)
		n := map[ladder.PromotionState]int{}
		for _, p := range all.Items {
			n[p.State]++
		}
		return n
	}
	wait := func(what string, want map[ladder.PromotionState]int) {
		t.Helper()
		until(t, what, func() bool { return maps.Equal(states(), want) })
	}
	_, err = r.runa.AttachEvidence(ctx, "model-7@1", "tests", "", r.file("tests.xml", passing))
	must(t, err)
	wait("evidence of one", map[ladder.PromotionState]int{ladder.Open: many - 1, ladder.CarriedOut: 1})
	r.skew.Store(int64(25 * time.Hour)) // longer than anybody is waited for
	wait("the end of the others", map[ladder.PromotionState]int{ladder.Expired: many - 1, ladder.CarriedOut: 1})
	r.skew.Store(0)
	for i := range many {
		if i != 7 {
			_, err := r.tove.Promote(ctx, fmt.Sprintf("model-%d@1", i), "proven", "")
			must(t, err)
		}
	}
	open := l
	open.Rungs[1].Gate = nil
	_, err = r.runa.SetLadder(ctx, "default", open, "tests are not needed", -1)
	must(t, err)
	wait("another ladder", map[ladder.PromotionState]int{ladder.Expired: many - 1, ladder.CarriedOut: many})
}

// A file whose bytes have changed is found by reading it, stays damaged, and is mended by the
// same bytes when they come again.
func TestDamagedFilesAreMended(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	ref := r.register("heat-demand", "weights", map[string]float64{"rmse": 1})
	v, err := r.runa.Version(ctx, ref)
	must(t, err)
	digest := v.Artifacts[0].Digest
	state := func() string {
		t.Helper()
		found, err := r.runa.Vouchers(ctx, ref)
		must(t, err)
		if found.Files[0].ReadAt == nil || time.Since(*found.Files[0].ReadAt) > time.Minute {
			t.Errorf("read at %v", found.Files[0].ReadAt)
		}
		return found.Files[0].State
	}
	met := func() string {
		t.Helper()
		g, err := r.runa.Gate(ctx, ref, "proven")
		must(t, err)
		i := slices.IndexFunc(g.Findings, func(f rule.Finding) bool { return f.Requirement == "artifact_stored" })
		return string(g.Findings[i].State)
	}
	place := filepath.Join(r.dir, "blobs", digest[:2], digest)
	was, err := os.Stat(place)
	must(t, err)
	for what, harm := range map[string]func() error{
		"changed": func() error {
			return errors.Join(os.WriteFile(place, []byte("Weights"), 0o600),
				os.Chtimes(place, was.ModTime(), was.ModTime()))
		},
		"missing": func() error { return os.Remove(place) },
	} {
		must(t, harm())
		if got := state(); got != what || met() != "failed" {
			t.Errorf("%s, and the gate is %s; want %s, failed", got, met(), what)
		}
		again, err := r.runa.Register(ctx, wire.Registration{
			Model: "heat-demand", Metrics: map[string]float64{"rmse": 1}, Targets: []string{"y"},
		}, with(r.file("rows.csv", "x,y\n1.5,2\n2.5,3\n"), r.file("model.bin", "weights")))
		must(t, err)
		if got := state(); again.Created || got != "right" || met() != "passed" {
			t.Errorf("after the bytes came again: created %v, %s, and the gate is %s", again.Created, got, met())
		}
	}
}

// A candidate is compared with the version that answers, on every rung of its way, whoever stands
// on the rungs.
func TestTheIncumbentIsWhoAnswers(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions() // @1 answers; @2 stepped on live after it
	candidate := r.register("heat-demand", "third", map[string]float64{"rmse": 0.5})
	for _, rung := range []string{"proven", "live"} {
		g, err := r.runa.Gate(ctx, candidate, rung)
		if err != nil || g.Incumbent != "heat-demand@1" {
			t.Errorf("on the way to %s it is compared with %q, %v", rung, g.Incumbent, err)
		}
	}
	// In bulk, for all versions of a project, it is the same.
	strict := ladder.Default()
	strict.Rungs[1].Gate = append(strict.Rungs[1].Gate, rule.Requirement{Rule: rule.SignatureNotBroken{}})
	preview, err := r.runa.TryLadder(ctx, "default", &strict)
	must(t, err)
	for _, v := range preview.Versions {
		if v.Version == candidate && !strings.Contains(fmt.Sprint(v.Findings), "keeps contract 1 of demand-hourly") {
			t.Errorf("in the preview: %+v", v.Findings)
		}
	}
	_, err = r.runa.Split(ctx, "demand-hourly",
		[]traffic.Lane{{Kind: traffic.Main, Version: "heat-demand@2", Share: traffic.Whole}}, "the wind", -1)
	must(t, err)
	if g, err := r.runa.Gate(ctx, candidate, "live"); err != nil || g.Incumbent != "heat-demand@2" {
		t.Errorf("after the split it is compared with %q, %v", g.Incumbent, err)
	}
}
