package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"math"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/signature"
	"innerladder/internal/gateway"
	"innerladder/internal/oip"
	"innerladder/internal/standin"
)

// callers are the programs that call one endpoint at a steady rate.
type callers struct {
	// key is sent with every request when the endpoint needs one.
	key string
	url string
	// output is what is predicted.
	output string
	rate   float64
	// asked is what is sent, one after the other.
	asked atomic.Pointer[[]sent]

	sent, failed, late atomic.Uint64
	// few is how many different rows are sent; all of them when it is 0.
	few atomic.Int64
	mu  sync.Mutex
	// answered counts answers by the version that gave them.
	answered map[string]uint64
	// truths are those of some answers, which are told later; costs are what their errors cost, where that is known.
	truths []outcome.Truth
	costs  []custom.Report
	// costs of an error, by prediction and truth; nil where nobody reckons that.
	cost func(predicted, truth float64) float64
}

// sent is one request with what will turn out to be true, by output.
type sent struct {
	body  []byte
	truth map[string]any
}

// told is of how many answers one truth is told, mostTruths how many wait to be told.
const (
	told       = 4
	mostTruths = 2000
)

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

func newCallers(gatewayURL, endpoint, output string, rate float64, inputs []signature.Column, examples []example,
) *callers {
	c := &callers{
		url: gatewayURL + oip.ModelPath(endpoint) + "/infer", output: output, rate: rate, answered: map[string]uint64{},
	}
	c.ask(inputs, examples)
	return c
}

// ask has the callers send other rows from now on.
func (c *callers) ask(inputs []signature.Column, examples []example) {
	all := make([]sent, len(examples))
	for i, e := range examples {
		all[i] = sent{request(inputs, e.row), map[string]any{c.output: e.number}}
		if e.class != "" {
			all[i].truth[c.output] = e.class
		}
	}
	c.asked.Store(&all)
}

// only has the callers send so many different rows from now on.
func (c *callers) only(rows int) { c.few.Store(int64(rows)) }

// nth is what is sent as so many-th.
func (c *callers) nth(made int) sent {
	all := *c.asked.Load()
	n := len(all)
	if few := int(c.few.Load()); few > 0 {
		n = min(few, n)
	}
	return all[made%n]
}

// read takes the truths that are known by now, as many as can be told at once.
func (c *callers) read() []outcome.Truth {
	c.mu.Lock()
	defer c.mu.Unlock()
	some := c.truths[:min(len(c.truths), 1000)]
	c.truths = c.truths[len(some):]
	return some
}

// reckoned takes what answers have cost that were not reported yet, as many as can be at once.
func (c *callers) reckoned() []custom.Report {
	c.mu.Lock()
	defer c.mu.Unlock()
	some := c.costs[:min(len(c.costs), 1000)]
	c.costs = c.costs[len(some):]
	return some
}

// dispatchCost is what a wrong forecast of an hour costs the plant, in EUR: what lacks is made with oil, for 85 a MWh
// more than gas; what is too much is let go, for 31.
func dispatchCost(predicted, truth float64) float64 {
	return math.Round(100*(85*max(0, truth-predicted)+31*max(0, predicted-truth))) / 100
}

// reckon says what an answer has cost.
func (c *callers) reckon(body []byte, s sent) (cost float64, ok bool) {
	truth, number := s.truth[c.output].(float64)
	var answer oip.InferResponse
	if c.cost == nil || !number || json.Unmarshal(body, &answer) != nil {
		return 0, false
	}
	for _, o := range answer.Outputs {
		if o.Name == c.output && len(o.Data) == 1 {
			if predicted, is := o.Data[0].(float64); is {
				return c.cost(predicted, truth), true
			}
		}
	}
	return 0, false
}

// run calls until ctx is done. It keeps to the clock: a slow answer does not lower the
// rate until all workers are busy, and then what is late is counted.
func (c *callers) run(ctx context.Context) {
	jobs := make(chan sent, workers)
	client := &http.Client{Timeout: 35 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: workers}}
	var wait sync.WaitGroup
	for range workers {
		wait.Go(func() {
			for s := range jobs {
				c.call(client, s)
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
				case jobs <- c.nth(made):
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

func (c *callers) call(client *http.Client, s sent) {
	c.sent.Add(1)
	req, err := http.NewRequest(http.MethodPost, c.url, bytes.NewReader(s.body))
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
	body, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != http.StatusOK {
		c.failed.Add(1)
		return
	}
	c.mu.Lock()
	version := res.Header.Get(gateway.VersionHeader)
	c.answered[version]++
	if c.answered[version]%told == 0 && len(c.truths) < mostTruths {
		id := res.Header.Get(gateway.RequestHeader)
		c.truths = append(c.truths, outcome.Truth{Request: id, Values: s.truth})
		if cost, ok := c.reckon(body, s); ok && len(c.costs) < mostTruths {
			c.costs = append(c.costs, custom.Report{Request: id, Values: map[string]any{"dispatch_cost": cost}})
		}
	}
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
