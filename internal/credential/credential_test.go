package credential

import (
	"strings"
	"testing"
)

func TestPasswords(t *testing.T) {
	hash := HashPassword("four words of nonsense")
	again := HashPassword("four words of nonsense")
	if hash == again || strings.Contains(hash, "nonsense") ||
		!strings.HasPrefix(hash, "$argon2id$v=19$m=65536,t=3,p=1$") {
		t.Errorf("hashes %q and %q", hash, again)
	}
	for _, c := range []struct {
		password, hash string
		want           bool
	}{
		{"four words of nonsense", hash, true},
		{"four words of nonsense ", hash, false},
		{"", hash, false},
		{"anything at all", "", false},
		{strings.Repeat("x", 5000), hash, false},
	} {
		if got, err := IsPassword(c.password, c.hash); err != nil || got != c.want {
			t.Errorf("%.20q: %v %v", c.password, got, err)
		}
	}
	// A hash with other parameters, from the reference implementation's test vectors' form.
	if _, err := IsPassword("x", "$2a$10$abcdefgh"); err == nil {
		t.Error("another algorithm must be told")
	}
}

func TestWeakPasswords(t *testing.T) {
	for password, fine := range map[string]bool{
		"short": false, "aaaaaaaaaaaaaaa": false, "tove-12345": false, "the harbour was frozen": true,
		"ærøskøbing-34": true, strings.Repeat("lang ord ", 80): false, "four words of nonsense": true,
		"password123": false, "P@ssw0rd!!": false, "1letmein1!": false, "letmein letmein": false, "dragondragon": false,
		"Qwertyuiop1": false, "iloveyou1234": false, "summer2026!": false, "1234567890": false, "abcdefghijkl": false,
		"zyxwvutsrqp1": false, "Tove.Berg.2026": false, "bergtove-1!": false, "berg with the harbour": true,
		"x7#kQ92mmvLp": true, "winterheatdemand": true, "correct horse battery": true, "Pa55w0rd5!": false,
		"tovetovetove": false, "monkeymonkey12": false, "tarnholm at dawn": true, "m0nk3y!!!!!": false,
	} {
		if err := CheckPassword(password, "tove", "tove.berg"); (err == nil) != fine {
			t.Errorf("%.30q: %v", password, err)
		}
	}
}

func TestTokens(t *testing.T) {
	a, da := Token("il_")
	b, db := Token("il_")
	if a == b || string(da) == string(db) || len(da) != 32 || !strings.HasPrefix(a, "il_") ||
		!strings.HasSuffix(a, Hint(a)) || len(Hint(a)) != 4 || string(Digest(a)) != string(da) {
		t.Errorf("%s %x, %s %x", a, da, b, db)
	}
}
