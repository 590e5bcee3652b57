package people

import (
	"testing"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
)

func TestGroupsGiveRoles(t *testing.T) {
	g := GroupRoles{}
	for s, code := range map[string]string{
		"heat=operator@forecasting": "", "heat=reader@*": "", "cn=heat,dc=tarnholm=author@forecasting": "",
		"": "provider.group", "heat": "provider.group", "=reader@*": "provider.group", "heat=reader": "provider.group",
		"heat=@x": "provider.group", "heat=reader@": "provider.group",
	} {
		if err := g.Parse(s); fault.Code(err) != code {
			t.Errorf("%q: %v", s, err)
		}
	}
	if got := g.Of([]string{"heat", "other", "heat", "cn=heat,dc=tarnholm"}); len(got) != 3 {
		t.Errorf("%+v", got)
	}
	if got := g.Of([]string{"cn=heat,dc=tarnholm"}); len(got) != 1 ||
		got[0] != (access.Membership{Project: "forecasting", Role: "author"}) {
		t.Errorf("%+v", got)
	}
}
