package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/test/poll"

	"innerladder/internal/client"
	"innerladder/internal/core/elsewhere"
	"innerladder/internal/core/sketch"
	"innerladder/internal/oip"
	"innerladder/internal/wire"
)

// town stands for the service: it takes each batch once, and can be away, or take a batch and not say so.
type town struct {
	mu       sync.Mutex
	last     map[string]int64 // by agent
	sum      map[string]*sketch.Summary
	bins     map[column]sketch.Bins
	versions map[string]string
	away     bool
	// forgetful is how often it takes a batch and does not say so.
	forgetful float64
	chance    *rand.Rand
	calls     int
	// largest is how many bytes the largest batch had.
	largest int
}

func newTown() *town {
	return &town{
		last: map[string]int64{}, sum: map[string]*sketch.Summary{}, bins: map[column]sketch.Bins{},
		chance:   rand.New(rand.NewPCG(1, 2)),
		versions: map[string]string{"heat-demand@1": "heat-demand@1", "2": "heat-demand@2"},
	}
}

var errDown = errors.New("connection refused")

func (s *town) AgentMet(_ context.Context, _, _ string, in wire.AgentMet) (wire.AgentKnown, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := wire.AgentKnown{Versions: map[string]string{}}
	if s.away {
		return out, errDown
	}
	for _, v := range in.Versions {
		if ref, ok := s.versions[v]; ok {
			out.Versions[v] = ref
		}
	}
	for _, c := range in.Columns {
		if _, there := s.bins[column{c.Side, c.Name}]; !there {
			s.bins[column{c.Side, c.Name}] = c.Bins
		}
	}
	for c, b := range s.bins {
		out.Columns = append(out.Columns, wire.AgentColumn{Side: c.side, Name: c.name, Bins: b})
	}
	return out, nil
}

func (s *town) AgentBatch(_ context.Context, _, id string, b elsewhere.Batch) (wire.BatchTaken, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls++
	if s.away {
		return wire.BatchTaken{}, errDown
	}
	if err := b.Check(time.Now()); err != nil {
		p := &client.Problem{}
		p.Status, p.Problem.Code, p.Detail = http.StatusBadRequest, "elsewhere.window", err.Error()
		return wire.BatchTaken{}, p
	}
	raw, err := json.Marshal(b)
	if err != nil {
		return wire.BatchTaken{}, err
	}
	s.largest = max(s.largest, len(raw))
	again := b.Number <= s.last[id]
	if !again {
		s.last[id] = b.Number
		for i := range b.Windows {
			w := &b.Windows[i]
			if s.sum[w.Version] == nil {
				s.sum[w.Version] = &sketch.Summary{}
			}
			s.sum[w.Version].Merge(w.Summary())
		}
	}
	if s.chance.Float64() < s.forgetful {
		return wire.BatchTaken{}, errDown
	}
	return wire.BatchTaken{Number: b.Number, Again: again}, nil
}

// of is what the town was told of a version.
func (s *town) of(version string) sketch.Summary {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.sum[version] == nil {
		return sketch.Summary{}
	}
	return *s.sum[version].Clone()
}

func (s *town) set(f func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f()
}

func options(t *testing.T, s *town) Options {
	t.Helper()
	return Options{
		Service: s, Endpoint: "demand-edge", Dir: t.TempDir(), Name: "substation-7", Once: true,
		Limit: 64 << 20, Pace: 20 * time.Millisecond,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	}
}

// line is an observation of heat-demand@1.
func line(i int) string {
	return fmt.Sprintf(`{"at":%d,"version":"heat-demand@1","ms":%d,"inputs":{"outdoor_c":%d,"mix":"harbour"},`+
		`"outputs":{"demand_mw":%v}}`, 1_770_000_000+i, 1+i%100, i%50-20, float64(i%30)/10)
}

func lines(from, to int) string {
	var b strings.Builder
	for i := from; i < to; i++ {
		b.WriteString(line(i) + "\n")
	}
	return b.String()
}

// await waits for half a minute at most.
func await(t *testing.T, what string, holds func() bool) {
	t.Helper()
	if !poll.Within(30*time.Second, holds) {
		t.Fatalf("%s: not within half a minute", what)
	}
}

func write(t *testing.T, path, text string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		_, err = f.WriteString(text)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
}

func once(t *testing.T, o Options) Told {
	t.Helper()
	told, err := Run(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	return told
}

func TestWhatALineMayBe(t *testing.T) {
	now := time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	// A line whose inputs cannot be understood is counted, and they are not read.
	for in, want := range map[string]string{
		`{"version":"heat-demand@1"}`: "",
		`{"version":7,"at":1772625600,"ms":3.5,"status":200,"inputs":{"a":1},"outputs":{"b":[1]}}`: "",
		`{"version":"7","at":1772625600123,"outcome":"timed_out"}`:                                 "",
		`{"version":"7","at":"2026-03-04T11:59:00.25+01:00"}`:                                      "",
		`{"version":"7","inputs":{"a":{"deep":1}}}`:                                                "",
		`[1]`:                              "it is no JSON object",
		`{"version":"7"`:                   "it is no JSON object",
		``:                                 "it is no JSON object",
		`{}`:                               "it does not say which version answered",
		`{"version":"7","at":"yesterday"}`: `at is "yesterday", not a time`,
		`{"version":"7","at":-1}`:          "at is -1, not a time",
		`{"version":"7","at":true}`:        "at is true, not a time",
		`{"version":"7","at":"2026-03-04T12:10:00Z"}`: "which is still to come",
		`{"version":"7","ms":-1}`:                     "ms is -1, not a number of milliseconds",
		`{"version":"7","ms":"3"}`:                    `ms is "3", not a number of milliseconds`,
		`{"version":"7","status":99}`:                 "status is 99, not one of HTTP",
		`{"version":"7","status":"good"}`:             `status is "good", not one of HTTP`,
		`{"version":"7","outcome":"fine"}`:            `outcome is "fine", not one of answered`,
		`{"version":"7","outcome":"refused"}`:         `outcome is "refused", not one of answered`,
	} {
		_, why := Reading{}.observation([]byte(in), now, now)
		if want == "" && why != "" || !strings.Contains(why, want) {
			t.Errorf("%s: %q, want %q", in, why, want)
		}
	}
	paths := Reading{
		Paths: map[string]string{"inputs": "request.features", "ms": "took", "version": "model"}, Version: "9",
	}
	o, why := paths.observation([]byte(`{"request":{"features":{"a":[1,2]}},"took":2,"outputs":{"b":["x","y"]}}`),
		now, now)
	if why != "" || o.Version != "9" || !o.At.Equal(now) || o.Took != 2*time.Millisecond || len(o.Inputs) != 1 ||
		o.Inputs[0].Rows() != 2 {
		t.Errorf("read as %+v, %s", o, why)
	}
	for _, r := range []Reading{{Paths: map[string]string{"when": "at"}}, {Paths: map[string]string{"at": ""}}} {
		if r.Check() == nil {
			t.Errorf("%v can be read", r.Paths)
		}
	}
}

func TestRowsAreReadInEveryForm(t *testing.T) {
	now := time.Now()
	want := ""
	for _, in := range []string{
		`{"a":[1,null],"b":["x","y"]}`,
		`[{"a":1,"b":"x"},{"b":"y"}]`,
		`[{"name":"a","datatype":"FP64","shape":[2],"data":[1,null]},` +
			`{"name":"b","datatype":"BYTES","shape":[2],"data":["x","y"]}]`,
	} {
		o, why := Reading{}.observation([]byte(`{"version":"1","inputs":`+in+`}`), now, now)
		got := fmt.Sprint(why, o.Unread)
		for _, tensor := range o.Inputs {
			got += fmt.Sprint(" ", tensor.Name, tensor.Shape, tensor.Data)
		}
		got += fmt.Sprint(" ", oip.HashRow(o.Inputs, 0), oip.HashRow(o.Inputs, 1))
		if want == "" {
			want = got
		}
		if got != want || !strings.HasPrefix(got, "false a[2] [1 <nil>] b[2] [x y]") {
			t.Errorf("%s: %s, want %s", in, got, want)
		}
	}
	for _, in := range []string{`{"a":[1,2],"b":[1]}`, `{"a":[[1]]}`, `[1,2]`, `"x"`, `[{"a":1},2]`, `[{"a":{}}]`} {
		o, why := Reading{}.observation([]byte(`{"version":"1","inputs":`+in+`}`), now, now)
		if why != "" || !o.Unread || o.Inputs != nil {
			t.Errorf("%s: %+v %s", in, o, why)
		}
	}
}

// What the service is told is what one pass over all lines gives.
func TestWhatIsToldIsWhatCame(t *testing.T) {
	s := newTown()
	o := options(t, s)
	var direct sketch.Quantiles
	var all bytes.Buffer
	for i := range 20_000 {
		all.WriteString(line(i) + "\n")
		direct.Add(time.Duration(1+i%100) * time.Millisecond)
	}
	all.WriteString(strings.Join([]string{
		`{"version":2,"outcome":"server_error","ms":7}`, `{"version":"2","status":404,"ms":9,"caller":"sif"}`,
		`{"version":"2","inputs":{"x":{"y":1}}}`, "no line", `{"version":"12"}`,
	}, "\n"))
	o.Input = &all
	told := once(t, o)
	if told.Requests != 20_003 || told.Aside != 2 {
		t.Errorf("told of %+v", told)
	}
	one := s.of("heat-demand@1")
	if one.Counts.Requests != 20_000 || one.Content.Rows != 20_000 ||
		one.Content.Inputs["outdoor_c"].Total() != 20_000 || one.Content.Outputs["demand_mw"].Total() != 20_000 {
		t.Errorf("of heat-demand@1: %+v", one.Counts)
	}
	for _, p := range []float64{0.01, 0.5, 0.9, 0.99} {
		if got, want := one.Latency.At(p), direct.At(p); got != want {
			t.Errorf("the %v quantile is %s, directly %s", p, got, want)
		}
	}
	if got, want := one.Latency.Sum(), direct.Sum(); (got - want).Abs() > time.Millisecond {
		t.Errorf("all took %s, directly %s", got, want)
	}
	if n := one.Content.Distinct.Count(); n < 48 || n > 156 {
		t.Errorf("%d inputs were different, of 50 temperatures", n)
	}
	two := s.of("heat-demand@2")
	if c := two.Counts; c.Requests != 3 || c.ServerErrors != 1 || c.CallerErrors != 1 || two.Content.Unread != 1 ||
		two.Latency.Count() != 1 || two.Callers.Count() != 1 {
		t.Errorf("of heat-demand@2: %+v, %d unread", two.Counts, two.Content.Unread)
	}
	state, err := ReadState(t.Context(), o.Dir)
	if err != nil || state.Aside != 2 || state.Batches != 0 || state.Raw != 0 || len(state.Lines) != 2 ||
		!strings.Contains(state.Lines[0].Why+state.Lines[1].Why, "no version is called 12") {
		t.Errorf("the folder holds %+v, %v", state, err)
	}
	// A version that is registered later: what was put aside is told then.
	s.set(func() { s.versions["12"] = "heat-demand@12" })
	o.Input, o.Again = nil, true
	if told := once(t, o); told.Requests != 1 || told.Aside != 1 || s.of("heat-demand@12").Counts.Requests != 1 {
		t.Errorf("told of %+v", told)
	}
}

// A line of very many rows, and very many minutes, are told in batches that the service takes.
func TestMuchIsToldInParts(t *testing.T) {
	s := newTown()
	o := options(t, s)
	var all bytes.Buffer
	for range 3 {
		fmt.Fprintf(&all, `{"version":"heat-demand@1","at":1770000000,"inputs":{"x":[1%s]}}`+"\n",
			strings.Repeat(",2", 50_000))
	}
	for i := range 2000 {
		fmt.Fprintf(&all, `{"version":"2","at":%d,"outputs":{"y":%d}}`+"\n", 1_770_000_000+60*i, i)
	}
	o.Input = &all
	told := once(t, o)
	one, two := s.of("heat-demand@1"), s.of("heat-demand@2")
	if told.Requests != 2003 || one.Content.Rows != 150_003 || two.Counts.Requests != 2000 || told.Batches < 5 ||
		s.largest > 3<<20 {
		t.Errorf("told of %+v in batches of up to %d bytes: %d and %d rows", told, s.largest, one.Content.Rows,
			two.Content.Rows)
	}
}

// A folder that was copied, with a machine's disk, is that of two agents; nothing of either is taken for the other's.
func TestACopiedFolder(t *testing.T) {
	s := newTown()
	o := options(t, s)
	o.Input = strings.NewReader(lines(0, 100))
	once(t, o)
	copied := o
	copied.Dir = t.TempDir()
	raw, err := os.ReadFile(filepath.Join(o.Dir, "agent.db"))
	if err == nil {
		err = os.WriteFile(filepath.Join(copied.Dir, "agent.db"), raw, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		o.Input = strings.NewReader(lines(100+20*i, 110+20*i))
		once(t, o)
		copied.Input = strings.NewReader(lines(110+20*i, 120+20*i))
		once(t, copied)
	}
	if n := s.of("heat-demand@1").Counts.Requests; n != 160 || len(s.last) != 2 {
		t.Errorf("%d requests of %d agents are known", n, len(s.last))
	}
}

// A service that takes batches and does not say so is told again, and nothing counts twice.
func TestTakenAndNotSaid(t *testing.T) {
	s := newTown()
	s.forgetful = 0.5
	o := options(t, s)
	path := filepath.Join(t.TempDir(), "answers.jsonl")
	o.Files = []string{path}
	for i := range 5 {
		write(t, path, lines(i*1000, (i+1)*1000))
		once(t, o)
	}
	if n := s.of("heat-demand@1").Counts.Requests; n != 5000 || s.calls <= 5 {
		t.Errorf("%d requests are known after %d calls", n, s.calls)
	}
}

// An agent that follows a file sees what is added, a file that takes its place, and one that is cut; whatever happens
// while it is away too.
func TestFilesAreFollowed(t *testing.T) {
	s := newTown()
	o := options(t, s)
	o.Once = false
	var log poll.Buffer
	o.Log = slog.New(slog.NewTextHandler(&log, nil))
	path := filepath.Join(t.TempDir(), "answers.jsonl")
	o.Files = []string{path}
	running := func(f func()) {
		ctx, stop := context.WithCancel(t.Context())
		done := make(chan error)
		go func() {
			_, err := Run(ctx, o)
			done <- err
		}()
		f()
		stop()
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	become := func(want uint64) {
		t.Helper()
		await(t, fmt.Sprint(want, " requests are known"), func() bool {
			return s.of("heat-demand@1").Counts.Requests == want
		})
	}
	move := func() {
		t.Helper()
		if err := os.Rename(path, path+".1"); err != nil {
			t.Fatal(err)
		}
	}
	running(func() { // the file is not there yet; a line is only whole with its end
		write(t, path, lines(0, 1000)+line(1000)[:20])
		become(1000)
		write(t, path, line(1000)[20:]+"\n")
		become(1001)
		write(t, path, lines(1001, 1010))
		move()
		write(t, path, lines(1010, 1020))
		become(1020)
	})
	write(t, path, lines(1020, 1030))
	move()
	write(t, path, lines(1030, 1040))
	running(func() { become(1040) })
	// Three files made place for others while nobody looked.
	write(t, path, lines(1040, 1050))
	for i := range 3 {
		moved := fmt.Sprint(path, ".", 5-i)
		if err := os.Rename(path, moved); err != nil {
			t.Fatal(err)
		}
		at := time.Now().Add(time.Duration(i+1) * time.Second) // they are told apart by when they were written
		if err := os.Chtimes(moved, at, at); err != nil {
			t.Fatal(err)
		}
		write(t, path, lines(1050+10*i, 1060+10*i))
	}
	running(func() { become(1080) })
	running(func() {
		if err := os.Truncate(path, 0); err != nil {
			t.Fatal(err)
		}
		// A file that grows again at once would look as if it had only grown.
		await(t, "it is seen that the file was cut", func() bool { return strings.Contains(log.String(), "was cut") })
		write(t, path, lines(1080, 1083))
		become(1083)
	})
	running(func() { become(1083) })
}

// onMessage calls what is set once for a message that is logged.
type onMessage struct {
	message string
	then    func()
}

func (w *onMessage) Write(p []byte) (int, error) {
	if w.then != nil && bytes.Contains(p, []byte(w.message)) {
		then := w.then
		w.then = nil
		then()
	}
	return len(p), nil
}

// Files that make place once more between the moment one is found and the moment it is read are found again.
func TestFilesMoveOnWhileTheyAreRead(t *testing.T) {
	s := newTown()
	o := options(t, s)
	path := filepath.Join(t.TempDir(), "answers.jsonl")
	o.Files = []string{path}
	move := func(from, to string, at time.Time) {
		t.Helper()
		// They are told apart by when they were written last, which a test is too quick for.
		if err := errors.Join(os.Chtimes(from, at, at), os.Rename(from, to)); err != nil {
			t.Error(err)
		}
	}
	write(t, path, lines(0, 10))
	once(t, o)
	write(t, path, lines(10, 20))
	now := time.Now()
	move(path, path+".1", now)
	write(t, path, lines(20, 30))
	on := &onMessage{message: "moved is read to its end", then: func() {
		move(path+".1", path+".2", now)
		move(path, path+".1", now.Add(time.Second))
		write(t, path, lines(30, 40))
	}}
	o.Log = slog.New(slog.NewTextHandler(on, nil))
	once(t, o)
	if n := s.of("heat-demand@1").Counts.Requests; n != 40 || on.then != nil {
		t.Errorf("%d of 40 requests are known", n)
	}
}

func TestTheServiceIsAway(t *testing.T) {
	s := newTown()
	s.away = true
	o := options(t, s)
	o.Once = false
	path := filepath.Join(t.TempDir(), "answers.jsonl")
	write(t, path, lines(0, 2000))
	o.Files = []string{path}
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error)
	go func() {
		_, err := Run(ctx, o)
		done <- err
	}()
	await(t, "the lines are kept", func() bool {
		state, err := ReadState(t.Context(), o.Dir)
		return err == nil && state.Raw > 0
	})
	stop()
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	s.set(func() { s.away = false })
	if err := os.Remove(path); err != nil { // all of it is in the agent's folder
		t.Fatal(err)
	}
	o.Files, o.Once = nil, true
	if told := once(t, o); told.Requests != 2000 {
		t.Errorf("told of %+v", told)
	}
	other := o
	other.Endpoint = "valve-edge"
	if _, err := Run(t.Context(), other); err == nil || !strings.Contains(err.Error(), "an agent of demand-edge") {
		t.Errorf("the folder of another endpoint: %v", err)
	}
}

func TestAFullFolderMakesWait(t *testing.T) {
	s, err := openSpool(t.Context(), t.TempDir(), "demand-edge", 1000)
	if err != nil {
		t.Fatal(err)
	}
	defer s.close()
	if err := s.put(t.Context(), make([]byte, 900), time.Now(), nil); err != nil {
		t.Fatal(err)
	}
	if err := s.put(t.Context(), make([]byte, 200), time.Now(), nil); !errors.Is(err, errFull) {
		t.Errorf("more than may wait: %v", err)
	}
	chunks, err := s.next(t.Context(), 1<<20)
	if err == nil {
		err = s.sum(t.Context(), chunks, nil, nil, time.Now())
	}
	if err == nil {
		err = s.put(t.Context(), make([]byte, 200), time.Now(), nil)
	}
	if err != nil {
		t.Error(err)
	}
}

func TestObservationsArePosted(t *testing.T) {
	s := newTown()
	o := options(t, s)
	o.Once, o.Listen, o.Key = false, "127.0.0.1:0", "sesame"
	at := make(chan string, 1)
	o.Started = func(address string) { at <- address }
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error)
	go func() {
		_, err := Run(ctx, o)
		done <- err
	}()
	address := <-at
	post := func(key, body string) (int, string) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, address+"/observations",
			strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+key)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		b, _ := io.ReadAll(res.Body)
		return res.StatusCode, string(b)
	}
	for _, c := range []struct {
		key, body, says string
		status          int
	}{
		{"sesame", lines(0, 1500), `"taken":1500`, 202},
		{"sesame", line(1500), `"taken":1`, 202}, // without its end
		{"sesame", line(1501) + "\nno line\n", "line 2: it is no JSON object", 422},
		{"wrong", line(1), "agent.key", 401},
		{"sesame", strings.Repeat(" ", largestPost+1), "agent.too_large", 413},
		{"sesame", "", `"taken":0`, 202},
	} {
		if status, says := post(c.key, c.body); status != c.status || !strings.Contains(says, c.says) {
			t.Errorf("%.40q: %d %.200s", c.body, status, says)
		}
	}
	stop()
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	o.Listen, o.Once = "", true
	once(t, o)
	if n := s.of("heat-demand@1").Counts.Requests; n != 1501 {
		t.Errorf("%d requests are known", n)
	}
	o.Listen, o.Key, o.Once = "0.0.0.0:0", "", false
	if _, err := Run(t.Context(), o); err == nil || !strings.Contains(err.Error(), "everybody could post") {
		t.Errorf("without a key where everybody could post: %v", err)
	}
}

// A service that will never do what it is asked ends an agent that has not begun, and one that is to end.
func TestHopelessEndsAtOnce(t *testing.T) {
	p := &client.Problem{}
	p.Status, p.Problem.Code, p.Detail = http.StatusConflict, "elsewhere.here", "it is answered for here"
	o := options(t, nil)
	o.Service = refusing{p}
	o.Input = strings.NewReader(line(0))
	if _, err := Run(t.Context(), o); err == nil || client.Code(err) != "elsewhere.here" {
		t.Errorf("it ended with %v", err)
	}
}

type refusing struct{ with error }

func (r refusing) AgentMet(context.Context, string, string, wire.AgentMet) (wire.AgentKnown, error) {
	return wire.AgentKnown{}, r.with
}

func (r refusing) AgentBatch(context.Context, string, string, elsewhere.Batch) (wire.BatchTaken, error) {
	return wire.BatchTaken{}, r.with
}

// A batch says all that a window has in JSON that others can write too.
func TestABatchSurvivesJSON(t *testing.T) {
	now := time.Now()
	all, _ := Reading{}.parse([]chunk{{at: now, lines: []byte(lines(0, 2000))}}, now)
	k := known{versions: map[string]string{"heat-demand@1": "heat-demand@1"}, bins: map[column]sketch.Bins{}}
	_, values := k.met(all)
	for c, v := range values {
		k.bins[c] = sketch.BinsOfValues(v)
	}
	windows, _ := k.windows(all)
	raw, err := json.Marshal(elsewhere.Batch{Number: 1, Name: "a", Windows: windows})
	if err != nil {
		t.Fatal(err)
	}
	var back elsewhere.Batch
	if err := json.Unmarshal(raw, &back); err != nil {
		t.Fatal(err)
	}
	if err := back.Check(now); err != nil {
		t.Fatal(err)
	}
	for i := range windows {
		was, is := windows[i].Summary(), back.Windows[i].Summary()
		if was.Counts != is.Counts || was.Latency.At(0.9) != is.Latency.At(0.9) ||
			was.Latency.Sum() != is.Latency.Sum() ||
			was.Content.Distinct.Count() != is.Content.Distinct.Count() ||
			string(was.Content.Inputs["outdoor_c"].AppendBinary(nil)) !=
				string(is.Content.Inputs["outdoor_c"].AppendBinary(nil)) {
			t.Fatalf("window %d became %+v, was %+v", i, is.Counts, was.Counts)
		}
	}
}
