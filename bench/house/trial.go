package house

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// Trial does the whole job through the API of a new service: two versions of heat-demand
// come to live, are placed at the backends, and share the traffic of demand-hourly, nine to
// one. dir is for files on the way.
func Trial(ctx context.Context, c *client.Client, server, dir string, backends []string) error {
	added, err := c.AddPerson(ctx,
		wire.NewPerson{Name: "tove", Memberships: []access.Membership{{Project: "default", Role: "approver"}}})
	if err != nil {
		return err
	}
	other, err := client.ComeIn(ctx, added.Link, "", "four words of nonsense", "bench", "")
	if err != nil {
		return err
	}
	if _, err := c.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"}); err != nil {
		return err
	}
	for i, at := range backends {
		file := filepath.Join(dir, "model.bin")
		if err := os.WriteFile(file, fmt.Appendf(nil, "weights %d", i), 0o600); err != nil {
			return err
		}
		report := filepath.Join(dir, "evaluation.json")
		if err := os.WriteFile(report, []byte(`{"metrics": {"rmse": 1}}`), 0o600); err != nil {
			return err
		}
		v, err := c.Register(ctx, wire.Registration{Model: "heat-demand"},
			append(client.Artifacts(file), client.LocalFile{Part: wire.PartReport, Path: report}))
		if err != nil {
			return err
		}
		p, err := c.Promote(ctx, v.Ref, "live", "")
		if err != nil {
			return err
		}
		if _, err := client.New(server, other.Secret).Sign(ctx, p.ID, rule.Yes, ""); err != nil {
			return err
		}
		if _, err := c.Place(ctx, v.Ref, "plant-north", []string{at}, ""); err != nil {
			return err
		}
	}
	if _, err := c.AddEndpoint(ctx,
		wire.NewEndpoint{Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north"}); err != nil {
		return err
	}
	_, err = c.Split(ctx, "demand-hourly",
		[]traffic.Lane{
			{Kind: traffic.Main, Version: "heat-demand@1", Share: 9000},
			{Kind: traffic.Trial, Version: "heat-demand@2", Share: 1000},
		}, "bench", -1)
	return err
}
