package traffic

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
)

// AddressRule says where model servers of an environment may be: a host name, with *. in front
// all names below it, an IP address, or a range of them such as 10.2.0.0/16; behind it :PORT for
// one port, and in front https:// for that alone. Names and IP addresses are compared as they are
// written: a name is never looked up for a range.
type AddressRule string

// place is where something may be or is: its host and port, and whether it is reached by TLS alone.
type place struct {
	secure     bool
	host, port string
}

// placeOf takes HOST, HOST:PORT, [HOST]:PORT apart, with or without https:// in front.
func placeOf(s string) place {
	rest, secure := strings.CutPrefix(s, "https://")
	p := place{secure: secure, host: rest}
	if bracketed, there := strings.CutPrefix(rest, "["); there {
		p.host, rest, _ = strings.Cut(bracketed, "]")
		p.port = strings.TrimPrefix(rest, ":")
	} else if strings.Count(rest, ":") == 1 { // more of them are an IPv6 address
		p.host, p.port, _ = strings.Cut(rest, ":")
	}
	return p
}

// split takes a rule apart; ok is false when it is none.
func (r AddressRule) split() (p place, ok bool) {
	p = placeOf(string(r))
	if n, err := strconv.Atoi(p.port); p.port != "" && (err != nil || n < 1 || n > 65535) {
		return p, false
	}
	if _, err := netip.ParsePrefix(p.host); err == nil {
		return p, true
	}
	if _, err := netip.ParseAddr(p.host); err == nil {
		return p, true
	}
	name := strings.TrimPrefix(p.host, "*.")
	return p, name != "" && len(name) <= 253 && !strings.HasPrefix(name, ".") && !strings.HasSuffix(name, ".") &&
		!strings.Contains(name, "..") && !strings.ContainsFunc(name, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' && c != '.' && c != '_'
	})
}

// addressOf is where an address of a model server is, as placements have it: http:// or https://, a
// host, perhaps a port and a path. Anything else is nowhere.
func addressOf(address string) (p place, ok bool) {
	scheme, rest, ok := strings.Cut(strings.ToLower(address), "://")
	rest, _, _ = strings.Cut(rest, "/")
	if !ok || (scheme != "http" && scheme != "https") || strings.ContainsAny(rest, `@\?#%`) {
		return p, false
	}
	if p = placeOf(rest); p.port == "" {
		p.port = map[string]string{"http": "80", "https": "443"}[scheme]
	}
	p.secure = scheme == "https"
	return p, p.host != ""
}

// Allows reports whether a model server may be at an address by the rule.
func (r AddressRule) Allows(address string) bool {
	rule, ok := r.split()
	at, there := addressOf(address)
	if !ok || !there || (rule.secure && !at.secure) || (rule.port != "" && rule.port != at.port) {
		return false
	}
	ip, err := netip.ParseAddr(at.host)
	if prefix, bad := netip.ParsePrefix(rule.host); bad == nil {
		return err == nil && prefix.Contains(ip.Unmap())
	}
	if one, bad := netip.ParseAddr(rule.host); bad == nil {
		return err == nil && one.Unmap() == ip.Unmap()
	}
	if below, all := strings.CutPrefix(rule.host, "*"); all {
		return err != nil && strings.HasSuffix(at.host, below) && len(at.host) > len(below)
	}
	return at.host == rule.host
}

// mostRules bounds the rules of an environment.
const mostRules = 100

// CheckRules reads the address rules of an environment, each once; field is where they stand.
func CheckRules(field string, given []string) ([]AddressRule, error) {
	out := []AddressRule{}
	for _, g := range given {
		r := AddressRule(strings.ToLower(strings.TrimSpace(g)))
		if _, ok := r.split(); !ok {
			return nil, fault.New(fault.Invalid, "environment.rule", "%q is no rule for addresses", g).In(field).
				Do("name a host such as models.tarnholm.example, *.tarnholm.example, 10.2.0.7 or 10.2.0.0/16, with " +
					":PORT behind it for one port")
		}
		if !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	if len(out) > mostRules {
		return nil, fault.New(fault.Invalid, "environment.rule", "there are %d rules", len(out)).In(field).
			Do("give at most %d; a range or *. stands for many addresses", mostRules)
	}
	return out, nil
}
