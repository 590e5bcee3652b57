package api_test

import (
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

func in(project, role string) access.Membership {
	return access.Membership{Project: project, Role: role}
}

// An environment's secrets go only to addresses that its rules allow, and only versions of projects
// that it is for are placed there: an operator of another project cannot have them sent anywhere.
func TestAnEnvironmentIsSomebodys(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	for _, name := range []string{"heat", "valves"} {
		_, err := r.runa.AddProject(ctx, name, "")
		must(t, err)
	}
	keeper := client.New(r.server, r.person("odd", in("heat", "owner")))
	other := client.New(r.server, r.person("sif", in("valves", "operator"), in("valves", "author")))
	_, err := other.AddEnvironment(ctx, wire.NewEnvironment{Name: "mine", Project: "valves"})
	wantCode(t, "an operator adds a place", err, "permission.missing")
	e, err := keeper.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north", Allowed: []string{"127.0.0.2"}})
	if err != nil || e.Project != "heat" {
		t.Fatalf("%+v, %v", e, err)
	}
	_, err = keeper.SetHeader(ctx, "plant-north", "Authorization", "Basic plant-secret")
	must(t, err)
	address, sent := r.guarded(r.modelServer(0), "Basic plant-secret")
	valve, err := other.Register(ctx, wire.Registration{Model: "heat-demand", Project: "valves"},
		with("", r.file("m.bin", "a")))
	must(t, err)

	_, err = other.Place(ctx, valve.Ref, "plant-north", []string{address}, "")
	wantCode(t, "a place that is not seen", err, "environment.unknown")
	if _, err := other.Headers(ctx, "plant-north"); client.Code(err) != "permission.missing" {
		t.Errorf("headers of others: %v", err)
	}
	share := func(with ...string) error {
		_, err := keeper.EditEnvironment(ctx, "plant-north", wire.EditEnvironment{SharedWith: &with})
		return err
	}
	if err := share("valves"); client.Code(err) != "project.unknown" {
		t.Errorf("shared with what is not seen: %v", err)
	}
	_, err = r.runa.EditEnvironment(ctx, "plant-north", wire.EditEnvironment{SharedWith: &[]string{"valves"}})
	must(t, err)
	_, err = other.Place(ctx, valve.Ref, "plant-north", []string{address}, "")
	wantCode(t, "an address that no rule allows", err, "placement.not_allowed")
	if got := sent(); got != nil {
		t.Errorf("the server was sent %v", got)
	}
	// Who keeps it does not see the other project, and takes nothing from it by an edit.
	_, err = keeper.EditEnvironment(ctx, "plant-north", wire.EditEnvironment{Allowed: &[]string{"127.0.0.0/8"}})
	must(t, err)
	_, err = other.Place(ctx, valve.Ref, "plant-north", []string{address}, "")
	must(t, err)
	for what, edit := range map[string]wire.EditEnvironment{
		"nothing":                                {},
		"what is so already":                     {Name: new("plant-north")},
		"no rules while there are secrets":       {Allowed: &[]string{}},
		"a rule that leaves out what runs there": {Allowed: &[]string{"10.0.0.0/8"}},
	} {
		if _, err := keeper.EditEnvironment(ctx, "plant-north", edit); err == nil ||
			strings.Contains(err.Error(), "heat-demand") {
			t.Errorf("%s: %v", what, err)
		}
	}
	_, err = r.runa.EditEnvironment(ctx, "plant-north", wire.EditEnvironment{SharedWith: &[]string{}})
	wantCode(t, "shared no more with what runs there", err, "environment.in_use")
	_, err = keeper.RemoveEnvironment(ctx, "plant-north", "")
	wantCode(t, "what is in use", err, "environment.in_use")
	// Its headers follow a new name.
	_, err = keeper.EditEnvironment(ctx, "plant-north", wire.EditEnvironment{Name: new("plant-nord")})
	must(t, err)
	if h, err := keeper.Headers(ctx, "plant-nord"); err != nil || len(h.Items) != 1 {
		t.Errorf("%+v, %v", h, err)
	}
	_, err = other.Unplace(ctx, valve.Ref, "plant-nord")
	must(t, err)
	_, err = keeper.RemoveEnvironment(ctx, "plant-nord", "the plant is closed")
	must(t, err)
	if all, err := r.runa.Environments(ctx); err != nil || len(all.Items) != 0 {
		t.Errorf("%+v, %v", all, err)
	}
	_, err = keeper.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-nord"})
	must(t, err)
	if h, err := keeper.Headers(ctx, "plant-nord"); err != nil || len(h.Items) != 0 {
		t.Errorf("a new place of the name has the secrets of the old: %+v, %v", h, err)
	}
}

// Addresses come and go while the version answers; what comes is made sure of as at placement.
func TestAddressesComeAndGo(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	r.approve(ref)
	one, two, wrong := r.modelServer(0), r.modelServer(0), r.modelServer(0)
	wrong.input = "other"
	_, err = r.runa.Place(ctx, ref, "plant-north", []string{one.URL}, "")
	must(t, err)
	_, err = r.runa.AddEndpoint(ctx,
		wire.NewEndpoint{Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north"})
	must(t, err)
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "start", -1)
	must(t, err)
	change := func(add, remove []string) (traffic.Placement, error) {
		return r.runa.ChangeAddresses(ctx, ref, "plant-north",
			wire.EditAddresses{Add: add, Remove: remove, Reason: "another machine"})
	}
	for what, c := range map[string]struct {
		add, remove []string
		code        string
	}{
		"nothing":                    {nil, nil, "placement.no_address"},
		"all of them":                {nil, []string{one.URL}, "placement.no_address"},
		"one that it does not have":  {nil, []string{two.URL}, "placement.address_unknown"},
		"one that it has":            {[]string{one.URL}, nil, "placement.address_twice"},
		"one that serves other rows": {[]string{wrong.URL}, nil, "placement.signature"},
		"no address":                 {[]string{"ftp://x"}, nil, "placement.address"},
	} {
		_, err := change(c.add, c.remove)
		wantCode(t, what, err, c.code)
	}
	_, err = change([]string{two.URL}, nil)
	must(t, err)
	one.down.Store(true)
	await(t, "one of them to be found down", func() bool {
		all, err := r.runa.Placements(ctx, ref)
		return err == nil && !all.Items[0].Addresses[0].Healthy
	})
	_, err = change(nil, []string{two.URL})
	wantCode(t, "the last that answers", err, "placement.in_use")
	_, err = change(nil, []string{one.URL})
	must(t, err)
	one.down.Store(false)
	_, err = change([]string{one.URL}, []string{two.URL})
	must(t, err)
	p, err := change([]string{two.URL}, []string{one.URL})
	if err != nil || len(p.Addresses) != 1 || p.Addresses[0].URL != two.URL {
		t.Fatalf("%+v, %v", p, err)
	}
	one.Close() // what it answers by now is the other one
	for range 5 {
		if got := r.callGateway(); got != 200 {
			t.Fatalf("after the change: %d", got)
		}
	}
	log, err := r.runa.Audit(ctx, map[string]string{"kind": "placement.changed"}, client.Part{})
	if err != nil || len(log.Items) != 4 || log.Items[0].Reason != "another machine" {
		t.Errorf("%+v, %v", log.Items, err)
	}
}

// A model that was registered into the wrong project moves, is renamed while nothing names it, and
// goes when it has no version; then its name is free.
func TestModelsAreKeptInOrder(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "heat", "")
	must(t, err)
	author := client.New(r.server, r.person("odd", in("default", "author")))
	v, err := author.Register(ctx, wire.Registration{Model: "heat-demnd"},
		append(with("", r.file("m.bin", "a")), r.report(map[string]float64{"rmse": 1})))
	must(t, err)
	// What its versions are put to goes with it, and goes when it goes.
	_, err = r.runa.SetStanding(ctx, wire.NewStanding{
		Model: "heat-demnd", Judging: wire.Judging{Target: "y"},
	}, strings.NewReader("x,y\n1,2\n"))
	must(t, err)
	_, err = r.runa.SetCases(ctx, "heat-demnd", "cases: [{name: quick, within: 1s}]", "")
	must(t, err)
	_, err = author.EditModel(ctx, "heat-demnd", registry.Edit{Project: new("heat")})
	wantCode(t, "moved by who manages neither", err, "project.unknown")
	_, err = r.runa.EditModel(ctx, "heat-demnd", registry.Edit{Name: new("heat-demand"), Project: new("heat")})
	must(t, err)
	m, err := r.runa.Version(ctx, "heat-demand@1")
	if err != nil || m.Project != "heat" || m.Digest != v.Digest || m.Metrics["rmse"] != 1 {
		t.Fatalf("%+v, %v", m, err)
	}
	s, err := r.runa.Standing(ctx, "heat-demand")
	if err != nil || s.ID() != "heat-demand#1" || s.Project != "heat" {
		t.Errorf("%+v, %v", s, err)
	}
	k, err := r.runa.Cases(ctx, "heat-demand")
	if err != nil || k.ID() != "heat-demand#1" || k.Project != "heat" {
		t.Errorf("%+v, %v", k, err)
	}
	_, err = author.Cases(ctx, "heat-demand")
	wantCode(t, "cases seen by those of the old project", err, "model.unknown")
	_, err = author.Version(ctx, "heat-demand@1")
	wantCode(t, "seen by those of the old project", err, "model.unknown")
	r.approve("heat-demand@1")
	_, err = r.runa.EditModel(ctx, "heat-demand", registry.Edit{Name: new("heat")})
	wantCode(t, "renamed after it was signed for", err, "model.named")
	second, err := r.runa.Register(ctx, wire.Registration{Model: "heat-demand"}, with("", r.file("m.bin", "c")))
	must(t, err)

	_, err = r.runa.RemoveModel(ctx, "heat-demand", "x")
	wantCode(t, "removed with versions", err, "model.in_use")
	for _, ref := range []string{"heat-demand@1", second.Ref} {
		if _, err := r.runa.Retire(ctx, ref, "a mistake"); err != nil {
			t.Fatal(err)
		}
		_, err = r.runa.Delete(ctx, ref, "a mistake")
		must(t, err)
	}
	_, err = r.runa.RemoveModel(ctx, "heat-demand", "a mistake")
	must(t, err)
	_, err = author.Register(ctx, wire.Registration{Model: "heat-demand"}, with("", r.file("m.bin", "b")))
	if err != nil {
		t.Errorf("the name is not free: %v", err)
	}
	_, err = author.Standing(ctx, "heat-demand")
	wantCode(t, "the standing evaluation of the one before", err, "standing.unknown")
	_, err = author.Cases(ctx, "heat-demand")
	wantCode(t, "the cases of the one before", err, "cases.unknown")
}

// Endpoints can be changed, and go when nobody calls them; what they answered is still traced.
func TestEndpointsAreKeptInOrder(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	_, err = r.runa.Place(ctx, ref, "plant-north", []string{r.modelServer(0).URL}, "")
	must(t, err)
	for _, name := range []string{"demand-hourly", "demand-houly"} {
		_, err = r.runa.AddEndpoint(ctx, wire.NewEndpoint{
			Name: name, Model: "heat-demand", Environment: "plant-north", Rung: "draft",
		})
		must(t, err)
	}
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "start", -1)
	must(t, err)
	plan := guard.DefaultTerms()
	plan.Guards[0].Margin = 0.001
	_, err = r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Rung: new("draft")})
	wantCode(t, "what is so already", err, "edit.nothing")
	e, err := r.runa.EditEndpoint(ctx, "demand-hourly",
		wire.EditEndpoint{Description: new("for the desk"), Terms: &plan, Repeatable: new(true)})
	if err != nil || e.Description != "for the desk" || e.Terms.Guards[0].Margin != 0.001 || !e.Repeatable ||
		e.Rung != "draft" {
		t.Errorf("%+v, %v", e, err)
	}
	_, err = r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Rung: new("live")})
	wantCode(t, "a rung on which what answers does not stand", err, "endpoint.rung")
	r.approve(ref)
	_, err = r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Rung: new("live")})
	must(t, err)
	_, err = r.runa.RemoveEndpoint(ctx, "demand-hourly", "")
	wantCode(t, "one that answers, without a reason", err, "reason.missing")
	_, err = r.runa.RemoveEndpoint(ctx, "demand-houly", "mistyped")
	must(t, err)
	if got := r.callGateway(); got != 200 {
		t.Errorf("the other answers with %d", got)
	}
	await(t, "the call to be counted", func() bool {
		now, err := r.runa.EndpointNow(ctx, "demand-hourly")
		return err == nil && now.Lanes[0].Requests > 0
	})
	_, err = r.runa.RemoveEndpoint(ctx, "demand-hourly", "nobody needs it")
	wantCode(t, "one that is called", err, "endpoint.called")
	_, id := r.answered()
	r.skew.Store(int64(time.Hour))
	_, err = r.runa.RemoveEndpoint(ctx, "demand-hourly", "nobody needs it")
	must(t, err)
	if got := r.callGateway(); got != 404 {
		t.Errorf("what was taken away answers with %d", got)
	}
	if tr, err := r.runa.Trace(ctx, wire.TraceFrom{From: id}); err != nil || tr.Answer.Version != ref {
		t.Errorf("what it answered: %+v, %v", tr.Answer, err)
	}
	_, err = r.runa.AddEndpoint(ctx,
		wire.NewEndpoint{Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north"})
	wantCode(t, "its name", err, "name.taken")
	_, err = r.runa.Unplace(ctx, ref, "plant-north")
	must(t, err)
}

// Projects can be changed, chosen as one's own, and go when nothing is in them.
func TestProjectsAreKeptInOrder(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "trials", "")
	must(t, err)
	odd := client.New(r.server, r.person("odd", in("trials", "owner"), in("default", "owner")))
	_, err = odd.Register(ctx, wire.Registration{Model: "try"}, with("", r.file("m.bin", "t")))
	wantCode(t, "which of two projects", err, "project.which")
	me, err := odd.UseProject(ctx, "trials")
	if err != nil || me.Project != "trials" {
		t.Errorf("%+v, %v", me, err)
	}
	v, err := odd.Register(ctx, wire.Registration{Model: "try"}, with("", r.file("m.bin", "t")))
	if err != nil || v.Project != "trials" {
		t.Errorf("%s, %v", v.Project, err)
	}
	if p, err := odd.EditProject(ctx, "trials", "things to try", ""); err != nil || p.Description != "things to try" {
		t.Errorf("%+v, %v", p, err)
	}
	_, err = r.runa.RemoveProject(ctx, "trials", "")
	wantCode(t, "a project with a model", err, "project.in_use")
	_, err = r.runa.RemoveProject(ctx, "default", "")
	wantCode(t, "the first project", err, "project.default")
	_, err = odd.EditModel(ctx, "try", registry.Edit{Project: new("default")})
	must(t, err)
	_, err = r.runa.RemoveProject(ctx, "trials", "ended")
	must(t, err)
}
