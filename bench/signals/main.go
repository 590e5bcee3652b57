// Command signals measures what it costs to keep and to read what was measured: it fills
// signals.db as a busy endpoint would within 30 days, starts the real service on it in the
// middle of a trial, and asks over the API. See bench/RESULTS.md.
package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/client"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

var (
	binary = flag.String("binary", "bin/innerladder", "the service")
	rounds = flag.Int("rounds", 30, "times each question is asked")
	rate   = flag.Int("rate", 200, "requests a second of each lane")
	two    = flag.Bool("two", false, "two lanes instead of five")
)

const gateway = "127.0.0.1:7598"

func main() {
	flag.Parse()
	if err := run(context.Background()); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "innerladder-signals-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	backend := filepath.Join(dir, "backend")
	if out, err := exec.Command("go", "build", "-o", backend, "./bench/backend").CombinedOutput(); err != nil {
		return fmt.Errorf("building the backend: %w\n%s", err, out)
	}
	var addresses []string
	for range 2 {
		address, stop, err := start(backend)
		if err != nil {
			return err
		}
		defer stop()
		addresses = append(addresses, address)
	}
	data := filepath.Join(dir, "data")
	h, err := house.Start(*binary, data)
	if err != nil {
		return err
	}
	err = house.Trial(ctx, client.New(h.Server, h.Token), h.Server, dir, addresses)
	h.Stop()
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	if err := fill(ctx, filepath.Join(data, "signals.db"), now); err != nil {
		return err
	}
	return ask(ctx, data)
}

// start starts a program that prints an address at the end of its first line.
func start(name string, args ...string) (address string, stop func(), err error) {
	cmd := exec.Command(name, args...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() }
	line, err := bufio.NewReader(out).ReadString('\n')
	words := strings.Fields(line)
	if err != nil || len(words) == 0 {
		stop()
		return "", nil, fmt.Errorf("%s said nothing: %w", name, err)
	}
	return words[len(words)-1], stop, nil
}

// columns is how many inputs the endpoint has, besides its output.
const columns = 8

// summary makes what a lane did in a while: n requests, of which so many bodies were read.
func summary(dice *rand.Rand, n, bodies int) *sketch.Summary {
	s := &sketch.Summary{}
	for range n {
		total := time.Duration(2e6 * (1 + dice.ExpFloat64()))
		s.Add(sketch.Answered, total, total*9/10)
	}
	s.Content.Inputs, s.Content.Outputs = map[string]*sketch.Column{}, map[string]*sketch.Column{}
	for c := range columns + 1 {
		column := sketch.NewColumn(bins())
		for range bodies {
			column.AddNumber(dice.NormFloat64())
		}
		if c == columns {
			s.Content.Outputs["demand_mw"] = column
		} else {
			s.Content.Inputs[fmt.Sprintf("x%d", c)] = column
		}
	}
	for range bodies {
		s.Content.Distinct.AddHash(dice.Uint64())
	}
	s.Content.Bodies, s.Content.Rows = uint64(bodies), uint64(bodies)
	return s
}

func bins() sketch.Bins {
	b := sketch.Bins{}
	for i := range sketch.MostBins + 1 {
		b.Edges = append(b.Edges, -2+0.2*float64(i))
	}
	return b
}

// fill writes 30 days of all lanes: by the hour, and the last three days by the minute.
func fill(ctx context.Context, path string, now time.Time) error {
	s, err := signals.Open(ctx, path)
	if err != nil {
		return err
	}
	defer s.Close()
	begin := time.Now()
	dice := rand.New(rand.NewPCG(2026, 11))
	byMinute := now.Truncate(time.Hour).Add(-72 * time.Hour)
	if err := s.Write(ctx, before(dice, now, byMinute)); err != nil {
		return err
	}
	wide := size(path)
	n, err := fillMinutes(ctx, s, dice, byMinute, now.Add(-time.Minute))
	if err != nil {
		return err
	}
	written, grown := time.Since(begin), float64(size(path)-wide)
	begin = time.Now()
	for more := true; more; {
		if more, err = s.Roll(ctx, now); err != nil {
			return err
		}
	}
	requests := float64(n) * 60 * float64(*rate) / 1e6
	fmt.Printf("written: %d minutes of lanes in %s; rolled up to hours and days in %s\n",
		n, written.Round(time.Second), time.Since(begin).Round(time.Millisecond))
	fmt.Printf("growth: %.1f KiB a minute of a lane with %d inputs at %d requests a second, "+
		"%.2f MiB per million requests while minutes are kept\n", grown/float64(n)/1024, columns, *rate,
		grown/requests/(1<<20))
	return nil
}

// lanes are those of the endpoint, all of them busy all the time.
func lanes() (out []signals.Key) {
	main := signals.Key{Endpoint: "demand-hourly", Lane: "main", Version: "heat-demand@1"}
	trial := signals.Key{Endpoint: "demand-hourly", Lane: "trial", Version: "heat-demand@2"}
	for split := 1; split <= 3; split++ {
		main.Split, trial.Split = split, split
		out = append(out, main, trial)
	}
	if *two {
		return out[:2]
	}
	return out[1:] // five
}

// before is what was there before the last three days: bins, hours, and what is known of the
// trial.
func before(dice *rand.Rand, now, until time.Time) (b signals.Batch) {
	for c := range columns + 1 {
		column := signals.Column{Endpoint: "demand-hourly", Side: signals.Input, Name: fmt.Sprintf("x%d", c)}
		if c == columns {
			column.Side, column.Name = signals.Output, "demand_mw"
		}
		b.Bins = append(b.Bins, signals.FixedBins{Column: column, Source: "bench", Bins: bins()})
	}
	var hours []*sketch.Summary
	for range 6 {
		hours = append(hours, summary(dice, 20_000, 20_000))
	}
	for at := now.Truncate(24 * time.Hour).Add(-30 * 24 * time.Hour); at.Before(until); at = at.Add(time.Hour) {
		for _, k := range lanes() {
			sum := hours[dice.IntN(len(hours))]
			b.Windows = append(b.Windows, signals.Window{Key: k, Level: signals.Hour, At: at, Summary: sum})
		}
	}
	pair := guard.TrialPair{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 1}
	for _, version := range []string{pair.Incumbent, pair.Candidate} {
		e := signals.Evidence{Endpoint: "demand-hourly", Trial: pair, Version: version}
		for range 100 {
			e.Counts = e.Counts.Plus(hours[0].Counts)
			e.Content.Merge(&hours[0].Content)
		}
		b.Evidence = append(b.Evidence, e)
	}
	return b
}

// fillMinutes writes all lanes by the minute, and returns how many minutes those were.
func fillMinutes(ctx context.Context, s *signals.Store, dice *rand.Rand, from, to time.Time) (n int, err error) {
	var minutes []*sketch.Summary
	for range 24 {
		minutes = append(minutes, summary(dice, 60**rate, min(60**rate, 60*250)))
	}
	var b signals.Batch
	for at := from; at.Before(to); at = at.Add(time.Minute) {
		for _, k := range lanes() {
			b.Windows = append(b.Windows, signals.Window{Key: k, At: at, Summary: minutes[dice.IntN(len(minutes))]})
		}
		if last := !at.Add(time.Minute).Before(to); at.Minute() == 59 || last {
			if err := s.Write(ctx, b); err != nil {
				return n, err
			}
			n += len(b.Windows)
			b = signals.Batch{}
		}
	}
	return n, nil
}

func size(path string) (n int64) {
	for _, end := range []string{"", "-wal"} {
		if info, err := os.Stat(path + end); err == nil {
			n += info.Size()
		}
	}
	return n
}

// ask starts the service in the middle of the trial, and asks what the console asks.
func ask(ctx context.Context, data string) error {
	token, err := os.ReadFile(filepath.Join(data, "bench-token"))
	if err != nil {
		return err
	}
	var first []time.Duration
	for range 5 {
		took, err := restart(data)
		if err != nil {
			return err
		}
		first = append(first, took)
	}
	slices.Sort(first)
	fmt.Printf("restart in the middle of a trial: the first answer %s after the process's start (median of 5; at "+
		"most %s)\n",
		first[2].Round(time.Millisecond), first[4].Round(time.Millisecond))
	address, stop, err := serve(data)
	if err != nil {
		return err
	}
	defer stop()
	time.Sleep(3 * time.Second)
	c := client.New(address, strings.TrimSpace(string(token)))
	for _, span := range []time.Duration{time.Hour, 24 * time.Hour, 30 * 24 * time.Hour} {
		if err := timed("compare two versions over "+span.String(), func() error {
			_, err := c.Compare(ctx, "demand-hourly", "heat-demand@1", []string{"heat-demand@2"},
				client.Over{Window: span})
			return err
		}); err != nil {
			return err
		}
	}
	for _, span := range []time.Duration{6 * time.Hour, 30 * 24 * time.Hour} {
		if err := timed("curves of "+span.String(), func() error {
			_, err := c.Series(ctx, "demand-hourly", span)
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

// serve starts the service and returns the address of its API.
func serve(data string) (address string, stop func(), err error) {
	return start(*binary, "serve", "-data", data, "-listen", "127.0.0.1:0", "-gateway", gateway, "-log", "error")
}

// restart starts the service, waits for the first answer of its gateway, and stops it.
func restart(data string) (took time.Duration, err error) {
	begin := time.Now()
	_, stop, err := serve(data)
	if err != nil {
		return 0, err
	}
	defer stop()
	for time.Since(begin) < time.Minute {
		res, err := http.Post("http://"+gateway+"/v2/models/demand-hourly/infer", "application/json",
			strings.NewReader(`{"inputs":[]}`))
		if err == nil {
			_, _ = io.Copy(io.Discard, res.Body)
			_ = res.Body.Close()
			if res.StatusCode == http.StatusOK {
				return time.Since(begin), nil
			}
		}
		time.Sleep(2 * time.Millisecond)
	}
	return 0, fmt.Errorf("no answer within a minute of the start")
}

// timed asks again and again, and says how long that takes.
func timed(what string, ask func() error) error {
	var took []time.Duration
	for range *rounds {
		begin := time.Now()
		if err := ask(); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		took = append(took, time.Since(begin))
	}
	slices.Sort(took)
	fmt.Printf("%-50s median %s, 95 of 100 within %s\n", what,
		took[len(took)/2].Round(100*time.Microsecond), took[len(took)*95/100].Round(100*time.Microsecond))
	return nil
}
