package gateway

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/test/foreign"
)

// Model servers made with what others have written: they answer like any model server, with
// the headers and habits of their own.
const (
	nodeServer = `
const http = require('http');
const answer = JSON.stringify({model_name: 'x', outputs: [{name: 'v', shape: [1], datatype: 'FP64', data: [1.5]}]});
const server = http.createServer((req, res) => {
  let n = 0;
  req.on('data', (c) => { n += c.length; });
  req.on('end', () => {
    if (req.url.includes('/chunks')) { res.write(answer.slice(0, 9)); setTimeout(() => res.end(answer.slice(9)), 5); return; }
    res.setHeader('Content-Type', 'application/json');
    res.setHeader('Set-Cookie', 'a=b');
    res.setHeader('X-Got', String(n));
    res.setHeader('X-Sent', req.headers['transfer-encoding'] || req.headers['content-length'] || 'none');
    res.end(answer);
  });
});
server.keepAliveTimeout = KEEP;
server.listen(0, '127.0.0.1', () => console.log(server.address().port));
`
	pythonServer = `
import json
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
answer = json.dumps({"model_name": "x", "outputs": [{"name": "v", "shape": [1], "datatype": "FP64", "data": [1.5]}]}).encode()
class Model(BaseHTTPRequestHandler):
    protocol_version = "HTTP/VERSION"
    timeout = TIMEOUT
    def do_POST(self):
        n = len(self.rfile.read(int(self.headers.get("Content-Length") or 0)))
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(answer)))
        self.send_header("X-Got", str(n))
        self.end_headers()
        self.wfile.write(answer)
    def log_message(self, *args): pass
server = ThreadingHTTPServer(("127.0.0.1", 0), Model)
print(server.server_address[1], flush=True)
server.serve_forever()
`
	nginxConfig = `
worker_processes 1;
daemon off;
pid DIR/nginx.pid;
error_log stderr;
events { worker_connections 64; }
http {
  access_log off;
  client_body_temp_path DIR/body; proxy_temp_path DIR/proxy; fastcgi_temp_path DIR/f; uwsgi_temp_path DIR/u; scgi_temp_path DIR/s;
  client_max_body_size 10m;
  keepalive_timeout 1s;
  upstream model { server BACKEND; keepalive 8; }
  server {
    listen LISTEN;
    location / { proxy_pass http://model; proxy_http_version 1.1; proxy_set_header Connection ""; }
  }
}
`
)

// run runs a program that prints the port at which it listens.
func run(t *testing.T, name string, args ...string) (address string) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, name, args...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cancel(); _ = cmd.Wait() })
	port, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatalf("%s: %v\n%s", name, err, said.String())
	}
	return "http://127.0.0.1:" + strings.TrimSpace(port)
}

func node(t *testing.T, keepAlive string) string {
	return run(t, foreign.Program(t, "node"), "-e", strings.ReplaceAll(nodeServer, "KEEP", keepAlive))
}

func python(t *testing.T, version, timeout string) string {
	return run(t, foreign.Program(t, "python3"), "-c",
		strings.NewReplacer("VERSION", version, "TIMEOUT", timeout).Replace(pythonServer))
}

// nginx runs in front of a backend.
func nginx(t *testing.T, backend string) string {
	t.Helper()
	program, dir := foreign.Program(t, "nginx"), t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := l.Addr().String()
	_ = l.Close()
	text := strings.NewReplacer("DIR", dir, "LISTEN", at, "BACKEND", strings.TrimPrefix(backend, "http://")).
		Replace(nginxConfig)
	if os.Getuid() == 0 { // its workers must reach the directory of the test
		text = "user root;\n" + text
	}
	config := filepath.Join(dir, "nginx.conf")
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, program, "-c", config, "-p", dir)
	var said bytes.Buffer
	cmd.Stderr = &said
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cancel(); _ = cmd.Wait() })
	for end := time.Now().Add(10 * time.Second); ; {
		if c, err := net.Dial("tcp", at); err == nil {
			_ = c.Close()
			return "http://" + at
		}
		if time.Now().After(end) {
			t.Fatalf("nginx does not answer:\n%s", said.String())
		}
	}
}

// Servers of other makers, each with bodies of three sizes, quickly one after the other and
// with pauses about as long as the server's patience: every caller gets an answer. Only a server that ends a
// connection in the very moment in which a request goes out on it may cost one, once: then its patience is known, and
// what may have been computed is not sent again.
func TestServersOfOtherMakers(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(t *testing.T) string{
		"node":                     func(t *testing.T) string { return node(t, "300") },
		"node that closes early":   func(t *testing.T) string { return node(t, "1") },
		"python":                   func(t *testing.T) string { return python(t, "1.1", "0.2") },
		"python in HTTP/1.0":       func(t *testing.T) string { return python(t, "1.0", "0.2") },
		"nginx in front of node":   func(t *testing.T) string { return nginx(t, node(t, "30000")) },
		"nginx in front of python": func(t *testing.T) string { return nginx(t, python(t, "1.1", "30")) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newRigWith(t, Config{Timeout: 10 * time.Second, Connections: 16})
			r.route(laneTo(traffic.Main, 1, traffic.Whole, start(t)))
			n, crossed := uint64(0), uint64(0)
			call := func(size int, chunked bool) {
				t.Helper()
				body := `{"inputs":[{"name":"x","shape":[1],"datatype":"BYTES","data":["` + strings.Repeat("z", size) +
					`"]}]}`
				req, err := http.NewRequestWithContext(t.Context(), "POST", r.url+infer, strings.NewReader(body))
				if err != nil {
					t.Fatal(err)
				}
				if chunked {
					req.ContentLength = -1
				}
				res, err := http.DefaultClient.Do(req)
				if err != nil {
					t.Fatal(err)
				}
				defer res.Body.Close()
				var text bytes.Buffer
				_, err = text.ReadFrom(res.Body)
				if size == 100 && crossed == 0 && res.StatusCode == 502 &&
					strings.Contains(text.String(), "closed the connection before it answered") {
					crossed++
					n++
					return
				}
				if err != nil || res.StatusCode != 200 ||
					!strings.Contains(text.String(), `"model_version":"heat-demand@1"`) ||
					res.Header.Get("Set-Cookie") != "" {
					t.Fatalf("%d bytes: %d %s %v", size, res.StatusCode, text.String(), err)
				}
				if got := res.Header.Get("X-Got"); got != "" && got != fmt.Sprint(len(body)) {
					t.Fatalf("of %d bytes %s arrived", len(body), got)
				}
				n++
			}
			for range 50 {
				call(4, false)
			}
			call(300_000, false)
			call(300_000, true)
			call(2_000_000, false)
			for _, pause := range []time.Duration{150, 200, 250, 300, 310, 950, 1010} {
				<-time.After(pause * time.Millisecond)
				call(100, false)
			}
			if c := r.counts(n)["main heat-demand@1"]; c.Failed() != crossed || c.Requests != n {
				t.Errorf("%+v", c)
			}
		})
	}
}

// Clients of other makers.
func TestClientsOfOtherMakers(t *testing.T) {
	t.Parallel()
	curl, python := foreign.Program(t, "curl"), foreign.Program(t, "python3")
	r := newRigWith(t, Config{Timeout: 10 * time.Second, Connections: 16})
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, func(w http.ResponseWriter, q *http.Request) {
		var b bytes.Buffer
		_, _ = b.ReadFrom(q.Body)
		w.Header().Set("X-Got", fmt.Sprint(b.Len()))
		says("heat-demand@1")(w, q)
	})))
	large := filepath.Join(t.TempDir(), "large.json")
	if err := os.WriteFile(large, []byte(`{"inputs":["`+strings.Repeat("z", 3<<20)+`"]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"curl": {[]string{curl, "-sf", r.url + infer, "-d", "{}"}, "heat-demand@1"},
		"curl, large": {
			[]string{curl, "-sfi", r.url + infer, "--data-binary", "@" + large},
			"X-Got: 3145743",
		},
		"curl, in chunks": {[]string{
			curl, "-sfi", r.url + infer, "-H", "Transfer-Encoding: chunked",
			"--data-binary", "@" + large,
		}, "X-Got: 3145743"},
		"curl, HTTP/1.0": {[]string{curl, "-sf0", r.url + infer, "-d", "{}"}, "heat-demand@1"},
		"curl, twice": {
			[]string{curl, "-sf", r.url + "/v2", r.url + "/v2/health/ready"},
			`"ready":true`,
		},
		"curl, HEAD": {[]string{curl, "-sfI", r.url + "/v2"}, "200 OK"},
		"curl, refused before it sent": {[]string{
			curl, "-s", r.url + "/v2/models/none/infer", "--data-binary",
			"@" + large,
		}, "endpoint.unknown"},
		"python": {[]string{python, "-c", `
import sys, urllib.request
print(urllib.request.urlopen(urllib.request.Request(sys.argv[1], data=b"{}")).read())`, r.url + infer}, "heat-demand@1"},
		"python, kept": {[]string{python, "-c", `
import sys, http.client
c = http.client.HTTPConnection(sys.argv[1][7:])
for i in range(3):
    c.request("POST", sys.argv[2], body=iter([b"{", b"}"]), encode_chunked=True, headers={"Transfer-Encoding": "chunked"})
    print(c.getresponse().read())`, r.url, infer}, "heat-demand@1"},
	} {
		out, err := exec.CommandContext(t.Context(), c.args[0], c.args[1:]...).CombinedOutput()
		if err != nil || !strings.Contains(string(out), c.want) {
			t.Errorf("%s: %v\n%.2000s", name, err, out)
		}
	}
}
