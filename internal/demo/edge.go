package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/internal/standin"
	"innerladder/internal/wire"
)

const (
	// edgeRate is how many answers a second the controllers in the substations give.
	edgeRate = 20
	// edge is their endpoint, outThere where they are.
	edge     = "demand-edge"
	outThere = "substations"
)

// controllers have the controllers in the substations answer by themselves, with the version that they were delivered
// with: they write what they answer into a file, and an agent beside them reports it.
func (p *play) controllers(ctx, calling context.Context) error {
	if _, err := p.sif.AddEnvironment(ctx, wire.NewEnvironment{
		Name: outThere, Description: "controllers in the substations, which answer by themselves", Project: forecasting,
	}); err != nil {
		return err
	}
	const ref = "heat-demand@1"
	if _, err := p.runa.PlaceElsewhere(ctx, ref, outThere); err != nil {
		return err
	}
	if _, err := p.runa.AddEndpoint(ctx, wire.NewEndpoint{
		Name: edge, Model: "heat-demand", Environment: outThere, Description: "asked by the pumps, on the spot",
	}); err != nil {
		return err
	}
	if _, err := p.runa.Split(ctx, edge, []traffic.Lane{{Kind: traffic.Main, Version: ref, Share: traffic.Whole}},
		"the controllers were delivered with it", -1); err != nil {
		return err
	}
	file := filepath.Join(p.Data, "town", "controllers.jsonl")
	agent, err := start("agent", filepath.Join(p.Data, "logs"), "agent", edge, file, "-state",
		filepath.Join(p.Data, "agent"), "-name", "substation controllers", "-server", p.server, "-token-file",
		p.tokenFile("runa"))
	if err != nil {
		return err
	}
	p.children = append(p.children, agent)
	p.calling.Go(func() {
		if err := p.answerAtTheEdge(calling, file, ref); err != nil && calling.Err() == nil {
			fmt.Fprintf(p.Err, "the controllers could not write what they answered: %v\n", err)
		}
	})
	p.say("%s answers in the controllers of %d substations, %d times a second; an agent reports it", ref,
		substations, edgeRate)
	return nil
}

// observation is what a controller writes about an answer.
type observation struct {
	At      time.Time          `json:"at"`
	Version string             `json:"version"`
	MS      float64            `json:"ms"`
	Inputs  standin.Row        `json:"inputs"`
	Outputs map[string]float64 `json:"outputs"`
}

// answerAtTheEdge writes what the controllers answer, once a second, until ctx is done.
func (p *play) answerAtTheEdge(ctx context.Context, file, ref string) error {
	examples := p.town.demandExamples(distinctRows, winter, winter+14*24)
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	for made := 0; wait(ctx, time.Second) == nil; {
		var lines bytes.Buffer
		for range edgeRate {
			row := examples[made%len(examples)].row
			begin := time.Now()
			answer := round(p.delivered.Predict(row), 4)
			took := time.Since(begin) + time.Duration(2+made%5)*time.Millisecond/2 // a controller computes more slowly
			made++
			if err := json.NewEncoder(&lines).Encode(observation{
				At: begin.UTC(), Version: ref, MS: float64(took.Microseconds()) / 1000, Inputs: row,
				Outputs: map[string]float64{"demand_mw": answer},
			}); err != nil {
				return err
			}
		}
		if _, err := f.Write(lines.Bytes()); err != nil {
			return err
		}
	}
	return nil
}
