package upstream

import (
	"bufio"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/http1"
)

const answer = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n{}"

// server answers every request with the same bytes, and tells of every connection.
func server(t *testing.T, says string) (address string, connections chan net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	connections = make(chan net.Conn, 64)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			connections <- c
			go func() {
				defer c.Close()
				for r := bufio.NewReader(c); ; {
					if _, err := http.ReadRequest(r); err != nil {
						return
					}
					if _, err := io.WriteString(c, says); err != nil {
						return
					}
				}
			}()
		}
	}()
	return "http://" + l.Addr().String(), connections
}

func address(t *testing.T, url string, most int) *Address {
	t.Helper()
	a, err := New(url, most, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(a.Close)
	return a
}

// ask sends one request and keeps the connection as if it were now.
func ask(t *testing.T, a *Address, now time.Time) (reused bool) {
	t.Helper()
	c, f := a.Connect(nil, now, now.Add(time.Minute), false, false)
	if f != nil {
		t.Fatal(f)
	}
	reused = c.Reused()
	if _, err := io.WriteString(c, "GET / HTTP/1.1\r\nHost: a\r\n\r\n"); err != nil {
		t.Fatal(err)
	}
	var head http1.Head
	memory, framing, f := c.Receive(time.Now(), time.Now().Add(5*time.Second), nil, &head, nil)
	if f != nil {
		t.Fatalf("%v, %q", f, memory)
	}
	var body http1.Body
	body.Reset(c.R, framing)
	if _, err := io.ReadAll(&body); err != nil {
		t.Fatal(err)
	}
	c.Keep(now, &head)
	return reused
}

func TestConnectionsAreKeptForAsLongAsTheServerKeepsThem(t *testing.T) {
	now := time.Now()
	for name, c := range map[string]struct {
		says string
		keep time.Duration
	}{
		"says nothing": {answer, idleTime},
		"says 60 seconds": {
			strings.Replace(answer, "Content", "Keep-Alive: timeout=60\r\nContent", 1),
			59 * time.Second,
		},
		"says 1 second": {
			strings.Replace(answer, "Content", "Keep-Alive: timeout=1\r\nContent", 1),
			500 * time.Millisecond,
		},
		"closes":         {strings.Replace(answer, "Content", "Connection: close\r\nContent", 1), 0},
		"speaks unasked": {answer + "HTTP/1.1 200 OK\r\n", 0},
	} {
		t.Run(name, func(t *testing.T) {
			url, _ := server(t, c.says)
			a := address(t, url, 4)
			ask(t, a, now)
			if c.keep > 0 {
				if !ask(t, a, now.Add(c.keep-time.Millisecond)) {
					t.Errorf("it was not kept for %s", c.keep)
				}
			}
			if ask(t, a, now.Add(3*c.keep+time.Millisecond)) {
				t.Errorf("it was kept for longer than %s", c.keep)
			}
		})
	}
}

// When a kept connection turns out closed, others are kept for less long, for a while.
func TestAServersPatienceIsLearned(t *testing.T) {
	url, connections := server(t, answer)
	a := address(t, url, 4)
	now := time.Now()
	ask(t, a, now)
	_ = (<-connections).Close()
	idle := a.pool(-1).idle[0]
	for end := time.Now().Add(5 * time.Second); idle.Quiet() && time.Now().Before(end); {
	}
	if ask(t, a, now.Add(2*time.Second)) {
		t.Fatal("a closed connection was used")
	}
	if learned := a.learned.Load(); learned == nil || learned.keeps != 1500*time.Millisecond {
		t.Fatalf("learned %v from 2 s", learned)
	}
	if ask(t, a, now.Add(2*time.Second+1600*time.Millisecond)) {
		t.Error("a connection was kept for longer than was learned")
	}
	later := now.Add(learnedFor + time.Minute)
	ask(t, a, later)
	if !ask(t, a, later.Add(3*time.Second)) {
		t.Error("what was learned is never forgotten")
	}
}

func TestConnectionsAreBounded(t *testing.T) {
	url, _ := server(t, answer)
	a := address(t, url, 4)
	now := time.Now()
	var held []*Conn
	for i := range 2 {
		c, f := a.Connect(nil, now, now.Add(time.Second), false, true)
		if f != nil {
			t.Fatalf("stream %d: %v", i, f)
		}
		held = append(held, c)
	}
	if _, f := a.Connect(nil, now, now.Add(time.Second), false, true); f == nil || !f.Safe {
		t.Error("large bodies may take more than half of the connections")
	}
	for range 2 {
		c, f := a.Connect(nil, now, now.Add(time.Second), false, false)
		if f != nil {
			t.Fatal(f)
		}
		held = append(held, c)
	}
	if _, f := a.Connect(nil, now, now.Add(time.Second), false, false); f == nil ||
		!strings.Contains(f.What, "4 connections") {
		t.Errorf("a fifth of four connections: %v", f)
	}
	for _, c := range held {
		c.Discard()
	}
	if a.open != 0 || a.streams != 0 {
		t.Errorf("%d open, %d streams after all have ended", a.open, a.streams)
	}
	ask(t, a, now)
	a.Tidy(now.Add(time.Minute))
	if idle := len(a.pool(-1).idle); a.open != 0 || idle != 0 {
		t.Errorf("%d open, %d idle after a minute", a.open, idle)
	}
}

func TestWhyNobodyCouldBeAsked(t *testing.T) {
	now := time.Now()
	for url, want := range map[string]Failure{
		"http://127.0.0.1:1":              {Class: sketch.NotReached, Safe: true, Refused: true},
		"http://nowhere.tarnholm.invalid": {Class: sketch.NotReached, Safe: true, Refused: true},
	} {
		_, f := address(t, url, 4).Connect(nil, now, now.Add(5*time.Second), false, false)
		if f == nil || f.Class != want.Class || f.Safe != want.Safe || f.Refused != want.Refused ||
			strings.Contains(f.What, "127.0.0.1") || strings.Contains(f.What, "nowhere") {
			t.Errorf("%s: %+v", url, f)
		}
	}
	for _, bad := range []string{"", "127.0.0.1:80", "ftp://a", "http://", "http://a b"} {
		if _, err := New(bad, 1, true); err == nil {
			t.Errorf("%q is an address", bad)
		}
	}
}

func TestTLS(t *testing.T) {
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = io.WriteString(w, "{}")
	}))
	defer srv.Close()
	now := time.Now()
	a := address(t, srv.URL, 4)
	if _, f := a.Connect(nil, now, now.Add(5*time.Second), false, false); f == nil || !f.Safe {
		t.Errorf("a certificate of nobody was taken: %v", f)
	}
	a.secure.RootCAs = srv.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs
	ask(t, a, now)
	ask(t, a, now)
}

func TestChoosing(t *testing.T) {
	var all []*Address
	for _, url := range []string{"http://a", "http://b", "http://c"} {
		all = append(all, address(t, url, 1))
	}
	all[0].MarkDown()
	for range 10 {
		all[1].Begin()
	}
	got := map[*Address]int{}
	for range 200 {
		got[Choose(all, nil)]++
	}
	if got[all[0]] != 0 || got[all[2]] < 150 {
		t.Errorf("down %d, busy %d, idle %d", got[all[0]], got[all[1]], got[all[2]])
	}
	if Choose(all, all) != nil || Choose(nil, nil) != nil {
		t.Error("somebody was chosen of nobody")
	}
	all[0].Recorded(true) // what the records have said all along changes nothing
	if !all[0].Down() {
		t.Error("what a request found out was overwritten")
	}
	all[0].Recorded(false)
	all[0].Recorded(true)
	if all[0].Down() {
		t.Error("it has recovered")
	}
}
