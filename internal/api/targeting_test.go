package api_test

import (
	"fmt"
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// targeted is an endpoint whose second version answers only those whom rules name, and the keys of two callers.
func (r *rig) targeted() (two *modelServer, rules []traffic.Rule, beta, app string) {
	r.t.Helper()
	ctx := r.t.Context()
	_, two = r.twoVersions()
	key := func(name string) string {
		c, err := r.runa.AddCaller(ctx, "demand-hourly", name)
		must(r.t, err)
		return c.Key
	}
	beta, app = key("beta-app"), key("app")
	for _, text := range []string{
		"key is beta-app to heat-demand@2", "header X-Team matches desk-.* to heat-demand@2",
		"input x from 100 to heat-demand@2", "cookie lane is new to heat-demand@2",
	} {
		rule, err := traffic.ParseRule("rule", text)
		must(r.t, err)
		rules = append(rules, rule)
	}
	s, err := r.runa.SplitBy(ctx, "demand-hourly", lanes(10000, 0), rules, "the beta app first", -1)
	if err != nil || len(s.Rules) != len(rules) {
		r.t.Fatalf("%v, %+v", err, s)
	}
	return two, rules, beta, app
}

// answers asks the endpoint as a caller with a key, and says which version answered.
func (r *rig) answers(key string, x float64, header ...string) string {
	r.t.Helper()
	status, version := r.infer(x, append([]string{"Inner-Ladder-Key", key}, header...)...)
	if status != 200 {
		r.t.Fatalf("%d", status)
	}
	return version
}

// Rules come before shares: by key, header and input; who is sent by one is counted apart, another lane answers where
// theirs is away, and route explain says the same as the gateway does.
func TestRulesSendCallers(t *testing.T) {
	r := newRig(t)
	two, _, beta, app := r.targeted()
	for name, c := range map[string]struct {
		key     string
		x       float64
		headers []string
		want    string
		explain wire.Explain
	}{
		"the beta app": {beta, 1, nil, "heat-demand@2", wire.Explain{Key: "beta-app"}},
		"another":      {app, 1, nil, "heat-demand@1", wire.Explain{Key: "app"}},
		"a header": {
			app, 1,
			[]string{"x-team", "desk-2"},
			"heat-demand@2",
			wire.Explain{Headers: map[string]string{"X-Team": "desk-2"}},
		},
		"a cookie": {
			app, 1,
			[]string{"Cookie", "theme=dark; lane=new"},
			"heat-demand@2",
			wire.Explain{Headers: map[string]string{"cookie": "theme=dark; lane=new"}},
		},
		"an input": {app, 100, nil, "heat-demand@2", wire.Explain{Inputs: map[string]string{"x": "100"}}},
	} {
		if got := r.answers(c.key, c.x, c.headers...); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
		where, err := r.runa.Explain(t.Context(), "demand-hourly", c.explain)
		if err != nil || (where.Rule > 0) != (c.want == "heat-demand@2") ||
			(where.Rule > 0 && where.Version != c.want) {
			t.Errorf("%s: %v, %+v", name, err, where)
		}
	}
	// What came before is counted no later than this one, which is drawn.
	r.answers(app, 1)
	if now := r.counted(0, 2); now.Lanes[0].Requests != 2 || now.Lanes[1].Requests != 0 {
		t.Errorf("who was sent by a rule counts as drawn: %+v", now.Lanes)
	}
	_, err := r.runa.SetKeyed(t.Context(), "demand-hourly", false, "nobody else reaches it")
	must(t, err)
	await(t, "an endpoint that is open, and knows its callers", func() bool {
		return r.answers("", 1) == "heat-demand@1" && r.answers(beta, 1) == "heat-demand@2"
	})
	two.CloseClientConnections()
	two.Close()
	if got := r.answers(beta, 1); got != "heat-demand@1" {
		t.Errorf("its lane is away: %s", got)
	}
}

// Nobody loses rules by changing a share: they stay while their versions have a lane, come back with a way back, and
// end when that is asked for.
func TestRulesStay(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, rules, beta, _ := r.targeted()
	makes := func(what string, want int, s traffic.Split, err error) traffic.Split {
		t.Helper()
		if err != nil || len(s.Rules) != want {
			t.Errorf("%s: %v, %+v", what, err, s)
		}
		return s
	}
	s, err := r.runa.Split(ctx, "demand-hourly", lanes(10000, 0), "the same once more", -1)
	makes("rules stay", len(rules), s, err)
	if got := r.answers(beta, 1); got != "heat-demand@2" {
		t.Errorf("they are not followed: %s", got)
	}
	s, err = r.runa.Split(ctx, "demand-hourly", whole("heat-demand@1"), "without it", -1)
	s = makes("rules to a version without a lane end", 0, s, err)
	s, err = r.runa.Back(ctx, "demand-hourly", s.Number-1, "with it", -1)
	s = makes("a way back has the rules of what it returns to", len(rules), s, err)
	s, err = r.runa.SplitBy(ctx, "demand-hourly", s.Lanes, []traffic.Rule{}, "no more", -1)
	makes("rules are ended", 0, s, err)
	_, err = r.runa.SplitBy(ctx, "demand-hourly", whole("heat-demand@1"), rules, "", -1)
	wantCode(t, "a rule to a version without a lane", err, "rule.version")
	all, err := r.runa.Splits(ctx, "demand-hourly", client.Part{})
	if err != nil || len(all.Items[1].Rules) != len(rules) {
		t.Errorf("the history lost them: %v, %+v", err, all.Items)
	}
}

// What keeps callers on their lane is the endpoint's to say.
func TestStickyBy(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "half", -1)
	must(t, err)
	sticky := "header X-User"
	e, err := r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Sticky: &sticky})
	if err != nil || e.Sticky != sticky {
		t.Errorf("%v, %+v", err, e)
	}
	for i := range 20 {
		user := fmt.Sprintf("user-%d", i)
		where, err := r.runa.Explain(ctx, "demand-hourly", wire.Explain{Headers: map[string]string{"X-User": user}})
		if err != nil || where.Sticky != sticky {
			t.Fatalf("%v, %+v", err, where)
		}
		if got := r.answers("", 1, "X-User", user); got != where.Version {
			t.Errorf("%s: %s answered, and it was to be %s", user, got, where.Version)
		}
	}
	bad := "moon"
	_, err = r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Sticky: &bad})
	wantCode(t, "nothing to stick by", err, "rule.on")
}
