package modelserver

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/compute"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/tensor"
	"innerladder/internal/onnxfile"

	dto "github.com/prometheus/client_model/go"
)

// linear is y = 1 + 2·x as PMML, which refuses an x above 1000.
const linear = `<PMML version="4.4"><DataDictionary><DataField name="x" optype="continuous" dataType="double">
	<Interval closure="closedClosed" rightMargin="1000"/></DataField>
	<DataField name="y" optype="continuous" dataType="double"/></DataDictionary>
	<RegressionModel functionName="regression"><MiningSchema><MiningField name="x"/>
	<MiningField name="y" usageType="target"/></MiningSchema><RegressionTable intercept="1">
	<NumericPredictor name="x" coefficient="2"/></RegressionTable></RegressionModel></PMML>`

// serving starts a server and returns where its model is.
func serving(t *testing.T, format string, file []byte, s *signature.Signature, o Options) string {
	t.Helper()
	_, url := serve(t, format, file, s, o)
	return url
}

func serve(t *testing.T, format string, file []byte, s *signature.Signature, o Options) (*Server, string) {
	t.Helper()
	m, err := compute.Load(format, file, s)
	if err != nil {
		t.Fatal(err)
	}
	o.Name, o.Model = "m", m
	srv := New(o)
	if err := srv.Warm(); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- srv.Serve(ctx, l) }()
	t.Cleanup(func() { http.DefaultClient.CloseIdleConnections(); stop(); <-done })
	return srv, "http://" + l.Addr().String() + "/v2/models/m"
}

// post asks and returns what came back.
func post(t *testing.T, url string, body []byte, length string) (int, string, http.Header) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, url+"/infer", bytes.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if length != "" {
		req.Header.Set("Inference-Header-Content-Length", length)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(b), res.Header
}

func ask(x string, rows int) []byte {
	return fmt.Appendf(nil, `{"id":"a","inputs":[{"name":"x","shape":[%d],"datatype":"FP64","data":[%s]}]}`, rows, x)
}

// Requests as people write them wrongly are refused with what is wrong; right ones are answered.
func TestRequests(t *testing.T) {
	url := serving(t, "pmml", []byte(linear), nil, Options{})
	const x = `{"name":"x","shape":[1],"datatype":"FP64","data":[1]}`
	for _, c := range []struct {
		body   string
		status int
		says   string
	}{
		{string(ask("3", 1)), 200, `{"model_name":"m","id":"a",` +
			`"outputs":[{"name":"y","datatype":"FP64","shape":[1],"data":[7]}]}`},
		{string(ask("3,null", 2)), 200, `"data":[7,null]`},
		{string(ask("3", 2)), 400, "it has 1 values where its shape has 2"},
		{string(ask(`"a"`, 1)), 400, `is no number`},
		{string(ask("2000", 1)), 400, "which the model does not allow"},
		{`{"inputs":[]}`, 400, "no inputs"},
		{`{`, 400, "no JSON"},
		{`{"inputs":[{"name":"z","shape":[1],"datatype":"FP64","data":[1]}]}`, 400, `the input \"x\" is missing`},
		{`{"inputs":[{"name":"x","shape":[1],"datatype":"BYTES","data":["1"]}]}`, 400, "is BYTES where FP64 is taken"},
		{`{"inputs":[{"name":"x","shape":[1],"datatype":"INT64","data":[3]}]}`, 200, `"data":[7]`},
		{`{"inputs":[{"name":"x","shape":[1],"datatype":"INT64","data":[3.5]}]}`, 400, "is no whole number"},
		{`{"inputs":[{"name":"x","shape":[1099511627776],"datatype":"FP64","data":[1]}]}`, 400, "more than"},
		{`{"inputs":[` + x + `],"outputs":[{"name":"q"}]}`, 400, "not all of the outputs"},
		{`{"inputs":[` + x + `,` + x + `]}`, 400, "twice"},
	} {
		if status, body, _ := post(t, url, []byte(c.body), ""); status != c.status || !strings.Contains(body, c.says) {
			t.Errorf("%.120s: %d %s; want %d %s", c.body, status, body, c.status, c.says)
		}
	}
	if res, err := http.Get(strings.TrimSuffix(url, "m") + "other"); err != nil || res.StatusCode != 404 {
		t.Errorf("another model: %v %v", res, err)
	}
}

// Binary tensors in and out are those that JSON gives; what does not add up is refused.
func TestBinaryTensors(t *testing.T) {
	file, err := os.ReadFile("../core/onnx/testdata/forest-SUM.onnx")
	if err != nil {
		t.Fatal(err)
	}
	url := serving(t, "onnx", file, nil, Options{})
	rows := []float32{0, 0, 0, 0, 1, -1, 2, 0.5}
	plain, _ := json.Marshal(rows)
	_, want, _ := post(t, url, fmt.Appendf(nil, `{"inputs":[{"name":"x","shape":[2,4],"datatype":"FP32","data":%s}]}`,
		plain), "")
	var answer struct{ Outputs []struct{ Data []float32 } }
	if err := json.Unmarshal([]byte(want), &answer); err != nil || len(answer.Outputs[0].Data) != 2 {
		t.Fatal(want)
	}
	head := `{"inputs":[{"name":"x","shape":[2,4],"datatype":"FP32","parameters":{"binary_data_size":32}}],
		"parameters":{"binary_data_output":true}}`
	var raw bytes.Buffer
	_ = binary.Write(&raw, binary.LittleEndian, rows)
	body := append([]byte(head), raw.Bytes()...)
	status, got, h := post(t, url, body, fmt.Sprint(len(head)))
	n := 0
	_, _ = fmt.Sscan(h.Get("Inference-Header-Content-Length"), &n)
	if status != 200 || n == 0 || !strings.Contains(got[:n], `"binary_data_size":8`) {
		t.Fatalf("%d %q", status, got)
	}
	var y [2]float32
	data := answer.Outputs[0].Data
	if _, err := binary.Decode([]byte(got[n:]), binary.LittleEndian, &y); err != nil || y[0] != data[0] ||
		y[1] != data[1] {
		t.Errorf("%v, want %s", y, want)
	}
	for name, c := range map[string]struct {
		body   []byte
		length string
	}{
		"too few bytes":            {body[:len(body)-1], fmt.Sprint(len(head))},
		"too many":                 {append(body, 0), fmt.Sprint(len(head))},
		"a length beyond the body": {body, "100000"}, "no length": {body, "x"}, "a length below 0": {body, "-4"},
		"JSON cut short": {body, "10"},
	} {
		if status, said, _ := post(t, url, c.body, c.length); status != 400 {
			t.Errorf("%s: %d %s", name, status, said)
		}
	}
}

// The columns of a signature are put together where the file takes one table, and its output has the name it has there.
func TestColumnsOfASignature(t *testing.T) {
	file, err := os.ReadFile("../core/onnx/testdata/forest-SUM.onnx")
	if err != nil {
		t.Fatal(err)
	}
	s := &signature.Signature{Outputs: []signature.Column{{Name: "demand_mw", Type: signature.Number}}}
	var inputs []string
	for i, name := range []string{"outdoor_c", "wind", "hour", "before"} {
		s.Inputs = append(s.Inputs, signature.Column{Name: name, Type: signature.Number})
		inputs = append(inputs, fmt.Sprintf(`{"name":%q,"shape":[2],"datatype":"FP64","data":[%d,%v]}`, name, 0,
			[]float64{1, -1, 2, 0.5}[i]))
	}
	whole := serving(t, "onnx", file, nil, Options{})
	apart := serving(t, "onnx", file, s, Options{})
	_, want, _ := post(t, whole, []byte(`{"inputs":[{"name":"x","shape":[2,4],"datatype":"FP32",
		"data":[0,0,0,0,1,-1,2,0.5]}]}`), "")
	status, got, _ := post(t, apart, []byte(`{"inputs":[`+strings.Join(inputs, ",")+`]}`), "")
	if status != 200 || got != strings.Replace(want, `"y"`, `"demand_mw"`, 1) {
		t.Errorf("%d %s, want %s", status, got, want)
	}
}

// Requests that are computed together get what is their own, and one that cannot be computed fails no other.
func TestTogether(t *testing.T) {
	url := serving(t, "pmml", []byte(linear), nil, Options{Batching: Batching{Rows: 8, Wait: 50 * time.Millisecond}})
	var all sync.WaitGroup
	for i := range 64 {
		all.Go(func() {
			x, want, says := fmt.Sprint(i), 200, fmt.Sprintf(`"data":[%d]`, 1+2*i)
			if i%8 == 3 {
				x, want, says = "5000", 400, "does not allow"
			}
			if status, body, _ := post(t, url, ask(x, 1), ""); status != want || !strings.Contains(body, says) {
				t.Errorf("%d: %d %s", i, status, body)
			}
		})
	}
	all.Wait()
	res, err := http.Get(strings.TrimSuffix(url, "/v2/models/m") + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	metrics, _ := io.ReadAll(res.Body)
	if !strings.Contains(string(metrics), `innerladder_runner_requests_total{status="200"} 56`) {
		t.Errorf("%.800s", metrics)
	}
}

// As many as make a batch are computed as one, however long they might wait.
func TestABatchThatIsFull(t *testing.T) {
	srv, _ := serve(t, "pmml", []byte(linear), nil, Options{Batching: Batching{Rows: 8, Wait: time.Hour}})
	srv.inside.Add(8) // so many are inside
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			out, err := srv.batch.run([]*tensor.Tensor{tensor.New([]float64{float64(i)}, 1)})
			if err != nil || out[0].Data.([]float64)[0] != float64(1+2*i) {
				t.Errorf("%d: %v %v", i, out, err)
			}
		})
	}
	all.Wait()
	var m dto.Metric
	if err := srv.meter.batch.Write(&m); err != nil || m.GetHistogram().GetSampleCount() != 1 ||
		m.GetHistogram().GetSampleSum() != 8 {
		t.Errorf("%v %v", m.GetHistogram(), err)
	}
}

// A request whose inputs do not have as many rows each is computed by itself: behind others it would shift their rows
// against each other.
func TestUnevenRowsStayApart(t *testing.T) {
	file := onnxfile.Model("sum", "", onnxfile.Node("", "Add", []string{"a", "b"}, []string{"y"}),
		onnxfile.Input("a", onnxfile.FP64, -1), onnxfile.Input("b", onnxfile.FP64, -1),
		onnxfile.Output("y", onnxfile.FP64, -1))
	srv, _ := serve(t, "onnx", file, nil, Options{Batching: Batching{Rows: 6, Wait: 20 * time.Millisecond}})
	srv.inside.Add(3) // so many are inside
	var all sync.WaitGroup
	for _, c := range []struct {
		a, b []float64
		want string
	}{
		{[]float64{1, 2}, []float64{10}, "[11 12]"},
		{[]float64{3}, []float64{20, 30}, "[23 33]"},
		{[]float64{4, 5}, []float64{40, 50}, "[44 55]"},
	} {
		all.Go(func() {
			out, err := srv.batch.run([]*tensor.Tensor{tensor.New(c.a, len(c.a)), tensor.New(c.b, len(c.b))})
			if err != nil || fmt.Sprint(out[0].Data) != c.want {
				t.Errorf("%v, %v; want %s", out, err, c.want)
			}
		})
	}
	all.Wait()
}

// A model may give as many rows as it likes; what it gives for several requests together is then not theirs.
func TestOutputsOfAnotherSize(t *testing.T) {
	file := onnxfile.Model("some", "", onnxfile.Node("", "Cast", []string{"x"}, []string{"is"},
		onnxfile.Attribute("to", onnxfile.BOOL)),
		onnxfile.Node("", "Compress", []string{"x", "is"}, []string{"y"}, onnxfile.Attribute("axis", 0)),
		onnxfile.Input("x", onnxfile.FP64, -1), onnxfile.Output("y", onnxfile.FP64, -1))
	srv, _ := serve(t, "onnx", file, nil, Options{Batching: Batching{Rows: 4, Wait: time.Hour}})
	srv.o.Model.Rows = true // as it may seem by the rows that it was tried with
	srv.inside.Add(2)
	var all sync.WaitGroup
	for _, x := range [][]float64{{1, 0}, {2, 3}} {
		all.Go(func() {
			out, err := srv.batch.run([]*tensor.Tensor{tensor.New(x, 2)})
			want := slices.DeleteFunc(slices.Clone(x), func(v float64) bool { return v == 0 })
			if err != nil || fmt.Sprint(out[0].Data) != fmt.Sprint(want) {
				t.Errorf("%v: %v %v", x, out, err)
			}
		})
	}
	all.Wait()
}

// A request that is the only one waits for nobody.
func TestAloneAtOnce(t *testing.T) {
	url := serving(t, "pmml", []byte(linear), nil, Options{Batching: Batching{Rows: 8, Wait: time.Hour}})
	for range 3 {
		if status, body, _ := post(t, url, ask("1", 1), ""); status != 200 {
			t.Errorf("%d %s", status, body)
		}
	}
}

// A crowd beyond what may wait is told to come back, and the others are answered.
func TestCrowd(t *testing.T) {
	srv, url := serve(t, "pmml", []byte(linear), nil, Options{AtOnce: 1, Waiting: 3})
	srv.batch.slots <- struct{}{} // what is computed takes its time
	var mu sync.Mutex
	statuses := map[int]int{}
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			status, _, h := post(t, url, ask("1", 1), "")
			mu.Lock()
			defer mu.Unlock()
			if statuses[status]++; status == 503 && h.Get("Retry-After") == "" {
				t.Error("nothing says when to come back")
			}
		})
	}
	answered := func() int {
		mu.Lock()
		defer mu.Unlock()
		return statuses[503]
	}
	for answered() < 16 {
		runtime.Gosched()
	}
	<-srv.batch.slots
	all.Wait()
	if statuses[200] != 4 || statuses[503] != 16 {
		t.Errorf("%v", statuses)
	}
}
