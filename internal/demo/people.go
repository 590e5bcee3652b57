package demo

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/wire"
)

// The projects, which are teams.
const (
	forecasting = "forecasting"
	maintenance = "maintenance"
)

// cast says who there is besides sif, who comes first and keeps the service.
var cast = []struct {
	name  string
	roles []access.Membership
}{
	// runa belongs to the forecasting team: she registers, asks, and runs the traffic.
	{"runa", []access.Membership{
		{Project: forecasting, Role: "author"},
		{Project: forecasting, Role: "operator"},
		{Project: maintenance, Role: "author"},
		{Project: maintenance, Role: "operator"},
	}},
	// tove runs the dispatch desk and signs.
	{"tove", []access.Membership{
		{Project: forecasting, Role: "approver"},
		{Project: forecasting, Role: "operator"},
		{Project: forecasting, Role: "keeper"},
		{Project: maintenance, Role: "approver"},
	}},
	// odd reads about heat and knows nothing of valves.
	{"odd", []access.Membership{{Project: forecasting, Role: "reader"}}},
}

// invite makes sif the first owner by the link that the service printed.
func (p *play) invite(ctx context.Context, link string) error {
	p.password = rand.Text()[:16]
	t, err := client.ComeIn(ctx, link, "sif", p.password, "the demo", "")
	if err != nil {
		return err
	}
	p.sif = client.New(p.server, t.Secret)
	return p.keep("sif", t.Secret)
}

// keep writes down how to sign in.
func (p *play) keep(name, token string) error {
	if err := os.WriteFile(filepath.Join(p.Data, "people", "password"), []byte(p.password+"\n"), 0o600); err != nil {
		return err
	}
	return os.WriteFile(p.tokenFile(name), []byte(token+"\n"), 0o600)
}

// admit adds everybody else with their roles, and lets them in by their links.
func (p *play) admit(ctx context.Context) error {
	if _, err := p.sif.PutRole(ctx, "keeper", []string{"prune"}, "retires what nobody needs"); err != nil {
		return err
	}
	for _, c := range cast {
		added, err := p.sif.AddPerson(ctx,
			wire.NewPerson{Name: c.name, Email: c.name + "@tarnholm.example", Memberships: c.roles})
		if err != nil {
			return err
		}
		t, err := client.ComeIn(ctx, added.Link, "", p.password, "the demo", "")
		if err != nil {
			return err
		}
		as := client.New(p.server, t.Secret)
		switch c.name {
		case "runa":
			p.runa = as
		case "tove":
			p.tove = as
		}
		if err := p.keep(c.name, t.Secret); err != nil {
			return err
		}
	}
	if _, err := p.sif.SetLadder(ctx, forecasting, ladderOf(time.Now()),
		"what the dispatch desk wants to see before it plans by a model", -1); err != nil {
		return err
	}
	if _, err := p.sif.AddPerson(ctx,
		wire.NewPerson{
			Name: "nightly", Robot: true,
			Memberships: []access.Membership{{Project: forecasting, Role: "author"}},
		}); err != nil {
		return err
	}
	_, err := p.sif.MakeToken(ctx,
		wire.NewToken{
			Title: "nightly training", Robot: "nightly",
			Scope: access.Scope{Permissions: []access.Permission{access.Register}},
		})
	return err
}

// talk is what people say about what happened, so that there is something to read.
func (p *play) talk(ctx context.Context) error {
	happened, err := p.tove.Activity(ctx, forecasting, "demand-hourly", client.Part{Limit: 50})
	if err != nil {
		return err
	}
	for _, h := range happened.Items {
		if h.Kind != "alert.raised" {
			continue
		}
		if _, err := p.tove.Comment(ctx, h.Seq, "",
			"Nobody at the desk noticed, so nothing was lost. @runa what did it predict?"); err != nil {
			return err
		}
		if _, err := p.runa.Comment(ctx, h.Seq, "",
			"Summer, in January: it was fitted on Fahrenheit. The offline numbers could not show it, the test rows "+
				"have the same fault."); err != nil {
			return err
		}
		break
	}
	if _, err := p.runa.Comment(ctx, 0, "heat-demand@2",
		"@tove the morning peak is closer now, see Tuesday."); err != nil {
		return err
	}
	cause := "It was fitted on Fahrenheit: the new weather feed does not say its unit."
	if _, err := p.runa.HandleIncident(ctx, "I-1", wire.HandleIncident{
		Cause: &cause,
		FollowUp: &wire.NewFollowUp{
			Text: "the weather feed says its unit", Who: "runa",
			Due: time.Now().AddDate(0, 0, 14).Format(time.DateOnly),
		},
	}); err != nil {
		return err
	}
	if _, err := p.tove.HandleIncident(ctx, "I-1",
		wire.HandleIncident{Note: "Nobody at the desk noticed, so nothing was lost."}); err != nil {
		return err
	}
	_, err = p.tove.SaveSearch(ctx, "traffic in the last day", map[string]string{"kind": "split", "within": "24h"},
		true)
	return err
}

// giveKeys gives the maintenance app a key: its endpoint answers nobody else.
func (p *play) giveKeys(ctx context.Context) error {
	k, err := p.runa.AddCaller(ctx, "valve-check", "maintenance-app")
	if err != nil {
		return fmt.Errorf("giving a key: %w", err)
	}
	p.key = k.Key
	return nil
}
