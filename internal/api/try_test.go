package api_test

import (
	"encoding/json"
	"strings"
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/wire"
)

// Versions are asked the same thing where they are placed, side by side, and no lane counts it.
func TestVersionsAreTried(t *testing.T) {
	r := newRig(t)
	_, two := r.twoVersions()
	ctx := t.Context()
	two.bias.Store(3)
	both := []string{"heat-demand@1", "heat-demand@2"}
	tried := func(in wire.TryVersions) wire.TriedVersions {
		t.Helper()
		in.Environment = "plant-north"
		out, err := r.runa.Try(ctx, in)
		must(t, err)
		return out
	}
	out := tried(wire.TryVersions{Versions: both})
	if len(out.Items) != 2 || out.Items[0].Status != 200 || out.Items[1].Status != 200 ||
		!strings.Contains(string(out.Request), `"x"`) || !out.Items[1].Compared || len(out.Items[1].Differences) != 1 {
		t.Errorf("%s %+v", out.Request, out.Items)
	}
	for what, in := range map[string]wire.TryVersions{
		"typed":      {Versions: both, Inputs: map[string]any{"x": "40"}},
		"as numbers": {Versions: both, Inputs: map[string]any{"x": 40}},
		"of a file":  {Versions: both, Request: json.RawMessage(strings.Replace(ask, "[1]}]", "[40]}]", 1))},
	} {
		out := tried(in)
		if !strings.Contains(string(out.Items[0].Answer), "[40]") ||
			!strings.Contains(string(out.Items[1].Answer), "[43]") {
			t.Errorf("%s: %s of %s and %s", what, out.Request, out.Items[0].Answer, out.Items[1].Answer)
		}
	}
	two.failing.Store(true)
	if one := tried(wire.TryVersions{Versions: both}).Items[1]; one.Status != 500 || one.Compared {
		t.Errorf("a version that fails: %+v", one)
	}
	state, err := r.runa.Now(ctx)
	must(t, err)
	if n := state[0].Lanes[0].Requests; n != 0 {
		t.Errorf("%d requests were counted", n)
	}
	valve := r.register("valve-fault", "valves", nil)
	_, err = r.runa.AddProject(ctx, "other", "")
	must(t, err)
	stranger := client.New(r.server, r.person("ana", access.Membership{Project: "other", Role: "owner"}))
	reader := client.New(r.server, r.person("odd", everywhere("reader")...))
	north := func(x any, name string) wire.TryVersions {
		return wire.TryVersions{Versions: both[:1], Environment: "plant-north", Inputs: map[string]any{name: x}}
	}
	for _, c := range []struct {
		who  *client.Client
		in   wire.TryVersions
		code string
	}{
		{r.runa, wire.TryVersions{Environment: "plant-north"}, "try.versions"},
		{r.runa, wire.TryVersions{Versions: make([]string, 11), Environment: "plant-north"}, "try.versions"},
		{r.runa, wire.TryVersions{Versions: []string{both[0], valve}, Environment: "plant-north"}, "try.models"},
		{r.runa, wire.TryVersions{Versions: both, Environment: "nowhere"}, "placement.unknown"},
		{r.runa, north(1, "z"), "try.input"},
		{r.runa, north("a", "x"), "try.value"},
		{stranger, wire.TryVersions{Versions: both, Environment: "plant-north"}, "model.unknown"},
		{reader, wire.TryVersions{Versions: both, Environment: "plant-north"}, "permission.missing"},
	} {
		_, err := c.who.Try(ctx, c.in)
		if got := client.Code(err); got != c.code {
			t.Errorf("%+v: %q (%v), want %s", c.in, got, err, c.code)
		}
	}
}
