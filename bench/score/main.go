// Command score measures a job that scores a table beside a loop written by hand that does the same against the same
// model server, by turns in one run: rows a second, and what the service occupies.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/client"
	"innerladder/internal/core/job"
	"innerladder/internal/onnxfile"
	"innerladder/internal/wire"
)

const columns = 8

func main() {
	rows := flag.Int("rows", 1_000_000, "`N` rows of the table")
	rounds := flag.Int("rounds", 3, "`N` rounds of each")
	batch := flag.Int("batch", 256, "`N` rows of a request")
	parallel := flag.Int("parallel", 4, "`N` requests under way")
	program := flag.String("program", "bin/innerladder", "`FILE` of the program")
	flag.Parse()
	if err := measure(*rows, *rounds, *batch, *parallel, *program); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func measure(rows, rounds, batch, parallel int, program string) error {
	dir, err := os.MkdirTemp("", "bench-score-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	h, err := house.Start(program, filepath.Join(dir, "data"))
	if err != nil {
		return err
	}
	defer h.Stop()
	api := client.New(h.Server, h.Token)
	url, err := placed(api, dir)
	if err != nil {
		return err
	}
	defer func() { // what runs would go on without the service
		_, _ = api.Unplace(context.Background(), "heat-demand@1", "workbench")
		time.Sleep(2 * time.Second)
	}()
	table := filepath.Join(dir, "rows.csv")
	if err := write(table, rows, true); err != nil {
		return err
	}
	var byHand, byJob []float64
	for range rounds {
		begin := time.Now()
		if err := loop(table, filepath.Join(dir, "by-hand.csv"), url, batch, parallel); err != nil {
			return err
		}
		byHand = append(byHand, float64(rows)/time.Since(begin).Seconds())
		took, err := score(api, table, batch, parallel)
		if err != nil {
			return err
		}
		byJob = append(byJob, float64(rows)/took.Seconds())
		now, most := h.Memory()
		fmt.Printf("  by hand %8.0f rows a second, as a job %8.0f; the service occupies %s, at most %s\n",
			byHand[len(byHand)-1], byJob[len(byJob)-1], now, most)
	}
	slices.Sort(byHand)
	slices.Sort(byJob)
	hand, ours := byHand[len(byHand)/2], byJob[len(byJob)/2]
	fmt.Printf("%d rows of %d columns, %d a request, %d under way: by hand %.0f a second, as a job %.0f (%.2f)\n", rows,
		columns, batch, parallel, hand, ours, ours/hand)
	return nil
}

// placed registers a linear model and runs it; the address at which it is asked comes back.
func placed(api *client.Client, dir string) (string, error) {
	ctx := context.Background()
	weights := make([]float64, columns)
	for i := range weights {
		weights[i] = float64(i + 1)
	}
	model := onnxfile.Model("linear", "",
		onnxfile.Node("", "MatMul", []string{"x", "w"}, []string{"y"}),
		onnxfile.Constant("w", onnxfile.FP32, weights, columns, 1),
		onnxfile.Input("x", onnxfile.FP32, -1, columns), onnxfile.Output("y", onnxfile.FP32, -1, 1))
	file, sample := filepath.Join(dir, "m.onnx"), filepath.Join(dir, "sample.csv")
	if err := errors.Join(os.WriteFile(file, model, 0o600), write(sample, 200, false)); err != nil {
		return "", err
	}
	if _, err := api.AddEnvironment(ctx, wire.NewEnvironment{Name: "workbench"}); err != nil {
		return "", err
	}
	if _, err := api.Register(ctx, wire.Registration{Model: "heat-demand"}, []client.LocalFile{
		{Part: wire.PartArtifact, Path: file}, {Part: wire.PartSample, Path: sample},
	}); err != nil {
		return "", err
	}
	p, err := api.PlaceRun(ctx, "heat-demand@1", "workbench", wire.NewRunner{})
	if err != nil {
		return "", err
	}
	return p.Addresses[0].URL + "/v2/models/heat-demand/infer", nil
}

// write writes a table of random numbers, with or without the number of each row.
func write(file string, rows int, numbered bool) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	w, dice := bufio.NewWriterSize(f, 1<<20), rand.New(rand.NewPCG(1, 2))
	for c := range columns {
		fmt.Fprintf(w, "%sc%d", strings.Repeat(",", min(c, 1)), c)
	}
	if numbered {
		w.WriteString(",id")
	}
	w.WriteByte('\n')
	for i := range rows {
		for c := range columns {
			if c > 0 {
				w.WriteByte(',')
			}
			w.Write(strconv.AppendFloat(w.AvailableBuffer(), float64(dice.IntN(100_000))/1000, 'f', -1, 64))
		}
		if numbered {
			w.Write(strconv.AppendInt(append(w.AvailableBuffer(), ','), int64(i+1), 10))
		}
		w.WriteByte('\n')
	}
	return errors.Join(w.Flush(), f.Close())
}

// score has the service do it: from when the job began to when it had ended.
func score(api *client.Client, table string, batch, parallel int) (time.Duration, error) {
	ctx := context.Background()
	f, err := os.Open(table)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	begin := time.Now()
	j, err := api.Score(ctx, wire.NewScoring{
		Asked: "heat-demand@1", Name: "rows.csv", Batch: batch, Parallel: parallel,
	}, f)
	sent := time.Since(begin)
	for err == nil && !j.Ended() {
		time.Sleep(100 * time.Millisecond)
		j, err = api.Job(ctx, j.ID)
	}
	if err != nil {
		return 0, err
	}
	if j.State != job.Done {
		return 0, errors.New(j.Says())
	}
	took := j.EndedAt.Sub(begin)
	fmt.Printf("  sending the table took %v of %v\n", sent.Round(time.Millisecond), took.Round(time.Millisecond))
	return took, nil
}

// chunk is some rows of the loop by hand.
type chunk struct {
	rows [][]string
	ys   []float64
	err  error
	done chan struct{}
}

// loop is what one writes by hand: one reads, some ask, one writes in order.
func loop(table, out, url string, batch, parallel int) error {
	f, err := os.Open(table)
	if err != nil {
		return err
	}
	defer f.Close()
	in := csv.NewReader(bufio.NewReaderSize(f, 1<<20))
	if _, err := in.Read(); err != nil {
		return err
	}
	todo, order := make(chan *chunk), make(chan *chunk, 2*parallel)
	ask := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: parallel}}
	defer ask.CloseIdleConnections()
	go func() {
		defer close(order)
		defer close(todo)
		for {
			c := &chunk{done: make(chan struct{})}
			for len(c.rows) < batch {
				r, err := in.Read()
				if errors.Is(err, io.EOF) {
					break
				}
				c.rows = append(c.rows, r)
			}
			if len(c.rows) == 0 {
				return
			}
			order <- c
			todo <- c
		}
	}()
	var all sync.WaitGroup
	for range parallel {
		all.Go(func() {
			for c := range todo {
				c.ys, c.err = infer(ask, url, c.rows)
				close(c.done)
			}
		})
	}
	defer all.Wait()
	o, err := os.Create(out)
	if err != nil {
		return err
	}
	w, n := bufio.NewWriterSize(o, 1<<20), 0
	fmt.Fprintln(w, "row,id,y")
	for c := range order {
		if <-c.done; c.err != nil {
			return c.err
		}
		for i, y := range c.ys {
			n++
			b := strconv.AppendInt(w.AvailableBuffer(), int64(n), 10)
			b = append(append(append(b, ','), c.rows[i][columns]...), ',')
			w.Write(append(strconv.AppendFloat(b, y, 'g', -1, 64), '\n'))
		}
	}
	return errors.Join(w.Flush(), o.Close())
}

// infer asks about some rows.
func infer(ask *http.Client, url string, rows [][]string) ([]float64, error) {
	body := []byte(`{"inputs":[`)
	for c := range columns {
		if c > 0 {
			body = append(body, ',')
		}
		body = fmt.Appendf(body, `{"name":"c%d","datatype":"FP64","shape":[%d],"data":[`, c, len(rows))
		for i, r := range rows {
			if i > 0 {
				body = append(body, ',')
			}
			body = append(body, r[c]...)
		}
		body = append(body, "]}"...)
	}
	res, err := ask.Post(url, "application/json", bytes.NewReader(append(body, "]}"...)))
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	var answer struct {
		Error   string
		Outputs []struct{ Data []float64 }
	}
	if err := json.NewDecoder(res.Body).Decode(&answer); err != nil {
		return nil, err
	}
	if len(answer.Outputs) != 1 || len(answer.Outputs[0].Data) != len(rows) {
		return nil, fmt.Errorf("status %d: %s", res.StatusCode, answer.Error)
	}
	return answer.Outputs[0].Data, nil
}
