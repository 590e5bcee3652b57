package api_test

import (
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/lineage"
	"innerladder/internal/wire"
)

// missing are names of the same forms as those of things that there are, of which there is none.
func missing(things map[string]string) map[string]string {
	out := maps.Clone(things)
	maps.Copy(out, map[string]string{
		"model": "okapi", "ref": "okapi@1", "other": "okapi@2", "endpoint": "okapi-hourly",
		"request": "zz" + things["request"][2:], "promotion": "P-9999", "alert": "A-9999", "run": "run-9999",
		"data": "okapi-data#1", "upload": strings.Repeat("0", len(things["upload"])), "environment": "okapi-north",
		"caller": "okapi-app", "person": "okapi-robot", "evidence": "E-9999", "project": "okapi", "webhook": "9999",
		"delivery": "9999", "rollout": "R-9999", "plan": "okapis", "incident": "I-9999", "name": "perl",
		"signal": "okapi_cost", "job": "J-9999", "schedule": "okapily", "search": "9999", "token": "9999",
		"agent": "00000000-0000-4000-8000-000000000000",
	})
	return out
}

// renamed is a body about things of zebra about others.
func renamed(s string) string {
	return strings.NewReplacer("zebra", "okapi", "heat-demand", "okapi", "plant-north", "okapi-north", "demand-hourly",
		"okapi-hourly", "dispatch_cost", "okapi_cost").Replace(s)
}

// alike is an answer without what it is about: names, numbers, its id.
func alike(body string, things ...map[string]string) string {
	var names []string
	for _, all := range things {
		for _, name := range all {
			if len(name) > 1 {
				names = append(names, name)
			}
		}
	}
	names = append(names, "zebra", "okapi")
	slices.SortFunc(names, func(a, b string) int { return len(b) - len(a) })
	for _, n := range names {
		body = strings.ReplaceAll(body, n, "X")
	}
	body = regexp.MustCompile(`"(instance|request_id|at|made_at|expires_at)":"[^"]*"`).ReplaceAllString(body, "")
	return regexp.MustCompile(`[a-z0-9-]*X[a-z0-9_@#-]*|[0-9]+`).ReplaceAllString(body, "X")
}

// What somebody may not see is, for them, as if it were not: the same status, the same code, the same words.
func TestWhatIsHiddenIsAsIfItWereNot(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "heat", "")
	must(t, err)
	things := r.zebra()
	none := missing(things)
	token := r.person("keeper", access.Membership{Project: "heat", Role: access.Owner})
	for _, o := range routes(t) {
		if o.permission == "" || o.id == "signOut" || o.id == "endOtherSessions" || o.id == "events" {
			continue
		}
		status, body := r.ask(o, token, things)
		q := asks[o.id]
		if o.id != "register" && o.id != "addDataSet" { // these would be there then
			q = [2]string{renamed(q[0]), renamed(q[1])}
		}
		other, bodyOfNone := r.askFor(o, token, none, q)
		if slices.Contains(general, o.id) || o.permission == string(access.Administer) {
			continue // about nothing of zebra, or for others; what these show is looked at elsewhere
		}
		if status == 409 && strings.Contains(body, "name.taken") {
			continue // names are unique in the whole service, and it is not said by what
		}
		if status != other || alike(body, things, none) != alike(bodyOfNone, things, none) {
			t.Errorf("%s %s (%s)\nof zebra's: %d %.400s\nof none:    %d %.400s", o.method, o.path, o.id, status, body,
				other, bodyOfNone)
		}
	}
}

// A token that is narrowed down may exactly what it says: every other route is closed to it, and what is its owner's
// own.
func TestNarrowedTokensMayExactlyWhatTheySay(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	things := missing(map[string]string{
		"request": "aaaaaaaa", "upload": "bbbbbbbb", "artifact": "model.bin", "attachment": "x.md", "label": "beta",
		"header": "Authorization", "role": "reader", "replica": "1", "watch": "error_rate", "subject": "all",
		"number": "1",
	})
	for _, d := range access.Permissions() {
		made, err := r.runa.MakeToken(ctx, wire.NewToken{
			Title: "only " + string(d.Name), Scope: access.Scope{Permissions: []access.Permission{d.Name}},
		})
		must(t, err)
		for _, o := range routes(t) {
			p := access.Permission(o.permission)
			if p == "" || o.id == "signOut" || p == access.SignedIn || p == access.Read || p == d.Name {
				continue
			}
			status, body := r.ask(o, made.Secret, things)
			want := "permission.missing"
			if p == access.Own {
				want = "token.narrowed"
			}
			if status != 403 || !strings.Contains(body, want) {
				t.Errorf("a token for %s: %s %s (%s needs %s): %d %.200s", d.Name, o.method, o.path, o.id, p, status,
					body)
			}
		}
	}
	made, err := r.runa.MakeToken(ctx, wire.NewToken{
		Title: "one project", Scope: access.Scope{Projects: []string{"default"}},
	})
	must(t, err)
	c := client.New(r.server, made.Secret)
	me, err := c.WhoAmI(ctx)
	if err != nil || me.Unread != 0 {
		t.Errorf("%v, %+v", err, me)
	}
	_, err = c.Tokens(ctx, "")
	wantCode(t, "its owner's tokens", err, "token.narrowed")
	_, err = c.Inbox(ctx, false, client.Part{})
	wantCode(t, "its owner's inbox", err, "token.narrowed")
}

// What stands for a person who has looked, no robot can have: not by a role, not by a role that is changed.
func TestARobotSignsNothing(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	robot := func(name, role string) error {
		_, err := r.runa.AddPerson(ctx, wire.NewPerson{
			Name: name, Robot: true, Memberships: []access.Membership{{Project: "default", Role: role}},
		})
		return err
	}
	for _, role := range []string{"approver", access.Owner} {
		wantCode(t, role, robot("signer", role), "member.robot")
	}
	_, err := r.runa.PutRole(ctx, "helper", []string{"register"}, "")
	must(t, err)
	must(t, robot("helping", "helper"))
	_, err = r.runa.PutRole(ctx, "helper", []string{"register", "sign"}, "")
	wantCode(t, "its role", err, "role.of_robot")
	_, err = r.runa.GiveRole(ctx, "helping", access.Membership{Project: "default", Role: "approver"})
	wantCode(t, "another role", err, "member.robot")
	_, err = r.runa.PutRole(ctx, "second", []string{"sign"}, "")
	must(t, err)
}

// Robots, searches and data of projects that somebody does not see are no part of any list, and words of theirs change
// nothing in what is found.
func TestNamesOfOthersLeakNowhere(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	for _, p := range []string{"heat", "zebra"} {
		_, err := r.runa.AddProject(ctx, p, "")
		must(t, err)
	}
	keeper := client.New(r.server, r.person("keeper", access.Membership{Project: "heat", Role: access.Owner}))
	odd := client.New(r.server, r.person("odd", access.Membership{Project: "zebra", Role: access.Owner}))
	both := client.New(r.server, r.person("both", access.Membership{Project: "zebra", Role: access.Owner},
		access.Membership{Project: "heat", Role: access.Owner}))
	_, err := odd.AddPerson(ctx, wire.NewPerson{
		Name: "zebra-robot", Robot: true, Memberships: []access.Membership{{Project: "zebra", Role: "author"}},
	})
	must(t, err)
	_, err = keeper.Tokens(ctx, "zebra-robot")
	wantCode(t, "tokens of another's robot", err, "person.unknown")
	_, err = keeper.GiveRole(ctx, "zebra-robot", access.Membership{Project: "heat", Role: "reader"})
	wantCode(t, "a role for another's robot", err, "person.unknown")
	for who, c := range map[string]*client.Client{"keeper": keeper, "both": both} {
		all, err := c.People(ctx)
		must(t, err)
		there := strings.Contains(fmt.Sprint(all.Items), "zebra-robot")
		if there != (who == "both") {
			t.Errorf("%s sees the robot: %v", who, there)
		}
	}
	for name, q := range map[string]map[string]string{
		"what stripes do": {"text": "stripes"}, "of zebra": {"project": "zebra"}, "of heat": {"project": "heat"},
	} {
		c := odd
		if name == "of heat" {
			c = both
		}
		_, err := c.SaveSearch(ctx, name, q, true)
		must(t, err)
	}
	for who, want := range map[string]int{"keeper": 1, "both": 3} {
		c := map[string]*client.Client{"keeper": keeper, "both": both}[who]
		all, err := c.Searches(ctx)
		if err != nil || len(all.Items) != want {
			t.Errorf("%s: %v, %+v", who, err, all.Items)
		}
	}
	data, err := odd.AddDataSet(ctx, wire.NewDataSet{
		Name: "quagga-rows", Project: "zebra", Address: "https://x.example",
	})
	must(t, err)
	_, err = both.Register(ctx, wire.Registration{
		Model: "warmth", Project: "heat", Note: "quag, a beginning",
		Data: []lineage.DataUse{{Data: data.Ref, Role: lineage.TrainedOn}},
	}, with(r.file("rows.csv", "x,y\n1.5,2\n2.5,3\n"), r.file("model.bin", "warm")))
	must(t, err)
	_, err = odd.AddDataSet(ctx, wire.NewDataSet{Name: "qua", Project: "zebra", Address: "https://x.example"})
	must(t, err)
	for text, want := range map[string]int{"quagga": 0, "quag": 1, "qua": 1} {
		found, err := keeper.Find(ctx, url.Values{"text": {text}}, client.Part{})
		if err != nil || len(found.Items) != want {
			t.Errorf("looking for %q: %v, %d found", text, err, len(found.Items))
		}
	}
}
