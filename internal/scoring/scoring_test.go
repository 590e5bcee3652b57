package scoring

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"innerladder/internal/core/job"
	"innerladder/internal/core/signature"
	"innerladder/internal/oip"

	"github.com/parquet-go/parquet-go"
)

// twice is a version that answers 2·x and the length of a text.
var twice = &signature.Signature{
	Inputs:  []signature.Column{{Name: "x", Type: signature.Number}, {Name: "who", Type: signature.Text}},
	Outputs: []signature.Column{{Name: "y", Type: signature.Number}, {Name: "long", Type: signature.Integer}},
}

// answers is what such a version answers.
func answers(body []byte) (int, []byte, error) {
	r, err := oip.ParseRequest(body)
	if err != nil {
		return 400, []byte(`{"error":"` + strings.ReplaceAll(err.Error(), `"`, "'") + `"}`), nil
	}
	x, who := r.Inputs[0].Data, r.Inputs[1].Data
	ys, longs := []float64{}, []int{}
	for i := range x {
		n, ok := x[i].(float64)
		if !ok {
			return 500, []byte(`{"error":"no x"}`), nil
		}
		name, _ := who[i].(string)
		ys, longs = append(ys, 2*n), append(longs, len(name))
	}
	out, err := json.Marshal(map[string]any{"outputs": []map[string]any{
		{"name": "y", "datatype": "FP64", "shape": []int{len(x)}, "data": ys},
		{"name": "long", "datatype": "INT64", "shape": []int{len(x)}, "data": longs},
	}})
	return 200, out, err
}

// folder makes a job's folder with a table.
func folder(t *testing.T, table string) string {
	t.Helper()
	dir := t.TempDir()
	write(t, dir, table)
	return dir
}

func write(t testing.TB, dir, table string) {
	t.Helper()
	if err := os.WriteFile(TableIn(dir), []byte(table), 0o600); err != nil {
		t.Fatal(err)
	}
}

func options(dir string) Options {
	return Options{
		Dir: dir, Name: "rows.csv", Signature: twice, Batch: 7, Parallel: 3, Patience: time.Second,
		Ask:  func(_ context.Context, body []byte) (int, []byte, error) { return answers(body) },
		Told: func(job.Progress) {},
	}
}

// table has rows whose answers are known: the name of a row is as long as it says.
func table(n int) string {
	var b strings.Builder
	b.WriteString("id,who,x\n")
	for i := range n {
		fmt.Fprintf(&b, "r%d,%s,%d\n", i+1, strings.Repeat("a", 1+i%5), i)
	}
	return b.String()
}

// dawdle lets others go first, once or often.
func dawdle() {
	for range rand.IntN(100) {
		runtime.Gosched()
	}
}

// rowsOf are the records of what is written out, by CSV, without the heading.
func rowsOf(t *testing.T, e Export) [][]string {
	t.Helper()
	var b bytes.Buffer
	if err := e.Write(&b); err != nil {
		t.Fatal(err)
	}
	all, err := csv.NewReader(&b).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return all[1:]
}

// right checks that every row of a table is answered once, in order, and rightly.
func right(t *testing.T, rows [][]string, n int) {
	t.Helper()
	if len(rows) != n {
		t.Fatalf("%d rows were answered, of %d", len(rows), n)
	}
	for i, r := range rows {
		n := strconv.Itoa(i + 1)
		want := []string{n, "r" + n, strconv.Itoa(2 * i), strconv.Itoa(1 + i%5), "m@1", "J-1"}
		if !slices.Equal(r, want) {
			t.Fatalf("row %d is %v, want %v", i+1, r, want)
		}
	}
}

func exported(dir, format string) Export {
	return Export{
		Dir: dir, Name: "rows.csv", Format: format, Version: "m@1", Job: "J-1", Whole: map[string]bool{"long": true},
	}
}

func TestEveryRowIsAnsweredInOrder(t *testing.T) {
	dir := folder(t, table(1000))
	o := options(dir)
	o.Ask = func(_ context.Context, body []byte) (int, []byte, error) {
		dawdle() // answers come in any order
		return answers(body)
	}
	p, err := Run(t.Context(), o)
	if err != nil || p.Answered != 1000 || p.PutAside != 0 || p.Share != 1 {
		t.Fatalf("%+v, %v", p, err)
	}
	right(t, rowsOf(t, exported(dir, "csv")), 1000)

	var b bytes.Buffer
	if err := exported(dir, "parquet").Write(&b); err != nil {
		t.Fatal(err)
	}
	f, err := parquet.OpenFile(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil || f.NumRows() != 1000 {
		t.Fatal(err)
	}
	b.Reset()
	if err := exported(dir, "jsonl").Write(&b); err != nil {
		t.Fatal(err)
	}
	var last map[string]any
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	if err := json.Unmarshal([]byte(lines[999]), &last); err != nil || last["y"] != 1998.0 || last["id"] != "r1000" ||
		last["version"] != "m@1" {
		t.Errorf("%v, %v", last, err)
	}
}

// Bad rows are put aside, each with its own reason, and no other row with them.
func TestBadRowsArePutAside(t *testing.T) {
	dir := folder(t, "id,who,x\na,ann,1\nb,bo,warm\nc,cy,3\nd,dee\ne,eve,\nf,flo,6\ng,\"quoted, and \"\"so\"\"\",7\n")
	p, err := Run(t.Context(), options(dir))
	if err != nil || p.Answered != 4 || p.PutAside != 3 || p.Rows != 7 {
		t.Fatalf("%+v, %v", p, err)
	}
	e := exported(dir, "csv")
	e.Aside = true
	want := [][]string{
		{"2", `x is "warm", not a number`, "b", "bo", "warm"},
		{"4", "the line has 2 values, and the header 3", "d", "dee", ""},
		{"5", "status 500: no x", "e", "eve", ""}, // what is missing is sent, and the version says no
	}
	if got := rowsOf(t, e); !slices.EqualFunc(got, want, slices.Equal[[]string]) {
		t.Errorf("%q\nwant\n%q", got, want)
	}
	var numbers []string
	for _, r := range rowsOf(t, exported(dir, "csv")) {
		numbers = append(numbers, r[0])
	}
	if !slices.Equal(numbers, []string{"1", "3", "6", "7"}) {
		t.Errorf("answered are %v", numbers)
	}
}

// A job that is cut at any moment, also between writing and noting, is taken up again: each row is there once.
func TestCutAndTakenUpAgain(t *testing.T) {
	const n = 4000
	dir := folder(t, table(n))
	for cut := 0; ; cut++ {
		ctx, stop := context.WithCancel(t.Context())
		o := options(dir)
		var asked atomic.Int64
		most := int64(20 + rand.IntN(120))
		o.Ask = func(_ context.Context, body []byte) (int, []byte, error) {
			if asked.Add(1) == most {
				stop()
			}
			dawdle()
			return answers(body)
		}
		p, err := Run(ctx, o)
		stop()
		if err == nil {
			if p.Rows != n || cut < 3 {
				t.Fatalf("%+v after %d cuts", p, cut)
			}
			break
		}
		if !errors.Is(err, context.Canceled) {
			t.Fatal(err)
		}
		// What a kill leaves behind is more than what is noted.
		f, err := os.OpenFile(dir+"/"+answersFile, os.O_APPEND|os.O_WRONLY, 0)
		if err == nil {
			_, err = f.WriteString("[17,\"half a li")
		}
		if err := errors.Join(err, f.Close()); err != nil {
			t.Fatal(err)
		}
	}
	right(t, rowsOf(t, exported(dir, "csv")), n)
}

// A server that is away is waited for; one that stays away ends the job, and no row is lost by it.
func TestAServerThatIsAway(t *testing.T) {
	dir := folder(t, table(300))
	o := options(dir)
	var calls atomic.Int64
	var troubled atomic.Bool
	o.Ask = func(_ context.Context, body []byte) (int, []byte, error) {
		switch n := calls.Add(1); {
		case n > 5 && n < 9:
			return 503, []byte(`{"error":"warming up"}`), nil
		case n > 8 && n < 12:
			return 0, nil, errors.New("connection refused")
		case n == 12:
			return 0, nil, errors.New(oip.NoAnswerInTime)
		}
		return answers(body)
	}
	o.Told = func(p job.Progress) { troubled.Store(troubled.Load() || p.Trouble != "") }
	if p, err := Run(t.Context(), o); err != nil || p.Answered != 300 {
		t.Fatalf("%+v, %v", p, err)
	}
	right(t, rowsOf(t, exported(dir, "csv")), 300)

	dir = folder(t, table(300))
	o = options(dir)
	o.Patience = 200 * time.Millisecond
	var down atomic.Bool
	down.Store(true)
	o.Ask = func(_ context.Context, body []byte) (int, []byte, error) {
		if down.Load() {
			return 0, nil, errors.New("connection refused")
		}
		return answers(body)
	}
	if p, err := Run(t.Context(), o); !errors.Is(err, errAway) || p.Rows != 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	down.Store(false)
	if p, err := Run(t.Context(), o); err != nil || p.Answered != 300 {
		t.Fatalf("%+v, %v", p, err)
	}
	right(t, rowsOf(t, exported(dir, "csv")), 300)
}

// Where all rows are refused, it is not the rows: the job fails, and they are asked again when it is taken up.
func TestAllRowsRefused(t *testing.T) {
	dir := folder(t, table(3000))
	o := options(dir)
	var broken atomic.Bool
	o.Ask = func(_ context.Context, body []byte) (int, []byte, error) {
		if broken.Load() {
			return 400, []byte(`{"error":"no such model"}`), nil
		}
		return answers(body)
	}
	broken.Store(true)
	p, err := Run(t.Context(), o)
	if err == nil || !strings.Contains(err.Error(), "no such model") || p.Rows != 0 || p.PutAside != 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	broken.Store(false)
	if p, err := Run(t.Context(), o); err != nil || p.Answered != 3000 {
		t.Fatalf("%+v, %v", p, err)
	}
	right(t, rowsOf(t, exported(dir, "csv")), 3000)
}

// A version that takes one row at a time is found out, and asked so.
func TestOneRowAtATime(t *testing.T) {
	dir := folder(t, table(500))
	o := options(dir)
	var calls atomic.Int64
	o.Ask = func(_ context.Context, body []byte) (int, []byte, error) {
		calls.Add(1)
		if r, err := oip.ParseRequest(body); err != nil || r.Inputs[0].Rows() != 1 {
			return 400, []byte(`{"error":"the shape is wrong"}`), nil
		}
		return answers(body)
	}
	p, err := Run(t.Context(), o)
	if err != nil || p.Answered != 500 || len(p.Remarks) != 1 || calls.Load() > 600 {
		t.Errorf("%+v after %d calls, %v", p, calls.Load(), err)
	}
	right(t, rowsOf(t, exported(dir, "csv")), 500)
}

// Answers that are no answers put rows aside; they are never taken for answers.
func TestAnswersThatAreNone(t *testing.T) {
	for name, answer := range map[string]string{
		"not JSON":     `hello`,
		"no outputs":   `{"outputs":[]}`,
		"two rows":     `{"outputs":[{"name":"y","datatype":"FP64","shape":[1],"data":[1,2]}]}`,
		"another name": `{"outputs":[{"name":"z","datatype":"FP64","shape":[1],"data":[1]}]}`,
	} {
		dir := folder(t, "who,x\nann,1\nbo,2\n")
		o := options(dir)
		o.Batch, o.Parallel = 1, 1
		first := true
		o.Ask = func(_ context.Context, body []byte) (int, []byte, error) {
			if first {
				first = false
				return answers(body)
			}
			return 200, []byte(answer), nil
		}
		if p, err := Run(t.Context(), o); err != nil || p.Answered != 1 || p.PutAside != 1 {
			t.Errorf("%s: %+v, %v", name, p, err)
		}
	}
}

// What another version answered to the same row stands beside it; nothing where it did not answer, or not yet.
func TestAnswersOfAnotherStandBeside(t *testing.T) {
	table := "x,who\n1,a\n2,bb\n3,ccc\n"
	dir, other := folder(t, table), folder(t, table)
	ask := func(dir string, leave float64) {
		t.Helper()
		_, err := Run(t.Context(), Options{
			Dir: dir, Name: "rows.csv", Signature: twice, Batch: 1, Parallel: 1, Patience: time.Second,
			Told: func(job.Progress) {},
			Ask: func(_ context.Context, body []byte) (int, []byte, error) {
				if r, err := oip.ParseRequest(body); err == nil && r.Inputs[0].Data[0] == leave {
					return 400, []byte(`{"error":"not that one"}`), nil
				}
				return answers(body)
			},
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	ask(dir, 3)
	e := Export{Dir: dir, Name: "rows.csv", Format: "csv", Version: "m@2", Job: "J-1", OtherVersion: "m@1"}
	written := func() string {
		t.Helper()
		var b bytes.Buffer
		if err := e.Write(&b); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	alone := "row,y,long,version,job\n1,2,1,m@2,J-1\n2,4,2,m@2,J-1\n"
	if got := written(); got != alone {
		t.Error(got)
	}
	e.OtherDir = other
	if got := written(); got != alone {
		t.Errorf("it was not asked yet: %s", got)
	}
	ask(other, 1)
	if got := written(); got != "row,y,long,y of m@1,long of m@1,version,job\n1,2,1,,,m@2,J-1\n2,4,2,4,2,m@2,J-1\n" {
		t.Error(got)
	}
	for _, e.Format = range []string{"jsonl", "parquet"} {
		if got := written(); !strings.Contains(got, "y of m@1") {
			t.Errorf("%s: %q", e.Format, got)
		}
	}
}
