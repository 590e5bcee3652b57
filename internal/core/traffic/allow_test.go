package traffic

import (
	"slices"
	"testing"

	"innerladder/internal/core/fault"
)

func TestWhichAddressesARuleAllows(t *testing.T) {
	for _, c := range []struct {
		rule, address string
		want          bool
	}{
		{"models.tarnholm.example", "http://models.tarnholm.example:8080/v1", true},
		{"models.tarnholm.example", "http://MODELS.Tarnholm.example", true},
		{"models.tarnholm.example", "http://models.tarnholm.example.evil.example", false},
		{"models.tarnholm.example", "http://evil.example/models.tarnholm.example", false},
		{"models.tarnholm.example", "http://models.tarnholm.example@evil.example", false},
		{"models.tarnholm.example:8080", "http://models.tarnholm.example:8081", false},
		{"models.tarnholm.example:443", "https://models.tarnholm.example", true},
		{"models.tarnholm.example:80", "http://models.tarnholm.example", true},
		{"https://models.tarnholm.example", "http://models.tarnholm.example", false},
		{"https://models.tarnholm.example", "https://models.tarnholm.example", true},
		{"*.tarnholm.example", "http://a.b.tarnholm.example", true},
		{"*.tarnholm.example", "http://tarnholm.example", false},
		{"*.tarnholm.example", "http://eviltarnholm.example", false},
		{"10.2.0.0/16", "http://10.2.3.4:9000", true},
		{"10.2.0.0/16", "http://10.3.3.4:9000", false},
		{"10.2.0.0/16:9000", "http://10.2.3.4:9001", false},
		{"10.2.0.0/16", "http://[::ffff:10.2.3.4]:9000", true},
		{"10.2.0.0/16", "http://models.tarnholm.example", false},
		{"127.0.0.1", "http://127.0.0.1:9000", true},
		{"127.0.0.1", "http://localhost:9000", false},
		{"[::1]:9000", "http://[::1]:9000", true},
		{"::1", "http://[::1]:9001", true},
		{"fd00::/8", "http://[fd12::1]:9001", true},
	} {
		if got := AddressRule(c.rule).Allows(c.address); got != c.want {
			t.Errorf("%s allows %s: %v", c.rule, c.address, got)
		}
	}
}

func TestRulesThatCannotBeMeant(t *testing.T) {
	for _, bad := range []string{
		"", "*", "*.", "http://a.example", "a.example/path", "a..example", ".a.example", "a example", "a.example:0",
		"a.example:99999", "user@a.example", "10.2.0.0/99",
	} {
		if _, err := CheckRules("allowed", []string{bad}); fault.Code(err) != "environment.rule" {
			t.Errorf("%q: %v", bad, err)
		}
	}
	got, err := CheckRules("allowed", []string{" A.Example:80 ", "a.example:80", "10.0.0.0/8"})
	if err != nil || !slices.Equal(got, []AddressRule{"a.example:80", "10.0.0.0/8"}) {
		t.Errorf("%v, %v", got, err)
	}
}

// Secrets go nowhere but where a rule says, and without secrets rules may be left out.
func TestWhereAnEnvironmentMayBe(t *testing.T) {
	for name, c := range map[string]struct {
		e    Environment
		at   string
		code string
	}{
		"anywhere":  {Environment{}, "http://a.example", ""},
		"by a rule": {Environment{Allowed: []AddressRule{"a.example"}, Headers: 1}, "http://a.example", ""},
		"not by a rule": {
			Environment{Allowed: []AddressRule{"a.example"}}, "http://b.example", "placement.not_allowed",
		},
		"secrets, no rules": {Environment{Headers: 1}, "http://a.example", "environment.no_rules"},
	} {
		if got := fault.Code(c.e.CheckAddress(c.at)); got != c.code {
			t.Errorf("%s: %q, want %q", name, got, c.code)
		}
	}
	e := Environment{Name: "plant", Project: "heat", SharedWith: []string{"valves"}}
	for project, want := range map[string]bool{"heat": true, "valves": true, "pumps": false, "": false} {
		if e.Serves(project) != want {
			t.Errorf("%q: %v", project, !want)
		}
	}
}
