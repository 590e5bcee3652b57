// Command wayback measures how soon a bad version gets no more requests: it runs the real service in front of two
// model servers of its own, lets one of them fail from one moment to the next while requests flow, and takes the times
// of the first bad answer, of the guard's decision, and of the last request that reached the bad server.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"

	"github.com/valyala/fasthttp"
)

func main() {
	rounds := flag.Int("rounds", 20, "`NUMBER` of times that a version fails and is rolled back")
	rate := flag.Int("rate", 500, "`REQUESTS` a second, half of them to the version on trial")
	flag.Parse()
	if err := run(*rounds, *rate); err != nil {
		log.Fatal(err)
	}
}

// server is a model server that can be told to fail, and remembers when it did so first and when it was asked last.
type server struct {
	url         string
	failing     atomic.Bool
	first, last atomic.Int64
}

func start() (*server, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &server{url: "http://" + l.Addr().String()}
	go func() {
		_ = fasthttp.Serve(l, func(c *fasthttp.RequestCtx) {
			c.SetContentType("application/json")
			switch path := string(c.Path()); {
			case strings.HasSuffix(path, "/ready"):
				c.SetBodyString(`{"ready":true}`)
			case !strings.HasSuffix(path, "/infer"):
				c.SetBodyString(`{"name":"heat-demand","platform":"bench",` +
					`"inputs":[{"name":"outdoor_c","datatype":"FP64","shape":[-1]}],` +
					`"outputs":[{"name":"demand_mw","datatype":"FP64","shape":[-1]}]}`)
			case s.failing.Load():
				now := time.Now().UnixNano()
				s.last.Store(now)
				s.first.CompareAndSwap(0, now)
				c.SetStatusCode(500)
				c.SetBodyString(`{"error":"told to fail"}`)
			default:
				c.SetBodyString(`{"model_name":"heat-demand","outputs":[` +
					`{"name":"demand_mw","shape":[1],"datatype":"FP64","data":[1.0625]}]}`)
			}
		})
	}()
	return s, nil
}

func run(rounds, rate int) error {
	dir, err := os.MkdirTemp("", "wayback")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	binary := filepath.Join(dir, "innerladder")
	if out, err := exec.Command("go", "build", "-o", binary, "./cmd/innerladder").CombinedOutput(); err != nil {
		return fmt.Errorf("building the service: %w\n%s", err, out)
	}
	good, err := start()
	if err != nil {
		return err
	}
	bad, err := start()
	if err != nil {
		return err
	}
	h, err := open(binary, dir)
	if err != nil {
		return err
	}
	defer h.stop()
	ctx := context.Background()
	if err := house.Trial(ctx, h.runa, h.server, dir, []string{good.url, bad.url}); err != nil {
		return err
	}
	stop := calling(h.gateway, rate)
	defer stop()
	var decided, last []time.Duration
	for i := range rounds {
		d, l, err := h.round(ctx, bad, i)
		if err != nil {
			return fmt.Errorf("round %d: %w", i+1, err)
		}
		decided, last = append(decided, d), append(last, l)
	}
	slices.Sort(decided)
	slices.Sort(last)
	fmt.Printf("%d rollbacks at %d requests a second: from the first bad answer to the decision %s (median), %s at "+
		"most; from the decision to the last request that reached the bad server %s (median), %s at most\n", rounds,
		rate, decided[rounds/2].Round(time.Millisecond), decided[rounds-1].Round(time.Millisecond),
		last[rounds/2].Round(100*time.Microsecond), last[rounds-1].Round(100*time.Microsecond))
	return nil
}

// service is the real one, with what it says of guards.
type service struct {
	cmd             *exec.Cmd
	server, gateway string
	runa, tove      *client.Client
	fired           chan time.Time
}

func open(binary, dir string) (*service, error) {
	h := &service{fired: make(chan time.Time, 16)}
	h.cmd = exec.Command(binary, "serve", "-data", filepath.Join(dir, "data"), "-listen", "127.0.0.1:0", "-gateway",
		"127.0.0.1:0", "-log", "warn")
	out, err := h.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	said, err := h.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := h.cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		for s := bufio.NewScanner(said); s.Scan(); {
			var line struct {
				Time time.Time
				Msg  string
			}
			if json.Unmarshal(s.Bytes(), &line) == nil && line.Msg == "a guard fired" {
				h.fired <- line.Time
			}
		}
	}()
	var lines []string
	for s := bufio.NewScanner(out); len(lines) < 3 && s.Scan(); {
		lines = append(lines, s.Text()[strings.LastIndex(s.Text(), " ")+1:])
	}
	if len(lines) < 3 {
		return nil, fmt.Errorf("the service said only %q", lines)
	}
	h.server, h.gateway = lines[0], lines[1]
	token, err := house.Token(dir, lines[2])
	if err != nil {
		return nil, err
	}
	h.runa = client.New(h.server, token)
	added, err := h.runa.AddPerson(context.Background(),
		wire.NewPerson{Name: "kari", Memberships: []access.Membership{{Project: "default", Role: "approver"}}})
	if err != nil {
		return nil, err
	}
	other, err := client.ComeIn(context.Background(), added.Link, "", "four words of nonsense", "bench", "")
	h.tove = client.New(h.server, other.Secret)
	return h, err
}

func (h *service) stop() {
	_ = h.cmd.Process.Signal(syscall.SIGTERM)
	_ = h.cmd.Wait()
}

// round has the version on trial fail at some moment of a second, and waits until it gets no more requests.
func (h *service) round(ctx context.Context, bad *server, i int) (decided, last time.Duration, err error) {
	if i > 0 { // it stepped down
		p, err := h.runa.Promote(ctx, "heat-demand@2", "live", "")
		if err != nil {
			return 0, 0, err
		}
		if _, err := h.tove.Sign(ctx, p.ID, rule.Yes, ""); err != nil {
			return 0, 0, err
		}
	}
	if _, err := h.runa.Split(ctx, "demand-hourly", []traffic.Lane{
		{Kind: traffic.Main, Version: "heat-demand@1", Share: 5000},
		{Kind: traffic.Trial, Version: "heat-demand@2", Share: 5000},
	}, "bench", -1); err != nil {
		return 0, 0, err
	}
	time.Sleep(4*time.Second + time.Duration(i*137%1000)*time.Millisecond)
	bad.first.Store(0)
	bad.failing.Store(true)
	defer bad.failing.Store(false)
	select {
	case at := <-h.fired:
		time.Sleep(2 * time.Second)
		return at.Sub(time.Unix(0, bad.first.Load())), time.Unix(0, bad.last.Load()).Sub(at), nil
	case <-time.After(30 * time.Second):
		return 0, 0, fmt.Errorf("no guard fired")
	}
}

// calling asks so many times a second, evenly, until it is stopped.
func calling(gateway string, rate int) (stop func()) {
	done := make(chan struct{})
	var all sync.WaitGroup
	c := &fasthttp.HostClient{Addr: strings.TrimPrefix(gateway, "http://"), MaxConns: 256}
	const callers = 20
	for n := range callers {
		all.Go(func() {
			pace := time.Second * callers / time.Duration(rate)
			time.Sleep(pace * time.Duration(n) / callers)
			tick := time.NewTicker(pace)
			defer tick.Stop()
			for i := 0; ; i++ {
				select {
				case <-done:
					return
				case <-tick.C:
				}
				req, res := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
				req.SetRequestURI(gateway + "/v2/models/demand-hourly/infer")
				req.Header.SetMethod("POST")
				req.SetBodyString(fmt.Sprintf(
					`{"inputs":[{"name":"outdoor_c","shape":[1],"datatype":"FP64","data":[%d.%d]}]}`, n, i))
				_ = c.Do(req, res)
				fasthttp.ReleaseRequest(req)
				fasthttp.ReleaseResponse(res)
			}
		})
	}
	return func() { close(done); all.Wait() }
}
