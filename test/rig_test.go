// Package test drives the real binary on loopback, through its command line, its API,
// the gateway and its console.
package test

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/gateway"
	"innerladder/internal/wire"
	"innerladder/test/browser"
	"innerladder/test/poll"
)

// binary is the real program, built once.
var binary string

// chromium is the browser of all tests.
var chromium func() (*browser.Browser, error)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "innerladder-test-")
	if err != nil {
		panic(err)
	}
	binary = filepath.Join(dir, "innerladder")
	if out, err := exec.Command("go", "build", "-o", binary, "innerladder/cmd/innerladder").
		CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the binary: %v\n%s", err, out)
		os.Exit(1)
	}
	// What services have in their environment that nothing which they start may see.
	if err := os.Setenv("A_SECRET_OF_THE_SERVICE", "hush"); err != nil {
		panic(err)
	}
	flag.Parse()
	// Services and browsers are mostly waited for: four at the same time keep two processors busy.
	if err := flag.Set("test.parallel", strconv.Itoa(2*runtime.GOMAXPROCS(0))); err != nil {
		panic(err)
	}
	// One browser for all tests, each with a tab of its own: starting one takes seconds.
	stop := func() {}
	chromium = sync.OnceValues(func() (*browser.Browser, error) {
		b, err := browser.Start(context.Background(), filepath.Join(dir, "profile"))
		if err == nil {
			stop = b.Stop
		}
		return b, err
	})
	code := m.Run()
	stop()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// process is a running program of ours.
type process struct {
	t    *testing.T
	cmd  *exec.Cmd
	out  *bufio.Reader
	log  *poll.Buffer
	done chan error
}

// run starts the program; it is killed when the test ends, if it still runs.
func run(t *testing.T, args ...string) *process {
	t.Helper()
	p := &process{t: t, cmd: exec.Command(binary, args...), log: &poll.Buffer{}, done: make(chan error, 1)}
	p.cmd.Stderr = p.log
	read, write, err := os.Pipe()
	must(t, err)
	p.cmd.Stdout = write
	p.out = bufio.NewReader(read)
	must(t, p.cmd.Start())
	_ = write.Close()
	go func() { p.done <- p.cmd.Wait() }()
	t.Cleanup(func() {
		_ = p.cmd.Process.Kill()
		_ = read.Close()
		if t.Failed() {
			t.Logf("log of innerladder %s:\n%s", strings.Join(args, " "), p.log)
		}
	})
	return p
}

// line reads the next line that the program prints.
func (p *process) line() string {
	p.t.Helper()
	type said struct {
		text string
		err  error
	}
	ch := make(chan said, 1)
	go func() {
		text, err := p.out.ReadString('\n')
		ch <- said{strings.TrimSpace(text), err}
	}()
	select {
	case s := <-ch:
		if s.err != nil {
			p.t.Fatalf("the program ended: %v\n%s", s.err, p.log)
		}
		return s.text
	case <-time.After(30 * time.Second):
		p.t.Fatalf("the program said nothing\n%s", p.log)
	}
	return ""
}

// stop asks the program to end and returns how it did.
func (p *process) stop(signal os.Signal) error {
	p.t.Helper()
	must(p.t, p.cmd.Process.Signal(signal))
	select {
	case err := <-p.done:
		return err
	case <-time.After(30 * time.Second):
		p.t.Fatal("the program did not end")
	}
	return nil
}

// house is a running service with people who know it.
type house struct {
	*process
	t               *testing.T
	data            string
	server, gateway string
	// runa is the owner, tove does everything else; the files hold their tokens.
	runa, tove         *client.Client
	runaFile, toveFile string
	runaToken          string
	// listen is the address of the console, any when empty; options are further ones of
	// serve.
	listen  string
	options []string
	// sent and ended count the requests of its callers.
	sent, ended atomic.Int64
}

// more waits until so many more requests have ended.
func (h *house) more(n int64) {
	h.t.Helper()
	before := h.ended.Load()
	await(h.t, "more requests", 30*time.Second, func() bool { return h.ended.Load() >= before+n })
}

// freeAddress finds an address that nobody listens at.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer l.Close()
	return l.Addr().String()
}

// open starts a service on a new data directory.
func open(t *testing.T) *house {
	t.Helper()
	h := &house{t: t, data: filepath.Join(t.TempDir(), "data")}
	h.start()
	h.tove, h.toveFile = h.person("tove", "author", "approver", "operator")
	return h
}

// start starts the service on the data directory, again or for the first time.
func (h *house) start() {
	h.t.Helper()
	listen := h.listen
	if listen == "" {
		listen = "127.0.0.1:0"
	}
	h.process = run(h.t, append([]string{
		"serve", "-data", h.data, "-listen", listen, "-gateway", "127.0.0.1:0",
		"-model-timeout", "5s",
	}, h.options...)...)
	address := func() string { s := h.line(); return s[strings.LastIndex(s, " ")+1:] }
	h.server, h.gateway = address(), address()
	if h.runaFile == "" { // for the first time
		made, err := client.ComeIn(h.t.Context(), address(), "runa", password, "test", "")
		must(h.t, err)
		h.runaToken = made.Secret
		h.runaFile = h.tokenFile("runa", made.Secret)
	}
	h.runa = client.New(h.server, h.runaToken)
}

// password is everybody's.
const password = "four words of nonsense"

// person adds someone with roles everywhere, who comes in by their link.
func (h *house) person(name string, roles ...string) (*client.Client, string) {
	h.t.Helper()
	n := wire.NewPerson{Name: name}
	for _, r := range roles {
		n.Memberships = append(n.Memberships, access.Membership{Project: access.Everywhere, Role: r})
	}
	added, err := h.runa.AddPerson(h.t.Context(), n)
	must(h.t, err)
	made, err := client.ComeIn(h.t.Context(), added.Link, "", password, "test", "")
	must(h.t, err)
	return client.New(h.server, made.Secret), h.tokenFile(name, made.Secret)
}

func (h *house) tokenFile(name, token string) string {
	file := filepath.Join(h.t.TempDir(), name+".token")
	must(h.t, os.WriteFile(file, []byte(token), 0o600))
	return file
}

// cli runs a command as a person and returns its exit code and what it printed.
func (h *house) cli(tokenFile string, args ...string) (code int, out, messages string) {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, binary, append(args, "-server", h.server, "-token-file", tokenFile)...)
	cmd.Env = append(os.Environ(), "HOME="+h.t.TempDir(), "XDG_CONFIG_HOME=")
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		h.t.Fatal(err)
	}
	return cmd.ProcessState.ExitCode(), o.String(), e.String()
}

// as runs a command that must succeed and returns what it printed.
func (h *house) as(tokenFile string, args ...string) string {
	h.t.Helper()
	code, out, messages := h.cli(tokenFile, args...)
	if code != 0 {
		h.t.Fatalf("innerladder %s: exit %d: %s%s", strings.Join(args, " "), code, out, messages)
	}
	return strings.TrimSpace(out)
}

// files holds a fitted model y = 1 + slope·x, and a sample of it.
func (h *house) files(slope float64) (model, sample string) {
	h.t.Helper()
	dir := h.t.TempDir()
	model, sample = filepath.Join(dir, "model.json"), filepath.Join(dir, "rows.csv")
	must(h.t, os.WriteFile(model, fmt.Appendf(nil, `{"format":"innerladder-standin-model/1","name":"heat-demand",
		"inputs":[{"name":"x","type":"number"}],"output":{"name":"y","type":"number"},
		"terms":[{"of":["x"],"how":"value","centre":0,"scale":1}],"weights":[[1,%v]],"fill":{"x":0}}`, slope), 0o600))
	must(h.t, os.WriteFile(sample, []byte("x,y\n1.5,2.5\n0.25,1.25\n"), 0o600))
	return model, sample
}

// many are so many rows of a version of slope 1, enough for a reference profile from 200 on.
func (h *house) many(n int) string {
	h.t.Helper()
	rows := []byte("x,y\n")
	for i := range n {
		rows = fmt.Appendf(rows, "%d.5,%d.5\n", i%100, 1+i%100)
	}
	file := filepath.Join(h.t.TempDir(), "many.csv")
	must(h.t, os.WriteFile(file, rows, 0o600))
	return file
}

// measured writes the report of an evaluation that measured an rmse.
func (h *house) measured(rmse float64) string {
	h.t.Helper()
	file := filepath.Join(h.t.TempDir(), "evaluation.json")
	must(h.t, os.WriteFile(file, fmt.Appendf(nil, `{"rows": 1000, "metrics": {"rmse": %v}}`, rmse), 0o600))
	return file
}

// standin starts a model server for a model file and returns its address.
func (h *house) standin(model string, args ...string) (*process, string) {
	h.t.Helper()
	p := run(h.t, append([]string{"standin", "-listen", "127.0.0.1:0", "-model", model}, args...)...)
	address, _, _ := strings.Cut(p.line(), " ")
	return p, address
}

// twoVersions brings two versions to live, places them, and sends all traffic of
// demand-hourly to the first. It returns the addresses of their model servers.
func (h *house) twoVersions() (one, two string) { return h.twoVersionsOf("") }

// twoVersionsOf registers them with rows of a file.
func (h *house) twoVersionsOf(rows string) (one, two string) {
	h.t.Helper()
	h.as(h.runaFile, "environment", "add", "plant-north", "-allow", "127.0.0.0/8")
	var at [2]string
	for i := range at {
		model, sample := h.files(1 + 0.0001*float64(i))
		sample = cmp.Or(rows, sample)
		ref := h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target",
			"y", "-report", h.measured(0.4-0.1*float64(i)))
		h.as(h.runaFile, "promote", ref, "-to", "live")
		h.as(h.toveFile, "sign", fmt.Sprintf("P-%d", i+1), "-yes")
		_, at[i] = h.standin(model)
		h.as(h.runaFile, "place", ref, "-env", "plant-north", "-at", at[i])
	}
	h.as(h.runaFile, "endpoint", "add", "demand-hourly", "-model", "heat-demand", "-env", "plant-north")
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=100", "-why", "opening night")
	return at[0], at[1]
}

// caller calls demand-hourly over connections that stay open.
type caller struct {
	http *http.Client
	url  string
	// sent counts requests that have been written, ended those that have an answer or an
	// error; both of all callers of the house.
	sent, ended *atomic.Int64
}

func (h *house) caller(connections int) *caller {
	return &caller{
		&http.Client{
			Timeout:   10 * time.Second,
			Transport: &http.Transport{MaxIdleConnsPerHost: connections},
		},
		h.gateway + "/v2/models/demand-hourly/infer", &h.sent, &h.ended,
	}
}

// infer calls once and returns the status, the version named in the header, and the
// body.
func (c *caller) infer(x float64) (int, string, []byte, error) {
	defer c.ended.Add(1)
	ctx := httptrace.WithClientTrace(context.Background(),
		&httptrace.ClientTrace{WroteRequest: func(httptrace.WroteRequestInfo) { c.sent.Add(1) }})
	body := fmt.Sprintf(`{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[%v]}]}`, x)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.url, strings.NewReader(body))
	if err != nil {
		return 0, "", nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := c.http.Do(req)
	if err != nil {
		return 0, "", nil, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return res.StatusCode, res.Header.Get(gateway.VersionHeader), b, err
}

// await polls until something holds.
func await(t *testing.T, what string, within time.Duration, holds func() bool) {
	t.Helper()
	if !poll.Within(within, holds) {
		t.Fatalf("%s did not come within %s", what, within)
	}
}

// killed is how a program ends that was killed.
func killed(err error) bool {
	var exit *exec.ExitError
	if !errors.As(err, &exit) {
		return false
	}
	status, ok := exit.Sys().(syscall.WaitStatus)
	return ok && status.Signaled() && status.Signal() == syscall.SIGKILL
}
