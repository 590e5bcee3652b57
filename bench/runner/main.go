// Command runner measures the built-in model server beside one Node process that answers the same requests with the npm
// package onnxruntime-node, by turns in one run: rows a second and p99 of requests of one row and of many.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"innerladder/internal/onnxfile"
)

const columns = 8

func main() {
	rounds := flag.Int("rounds", 3, "`N` rounds of each")
	length := flag.Duration("length", 3*time.Second, "`DURATION` of a round")
	connections := flag.Int("connections", 16, "`N` callers at the same time")
	program := flag.String("program", "bin/innerladder", "`FILE` of the program")
	flag.Parse()
	if err := measure(*rounds, *length, *connections, *program); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// models are those that are measured.
func models() map[string][]byte {
	r := rand.New(rand.NewPCG(1, 2))
	random := func(n int, scale float64) []float64 {
		out := make([]float64, n)
		for i := range out {
			out[i] = r.NormFloat64() * scale
		}
		return out
	}
	in, out := onnxfile.Input("x", onnxfile.FP32, -1, columns), onnxfile.Output("y", onnxfile.FP32, -1, 1)
	node := func(operator, to string, from ...string) onnxfile.Field {
		return onnxfile.Node("", operator, from, []string{to})
	}
	weights := func(name string, rows, columns int) onnxfile.Field {
		return onnxfile.Constant(name, onnxfile.FP32, random(rows*columns, 1/math.Sqrt(float64(rows))), rows, columns)
	}
	const wide = 32
	return map[string][]byte{
		"linear": onnxfile.Model("linear", "", node("MatMul", "s", "x", "w"), node("Add", "y", "s", "b"),
			weights("w", columns, 1), weights("b", 1, 1), in, out),
		"network": onnxfile.Model("network", "", node("MatMul", "a", "x", "w1"), node("Relu", "b", "a"),
			node("MatMul", "c", "b", "w2"), node("Relu", "d", "c"), node("MatMul", "y", "d", "w3"),
			weights("w1", columns, wide), weights("w2", wide, wide), weights("w3", wide, 1), in, out),
		"trees": onnxfile.Model("trees", "", forest(r, 500, 6), in, out),
	}
}

// forest is an ensemble of trees that are all of one depth.
func forest(r *rand.Rand, trees, depth int) onnxfile.Field {
	inner := 1<<depth - 1
	lists := map[string][]int{}
	var values, adds []float64
	var modes []string
	add := func(name string, v int) { lists[name] = append(lists[name], v) }
	for t := range trees {
		for i := range 2*inner + 1 {
			add("nodes_treeids", t)
			add("nodes_nodeids", i)
			add("nodes_featureids", r.IntN(columns))
			mode, yes, no := "LEAF", 0, 0
			if i < inner {
				mode, yes, no = "BRANCH_LEQ", 2*i+1, 2*i+2
			} else {
				add("target_treeids", t)
				add("target_nodeids", i)
				add("target_ids", 0)
				adds = append(adds, r.NormFloat64()/float64(trees))
			}
			add("nodes_truenodeids", yes)
			add("nodes_falsenodeids", no)
			modes, values = append(modes, mode), append(values, r.NormFloat64())
		}
	}
	attributes := []onnxfile.Field{
		onnxfile.Attribute("nodes_modes", modes), onnxfile.Attribute("nodes_values", values),
		onnxfile.Attribute("target_weights", adds), onnxfile.Attribute("n_targets", 1),
	}
	for name, list := range lists {
		attributes = append(attributes, onnxfile.Attribute(name, list))
	}
	return onnxfile.Node(onnxfile.Learning, "TreeEnsembleRegressor", []string{"x"}, []string{"y"}, attributes...)
}

// side is one server that is measured.
type side struct {
	name string
	args []string
	url  string
	cmd  *exec.Cmd
	// rates are rows a second, tails the p99 in milliseconds, of each round.
	rates, tails []float64
}

func (s *side) start() error {
	s.cmd = exec.Command(s.args[0], s.args[1:]...)
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := s.cmd.Start(); err != nil {
		return err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return fmt.Errorf("%s: %w", s.name, err)
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	address, _, _ := strings.Cut(line, " ")
	s.url = address + "/v2/models/m/infer"
	return nil
}

func (s *side) stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	_ = s.cmd.Wait()
}

func measure(rounds int, length time.Duration, connections int, program string) error {
	dir, err := os.MkdirTemp("", "bench-runner-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	all := models()
	for _, model := range []string{"linear", "trees", "network"} {
		file := filepath.Join(dir, model+".onnx")
		if err := os.WriteFile(file, all[model], 0o600); err != nil {
			return err
		}
		plain := []string{program, "runner", file, "-listen", "127.0.0.1:0", "-as", "m"}
		sides := []*side{
			{name: "runner", args: plain},
			{
				name: "runner, rows together",
				args: append(slices.Clone(plain), "-batch-rows", "64", "-batch-wait", "1ms"),
			},
			{name: "Node with onnxruntime-node", args: []string{"node", "bench/runner/server.mjs", file}},
		}
		for _, rows := range []int{1, 64} {
			if err := beside(sides, model, rows, rounds, length, connections); err != nil {
				return err
			}
		}
	}
	return nil
}

// beside measures all sides by turns and prints what they did.
func beside(sides []*side, model string, rows, rounds int, length time.Duration, connections int) error {
	for _, s := range sides {
		if err := s.start(); err != nil {
			return err
		}
		defer s.stop()
		s.rates, s.tails = nil, nil
	}
	body := request(rows)
	answers := make([]string, len(sides))
	for i, s := range sides {
		var err error
		if answers[i], err = once(s.url, body); err != nil {
			return err
		}
	}
	fmt.Printf("%s, %d rows a request, %d callers; largest difference of the answers %.1g\n", model, rows, connections,
		differ(answers[0], answers[2]))
	for range rounds {
		for _, s := range sides {
			rate, tail, err := load(s.url, body, connections, length)
			if err != nil {
				return fmt.Errorf("%s: %w", s.name, err)
			}
			s.rates, s.tails = append(s.rates, rate*float64(rows)), append(s.tails, tail)
		}
	}
	last := sides[len(sides)-1]
	for _, s := range sides {
		fmt.Printf("  %-28s %9.0f rows a second (%.2f)   p99 %6.2f ms (%.2f)\n", s.name, median(s.rates),
			median(s.rates)/median(last.rates), median(s.tails), median(s.tails)/median(last.tails))
	}
	return nil
}

func request(rows int) []byte {
	r := rand.New(rand.NewPCG(3, 4))
	data := make([]float32, rows*columns)
	for i := range data {
		data[i] = float32(math.Round(r.NormFloat64()*1000) / 1000)
	}
	b, _ := json.Marshal(data)
	return fmt.Appendf(nil, `{"inputs":[{"name":"x","datatype":"FP32","shape":[%d,%d],"data":%s}]}`, rows, columns, b)
}

// load asks from some callers, each as soon as it has its answer; requests a second and the p99 in milliseconds.
func load(url string, body []byte, connections int, length time.Duration) (rate, p99 float64, err error) {
	ctx, stop := context.WithTimeout(context.Background(), length)
	defer stop()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: connections}}
	defer client.CloseIdleConnections()
	took := make([][]float64, connections)
	errs := make([]error, connections)
	var all sync.WaitGroup
	for c := range connections {
		all.Go(func() {
			for ctx.Err() == nil {
				begin := time.Now()
				if err := post(client, url, body, io.Discard); err != nil {
					errs[c] = err
					return
				}
				took[c] = append(took[c], time.Since(begin).Seconds()*1e3)
			}
		})
	}
	all.Wait()
	for _, e := range errs {
		if e != nil {
			return 0, 0, e
		}
	}
	list := slices.Concat(took...)
	slices.Sort(list)
	return float64(len(list)) / length.Seconds(), list[len(list)*99/100], nil
}

func post(client *http.Client, url string, body []byte, into io.Writer) error {
	res, err := client.Post(url, "application/json", bytes.NewReader(body))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s", res.Status)
	}
	_, err = io.Copy(into, res.Body)
	return err
}

func once(url string, body []byte) (string, error) {
	var b bytes.Buffer
	err := post(http.DefaultClient, url, body, &b)
	return b.String(), err
}

// differ is the largest difference between the numbers of two answers.
func differ(a, b string) float64 {
	numbers := func(s string) (out []float64) {
		_, s, _ = strings.Cut(s, `"data":[`)
		s, _, _ = strings.Cut(s, "]")
		for w := range strings.SplitSeq(s, ",") {
			x, _ := strconv.ParseFloat(w, 64)
			out = append(out, x)
		}
		return out
	}
	x, y := numbers(a), numbers(b)
	most := math.Inf(1)
	if len(x) == len(y) {
		most = 0
		for i := range x {
			most = max(most, math.Abs(x[i]-y[i]))
		}
	}
	return most
}

func median(x []float64) float64 {
	x = slices.Sorted(slices.Values(x))
	return x[len(x)/2]
}
