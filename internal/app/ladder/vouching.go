package ladder

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/people"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/wire"
)

// signingLasts is how old a statement may be that someone signed.
const signingLasts = 10 * time.Minute

// Statement writes what whoever acts would say by an answer; nothing is said yet.
func (s *Service) Statement(ctx context.Context, by act.Actor, id string, n wire.NewAnswer) (wire.StatementFor, error) {
	if err := by.May(access.Sign); err != nil {
		return wire.StatementFor{}, err
	}
	r := s.Read(by)
	p, err := s.FindPromotion(ctx, r, id)
	if err != nil {
		return wire.StatementFor{}, err
	}
	h, err := s.readJudged(ctx, r, p, stored{})
	if err != nil {
		return wire.StatementFor{}, err
	}
	mine, err := s.answering(ctx, r, by, h, n, s.Now())
	if err != nil {
		return wire.StatementFor{}, err
	}
	if err := h.Sign(mine, h.ladder.Rung(h.To)); err != nil {
		return wire.StatementFor{}, err
	}
	body, err := ladder.StatementOf(p, h.facts.Version, mine).Bytes()
	return wire.StatementFor{PayloadType: ladder.PayloadType, Payload: base64.StdEncoding.EncodeToString(body)}, err
}

// signedAt is the time in a statement that someone signed.
func signedAt(envelope json.RawMessage, now time.Time) (time.Time, error) {
	var e struct{ Payload []byte } // base64 in JSON
	if err := json.Unmarshal(envelope, &e); err != nil {
		return now, fault.New(fault.Invalid, "envelope.form", "the envelope cannot be read: %v", err).In("envelope").
			Do("send a DSSE envelope, as JSON")
	}
	st, err := ladder.ParseStatement(e.Payload)
	if err != nil {
		return now, err
	}
	if age := now.Sub(st.Predicate.At); age < -time.Minute || age > signingLasts {
		return now, fault.New(fault.Refused, "envelope.old", "the statement is from %s",
			st.Predicate.At.Format(time.RFC3339)).In("envelope").Do("get it anew and sign it within %s", signingLasts)
	}
	return st.Predicate.At, nil
}

// vouch signs a statement with the service's key, or checks that whoever acts signed
// exactly this one with theirs.
func (s *Service) vouch(ctx context.Context, t *act.Tx, st ladder.Statement,
	given json.RawMessage,
) (envelope json.RawMessage, key string, err error) {
	body, err := st.Bytes()
	if err != nil {
		return nil, "", err
	}
	if given == nil {
		envelope, err = seal.Envelop(ctx, ladder.PayloadType, body, s.signer)
		return envelope, seal.Fingerprint(s.signer.Public()), err
	}
	mine, err := t.SigningKeys(ctx, t.By.Name)
	if err != nil {
		return nil, "", err
	}
	var keys []ed25519.PublicKey
	for _, k := range mine {
		if k.EndedAt == nil {
			keys = append(keys, k.Public)
		}
	}
	payload, key, err := seal.OpenEnvelope(ctx, given, ladder.PayloadType, keys...)
	if err != nil {
		return nil, "", fault.New(fault.Refused, "envelope.key", "the envelope does not open with a key of %s: %v",
			t.By.Name, err).In("envelope").
			Do("sign with a key that you made known with: innerladder signing-key make FILE")
	}
	if !bytes.Equal(payload, body) {
		return nil, "", fault.New(fault.Stale, "envelope.other",
			"what was signed is not what would be written down: something has changed since").In("envelope").
			Do("get the statement anew, read it, and sign that")
	}
	return given, key, nil
}

// Vouchers checks every statement that was signed about a version, against its bytes as
// they are read now.
func (s *Service) Vouchers(ctx context.Context, by act.Actor, ref string) (wire.Vouchers, error) {
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return wire.Vouchers{}, err
	}
	out := wire.Vouchers{
		Version: v.Ref, Digest: v.Digest, Rung: v.Rung, Sound: true, Files: []wire.VouchedFile{},
		Statements: []wire.Voucher{}, Keys: []people.SigningKey{},
	}
	digests := map[string]string{}
	for _, a := range v.Artifacts {
		f := wire.VouchedFile{Name: a.Name, Digest: a.Digest, State: "elsewhere"}
		digests[a.Name] = a.Digest // of a file elsewhere only the digest is known
		if a.Stored {
			r, err := s.blobs.Read(a.Digest, s.Now())
			if err != nil {
				return out, err
			}
			got := r.Digest
			f.ReadAt = &r.At
			switch {
			case got == "":
				f.State = "missing"
				delete(digests, a.Name)
			case got != a.Digest:
				f.State = "changed"
			default:
				f.State = "right"
			}
			if got != "" {
				digests[a.Name] = got
			}
			out.Sound = out.Sound && f.State == "right"
		}
		out.Files = append(out.Files, f)
	}
	answers, err := s.Read(by).AnswersAbout(ctx, v.Ref)
	if err != nil {
		return out, err
	}
	keys, err := s.people.KeysOf(ctx, "")
	if err != nil {
		return out, err
	}
	last := map[[2]string]int{}
	for i, a := range answers {
		last[[2]string{a.Promotion, a.By}] = i
	}
	used := map[string]bool{}
	for i, a := range answers {
		one := wire.Voucher{
			Promotion: a.Promotion, By: a.By, Answer: a.Answer, Note: a.Note, At: a.At, Key: a.Key,
			Envelope: a.Envelope, Counts: a.Void == "" && last[[2]string{a.Promotion, a.By}] == i,
		}
		st, owner, problem := openAnswer(ctx, a, v.Ref, keys)
		if one.KeyOwner = owner; problem != "" {
			one.Problems = append(one.Problems, problem)
		} else {
			misfits := st.Misfits(v, digests)
			one.Genuine, one.To, one.Fits, one.Problems = true, st.Predicate.To, len(misfits) == 0,
				append(one.Problems, misfits...)
		}
		if a.Void != "" {
			one.Problems = append(one.Problems, "void: "+a.Void)
		}
		out.Sound = out.Sound && one.Genuine && one.Fits
		used[a.Key] = true
		out.Statements = append(out.Statements, one)
	}
	for _, k := range keys {
		if used[k.Fingerprint] {
			out.Keys = append(out.Keys, k)
		}
	}
	return out, nil
}

// openAnswer reads the statement of an answer, and says what is wrong unless it is genuine:
// signed with the key that is written down, by its owner or the service, and saying what
// the answer says. Owner is whose key it was signed with, empty when that is not known.
func openAnswer(ctx context.Context, a records.SignedAnswer, version string,
	keys []people.SigningKey,
) (st ladder.Statement, owner, problem string) {
	if a.Key == "" {
		return st, "", "it was given before answers were signed"
	}
	i := slices.IndexFunc(keys, func(k people.SigningKey) bool { return k.Fingerprint == a.Key })
	if i < 0 {
		return st, "", "its key is not known"
	}
	k := keys[i]
	if k.Owner != act.Itself && k.Owner != a.By {
		return st, "", "it was signed with the key of " + k.Owner
	}
	body, _, err := seal.OpenEnvelope(ctx, a.Envelope, ladder.PayloadType, k.Public)
	if err != nil {
		return st, k.Owner, "the signature is not right: " + err.Error()
	}
	if st, err = ladder.ParseStatement(body); err != nil {
		return st, k.Owner, err.Error()
	}
	said := st.Predicate
	if said.Promotion != a.Promotion || said.Version != version || said.By != a.By || said.Answer != a.Answer ||
		said.Note != a.Note || !said.At.Equal(a.At) || said.Candidate != a.CandidateDigest ||
		said.Incumbent != a.Incumbent {
		return st, k.Owner, "the signed statement says something else than what is written down"
	}
	if k.EndedAt != nil && a.At.After(*k.EndedAt) {
		return st, k.Owner, "its key had ended"
	}
	return st, k.Owner, ""
}
