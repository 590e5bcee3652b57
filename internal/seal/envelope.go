package seal

import (
	"context"
	"crypto"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/secure-systems-lab/go-securesystemslib/dsse"
)

// Signing is what envelopes are signed with.
type Signing interface {
	Sign(message []byte) []byte
	Public() ed25519.PublicKey
}

// Fingerprint names a public key as SSH does.
func Fingerprint(key ed25519.PublicKey) string {
	id, err := dsse.SHA256KeyID(key)
	if err != nil {
		panic(err) // an Ed25519 key has one
	}
	return id
}

// party signs and checks envelopes with an Ed25519 key.
type party struct {
	key  ed25519.PublicKey
	with Signing
}

// Sign, Verify, Public and KeyID are what the envelopes' package asks for.
func (p party) Sign(_ context.Context, message []byte) ([]byte, error) {
	return p.with.Sign(message), nil
}

func (p party) Verify(_ context.Context, message, signature []byte) error {
	if !ed25519.Verify(p.key, message, signature) {
		return errors.New("the signature is not by this key")
	}
	return nil
}

func (p party) Public() crypto.PublicKey { return p.key }

func (p party) KeyID() (string, error) { return Fingerprint(p.key), nil }

// Envelop signs a payload and puts it into a DSSE envelope, as JSON:
// https://github.com/secure-systems-lab/dsse
func Envelop(ctx context.Context, payloadType string, payload []byte, with Signing) (json.RawMessage, error) {
	signer, err := dsse.NewEnvelopeSigner(party{with.Public(), with})
	if err != nil {
		return nil, err
	}
	e, err := signer.SignPayload(ctx, payloadType, payload)
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	return json.Marshal(e)
}

// ErrNotSigned is returned for envelopes that none of the keys signed.
var ErrNotSigned = errors.New("none of the known keys signed it")

// OpenEnvelope checks that one of the keys signed an envelope, and returns its payload and
// the key's fingerprint. Whoever cannot open it gets ErrNotSigned.
func OpenEnvelope(ctx context.Context, envelope []byte, payloadType string,
	keys ...ed25519.PublicKey,
) (payload []byte, fingerprint string, err error) {
	var e dsse.Envelope
	if err := json.Unmarshal(envelope, &e); err != nil {
		return nil, "", fmt.Errorf("reading the envelope: %w", err)
	}
	if e.PayloadType != payloadType {
		return nil, "", fmt.Errorf("the envelope holds %q, not %q", e.PayloadType, payloadType)
	}
	for _, key := range keys {
		verifier, err := dsse.NewEnvelopeVerifier(party{key: key})
		if err != nil {
			return nil, "", err
		}
		if _, payload, err := verifier.VerifyAndDecode(ctx, &e); err == nil {
			return payload, Fingerprint(key), nil
		}
	}
	return nil, "", ErrNotSigned
}
