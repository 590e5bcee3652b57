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
	"innerladder/internal/wire"
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
// does everything wrong: 500 requests a second of theirs, alone and beside 50 of the other,
// through our gateway and through HAProxy in alternating rounds. What the wrong server and its
// callers take of the machine's processors, they take from both.
//
// The machine itself is measured by a third: the good model server asked directly, with no
// gateway before it, while the wrong traffic goes through ours. What it loses no gateway can give back.
func (b *bench) beside(c *client.Client, gateway, good, bad string, rounds int) error {
	if err := b.placeBadServer(c, bad); err != nil {
		return err
	}
	targets := []struct{ name, good, bad string }{
		{"HAProxy", "http://" + goodByHAProxy + goodPath, "http://" + badByHAProxy + badPath},
		{"Inner Ladder", gateway + goodPath, gateway + badPath},
		{"none", good + goodPath, gateway + badPath},
	}
	beside, ratios := map[string][]float64{}, map[string][]float64{}
	fmt.Printf("%-7s %-13s %10s %10s %16s\n", "round", "gateway", "p99 alone", "beside", "failed")
	for round := range rounds {
		for i := range targets {
			t := targets[(i+round)%len(targets)] // who goes first alternates
			alone, failed := b.steady(b.ctx, t.good, 500)
			ctx, stop := context.WithCancel(b.ctx)
			var others sync.WaitGroup
			others.Go(func() { b.steady(ctx, t.bad, 50) })
			time.Sleep(time.Second)
			with, failedToo := b.steady(b.ctx, t.good, 500)
			stop()
			others.Wait()
			beside[t.name] = append(beside[t.name], float64(with))
			ratios[t.name] = append(ratios[t.name], float64(with)/float64(alone))
			fmt.Printf("%-7d %-13s %10s %10s %7d and %d\n", round+1, t.name, alone.Round(time.Microsecond),
				with.Round(time.Microsecond), failed, failedToo)
			time.Sleep(2 * time.Second) // the wrong server notices that its callers have gone
		}
	}
	toHAProxy := make([]float64, rounds)
	for i := range toHAProxy {
		toHAProxy[i] = beside["Inner Ladder"][i] / beside["HAProxy"][i]
	}
	fmt.Printf("\np99 beside a server that does everything wrong, medians of the rounds' ratios: to alone %.2f "+
		"(HAProxy: %.2f; with no gateway before the good server: %.2f); to HAProxy's beside the same %.2f\n",
		median(ratios["Inner Ladder"]), median(ratios["HAProxy"]), median(ratios["none"]), median(toHAProxy))
	return nil
}

// startBadServer starts the server that does everything wrong.
func (b *bench) startBadServer() (string, error) {
	out, err := b.start("node", "-e", badServer)
	if err != nil {
		return "", err
	}
	return address(out)
}

func (b *bench) placeBadServer(c *client.Client, at string) error {
	file := filepath.Join(b.dir, "valve.bin")
	if err := os.WriteFile(file, []byte("valves"), 0o600); err != nil {
		return err
	}
	v, err := c.Register(b.ctx, wire.Registration{Model: "valve-fault"}, client.Artifacts(file))
	if err != nil {
		return err
	}
	if _, err := c.Place(b.ctx, v.Ref, "plant-north", []string{at}, ""); err != nil {
		return err
	}
	// It stands on the lowest rung, which this endpoint does with.
	if _, err := c.AddEndpoint(b.ctx,
		wire.NewEndpoint{
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
