package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/signature"
	"innerladder/internal/gateway"
	"innerladder/internal/oip"
	"innerladder/internal/standin"
)

// callers are the programs that call one endpoint at a steady rate.
type callers struct {
	// key is sent with every request when the endpoint needs one.
	key  string
	url  string
	rate float64
	// bodies are what is sent, one after the other.
	bodies atomic.Pointer[[][]byte]

	sent, failed, late atomic.Uint64
	// few is how many different rows are sent; all of them when it is 0.
	few atomic.Int64
	mu  sync.Mutex
	// answered counts answers by the version that gave them.
	answered map[string]uint64
}

// workers bounds the requests under way to one endpoint.
const workers = 32

// request makes the protocol's request for one row.
func request(inputs []signature.Column, row standin.Row) []byte {
	r := oip.InferRequest{}
	datatypes := map[signature.Type]string{
		signature.Number: "FP64", signature.Integer: "INT64", signature.Text: "BYTES",
	}
	for _, c := range inputs {
		r.Inputs = append(r.Inputs, oip.Tensor{
			Name: c.Name, Shape: []int64{1}, Datatype: datatypes[c.Type],
			Data: oip.Data{row[c.Name]},
		})
	}
	b, err := json.Marshal(r)
	if err != nil {
		panic(err) // rows hold numbers and texts only
	}
	return b
}

func newCallers(gatewayURL, endpoint string, rate float64, inputs []signature.Column, examples []example) *callers {
	c := &callers{url: gatewayURL + oip.ModelPath(endpoint) + "/infer", rate: rate, answered: map[string]uint64{}}
	c.ask(inputs, examples)
	return c
}

// ask has the callers send other rows from now on.
func (c *callers) ask(inputs []signature.Column, examples []example) {
	bodies := make([][]byte, len(examples))
	for i, e := range examples {
		bodies[i] = request(inputs, e.row)
	}
	c.bodies.Store(&bodies)
}

// only has the callers send so many different rows from now on.
func (c *callers) only(rows int) { c.few.Store(int64(rows)) }

// body is what is sent as so many-th.
func (c *callers) body(made int) []byte {
	bodies := *c.bodies.Load()
	n := len(bodies)
	if few := int(c.few.Load()); few > 0 {
		n = min(few, n)
	}
	return bodies[made%n]
}

// run calls until ctx is done. It keeps to the clock: a slow answer does not lower the
// rate until all workers are busy, and then what is late is counted.
func (c *callers) run(ctx context.Context) {
	jobs := make(chan []byte, workers)
	client := &http.Client{Timeout: 35 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: workers}}
	var wait sync.WaitGroup
	for range workers {
		wait.Go(func() {
			for body := range jobs {
				c.call(client, body)
			}
		})
	}
	begin := time.Now()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for made := 0; ; {
		select {
		case now := <-tick.C:
			for due := int(now.Sub(begin).Seconds() * c.rate); made < due; made++ {
				select {
				case jobs <- c.body(made):
				default:
					c.late.Add(1)
				}
			}
			continue
		case <-ctx.Done():
		}
		break
	}
	close(jobs)
	wait.Wait()
}

func (c *callers) call(client *http.Client, body []byte) {
	c.sent.Add(1)
	req, err := http.NewRequest(http.MethodPost, c.url, bytes.NewReader(body))
	if err != nil {
		c.failed.Add(1)
		return
	}
	req.Header.Set("Content-Type", "application/json")
	if c.key != "" {
		req.Header.Set(gateway.KeyHeader, c.key)
	}
	res, err := client.Do(req)
	if err != nil {
		c.failed.Add(1)
		return
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	if res.StatusCode != http.StatusOK {
		c.failed.Add(1)
		return
	}
	c.mu.Lock()
	c.answered[res.Header.Get(gateway.VersionHeader)]++
	c.mu.Unlock()
}

// byVersion returns how many answers each version gave so far.
func (c *callers) byVersion() map[string]uint64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[string]uint64{}
	for k, v := range c.answered {
		out[k] = v
	}
	return out
}
