// Command ladder measures how long it takes to find out what a ladder would let pass
// today: it fills a data directory with versions that have all that gates look at, starts
// the real binary on it, and asks over the API. Beside it, in the same run, the same rows
// are only read from the database. See bench/RESULTS.md.
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/client"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/span"
	"innerladder/internal/records"
)

var (
	models   = flag.Int("models", 100, "models")
	versions = flag.Int("versions", 101, "versions of each model, one of them live")
	rounds   = flag.Int("rounds", 10, "times it is asked")
	binary   = flag.String("binary", "bin/innerladder", "the service")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		log.Fatal(err)
	}
}

func run() error {
	dir, err := os.MkdirTemp("", "innerladder-ladder-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	path := filepath.Join(dir, "ladder.db")
	s, err := records.Open(ctx, path)
	if err != nil {
		return err
	}
	if err := fill(ctx, s); err != nil {
		return err
	}
	read, err := median(*rounds, func() error {
		_, err := s.Read(records.Everything).JudgedVersions(ctx, "default",
			records.GateNeeds{
				Metrics: []string{"rmse", "mae"}, Signature: true, Card: true, Lineage: true, Needs: true,
				Evidence: true, Places: true, Trainers: true,
			})
		return err
	})
	if err != nil {
		return err
	}
	if err := s.Close(); err != nil {
		return err
	}
	h, err := house.Start(*binary, dir)
	if err != nil {
		return err
	}
	defer h.Stop()
	c := client.New(h.Server, h.Token)
	demanding := demandingLadder()
	var judged int
	whole, err := median(*rounds, func() error {
		p, err := c.TryLadder(ctx, "default", &demanding)
		judged = p.Judged
		return err
	})
	if err != nil {
		return err
	}
	now, most := h.Memory()
	fmt.Printf("%d versions judged by gates of %d requirements: %s (median of %d, over the API); only reading the "+
		"rows: %s; ratio %.2f; memory of the service %s, at most %s\n",
		judged, len(demanding.Rungs[1].Gate), whole.Round(time.Millisecond), *rounds, read.Round(time.Millisecond),
		whole.Seconds()/read.Seconds(), now, most)
	return nil
}

func median(n int, do func() error) (time.Duration, error) {
	var all []time.Duration
	for range n {
		begin := time.Now()
		if err := do(); err != nil {
			return 0, err
		}
		all = append(all, time.Since(begin))
	}
	slices.Sort(all)
	return all[n/2], nil
}

// demandingLadder has every kind of requirement in one gate.
func demandingLadder() ladder.Ladder {
	half, tenth := 0.9, 0.1
	return ladder.Ladder{
		Rungs: []ladder.Rung{{Name: "draft"}, {Name: "live", Gate: []rule.Requirement{
			{Rule: rule.ArtifactStored{}},
			{Rule: rule.MetricRecorded{}},
			{Rule: rule.Metric{Metric: "rmse", AtMost: &half}},
			{Rule: rule.Metric{Metric: "mae", NoWorseByShare: &tenth}},
			{Rule: rule.EvidenceOf{Evidence: evidence.TestsKind, NoOlder: span.Duration(1000 * time.Hour)}},
			{Rule: rule.SignOffs{Count: 2, NotTrainer: true}},
			{Rule: rule.Checklist{Items: []rule.Item{{Name: "cold", Text: "looked at the cold"}}}},
			{Rule: rule.CardSections{Sections: []string{"intended_use", "limits"}}},
			{Rule: rule.LineageComplete{Parts: []string{"data", "code"}}},
			{Rule: rule.SignatureNotBroken{}},
			{Rule: rule.NoDenied{Denied: []string{"numpy<1.22", "oldlib"}}},
			{Rule: rule.Shadowed{Requests: 1000, Disagreement: 0.01}},
			{Rule: rule.NoFreeze{}},
		}}},
		Freezes: []rule.Freeze{
			{
				Name: "nights", Zone: "Europe/Stockholm",
				Days: []string{"mon", "tue", "wed", "thu", "fri"}, From: "18:00", To: "07:00",
			},
			{Name: "holidays", Zone: "Europe/Stockholm", From: "2026-12-20 16:00", To: "2027-01-06 08:00"},
		},
	}
}

func fill(ctx context.Context, s *records.DB) error {
	r := rand.New(rand.NewPCG(1, 5))
	now := time.Now().UTC().Truncate(time.Millisecond)
	if err := s.Write(ctx, records.Everything, func(w records.View) error {
		return w.AddDataSet(ctx, &lineage.DataSet{
			Name: "winters", Project: "default", Rows: 1000, AddedBy: "runa",
			AddedAt: now,
		})
	}); err != nil {
		return err
	}
	for m := range *models {
		if err := s.Write(ctx, records.Everything, func(w records.View) error {
			return fillModel(ctx, w, r, fmt.Sprintf("model-%03d", m),
				now)
		}); err != nil {
			return err
		}
	}
	return nil
}

func fillModel(ctx context.Context, w records.View, r *rand.Rand, name string, now time.Time) error {
	if err := w.AddModel(ctx, registry.Model{
		Name: name, Project: "default", Task: registry.Regression, Owner: "runa",
		CreatedBy: "runa", CreatedAt: now,
	}); err != nil {
		return err
	}
	var columns []signature.Column
	for i := range 12 {
		columns = append(columns, signature.Column{Name: fmt.Sprintf("input_%02d", i), Type: signature.Number})
	}
	for n := range *versions {
		v := &registry.Version{
			Model: name, Digest: fmt.Sprintf("%032x%032x", r.Uint64(), r.Uint64()), Rung: "draft",
			RungSince: now, CreatedBy: "runa", CreatedAt: now,
			Metrics: map[string]float64{"rmse": r.Float64(), "mae": r.Float64()},
			Params:  map[string]string{}, Artifacts: []registry.Artifact{{
				Name:   "model.bin",
				Digest: fmt.Sprintf("%064x", r.Uint64()), Size: 1, Stored: true,
			}},
			Signature: &signature.Signature{
				Inputs:  columns[:10+r.IntN(3)],
				Outputs: []signature.Column{{Name: "y", Type: signature.Number}},
			},
			Card: &registry.Card{
				Text: "# A model\n",
				Sections: []registry.CardSection{
					{
						Kind: "intended_use", Title: "Intended use",
						Body: "the dispatch desk plans by it, hour by hour",
					},
					{Kind: "limits", Title: "Limits", Body: "not for summer"},
				},
			},
			Code: &lineage.Code{Commit: fmt.Sprintf("%040x", n)},
			Data: []lineage.DataUse{{Data: "winters#1", Role: lineage.TrainedOn}},
		}
		if n == 0 {
			v.Rung = "live"
		}
		for k := range 18 {
			v.Metrics[fmt.Sprintf("metric_%02d", k)] = r.Float64()
		}
		for k := range 10 {
			v.Dependencies = append(v.Dependencies,
				registry.Dependency{Name: fmt.Sprintf("package-%d", k), Want: "==1.2.3"})
		}
		if err := w.AddVersion(ctx, v); err != nil {
			return err
		}
		for k := range 2 {
			e := &evidence.Evidence{
				Version: v.Ref, Kind: []string{evidence.TestsKind, evidence.ShadowKind}[k],
				Name: "report", Digest: fmt.Sprintf("%064x", k), Media: "text/plain", Verdict: "passed",
				AddedBy: "runa", AddedAt: now,
			}
			if k == 1 {
				e.Shadow = &evidence.ShadowReport{Requests: uint64(r.IntN(3000)), Disagreed: uint64(r.IntN(20))}
			}
			if err := w.AddEvidence(ctx, e); err != nil {
				return err
			}
		}
	}
	return nil
}
