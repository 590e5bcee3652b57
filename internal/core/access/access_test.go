package access

import (
	"slices"
	"testing"
)

func rights(m ...string) Rights {
	var all []Membership
	for i := 0; i+1 < len(m); i += 2 {
		all = append(all, Membership{m[i], m[i+1]})
	}
	return RightsOf(all, append(BuiltIn(), Role{Name: "auditor", Permissions: []Permission{Read, Audit}}))
}

func TestRights(t *testing.T) {
	for _, c := range []struct {
		name    string
		r       Rights
		p       Permission
		project string
		want    bool
	}{
		{"nobody", Rights{}, Read, "heat", false},
		{"reader reads", rights("heat", "reader"), Read, "heat", true},
		{"reader does not register", rights("heat", "reader"), Register, "heat", false},
		{"not elsewhere", rights("heat", "owner"), Read, "valves", false},
		{"an owner of a project is none of the service", rights("heat", "owner"), Administer, "", false},
		{"nor by asking for the project", rights("heat", "owner"), Administer, "heat", false},
		{"owner of all", rights("*", "owner"), Administer, "", true},
		{"owner of all in a project", rights("*", "owner"), Sign, "valves", true},
		{"two roles add up", rights("heat", "author", "heat", "approver"), Sign, "heat", true},
		{"custom", rights("heat", "auditor"), Audit, "heat", true},
		{"a role that is gone gives nothing", rights("heat", "vanished"), Read, "heat", false},
		{"own things", Rights{}, Own, "", true},
		{"the empty project is no project", rights("", "owner"), Read, "", false},
	} {
		if got := c.r.May(c.p, c.project); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

func TestScopesOnlyNarrow(t *testing.T) {
	all, heat := rights("*", "operator"), rights("heat", "author", "valves", "approver")
	for _, c := range []struct {
		name    string
		r       Rights
		p       Permission
		project string
		want    bool
	}{
		{"no scope", heat.Within(Scope{}), Register, "heat", true},
		{"permission kept", heat.Within(Scope{Permissions: []Permission{Read}}), Read, "heat", true},
		{"permission dropped", heat.Within(Scope{Permissions: []Permission{Read}}), Register, "heat", false},
		{"cannot add", heat.Within(Scope{Permissions: []Permission{Administer, Route}}), Route, "heat", false},
		{"project dropped", heat.Within(Scope{Projects: []string{"valves"}}), Read, "heat", false},
		{"project kept", heat.Within(Scope{Projects: []string{"valves"}}), Sign, "valves", true},
		{"one of all", all.Within(Scope{Projects: []string{"heat"}}), Route, "heat", true},
		{"not the others", all.Within(Scope{Projects: []string{"heat"}}), Route, "valves", false},
		{"not the service", rights("*", "owner").Within(Scope{Projects: []string{"heat"}}), Administer, "", false},
	} {
		if got := c.r.May(c.p, c.project); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

func TestNobodyGivesWhatTheyDoNotHave(t *testing.T) {
	r := rights("heat", "owner")
	owner, author := BuiltIn()[4].Set(), BuiltIn()[1].Set()
	if !r.Covers(owner, "heat") || r.Covers(author, "valves") || r.Covers(owner, Everywhere) {
		t.Error("an owner gives roles in the own project only")
	}
	if rights("heat", "author").Covers(owner, "heat") {
		t.Error("an author gives no owner")
	}
}

func TestWhere(t *testing.T) {
	if p, all := rights("heat", "reader", "valves", "owner").Where(Audit); all || !slices.Equal(p, []string{"valves"}) {
		t.Errorf("%v %v", p, all)
	}
	if _, all := rights("*", "reader").Where(Read); !all {
		t.Error("all")
	}
	if _, err := ParseSet("may", []string{"fly"}); err == nil {
		t.Error("an unknown permission")
	}
	if s, err := ParseSet("may", []string{"sign"}); err != nil || !s[Read] {
		t.Error("read comes with everything", err)
	}
}
