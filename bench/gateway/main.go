// Command gateway measures our gateway beside HAProxy doing a plain weighted split, both
// in front of the same model servers, with wrk, in alternating rounds of one run.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/client"
	"innerladder/internal/core/traffic"
)

func main() {
	rounds := flag.Int("rounds", 5, "`N` rounds of each")
	length := flag.Duration("length", 8*time.Second, "`DURATION` of a round")
	connections := flag.Int("connections", 64, "`N` connections of wrk")
	body := flag.String("body", "1x4", "`SIZE` of the requests: 1x4 or 16x40 numbers, or 1MB")
	node := flag.Bool("node", false, "model servers are Node's instead of ours")
	splits := flag.Int("splits", 0,
		"`N`: change the split so often while 5 000 requests a second flow, instead of rounds")
	beside := flag.Bool("beside", false,
		"measure one endpoint while the model server of another does everything wrong, instead of rounds "+
			"beside HAProxy")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	b := &bench{
		ctx: ctx, length: *length, connections: *connections, body: *body, node: *node, wrong: *beside,
		pids: map[string]int{},
	}
	err := b.run(*rounds, *splits)
	b.close()
	stop()
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

type bench struct {
	ctx         context.Context
	dir         string
	length      time.Duration
	connections int
	body        string
	node        bool
	wrong       bool
	children    []*exec.Cmd
	// pids are the processes of the programs, by their names.
	pids   map[string]int
	script string
}

func (b *bench) close() {
	for _, c := range slices.Backward(b.children) {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
	}
	_ = os.RemoveAll(b.dir)
}

// start starts a program and returns a reader of what it prints.
func (b *bench) start(name string, args ...string) (*bufio.Reader, error) {
	c := exec.Command(name, args...)
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := c.Start(); err != nil {
		return nil, fmt.Errorf("starting %s: %w", name, err)
	}
	b.children = append(b.children, c)
	b.pids[filepath.Base(name)] = c.Process.Pid
	return bufio.NewReader(out), nil
}

// address reads the last word of the next line.
func address(r *bufio.Reader) (string, error) {
	line, err := r.ReadString('\n')
	if err != nil {
		return "", err
	}
	words := strings.Fields(line)
	return words[len(words)-1], nil
}

// request makes a body of so many rows of so many columns, or one of about a megabyte.
func request(size string) (string, error) {
	switch size {
	case "1x4":
		return tensor(1, 4), nil
	case "16x40":
		return tensor(16, 40), nil
	case "1MB":
		return tensor(1000, 125), nil
	}
	return "", fmt.Errorf("-body %q: use 1x4, 16x40 or 1MB", size)
}

func tensor(rows, columns int) string {
	var b strings.Builder
	b.WriteString(`{"inputs":[`)
	for c := range columns {
		if c > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `{"name":"x%d","shape":[%d],"datatype":"FP64","data":[-3.5`, c, rows)
		for r := 1; r < rows; r++ {
			fmt.Fprintf(&b, ",%d.25", 100+r%900)
		}
		b.WriteString("]}")
	}
	return b.String() + "]}"
}

func (b *bench) run(rounds, splits int) (err error) {
	if b.dir, err = os.MkdirTemp("", "innerladder-bench-"); err != nil {
		return err
	}
	backends, err := b.startBackends()
	if err != nil {
		return err
	}
	bad := backends[0]
	if b.wrong {
		if bad, err = b.startBadServer(); err != nil {
			return err
		}
	}
	proxy, err := b.startHAProxy(append(backends, bad))
	if err != nil {
		return err
	}
	ours, c, err := b.startOurs(backends)
	if err != nil {
		return err
	}
	b.script = filepath.Join(b.dir, "post.lua")
	body, err := request(b.body)
	if err != nil {
		return err
	}
	lua := fmt.Sprintf("wrk.method = 'POST'\nwrk.headers['Content-Type'] = 'application/json'\nwrk.body = '%s'\n", body)
	if err := os.WriteFile(b.script, []byte(lua), 0o600); err != nil {
		return err
	}
	if b.wrong {
		return b.beside(c, ours, backends[0], bad, rounds)
	}
	if splits > 0 {
		return b.changeSplits(c, ours+goodPath, splits)
	}
	return b.byTurns(c, []target{
		{"HAProxy", proxy + goodPath, b.pids["haproxy"]}, {"Inner Ladder", ours + goodPath, b.pids["innerladder"]},
	}, rounds)
}

// target is a gateway that is measured.
type target struct {
	name, url string
	pid       int
}

// byTurns measures two gateways, one after the other, in rounds.
func (b *bench) byTurns(c *client.Client, targets []target, rounds int) error {
	for _, t := range targets { // warm up both
		if _, err := b.wrk(t.url, 2*time.Second); err != nil {
			return fmt.Errorf("%s: %w", t.name, err)
		}
	}
	fmt.Printf("%-7s %-13s %12s %10s %10s %14s\n", "round", "gateway", "requests/s", "p50", "p99", "CPU/request")
	results := map[string][]measured{}
	var sent uint64
	time.Sleep(3 * time.Second)
	before, err := c.EndpointNow(b.ctx, "demand-hourly")
	if err != nil {
		return err
	}
	for round := range rounds {
		for i := range targets {
			t := targets[(i+round)%2] // who goes first alternates
			used := worked(t.pid)
			m, err := b.wrk(t.url, b.length)
			if err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			m.work = (worked(t.pid) - used) / time.Duration(m.requests)
			if t.name == "Inner Ladder" {
				sent += m.requests
			}
			results[t.name] = append(results[t.name], m)
			fmt.Printf("%-7d %-13s %12.0f %10s %10s %14s\n", round+1, t.name, m.rate, m.p50, m.p99, m.work)
		}
	}
	time.Sleep(3 * time.Second) // counts are those of whole seconds that are over
	after, err := c.EndpointNow(b.ctx, "demand-hourly")
	if err != nil {
		return err
	}
	observed := uint64(0)
	for i := range after.Lanes {
		observed += after.Lanes[i].Requests - before.Lanes[i].Requests
	}
	fmt.Printf("\nthroughput, median of the rounds' ratios to HAProxy: %.2f\np99, median of the rounds' ratios to "+
		"HAProxy:        %.2f\n",
		ratio(results["Inner Ladder"], results["HAProxy"], func(m measured) float64 { return m.rate }),
		ratio(results["Inner Ladder"], results["HAProxy"], func(m measured) float64 { return float64(m.p99) }))
	// wrk counts what came back before it stopped, we count what was answered.
	fmt.Printf("requests that wrk counted: %d; observed by Inner Ladder: %d (%.3f %%)\n", sent, observed,
		100*float64(observed)/float64(sent))
	if observed < sent {
		return fmt.Errorf("%d requests went unobserved", sent-observed)
	}
	return nil
}

// ratio is the median of the ratios of rounds that ran one after the other: a machine
// that is shared changes its speed from minute to minute, but less from one round to the
// next.
func ratio(ours, theirs []measured, of func(measured) float64) float64 {
	values := make([]float64, len(ours))
	for i := range ours {
		values[i] = of(ours[i]) / of(theirs[i])
	}
	return median(values)
}

func median(values []float64) float64 {
	slices.Sort(values)
	return values[len(values)/2]
}

// nodeServer answers like bench/backend, from Node's own server.
const nodeServer = `
const http = require('http');
const answer = JSON.stringify({model_name: 'heat-demand', model_version: '1', outputs: [{name: 'demand_mw', shape: [1], datatype: 'FP64', data: [1.0625]}]});
const about = JSON.stringify({name: 'heat-demand', platform: 'bench', inputs: [{name: 'outdoor_c', datatype: 'FP64', shape: [-1]}], outputs: [{name: 'demand_mw', datatype: 'FP64', shape: [-1]}]});
const server = http.createServer((req, res) => {
  req.on('data', () => {});
  req.on('end', () => { res.setHeader('Content-Type', 'application/json'); res.end(req.url.endsWith('/infer') ? answer : req.url.endsWith('/ready') ? '{"ready":true}' : about); });
});
server.listen(0, '127.0.0.1', () => console.log('http://127.0.0.1:' + server.address().port));
`

// changeSplits changes the split again and again while 5 000 requests a second flow, and
// says how long each took to be in force.
func (b *bench) changeSplits(c *client.Client, url string, n int) error {
	ctx, stop := context.WithCancel(b.ctx)
	defer stop()
	var asked, failed atomic.Int64
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			tick := time.NewTicker(10 * time.Millisecond)
			defer tick.Stop()
			h := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 1}}
			for {
				select {
				case <-tick.C:
				case <-ctx.Done():
					return
				}
				res, err := h.Post(url, "application/json", strings.NewReader(tensor(1, 4)))
				asked.Add(1)
				if err != nil || res.StatusCode != http.StatusOK {
					failed.Add(1)
				}
				if err == nil {
					_, _ = io.Copy(io.Discard, res.Body)
					_ = res.Body.Close()
				}
			}
		})
	}
	time.Sleep(2 * time.Second)
	begin, before := time.Now(), asked.Load()
	var took []time.Duration
	for i := range n {
		share := 500 + 10*(i%900)
		start := time.Now()
		if _, err := c.Split(b.ctx, "demand-hourly",
			[]traffic.Lane{
				{Kind: traffic.Main, Version: "heat-demand@1", Share: traffic.Whole - share},
				{Kind: traffic.Trial, Version: "heat-demand@2", Share: share},
			}, "bench", -1); err != nil {
			return err
		}
		took = append(took, time.Since(start))
		time.Sleep(50 * time.Millisecond)
	}
	rate := float64(asked.Load()-before) / time.Since(begin).Seconds()
	stop()
	all.Wait()
	slices.Sort(took)
	fmt.Printf("%d splits while %.0f requests a second flowed: in force after %s (median), %s (99 of 100); %d of %d "+
		"requests failed\n",
		n, rate, took[n/2], took[n*99/100], failed.Load(), asked.Load())
	return nil
}

// startBackends starts two model servers.
func (b *bench) startBackends() (addresses []string, err error) {
	program, args := "node", []string{"-e", nodeServer}
	if !b.node {
		program, args = filepath.Join(b.dir, "backend"), nil
		if out, err := exec.Command("go", "build", "-o", program, "./bench/backend").CombinedOutput(); err != nil {
			return nil, fmt.Errorf("building the backend: %w\n%s", err, out)
		}
	}
	for range 2 {
		out, err := b.start(program, args...)
		if err != nil {
			return nil, err
		}
		a, err := address(out)
		if err != nil {
			return nil, err
		}
		addresses = append(addresses, a)
	}
	return addresses, nil
}

const haproxyConfig = `global
  maxconn 4096
defaults
  mode http
  option http-keep-alive
  http-reuse always
  timeout connect 5s
  timeout client 60s
  timeout server 60s
listen split
  bind %s
  balance random
  server one %s weight 90 check
  server two %s weight 10 check
listen other
  bind %s
  server bad %s
`

// Where HAProxy listens, and the paths of both endpoints.
const (
	goodByHAProxy = "127.0.0.1:7599"
	badByHAProxy  = "127.0.0.1:7598"
	goodPath      = "/v2/models/demand-hourly/infer"
	badPath       = "/v2/models/valve-check/infer"
)

// startHAProxy starts it before two model servers, and a third of an endpoint of its own.
func (b *bench) startHAProxy(backends []string) (string, error) {
	config := filepath.Join(b.dir, "haproxy.cfg")
	text := fmt.Sprintf(haproxyConfig, goodByHAProxy, strings.TrimPrefix(backends[0], "http://"),
		strings.TrimPrefix(backends[1], "http://"), badByHAProxy, strings.TrimPrefix(backends[2], "http://"))
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		return "", err
	}
	if _, err := b.start("haproxy", "-q", "-f", config); err != nil {
		return "", err
	}
	for range 100 {
		if res, err := http.Get("http://" + goodByHAProxy + "/v2/health/ready"); err == nil {
			_ = res.Body.Close()
			return "http://" + goodByHAProxy, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return "", fmt.Errorf("HAProxy does not answer at %s", goodByHAProxy)
}

// startOurs starts the real service and does the whole job through its API, so that the
// gateway runs exactly as it would.
func (b *bench) startOurs(backends []string) (gateway string, c *client.Client, err error) {
	data := filepath.Join(b.dir, "data")
	out, err := b.start("./bin/innerladder", "serve", "-data", data, "-listen", "127.0.0.1:0", "-gateway",
		"127.0.0.1:0", "-log", "error")
	if err != nil {
		return "", nil, err
	}
	api, err := address(out)
	if err != nil {
		return "", nil, err
	}
	if gateway, err = address(out); err != nil {
		return "", nil, err
	}
	link, err := address(out)
	if err != nil {
		return "", nil, err
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	token, err := house.Token(data, link)
	if err != nil {
		return "", nil, err
	}
	c = client.New(api, token)
	return gateway, c, house.Trial(b.ctx, c, api, b.dir, backends)
}

// measured is what wrk found in one round.
type measured struct {
	requests uint64
	rate     float64
	p50, p99 time.Duration
	// work is how long a processor worked in the gateway for a request.
	work time.Duration
}

// worked is how long processors have worked for a process.
func worked(pid int) time.Duration {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, after, _ := strings.Cut(string(b), ") ")
	fields := strings.Fields(after)
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond
}

var (
	rateLine     = regexp.MustCompile(`Requests/sec:\s+([0-9.]+)`)
	requestsLine = regexp.MustCompile(`(\d+) requests in`)
	quantileLine = regexp.MustCompile(`(50|99)%\s+([0-9.]+)(us|ms|s)`)
	errorLine    = regexp.MustCompile(`Non-2xx or 3xx responses: (\d+)|Socket errors: (.*)`)
)

func (b *bench) wrk(url string, length time.Duration) (measured, error) {
	out, err := exec.CommandContext(b.ctx, "wrk", "-t2", "-c"+strconv.Itoa(b.connections),
		fmt.Sprintf("-d%ds", int(length.Seconds())), "--latency", "-s", b.script, url).CombinedOutput()
	if err != nil {
		return measured{}, fmt.Errorf("wrk: %w\n%s", err, out)
	}
	if bad := errorLine.FindString(string(out)); bad != "" {
		return measured{}, fmt.Errorf("wrk: %s", bad)
	}
	var m measured
	if found := rateLine.FindSubmatch(out); found != nil {
		_ = json.Unmarshal(found[1], &m.rate)
	}
	if found := requestsLine.FindSubmatch(out); found != nil {
		_ = json.Unmarshal(found[1], &m.requests)
	}
	for _, q := range quantileLine.FindAllStringSubmatch(string(out), -1) {
		d, err := time.ParseDuration(q[2] + q[3])
		if err != nil {
			return m, err
		}
		if q[1] == "50" {
			m.p50 = d
		} else {
			m.p99 = d
		}
	}
	return m, nil
}
