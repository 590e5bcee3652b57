package gateway

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"innerladder/internal/core/traffic"
)

// raw is a server that reads requests as they should be and answers as a test says: it may
// write anything. turn counts the requests on a connection; it returns whether the
// connection goes on.
type raw func(c net.Conn, turn int) (more bool)

func (answer raw) start(t *testing.T) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	var open []net.Conn
	t.Cleanup(func() {
		_ = l.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range open {
			_ = c.Close()
		}
	})
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			open = append(open, c)
			mu.Unlock()
			go answer.serve(c)
		}
	}()
	return "http://" + l.Addr().String()
}

func (answer raw) serve(c net.Conn) {
	defer c.Close()
	r := bufio.NewReader(c)
	for turn := 0; ; turn++ {
		req, err := http.ReadRequest(r)
		if err != nil {
			return
		}
		if _, err := io.Copy(io.Discard, req.Body); err != nil || !answer(c, turn) {
			return
		}
	}
}

const good = `{"model_name":"x","outputs":[{"name":"v","shape":[1],"datatype":"FP64","data":[1]}]}`

// says writes something and goes on.
func writes(text string) raw {
	return func(c net.Conn, _ int) bool { _, err := io.WriteString(c, text); return err == nil }
}

// writesAndCloses writes something and closes.
func writesAndCloses(text string) raw {
	return func(c net.Conn, _ int) bool { _, _ = io.WriteString(c, text); return false }
}

func whole(lines ...string) string {
	return "HTTP/1.1 200 OK\r\n" + strings.Join(append(lines, ""), "\r\n") +
		fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(good), good)
}

// beside calls another endpoint of the gateway for as long as the test runs: whatever one
// model server does, the callers of others notice nothing.
func (r *rig) beside() (stop func()) {
	r.t.Helper()
	if err := r.g.Route(traffic.Route{
		Endpoint: "valve-check", Split: 1,
		Lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(r.t, says("valve")))},
	}); err != nil {
		r.t.Fatal(err)
	}
	done := make(chan struct{})
	var all sync.WaitGroup
	var wrong, right atomic.Int64
	all.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
			}
			res, err := http.Post(r.url+"/v2/models/valve-check/infer", "application/json",
				strings.NewReader(`{"inputs":[]}`))
			if err != nil || res.StatusCode != 200 {
				wrong.Add(1)
			} else {
				right.Add(1)
			}
			if err == nil {
				_, _ = io.Copy(io.Discard, res.Body)
				_ = res.Body.Close()
			}
		}
	})
	return func() {
		close(done)
		all.Wait()
		if wrong.Load() > 0 || right.Load() == 0 {
			r.t.Errorf("of the other endpoint %d calls failed, %d went well", wrong.Load(), right.Load())
		}
	}
}

// page is an answer that was never meant for callers.
const page = "<html>at 10.1.2.3: Traceback (most recent call last)</html>"

// sized is an answer with a status, further lines of its head, and a body.
func sized(status, body string, lines ...string) string {
	return "HTTP/1.1 " + status + "\r\n" + strings.Join(append(lines, ""), "\r\n") +
		fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body), body)
}

// modelServers are servers that do everything that one may do, with what the caller gets of it.
var modelServers = map[string]struct {
	server raw
	status int
	code   string
}{
	"as Node's server": {
		writes(whole("Connection: keep-alive", "Keep-Alive: timeout=5", "X-Other: 1")), 200,
		"",
	},
	"until the end": {writesAndCloses("HTTP/1.0 200 OK\r\n\r\n" + good), 200, ""},
	"chunks": {writes("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n" + good[:5] +
		"\r\n" + fmt.Sprintf("%x", len(good)-5) + "\r\n" + good[5:] + "\r\n0\r\n\r\n"), 200, ""},
	"more to come first": {writes("HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 103 Early Hints\r\nLink: x\r\n\r\n" +
		whole()), 200, ""},
	"bytes after the answer": {writes(whole() + "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"), 200, ""},
	"a little at a time":     {dribbles(whole(), time.Millisecond), 200, ""},
	"too slowly":             {dribbles(whole(), 200*time.Millisecond), 504, "model_server.too_slow"},
	"hangs": {
		func(c net.Conn, _ int) bool { _, _ = c.Read(make([]byte, 1)); return false }, 504,
		"model_server.too_slow",
	},
	"hangs in the body": {func(c net.Conn, _ int) bool {
		_, _ = io.WriteString(c, whole()[:60])
		_, _ = c.Read(make([]byte, 1))
		return false
	}, 504, "model_server.too_slow"},
	"closes without a word": {writesAndCloses(""), 502, "model_server.failed"},
	"closes in the head":    {writesAndCloses("HTTP/1.1 200 OK\r\nContent-"), 502, "model_server.malformed"},
	"closes in the body":    {writesAndCloses(whole()[:len(whole())-5]), 502, "model_server.malformed"},
	"closes in a chunk": {
		writesAndCloses("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nff\r\n{"),
		502, "model_server.malformed",
	},
	"a length that is too short": {
		writes("HTTP/1.1 200 OK\r\nContent-Length: 10\r\n\r\n" + good), 502,
		"model_server.malformed",
	},
	"a length that is too long": {
		writesAndCloses("HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\n" + good), 502,
		"model_server.malformed",
	},
	"two lengths":            {writes(whole("Content-Length: 3")), 502, "model_server.malformed"},
	"a length beside chunks": {writes(whole("Transfer-Encoding: chunked")), 502, "model_server.malformed"},
	"a length that is none": {
		writes("HTTP/1.1 200 OK\r\nContent-Length: many\r\n\r\n"), 502,
		"model_server.malformed",
	},
	"a gigabyte": {
		writes("HTTP/1.1 200 OK\r\nContent-Length: 1073741824\r\n\r\n{"), 502,
		"model_server.malformed",
	},
	"another protocol": {writes("SSH-2.0-OpenSSH_9.2p1 Debian\r\n\r\n"), 502, "model_server.malformed"},
	"a head without end": {writes("HTTP/1.1 200 OK\r\n" +
		strings.Repeat("X: "+strings.Repeat("y", 100)+"\r\n", 400)), 502, "model_server.malformed"},
	"a folded line": {writes(whole("X: 1", " 2")), 502, "model_server.malformed"},
	"a page":        {writes(sized("200 OK", page)), 502, "model_server.malformed"},
	"NaN": {
		writes(sized("200 OK", strings.ReplaceAll(good, "[1]}", "[NaN]}"))), 502,
		"model_server.malformed",
	},
	"nothing":        {writes(sized("200 OK", "")), 502, "model_server.malformed"},
	"no content":     {writes("HTTP/1.1 204 No Content\r\n\r\n"), 502, "model_server.malformed"},
	"JSON cut short": {writes(sized("200 OK", good[:30])), 502, "model_server.malformed"},
	"no outputs":     {writes(sized("200 OK", `{"error":"sorry"}`)), 502, "model_server.malformed"},
	"elsewhere": {
		writes(sized("302 Found", "", "Location: http://10.1.2.3/")), 502,
		"model_server.malformed",
	},
	"another protocol wanted": {writes("HTTP/1.1 101 Switching Protocols\r\nUpgrade: h2c\r\nConnection: " +
		"Upgrade\r\n\r\n"), 502, "model_server.malformed"},
	"compressed unasked": {
		writes(sized("200 OK", "\x1f\x8b\x08\x00", "Content-Encoding: gzip")), 502,
		"model_server.malformed",
	},
	"binary that adds up": {writes(sized("200 OK",
		`{"outputs":[{"name":"v","parameters":{"binary_data_size":4}}]}`+"\x00\x00\x80\x3f",
		"Inference-Header-Content-Length: 62")), 200, ""},
	"binary that does not": {writes(sized("200 OK",
		`{"outputs":[{"name":"v","parameters":{"binary_data_size":8}}]}`+"\x00\x00\x80\x3f",
		"Inference-Header-Content-Length: 62")), 502, "model_server.malformed"},
	"a page as an error": {writes(sized("500 Internal Server Error", page)), 500, "model_server.error"},
	"an error of the protocol": {writes(sized("422 Unprocessable Entity",
		`{"error":"wind_ms is missing","code":"theirs"}`)), 422, "theirs"},
	"an unknown status": {writes(sized("299 Well", good)), 299, ""},
	"cookies": {writes(whole("Set-Cookie: a=b", "Set-Cookie: c=d", "Alt-Svc: h3",
		"Strict-Transport-Security: x")), 200, ""},
}

func TestWhateverAModelServerSends(t *testing.T) {
	t.Parallel()
	for name, c := range modelServers {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newHastyRig(t)
			stop := r.beside()
			r.route(laneTo(traffic.Main, 1, traffic.Whole, c.server.start(t)))
			for range 3 {
				status, header, body := r.call("POST", infer)
				var e struct{ Error, Code string }
				if status != c.status || json.Unmarshal([]byte(strings.SplitAfter(body, "}]}")[0]), &e) != nil &&
					c.status != 200 || e.Code != c.code {
					t.Fatalf("%d %s", status, body)
				}
				if strings.Contains(body, "10.1.2.3") || strings.Contains(body, "127.0.0.1") ||
					strings.Contains(body, "Traceback") {
					t.Errorf("the caller reads what only we may know: %s", body)
				}
				for _, name := range []string{
					"Set-Cookie", "Location", "Upgrade", "Keep-Alive", "Alt-Svc",
					"Strict-Transport-Security",
				} {
					if header.Get(name) != "" {
						t.Errorf("%s was passed on", name)
					}
				}
				if header.Get(VersionHeader) != "heat-demand@1" || len(header.Get(RequestHeader)) != 36 {
					t.Errorf("the answer does not say who gave it: %v", header)
				}
			}
			stop()
		})
	}
}

// dribbles writes a little at a time.
func dribbles(text string, pause time.Duration) raw {
	return func(c net.Conn, _ int) bool {
		tick := time.NewTicker(pause)
		defer tick.Stop()
		for piece := range slices.Chunk([]byte(text), 8) {
			<-tick.C
			if _, err := c.Write(piece); err != nil {
				return false
			}
		}
		return true
	}
}

// Every combination of what is said about a connection, in both versions and with every
// framing: the answer is the same, and so is the next.
func TestEveryWayToSpeakOfAConnection(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	connections := []string{
		"", "Connection: keep-alive", "Connection: close", "Connection: Keep-Alive, X-Mine",
		"connection: X-Mine", "Connection: close, close",
	}
	keepAlives := []string{
		"", "Keep-Alive: timeout=5", "Keep-Alive: timeout=1, max=1", "Keep-Alive: timeout=0",
		"Keep-Alive: nonsense", "Keep-Alive: timeout=99999999999999",
	}
	framings := []string{
		fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(good), good),
		fmt.Sprintf("Transfer-Encoding: chunked\r\n\r\n%x\r\n%s\r\n0\r\n\r\n", len(good), good), "\r\n" + good,
	}
	for _, version := range []string{"HTTP/1.0", "HTTP/1.1"} {
		for _, connection := range connections {
			for _, keep := range keepAlives {
				for i, framing := range framings {
					if version == "HTTP/1.0" && i == 1 {
						continue
					}
					head := version + " 200 OK\r\n"
					for _, line := range []string{connection, keep, "X-Mine: secret", "X-Last: 1"} {
						if line != "" {
							head += line + "\r\n"
						}
					}
					// A server does what it says.
					ends := i == 2 || strings.Contains(connection, "close") ||
						(version == "HTTP/1.0" && !strings.Contains(connection, "eep"))
					address := raw(func(c net.Conn, _ int) bool {
						_,
							_ = io.WriteString(c, head+framing)
						return !ends
					}).start(t)
					r.route(laneTo(traffic.Main, 1, traffic.Whole, address))
					for range 2 {
						status, header, body := r.call("POST", infer)
						if status != 200 || header.Get("X-Last") != "1" || header.Get("Keep-Alive") != "" ||
							(header.Get("X-Mine") != "") == strings.Contains(connection, "X-Mine") {
							t.Fatalf("%q: %d %v %s", head, status, header, body)
						}
					}
				}
			}
		}
	}
}

// patient waits long enough for a machine that is busy with other things.
var patient = Config{IDs: testIDs, Timeout: 20 * time.Second, Connections: 64}

// A server that closes connections that are idle, at once or after a while, whatever it
// said: nobody's request fails for it.
func TestServersThatCloseIdleConnections(t *testing.T) {
	t.Parallel()
	t.Run("at once, without saying so", func(t *testing.T) {
		t.Parallel()
		r := newRigWith(t, patient)
		r.route(laneTo(traffic.Main, 1, traffic.Whole, writesAndCloses(whole("Connection: keep-alive")).start(t)))
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				for range 100 {
					if status, _, body := r.call("POST", infer); status != 200 {
						t.Errorf("%d %s", status, body)
						return
					}
				}
			})
		}
		all.Wait()
	})
	t.Run("after 20 ms", func(t *testing.T) {
		t.Parallel()
		r := newRigWith(t, patient)
		address := raw(func(c net.Conn, _ int) bool {
			_, _ = io.WriteString(c, whole())
			_ = c.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
			return true
		}).start(t)
		r.route(laneTo(traffic.Main, 1, traffic.Whole, address))
		// As regular as the server's patience is long, so that it often closes just then.
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for range 100 {
			<-tick.C
			if status, _, body := r.call("POST", infer); status != 200 {
				t.Fatalf("%d %s", status, body)
			}
		}
		if c := r.counts(100)["main heat-demand@1"]; c.Failed() != 0 {
			t.Errorf("%+v", c)
		}
	})
}

// An answer that is far too long and never ends is broken off, in memory that does not
// grow; the caller can tell that it is not whole.
func TestAnAnswerWithoutEnd(t *testing.T) {
	t.Parallel()
	r := newRigWith(t, Config{Timeout: 20 * time.Second, Connections: 4})
	piece := strings.Repeat("1,", 1<<15)
	address := raw(func(c net.Conn, _ int) bool {
		_, _ = io.WriteString(c, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n")
		text := `{"outputs":[{"data":[`
		for {
			if _, err := fmt.Fprintf(c, "%x\r\n%s\r\n", len(text), text); err != nil {
				return false
			}
			text = piece
		}
	}).start(t)
	r.route(laneTo(traffic.Main, 1, traffic.Whole, address))
	res, err := http.Post(r.url+infer, "application/json", strings.NewReader("{}"))
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	n, err := io.Copy(io.Discard, res.Body)
	if err == nil || n > largestBody+heldBody {
		t.Errorf("%d bytes came, and then %v", n, err)
	}
	if held := r.g.Status().Bodies; held > 2*heldBody {
		t.Errorf("%d bytes are held", held)
	}
	if c := r.counts(1)["main heat-demand@1"]; c.Malformed != 1 {
		t.Errorf("%+v", c)
	}
}

// A large answer passes through and is named.
func TestALargeAnswer(t *testing.T) {
	t.Parallel()
	r := newRigWith(t, Config{Timeout: 20 * time.Second, Connections: 4})
	large := `{"outputs":[{"name":"v","shape":[1],"datatype":"FP64","data":[` + strings.Repeat("1.25,", 3<<18) +
		`1]}],"model_version":"7"}`
	for _, head := range []string{
		fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(large), large),
		fmt.Sprintf("Transfer-Encoding: chunked\r\n\r\n%x\r\n%s\r\n0\r\n\r\n", len(large), large),
	} {
		r.route(laneTo(traffic.Main, 1, traffic.Whole, writes("HTTP/1.1 200 OK\r\n"+head).start(t)))
		status, _, body := r.call("POST", infer)
		if status != 200 || !json.Valid([]byte(body)) ||
			!strings.HasSuffix(body, `"model_version":"heat-demand@1","model_name":"demand-hourly"}`) ||
			len(body) < len(large) {
			t.Fatalf("%d, %d of %d bytes: …%s", status, len(body), len(large), body[max(0, len(body)-100):])
		}
	}
	if c := r.counts(2)["main heat-demand@1"]; c.Failed() != 0 {
		t.Errorf("%+v", c)
	}
	// In HTTP/1.0 it ends with the connection, whatever the caller asked for.
	old := r.talk("POST "+infer+" HTTP/1.0\r\nConnection: keep-alive\r\nContent-Length: 2\r\n\r\n{}", 1)[0]
	body, _ := io.ReadAll(old.Body)
	if !json.Valid(body) || !old.Close || len(body) < len(large) {
		t.Errorf("in HTTP/1.0: %v, %d bytes", old.Header, len(body))
	}
}

// talk sends bytes to the gateway as they are and reads what comes until it closes, or for
// so many answers.
func (r *rig) talk(send string, answers int) []*http.Response {
	r.t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
	if err != nil {
		r.t.Fatal(err)
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	go func() { _, _ = io.WriteString(c, send) }()
	var out []*http.Response
	b := bufio.NewReader(c)
	for range answers {
		res, err := http.ReadResponse(b, nil)
		if err != nil {
			r.t.Fatalf("answer %d to %.200q: %v", len(out)+1, send, err)
		}
		body, err := io.ReadAll(res.Body)
		if err != nil {
			r.t.Fatal(err)
		}
		res.Body = io.NopCloser(bytes.NewReader(body))
		if res.StatusCode != 100 {
			out = append(out, res)
		}
	}
	return out
}

const post = "POST " + infer + " HTTP/1.1\r\nHost: a\r\n"

// sentByCallers is what one may send, with the answers.
var sentByCallers = map[string]struct {
	send   string
	status []int
}{
	"two at once": {post + "Content-Length: 2\r\n\r\n{}" + post +
		"Content-Length: 2\r\n\r\n{}", []int{200, 200}},
	"chunks": {post + "Transfer-Encoding: chunked\r\n\r\n1\r\n{\r\n1\r\n}\r\n0\r\n\r\n" +
		post + "Content-Length: 2\r\n\r\n{}", []int{200, 200}},
	"no body":  {post + "\r\n", []int{200}},
	"HTTP/1.0": {"POST " + infer + " HTTP/1.0\r\nContent-Length: 2\r\n\r\n{}", []int{200}},
	"HTTP/1.0 that keeps": {
		"POST " + infer +
			" HTTP/1.0\r\nConnection: keep-alive\r\nContent-Length: 2\r\n\r\n{}GET /v2 HTTP/1.0\r\n\r\n",
		[]int{200, 200},
	},
	"a proxy's form": {"POST http://a" + infer +
		" HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\n{}", []int{200}},
	"an encoded name": {"POST /v2/models/demand%2Dhourly/infer?x=1 HTTP/1.1\r\nHost: " +
		"a\r\nContent-Length: 2\r\n\r\n{}", []int{200}},
	"what encodes nothing": {"POST /v2/models/demand%zz/infer HTTP/1.1\r\nHost: a\r\nContent-Length: " +
		"2\r\n\r\n{}", []int{404}},
	"HEAD": {"GET /v2/health/live HTTP/1.1\r\nHost: a\r\n\r\n", []int{200}},
	"no such endpoint, from the head": {"POST /v2/models/none/infer HTTP/1.1\r\nHost: a\r\nContent-Length: " +
		"60000000\r\n\r\n", []int{404}},
	"no key, from the head": {"POST /v2/models/locked/infer HTTP/1.1\r\nHost: a\r\nContent-Length: " +
		"60000000\r\n\r\n", []int{401}},
	"too large, from the head": {post + "Content-Length: 600000000\r\n\r\n", []int{413}},
	"too large, asked first": {
		post + "Content-Length: 600000000\r\nExpect: 100-continue\r\n\r\n",
		[]int{413},
	},
	"too large in chunks": {post + "Transfer-Encoding: chunked\r\n\r\n" +
		strings.Repeat("100000\r\n"+strings.Repeat(" ", 1<<20)+"\r\n", 66), []int{413}},
	"two lengths": {post + "Content-Length: 2\r\nContent-Length: 2\r\n\r\n{}", []int{400}},
	"a length beside chunks": {
		post + "Content-Length: 2\r\nTransfer-Encoding: chunked\r\n\r\n{}",
		[]int{400},
	},
	"compressed chunks": {post + "Transfer-Encoding: gzip, chunked\r\n\r\n", []int{501}},
	"a slow head":       {post + "X: ", []int{408}},
	"a slow body":       {post + "Content-Length: 100\r\n\r\n{", []int{408}},
	"a slow large body": {post + "Content-Length: 3000000\r\n\r\n{", []int{408}},
	"a slow chunk":      {post + "Transfer-Encoding: chunked\r\n\r\n5\r\n{", []int{408}},
	"a head without end": {
		post + strings.Repeat("X: "+strings.Repeat("y", 100)+"\r\n", 400),
		[]int{431},
	},
	"many fields":           {post + strings.Repeat("X: y\r\n", 200) + "\r\n", []int{431}},
	"a method that is none": {"BREW " + infer + " HTTP/1.1\r\nHost: a\r\n\r\n", []int{405}},
	"another protocol":      {"SSH-2.0-OpenSSH_9.2p1\r\n\r\n", []int{400}},
	"HTTP/2":                {"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", []int{505}},
	"a path that is none, with a body": {
		"POST /predict HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\n{}",
		[]int{404},
	},
}

func TestWhateverACallerSends(t *testing.T) {
	t.Parallel()
	r := newRigFor(t, Config{Timeout: 30 * time.Second, Connections: 64},
		&patience{head: time.Second, block: time.Second, idle: time.Minute})
	if err := r.g.Route(traffic.Route{
		Endpoint: "locked", Split: 1, Keyed: true,
		Lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(t, says("x")))},
	}); err != nil {
		t.Fatal(err)
	}
	r.route(laneTo(traffic.Main, 1, traffic.Whole, writes(whole()).start(t)))
	for name, c := range sentByCallers {
		t.Run(name, func(t *testing.T) {
			for i, res := range r.talk(c.send, len(c.status)) {
				var e struct{ Error, Code string }
				body, _ := io.ReadAll(res.Body)
				if err := json.Unmarshal(body, &e); err != nil || res.StatusCode != c.status[i] ||
					(res.StatusCode >= 400) != (e.Code != "" && e.Error != "") {
					t.Errorf("answer %d: %d %s", i+1, res.StatusCode, body)
				}
				if res.Header.Get("Date") == "" && res.StatusCode >= 400 {
					t.Error("the answer has no date")
				}
			}
		})
	}
	res := r.talk(post+"Content-Length: 2\r\nExpect: 100-continue\r\n\r\n{}", 1)
	if len(res) == 1 && res[0].StatusCode != 200 {
		t.Errorf("who asks first: %d", res[0].StatusCode)
	}
}

// When the caller leaves, the try is given up: the model server's connection ends, and the
// version is told that it was too slow for its caller.
func TestACallerWhoLeaves(t *testing.T) {
	t.Parallel()
	r := newRigWith(t, Config{Timeout: time.Minute, Connections: 4})
	came, ended := make(chan struct{}), make(chan struct{})
	address := raw(func(c net.Conn, _ int) bool {
		close(came)
		_, _ = c.Read(make([]byte, 1)) // until the gateway gives up
		close(ended)
		return false
	}).start(t)
	r.route(laneTo(traffic.Main, 1, traffic.Whole, address))
	c, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	_, _ = io.WriteString(c, post+"Content-Length: 2\r\n\r\n{}")
	<-came
	_ = c.Close()
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Fatal("the try was not given up")
	}
	if c := r.counts(1)["main heat-demand@1"]; c.Abandoned != 1 {
		t.Errorf("%+v", c)
	}
}

// A failure counts on the lane that caused it, also when another answers in its place,
// which it may where asking twice does no harm.
func TestFailuresCountWhereTheyHappen(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		trial      raw
		repeatable bool
		status     int
	}{
		"malformed, repeatable":     {writes("HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nNaN"), true, 200},
		"malformed, not repeatable": {writes("HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nNaN"), false, 502},
		"closes, repeatable":        {writesAndCloses(""), true, 200},
		"closes, not repeatable":    {writesAndCloses(""), false, 502},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := newRig(t)
			lanes := []traffic.RouteLane{
				laneTo(traffic.Main, 1, 0, model(t, says("heat-demand@1"))),
				laneTo(traffic.Trial, 2, traffic.Whole, c.trial.start(t)),
			}
			if err := r.g.Route(traffic.Route{
				Endpoint: "demand-hourly", Split: 4, Repeatable: c.repeatable,
				Lanes: lanes,
			}); err != nil {
				t.Fatal(err)
			}
			const n = 10
			for range n {
				if status, _, body := r.call("POST", infer); status != c.status {
					t.Fatalf("%d %s", status, body)
				}
			}
			wanted := uint64(n)
			if c.repeatable {
				wanted = 2 * n
			}
			counts := r.counts(wanted)
			if got := counts["trial heat-demand@2"]; got.Failed() != n || got.Drawn != n || got.Fallback != 0 {
				t.Errorf("trial: %+v", got)
			}
			if got := counts["main heat-demand@1"]; got.Failed() != 0 || got.Fallback != wanted-n || got.Drawn != 0 {
				t.Errorf("main: %+v", got)
			}
		})
	}
}

// A small answer that is none, then a large one from another lane: nothing of the first is
// left over.
func TestALargeAnswerAfterAMalformedOne(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	large := `{"outputs":["` + strings.Repeat("z", 100_000) + `"]}`
	lanes := []traffic.RouteLane{
		laneTo(traffic.Main, 1, 0, writes("HTTP/1.1 200 OK\r\nContent-Length: "+fmt.Sprint(len(large))+"\r\n\r\n"+
			large).start(t)),
		laneTo(traffic.Trial, 2, traffic.Whole, writes("HTTP/1.1 200 OK\r\nContent-Length: 3\r\n\r\nNaN").start(t)),
	}
	if err := r.g.Route(traffic.Route{
		Endpoint: "demand-hourly", Split: 4, Repeatable: true,
		Lanes: lanes,
	}); err != nil {
		t.Fatal(err)
	}
	for range 5 {
		if status, _, body := r.call("POST", infer); status != 200 || len(body) < len(large) {
			t.Fatalf("%d, %d bytes", status, len(body))
		}
	}
}

// However many ask at once, everybody gets their own answer, errors too.
func TestAnswersAreNotMixedUp(t *testing.T) {
	t.Parallel()
	r := newRigWith(t, Config{Timeout: 5 * time.Second, Connections: 64})
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, func(w http.ResponseWriter, q *http.Request) {
		if q.Header.Get("X-Status") == "422" {
			w.WriteHeader(422)
		}
		fmt.Fprintf(w, `{"outputs":[],"error":%q}`, q.Header.Get("X-Mine"))
	})))
	var all sync.WaitGroup
	for i := range 16 {
		all.Go(func() {
			for k := range 100 {
				mine := fmt.Sprintf("%d of %d", k, i)
				status := []string{"200", "422"}[k%2]
				got, _, body := r.call("POST", infer, "X-Mine", mine, "X-Status", status)
				if fmt.Sprint(got) != status || !strings.Contains(body, `"`+mine+`"`) {
					t.Errorf("%s for %s: %d %s", mine, status, got, body)
					return
				}
			}
		})
	}
	all.Wait()
}

// Bodies in flight have a budget; what is beyond it is asked to come again, at once.
func TestTheBudgetOfBodies(t *testing.T) {
	t.Parallel()
	r := newRigWith(t, Config{Timeout: 5 * time.Second, Connections: 64, Bodies: 1 << 20})
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, says("heat-demand@1"))))
	c, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_, _ = io.WriteString(c, post+"Content-Length: 800000\r\n\r\n{")
	for end := time.Now().Add(5 * time.Second); r.g.Status().Bodies < 800000; {
		if time.Now().After(end) {
			t.Fatal("the body is not held")
		}
	}
	res := r.talk(post+"Content-Length: 800000\r\n\r\n", 1)[0]
	if res.StatusCode != 503 || res.Header.Get("Retry-After") == "" {
		t.Errorf("%d %v", res.StatusCode, res.Header)
	}
	if status, _, body := r.call("POST", infer); status != 200 {
		t.Errorf("a small request beside it: %d %s", status, body)
	}
}

// A panic in our own code concerns one request.
func TestAPanicConcernsOneRequest(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, says("heat-demand@1"))))
	sound := r.g.find([]byte("demand-hourly"))
	broken := *sound
	broken.lanes = []*lane{nil}
	(*r.g.routes.Load())["demand-hourly"].Store(&broken)
	if status, _, body := r.call("POST", infer); status != 500 || !strings.Contains(body, "gateway.failed") {
		t.Errorf("%d %s", status, body)
	}
	(*r.g.routes.Load())["demand-hourly"].Store(sound)
	if status, _, _ := r.call("POST", infer); status != 200 {
		t.Errorf("the next one: %d", status)
	}
	if r.g.panics.Swap(0) != 1 {
		t.Error("it was not counted")
	}
}

// A route that cannot be put in force leaves the last good one, and other endpoints alone;
// what a request found out about an address is not overwritten by a route that says the
// same as before.
func TestRoutesAreSwappedOneByOne(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	stop := r.beside()
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, says("heat-demand@1"))))
	bad := traffic.Route{
		Endpoint: "demand-hourly", Split: 5,
		Lanes: []traffic.RouteLane{laneTo(traffic.Main, 2, traffic.Whole, "gopher://nowhere")},
	}
	if err := r.g.Route(bad); err == nil || !strings.Contains(err.Error(), "last good one") {
		t.Errorf("%v", err)
	}
	if status, header, _ := r.call("POST", infer); status != 200 || header.Get(VersionHeader) != "heat-demand@1" {
		t.Errorf("%d by %s", status, header.Get(VersionHeader))
	}
	dead := laneTo(traffic.Main, 1, traffic.Whole, "http://127.0.0.1:1")
	for range 5 {
		r.route(dead)
		r.call("POST", infer)
	}
	if n := r.refused.Load(); n != 1 {
		t.Errorf("an address that a request found dead was tried %d times", n)
	}
	fallen := dead
	fallen.Addresses = []traffic.RouteAddress{{URL: "http://127.0.0.1:1"}}
	r.route(fallen) // the records know it too, and then that it is back
	r.route(dead)
	r.call("POST", infer)
	if n := r.refused.Load(); n != 2 {
		t.Errorf("an address that recovered was tried %d times in all", n)
	}
	stop()
	r.g.Endpoints([]string{"demand-hourly"})
	if status, _, _ := r.call("POST", "/v2/models/valve-check/infer"); status != 404 {
		t.Errorf("an endpoint that is gone: %d", status)
	}
}
