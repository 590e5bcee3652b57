// Package seal keeps secrets so that whoever reads the disk or a backup cannot read them:
// sealed with AES-256-GCM under a key that lies in a file or the environment, apart from
// the data.
package seal

import (
	"bufio"
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Key seals secrets.
type Key [32]byte

// id tells keys apart without telling anything about them.
func (k Key) id() [4]byte {
	sum := sha256.Sum256(append([]byte("inner-ladder key id\n"), k[:]...))
	return [4]byte(sum[:4])
}

// Ring holds the key that seals now and those that sealed before.
type Ring struct {
	keys []Key
	// file is where the keys come from; empty when it is the environment.
	file string
}

// NewKey makes a random key.
func NewKey() Key {
	var k Key
	_, _ = rand.Read(k[:]) // never fails
	return k
}

// String writes a key as it stands in a key file.
func (k Key) String() string { return base64.StdEncoding.EncodeToString(k[:]) }

// ParseRing reads keys, the present one first, separated by lines or commas.
func ParseRing(text string) (*Ring, error) {
	r := &Ring{}
	for line := range strings.FieldsFuncSeq(text,
		func(c rune) bool { return c == '\n' || c == ',' || c == '\r' || c == ' ' }) {
		b, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(b) != len(Key{}) {
			return nil, fmt.Errorf("key %d is not 32 bytes in base64", len(r.keys)+1)
		}
		r.keys = append(r.keys, Key(b))
	}
	if len(r.keys) == 0 {
		return nil, errors.New("there is no key")
	}
	return r, nil
}

// Open reads the keys from a file that only its owner can read. A file that is not there
// is made, with a new key, unless something is sealed already.
func Open(file string, anythingSealed bool) (*Ring, error) {
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && !anythingSealed {
		r := &Ring{keys: []Key{NewKey()}, file: file}
		return r, r.write()
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s is not there, but there are secrets that were sealed with it; put the key file "+
			"back, or name it with -key-file", file)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key file: %w", err)
	}
	if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("others can read the key file %s; change that with: chmod 600 %s", file, file)
	}
	r, err := ParseRing(string(b))
	if err != nil {
		return nil, fmt.Errorf("reading the key file %s: %w", file, err)
	}
	r.file = file
	return r, nil
}

// FromFile reports whether the keys come from a file, which the service can write.
func (r *Ring) FromFile() bool { return r.file != "" }

// With is a ring with a new key in front. Nothing is written yet.
func (r *Ring) With(k Key) *Ring { return &Ring{append([]Key{k}, r.keys...), r.file} }

// Present is a ring with the present key only.
func (r *Ring) Present() *Ring { return &Ring{r.keys[:1], r.file} }

// Write puts the keys into their file, all or none.
func (r *Ring) Write() error { return r.write() }

func (r *Ring) write() error {
	var b bytes.Buffer
	w := bufio.NewWriter(&b)
	for _, k := range r.keys {
		fmt.Fprintln(w, k)
	}
	_ = w.Flush()
	f, err := os.CreateTemp(filepath.Dir(r.file), ".key-*") // 0600 by itself
	if err != nil {
		return fmt.Errorf("writing the key file: %w", err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b.Bytes())
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("writing the key file: %w", err)
	}
	return os.Rename(f.Name(), r.file)
}

// version is the first byte of what is sealed: 1, then the key's id, the nonce, and the
// ciphertext with its tag.
const version = 1

// Seal seals a secret under its name: a sealed secret under another name does not open.
func (r *Ring) Seal(name string, secret []byte) []byte {
	k := r.keys[0]
	id := k.id()
	gcm := k.gcm()
	out := append([]byte{version}, id[:]...)
	nonce := make([]byte, gcm.NonceSize())
	_, _ = rand.Read(nonce) // never fails
	return gcm.Seal(append(out, nonce...), nonce, secret, []byte(name))
}

// ErrKey is returned when the key that sealed a secret is not in the ring.
var ErrKey = errors.New("it was sealed with a key that is not here")

// Open opens a sealed secret.
func (r *Ring) Open(name string, sealed []byte) ([]byte, error) {
	if len(sealed) < 5 || sealed[0] != version {
		return nil, fmt.Errorf("opening the secret %s: it is not in a form that is known", name)
	}
	for _, k := range r.keys {
		if k.id() != [4]byte(sealed[1:5]) {
			continue
		}
		gcm := k.gcm()
		rest := sealed[5:]
		if len(rest) < gcm.NonceSize() {
			break
		}
		out, err := gcm.Open(nil, rest[:gcm.NonceSize()], rest[gcm.NonceSize():], []byte(name))
		if err != nil {
			return nil, fmt.Errorf("opening the secret %s: it was changed since it was sealed", name)
		}
		return out, nil
	}
	return nil, fmt.Errorf("opening the secret %s: %w", name, ErrKey)
}

// Current reports whether a secret was sealed with the present key.
func (r *Ring) Current(sealed []byte) bool {
	return len(sealed) >= 5 && r.keys[0].id() == [4]byte(sealed[1:5])
}

func (k Key) gcm() cipher.AEAD {
	block, err := aes.NewCipher(k[:])
	if err != nil {
		panic(err) // a key has the right length
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		panic(err)
	}
	return gcm
}

// Signer signs with an Ed25519 key.
type Signer struct{ key ed25519.PrivateKey }

// NewSeed makes what a signer is made from.
func NewSeed() []byte {
	seed := make([]byte, ed25519.SeedSize)
	_, _ = rand.Read(seed) // never fails
	return seed
}

// NewSigner makes a signer from its seed.
func NewSigner(seed []byte) Signer { return Signer{ed25519.NewKeyFromSeed(seed)} }

// Sign signs a message.
func (s Signer) Sign(message []byte) []byte { return ed25519.Sign(s.key, message) }

// Mac authenticates a message for whoever has the key.
func (s Signer) Mac(message []byte) []byte {
	h := hmac.New(sha256.New, s.key.Seed())
	h.Write([]byte("inner-ladder mac\n"))
	h.Write(message)
	return h.Sum(nil)
}

// Public is the key that checks signatures.
func (s Signer) Public() ed25519.PublicKey { return s.key.Public().(ed25519.PublicKey) }
