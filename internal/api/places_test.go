package api_test

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Random histories of placements, addresses, environments and moved models, whatever of it is
// refused: nothing is ever where its environment does not let it be, no secret is without a rule, and
// no two versions are at one address under one name, so no answer can bear the name of another.
func TestNothingIsWhereItMayNotBe(t *testing.T) {
	r := newRig(t)
	_, err := r.runa.AddProject(t.Context(), "valves", "")
	must(t, err)
	w := &places{t: t, rig: r, r: rand.New(rand.NewPCG(7, 12))}
	for i := range 3 {
		u, err := url.Parse(r.modelServer(0).URL)
		must(t, err)
		w.urls = append(w.urls, "http://127.0.0.1:"+u.Port(), "http://localhost:"+u.Port())
		v, err := r.runa.Register(t.Context(),
			wire.Registration{Model: fmt.Sprint("model-", i), Project: "default"},
			with("", r.file("m.bin", fmt.Sprint(i))))
		must(t, err)
		w.refs = append(w.refs, v.Ref)
	}
	for range 250 {
		w.event()
		w.look()
		if t.Failed() {
			return
		}
	}
	if w.done < 60 {
		t.Errorf("only %d of 250 were done: the test tries nothing", w.done)
	}
}

type places struct {
	t    *testing.T
	rig  *rig
	r    *rand.Rand
	urls []string
	refs []string
	done int
}

func pick[T any](r *rand.Rand, of ...T) T { return of[r.IntN(len(of))] }

// event does one thing, which may be refused.
func (w *places) event() {
	ctx, c := w.t.Context(), w.rig.runa
	env, ref, address := pick(w.r, "north", "south"), pick(w.r, w.refs...), pick(w.r, w.urls...)
	rules := pick(w.r, []string{}, []string{"127.0.0.1"}, []string{"localhost"}, []string{"127.0.0.0/8", "localhost"})
	project := pick(w.r, "default", "valves")
	var err error
	switch w.r.IntN(9) {
	case 0:
		_, err = c.AddEnvironment(ctx, wire.NewEnvironment{Name: env, Project: project, Allowed: rules})
	case 1, 2, 3:
		_, err = c.Place(ctx, ref, env, []string{address}, "heat-demand")
	case 4:
		_, err = c.ChangeAddresses(ctx, ref, env, wire.EditAddresses{
			Add: []string{address}, Remove: pick(w.r, nil, []string{pick(w.r, w.urls...)}),
		})
	case 5:
		_, err = c.EditEnvironment(ctx, env, wire.EditEnvironment{
			Project: pick(w.r, nil, &project), Allowed: pick(w.r, nil, &rules),
			SharedWith: pick(w.r, nil, &[]string{}, &[]string{"default", "valves"}),
		})
	case 6:
		if w.r.IntN(2) == 0 {
			_, err = c.Unplace(ctx, ref, env)
		} else {
			_, err = c.RemoveEnvironment(ctx, env, "x")
		}
	case 7:
		_, err = c.SetHeader(ctx, env, "X-Secret", "s")
	case 8:
		model, _, _ := strings.Cut(ref, "@")
		_, err = c.EditModel(ctx, model, registry.Edit{Project: &project})
	}
	if err == nil {
		w.done++
	} else if client.Code(err) == "" || client.Code(err) == "internal" {
		w.t.Errorf("%v", err)
	}
}

// look says what is where it may not be.
func (w *places) look() {
	r := w.rig.store.Read(records.Everything)
	environments, err := r.Environments(w.t.Context())
	must(w.t, err)
	by := map[string]traffic.Environment{}
	for _, e := range environments {
		if by[e.Name] = e; e.Headers > 0 && len(e.Allowed) == 0 {
			w.t.Errorf("the secrets of %s may go anywhere", e.Name)
		}
	}
	placements, err := r.Placements(w.t.Context(), "")
	must(w.t, err)
	there := map[string]string{}
	for _, p := range placements {
		e, known := by[p.Environment]
		if !known || !e.Serves(p.Project) {
			w.t.Errorf("%s of %s is placed in %s, which is for %s and %v", p.Version, p.Project, p.Environment,
				e.Project, e.SharedWith)
		}
		if len(p.Addresses) == 0 {
			w.t.Errorf("%s is placed in %s at no address", p.Version, p.Environment)
		}
		for _, a := range p.Addresses {
			if e.CheckAddress(a.URL) != nil {
				w.t.Errorf("%s is at %s, where %s allows %v", p.Version, a.URL, e.Name, e.Allowed)
			}
			at := a.URL + " " + p.ServedAs
			if other := there[at]; other != "" && other != p.Version {
				w.t.Errorf("%s and %s are both at %s", p.Version, other, at)
			}
			there[at] = p.Version
		}
	}
}
