package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/traffic"
	"innerladder/internal/service"
)

// badServer is ready and says what it serves; asked to infer it does one wrong thing after
// the other: hangs, dribbles, ends in the middle, sends a page, sends without end.
const badServer = `
const http = require('http');
const about = JSON.stringify({name: 'valve-fault', platform: 'bench', inputs: [], outputs: []});
let turn = 0;
const server = http.createServer((req, res) => {
  req.on('data', () => {});
  req.on('end', () => {
    if (!req.url.endsWith('/infer')) { res.end(req.url.endsWith('/ready') ? '{"ready":true}' : about); return; }
    switch (turn++ % 5) {
    case 0: return;
    case 1: { res.write('{'); const t = setInterval(() => { if (res.destroyed) clearInterval(t); else res.write(' '); }, 20); return; }
    case 2: res.writeHead(200, {'Content-Length': 1000}); res.write('{"outputs"'); setTimeout(() => res.destroy(), 5); return;
    case 3: res.end('<html>'); return;
    default: { res.write('{"outputs":[');
      const more = () => { if (res.destroyed) return; for (let i = 0; i < 4; i++) res.write('1,'.repeat(4096)); setTimeout(more, 20); }; more(); }
    }
  });
});
server.listen(0, '127.0.0.1', () => console.log('http://127.0.0.1:' + server.address().port));
`

// beside measures what callers of one endpoint notice while the model server of another
// does everything wrong: 500 requests a second of theirs, alone and beside 50 of the other.
func (b *bench) beside(c *client.Client, gateway string, rounds int) error {
	if err := b.placeBadServer(c); err != nil {
		return err
	}
	good, bad := gateway+"/v2/models/demand-hourly/infer", gateway+"/v2/models/valve-check/infer"
	var ratios []float64
	for round := range rounds {
		alone, failed := b.steady(b.ctx, good, 500)
		ctx, stop := context.WithCancel(b.ctx)
		var others sync.WaitGroup
		others.Go(func() { b.steady(ctx, bad, 50) })
		time.Sleep(time.Second)
		with, failedToo := b.steady(b.ctx, good, 500)
		stop()
		others.Wait()
		ratios = append(ratios, float64(with)/float64(alone))
		fmt.Printf("%-7d p99 alone %s, beside the other %s; %d and %d requests failed\n", round+1, alone, with, failed,
			failedToo)
	}
	slices.Sort(ratios)
	fmt.Printf("\np99 beside a server that does everything wrong, median of the rounds' ratios to alone: %.2f\n",
		ratios[len(ratios)/2])
	return nil
}

func (b *bench) placeBadServer(c *client.Client) error {
	out, err := b.start("node", "-e", badServer)
	if err != nil {
		return err
	}
	at, err := address(out)
	if err != nil {
		return err
	}
	file := filepath.Join(b.dir, "valve.bin")
	if err := os.WriteFile(file, []byte("valves"), 0o600); err != nil {
		return err
	}
	v, err := c.Register(b.ctx, service.Registration{Model: "valve-fault"}, client.Artifacts(file))
	if err != nil {
		return err
	}
	if _, err := c.Place(b.ctx, v.Ref, "plant-north", []string{at}, ""); err != nil {
		return err
	}
	// It stands on the lowest rung, which this endpoint does with.
	if _, err := c.AddEndpoint(b.ctx,
		service.NewEndpoint{
			Name: "valve-check", Model: "valve-fault", Environment: "plant-north",
			Rung: "draft",
		}); err != nil {
		return err
	}
	_, err = c.Split(b.ctx, "valve-check", []traffic.Lane{{Kind: traffic.Main, Version: v.Ref, Share: traffic.Whole}},
		"bench", -1)
	return err
}

// steady sends so many requests a second, each on its own time, for the length of a round or
// until ctx is done.
func (b *bench) steady(ctx context.Context, url string, rate int) (p99 time.Duration, failed int) {
	h := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	ctx, stop := context.WithTimeout(ctx, b.length)
	defer stop()
	tick := time.NewTicker(time.Second / time.Duration(rate))
	defer tick.Stop()
	var mu sync.Mutex
	var took []time.Duration
	var all sync.WaitGroup
	for ctx.Err() == nil {
		<-tick.C
		all.Go(func() {
			begin := time.Now()
			req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, strings.NewReader(tensor(1, 4)))
			if err != nil {
				return
			}
			res, err := h.Do(req)
			if err == nil {
				_, _ = io.Copy(io.Discard, res.Body)
				_ = res.Body.Close()
			}
			if ctx.Err() != nil {
				return // the end of the round says nothing of it
			}
			mu.Lock()
			defer mu.Unlock()
			took = append(took, time.Since(begin))
			if err != nil || res.StatusCode != http.StatusOK {
				failed++
			}
		})
	}
	all.Wait()
	slices.Sort(took)
	if len(took) == 0 {
		return 0, failed
	}
	return took[len(took)*99/100], failed
}
