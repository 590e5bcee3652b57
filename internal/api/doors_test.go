package api_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/internal/wire"
)

// dialled is a connection to the API on which single requests are written by hand.
type dialled struct {
	net.Conn
	r *bufio.Reader
	t *testing.T
}

func (r *rig) dial() *dialled {
	r.t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(r.server, "http://"))
	must(r.t, err)
	r.t.Cleanup(func() { _ = c.Close() })
	return &dialled{c, bufio.NewReader(c), r.t}
}

// says writes a request and reads its answer.
func (d *dialled) says(text string) (*http.Response, string) {
	d.t.Helper()
	must(d.t, d.SetDeadline(time.Now().Add(30*time.Second)))
	_, err := io.WriteString(d, text)
	must(d.t, err)
	res, err := http.ReadResponse(d.r, nil)
	must(d.t, err)
	body, err := io.ReadAll(res.Body)
	must(d.t, err)
	return res, string(body)
}

// adding begins a call that adds an endpoint.
const adding = "POST /api/v1/endpoints HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\n"

// Who is not let in hears so although the body has not come, and nothing of it is kept.
func TestNobodyIsReadBeforeTheyAreLetIn(t *testing.T) {
	r := newRig(t)
	reader := r.person("reader", everywhere("reader")...)
	for name, c := range map[string]struct {
		head   string
		status int
	}{
		"nobody":          {"", 401},
		"a wrong token":   {"Authorization: Bearer ilt_nothing\r\n", 401},
		"one who may not": {"Authorization: Bearer " + reader + "\r\n", 403},
	} {
		for length, begun := range map[string]string{
			// The server library reads so much before it asks what to do with a request.
			"Content-Length: 4000000":    strings.Repeat(" ", 8<<10),
			"Transfer-Encoding: chunked": "",
		} {
			res, body := r.dial().says(adding + c.head + length + "\r\n\r\n" + begun)
			if res.StatusCode != c.status || !res.Close {
				t.Errorf("%s, %s: %d, closed %v: %s", name, length, res.StatusCode, res.Close, body)
			}
		}
	}
	// A small body is heard out, and the connection serves the next call.
	d := r.dial()
	small := adding + "Content-Length: 2\r\n\r\n{}"
	for range 3 {
		if res, body := d.says(small); res.StatusCode != 401 || res.Close {
			t.Fatalf("%d, closed %v: %s", res.StatusCode, res.Close, body)
		}
	}
	if res, body := d.says("GET /readyz HTTP/1.1\r\nHost: localhost\r\n\r\n"); res.StatusCode != 200 {
		t.Errorf("afterwards: %d %s", res.StatusCode, body)
	}
	// What needs no sign-in takes no large body.
	large := fmt.Sprintf(`{"name":%q}`, strings.Repeat("x", 100<<10))
	res, body := r.dial().says(fmt.Sprintf("POST /api/v1/session HTTP/1.1\r\nHost: localhost\r\n"+
		"Sec-Fetch-Site: same-origin\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s",
		len(large), large))
	if res.StatusCode != 413 {
		t.Errorf("a large sign-in: %d %s", res.StatusCode, body)
	}
}

// A repeated call is still known by its body, which is read after who makes it.
func TestRepeatsAreKnownByTheirBody(t *testing.T) {
	r := newRig(t)
	d := r.dial()
	call := func(body string) (*http.Response, string) {
		return d.says(fmt.Sprintf("POST /api/v1/projects HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\n"+
			"Idempotency-Key: once\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s",
			r.runaToken, len(body), body))
	}
	one, first := call(`{"name":"harbour"}`)
	again, second := call(`{"name":"harbour"}`)
	if one.StatusCode != 201 || again.StatusCode != 201 || first != second {
		t.Errorf("%d %s, again %d %s", one.StatusCode, first, again.StatusCode, second)
	}
	if other, body := call(`{"name":"harbour-2"}`); other.StatusCode != 409 {
		t.Errorf("another body: %d %s", other.StatusCode, body)
	}
}

// Only names that are ours are answered to, whatever is asked for.
func TestNamesOfOthers(t *testing.T) {
	r := newRig(t)
	for host, want := range map[string]int{
		"127.0.0.1": 200, "10.1.2.3:7400": 200, "[::1]:7400": 200, "localhost": 200, "LOCALHOST.:80": 200,
		"ladder.town.example": 200, "Ladder.Town.Example:443": 200, "a.models.example": 200, "a.b.models.example": 200,
		"models.example": 421, "evil-models.example": 421, "ladder.town.example.evil.example": 421, "town.example": 421,
		"localhost.evil.example": 421, "a b": 400, "ladder.town.example@evil.example": 421, "0x7f000001": 421,
	} {
		for _, path := range []string{"/readyz", "/metrics", "/api/v1/models", "/"} {
			res, body := r.dial().says("GET " + path + " HTTP/1.1\r\nHost: " + host + "\r\nAuthorization: Bearer " +
				r.runaToken + "\r\nConnection: close\r\n\r\n")
			if res.StatusCode != want && (want != 200 || path != "/" || res.StatusCode != 404) {
				t.Errorf("%s at %q: %d, want %d: %s", path, host, res.StatusCode, want, body)
			}
			if want == 421 &&
				(!strings.Contains(body, "-hosts") || res.Header.Get("Content-Type") != wire.ProblemType) {
				t.Errorf("%s at %q: %s", path, host, body)
			}
		}
	}
}
