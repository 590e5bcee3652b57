// Package credential makes and checks what lets someone in: passwords, which people choose
// and which are kept as slow hashes, and tokens, which are random and kept as digests.
package credential

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"innerladder/internal/core/fault"

	"golang.org/x/crypto/argon2"
)

// Argon2id with the second of the parameters that RFC 9106 recommends, 64 MiB and three
// passes, with one lane: a hash takes about a tenth of a second on one core.
const (
	memoryKiB = 64 << 10
	passes    = 3
	lanes     = 1
	keyBytes  = 32
	saltBytes = 16
)

// shortest and longest bound a password, in characters and in bytes.
const (
	shortest = 10
	longest  = 512
)

// CheckPassword refuses a password that is easily guessed, by anybody or by who knows the names of whoever chose it.
func CheckPassword(password string, names ...string) error {
	bad := func(why string) error {
		return fault.New(fault.Invalid, "password.weak", "the password %s", why).In("password").
			Do("choose one of at least %d characters that nobody would try, such as four words", shortest)
	}
	kinds := map[rune]bool{}
	for _, r := range password {
		kinds[r] = true
	}
	switch {
	case utf8.RuneCountInString(password) < shortest:
		return bad(fmt.Sprintf("has fewer than %d characters", shortest))
	case len(password) > longest:
		return bad(fmt.Sprintf("has more than %d bytes", longest))
	case len(kinds) < 5:
		return bad("has fewer than five different characters")
	case common(password):
		return bad("is one that many choose")
	case row(password):
		return bad("is a row of neighbours")
	}
	if rest := left(password, names); len(rest) < len(password) && utf8.RuneCountInString(rest) < 8 {
		return bad("is little more than the name")
	}
	return nil
}

// HashPassword makes what is kept of a password, in the usual text form that names
// algorithm, parameters and salt. It takes 64 MiB and a tenth of a second: take a turn first.
func HashPassword(password string) string {
	salt := make([]byte, saltBytes)
	_, _ = rand.Read(salt) // never fails
	key := derive(password, salt, memoryKiB, passes, lanes)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memoryKiB, passes, lanes,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

func derive(password string, salt []byte, memory, time uint32, threads uint8) []byte {
	return argon2.IDKey([]byte(password), salt, time, memory, threads, keyBytes)
}

// nobody is checked against when there is no such person or no password, so that the
// answer takes as long as for a wrong password.
var nobody = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memoryKiB, passes, lanes,
	base64.RawStdEncoding.EncodeToString(make([]byte, saltBytes)),
	base64.RawStdEncoding.EncodeToString(make([]byte, keyBytes)))

// IsPassword reports whether a password is the one that a hash was made of; with an empty
// hash it takes as long and says no. It takes 64 MiB and a tenth of a second: take a turn first.
func IsPassword(password, hash string) (bool, error) {
	known := hash != ""
	if !known {
		hash = nobody
	}
	var version int
	var memory, time uint32
	var threads uint8
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, fmt.Errorf("a password is kept in an unknown form")
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &time,
		&threads); err != nil || version != argon2.Version {
		return false, fmt.Errorf("a password is kept in an unknown form")
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, fmt.Errorf("reading a password's salt: %w", err)
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false, fmt.Errorf("reading a password's hash: %w", err)
	}
	if len(password) > longest {
		password = password[:longest] // a longer one cannot be right, and takes no longer
		known = false
	}
	got := derive(password, salt, memory, time, threads)
	return known && subtle.ConstantTimeCompare(got, want) == 1, nil
}

// Token makes a random secret that begins so, and the digest under which it is kept. It
// has 256 random bits, so a plain digest of it cannot be guessed back.
func Token(prefix string) (secret string, digest []byte) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	secret = prefix + base64.RawURLEncoding.EncodeToString(b)
	return secret, Digest(secret)
}

// Digest is what is kept of a token.
func Digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Hint is how a token ends, by which people tell theirs apart.
func Hint(secret string) string { return secret[max(0, len(secret)-4):] }
