package http1

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/valyala/fasthttp"
)

func TestRequestsThatMayBePassedOn(t *testing.T) {
	for name, c := range map[string]struct {
		head   string
		status int // 0 is taken
	}{
		"plain":                 {"POST /v2 HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\n\r\n", 0},
		"empty lines before it": {"\r\n\r\nGET / HTTP/1.1\r\nHost: a\r\n\r\n", 0},
		"HTTP/1.0 without Host": {"GET / HTTP/1.0\r\n\r\n", 0},
		"chunked":               {"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: Chunked\r\n\r\n", 0},
		"no Host":               {"GET / HTTP/1.1\r\n\r\n", 400},
		"two Hosts":             {"GET / HTTP/1.1\r\nHost: a\r\nHost: a\r\n\r\n", 400},
		"two lengths":           {"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nContent-Length: 3\r\n\r\n", 400},
		"a list of lengths":     {"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3, 3\r\n\r\n", 400},
		"a length with a sign":  {"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: +3\r\n\r\n", 400},
		"an empty length":       {"POST / HTTP/1.1\r\nHost: a\r\nContent-Length:\r\n\r\n", 400},
		"length and chunked": {"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nTransfer-Encoding: " +
			"chunked\r\n\r\n", 400},
		"chunked twice": {"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\nTransfer-Encoding: " +
			"chunked\r\n\r\n", 501},
		"gzip, chunked":          {"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: gzip, chunked\r\n\r\n", 501},
		"chunked in HTTP/1.0":    {"POST / HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n", 400},
		"a space before a colon": {"GET / HTTP/1.1\r\nHost : a\r\n\r\n", 400},
		"a folded line":          {"GET / HTTP/1.1\r\nHost: a\r\nX: 1\r\n 2\r\n\r\n", 400},
		"a bare line feed":       {"GET / HTTP/1.1\r\nHost: a\nX: 1\r\n\r\n", 400},
		"a bare return":          {"GET / HTTP/1.1\r\nHost: a\rX: 1\r\n\r\n", 400},
		"a zero byte":            {"GET / HTTP/1.1\r\nHost: a\x00\r\n\r\n", 400},
		"no version":             {"GET /\r\nHost: a\r\n\r\n", 400},
		"another version":        {"GET / HTTP/2.0\r\nHost: a\r\n\r\n", 505},
		"a tab in the line":      {"GET\t/ HTTP/1.1\r\nHost: a\r\n\r\n", 400},
		"bytes in the target":    {"GET /\xff HTTP/1.1\r\nHost: a\r\n\r\n", 400},
		"many fields": {
			"GET / HTTP/1.1\r\nHost: a\r\n" + strings.Repeat("A: b\r\n", mostFields) + "\r\n",
			431,
		},
	} {
		t.Run(name, func(t *testing.T) {
			var h Head
			n, err := h.ParseRequest([]byte(c.head))
			if err == nil {
				_, err = h.RequestFraming()
			}
			var b *BadMessage
			status := 0
			if errors.As(err, &b) {
				status = b.Status
			}
			if status != c.status || (c.status == 0 && n != len(c.head)) {
				t.Errorf("%v (%d), of %d bytes %d were taken", err, status, len(c.head), n)
			}
			for cut := range len(c.head) - 1 { // whatever is missing, it says so or refuses
				if _, err := h.ParseRequest([]byte(c.head[:cut])); err == nil {
					t.Fatalf("%d of %d bytes are a whole head", cut, len(c.head))
				}
			}
		})
	}
}

func TestAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		head      string
		ok        bool
		framing   Framing
		closes    bool
		keepAlive int
	}{
		"as Node's server sends": {"HTTP/1.1 200 OK\r\nConnection: keep-alive\r\nKeep-Alive: " +
			"timeout=5\r\nContent-Length: 7\r\n\r\n", true, Framing{Length: 7}, false, 5},
		"until the end": {"HTTP/1.0 200 OK\r\n\r\n", true, Framing{Length: -1}, true, 0},
		"kept in HTTP/1.0": {"HTTP/1.0 200 OK\r\nConnection: Keep-Alive\r\nKeep-Alive: max=3, " +
			"timeout=15\r\nContent-Length: 0\r\n\r\n", true, Framing{}, false, 15},
		"no content": {"HTTP/1.1 204 No Content\r\n\r\n", true, Framing{}, false, 0},
		"without a reason": {
			"HTTP/1.1 200\r\nTransfer-Encoding: chunked\r\n\r\n", true,
			Framing{Length: -1, Chunked: true},
			false, 0,
		},
		"two lengths": {
			"HTTP/1.1 200 OK\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\n", false,
			Framing{},
			false, 0,
		},
		"no status":        {"HTTP/1.1 OK\r\n\r\n", false, Framing{}, false, 0},
		"a status of four": {"HTTP/1.1 2000 OK\r\n\r\n", false, Framing{}, false, 0},
		"something else":   {"SSH-2.0-OpenSSH_9.2\r\n\r\n", false, Framing{}, false, 0},
	} {
		t.Run(name, func(t *testing.T) {
			var h Head
			_, err := h.ParseAnswer([]byte(c.head))
			var f Framing
			if err == nil {
				f, err = h.AnswerFraming()
			}
			if (err == nil) != c.ok {
				t.Fatal(err)
			}
			if c.ok && (f != c.framing || h.Closes() != c.closes || h.KeepAlive() != c.keepAlive) {
				t.Errorf("%+v, closes %v, kept for %d s", f, h.Closes(), h.KeepAlive())
			}
		})
	}
}

// Fields about one connection are dropped in every combination and order, whichever
// Connection names.
func TestWhatIsAboutTheConnectionIsNotPassedOn(t *testing.T) {
	lines := []string{
		"Connection: keep-alive", "Keep-Alive: timeout=5", "Connection: X-Secret, close", "X-Secret: 1",
		"TE: trailers", "Trailer: X", "Upgrade: h2c",
		"Proxy-Connection: keep-alive", "Transfer-Encoding: chunked", "Content-Length: 3",
	}
	for mask := range 1 << len(lines) {
		var text strings.Builder
		text.WriteString("HTTP/1.1 200 OK\r\nFirst: 1\r\n")
		for i, l := range lines {
			if mask>>i&1 == 1 {
				text.WriteString(l + "\r\n")
			}
		}
		text.WriteString("Last: 1\r\n\r\n")
		var h Head
		if _, err := h.ParseAnswer([]byte(text.String())); err != nil {
			t.Fatal(err)
		}
		want := []string{"First"}
		if mask>>3&1 == 1 && mask>>2&1 == 0 {
			want = append(want, "X-Secret")
		}
		want = append(want, "Last")
		var got []string
		for _, i := range h.Passed(nil) {
			got = append(got, string(h.Fields[i].Name))
		}
		if !slices.Equal(got, want) {
			t.Fatalf("%q: %v are passed on, want %v", text.String(), got, want)
		}
	}
}

func TestBodies(t *testing.T) {
	chunked := Framing{Length: -1, Chunked: true}
	for name, c := range map[string]struct {
		wire    string
		framing Framing
		want    string
		ok      bool
		rest    string
	}{
		"a length":             {"abcdef", Framing{Length: 3}, "abc", true, "def"},
		"cut short":            {"ab", Framing{Length: 3}, "ab", false, ""},
		"until the end":        {"abc", Framing{Length: -1}, "abc", true, ""},
		"chunks":               {"3\r\nabc\r\n2;x=y\r\nde\r\n0\r\nT: 1\r\n\r\nnext", chunked, "abcde", true, "next"},
		"no last chunk":        {"3\r\nabc\r\n", chunked, "abc", false, ""},
		"a chunk that is long": {"3\r\nabcd\r\n0\r\n\r\n", chunked, "abc", false, ""},
		"a size with a sign":   {"+3\r\nabc\r\n0\r\n\r\n", chunked, "", false, ""},
		"a huge size":          {"ffffffffffffffff\r\nabc", chunked, "", false, ""},
		"a bare line feed":     {"3\nabc\r\n0\r\n\r\n", chunked, "", false, ""},
		"an endless extension": {
			"3;" + strings.Repeat("x", 2*longestLine) + "\r\nabc\r\n0\r\n\r\n", chunked, "", false,
			"",
		},
		"endless trailers": {"0\r\n" + strings.Repeat("A: b\r\n", longestLine) + "\r\n", chunked, "", false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := bufio.NewReaderSize(strings.NewReader(c.wire), 16<<10)
			var b Body
			b.Reset(r, c.framing)
			got, err := io.ReadAll(&b)
			if string(got) != c.want || (err == nil) != c.ok || b.Done() != c.ok {
				t.Fatalf("%q, %v, done %v", got, err, b.Done())
			}
			if rest, _ := io.ReadAll(r); c.ok && string(rest) != c.rest {
				t.Errorf("%q is left, want %q", rest, c.rest)
			}
		})
	}
}

func TestReadingAHead(t *testing.T) {
	const head = "\r\n\r\nGET / HTTP/1.1\r\nHost: a\r\n\r\n"
	for _, size := range []int{1, 3, 1000} {
		var h Head
		r := bufio.NewReaderSize(&slowly{strings.NewReader(head + "rest"), size}, 4096)
		if memory, err := ReadHead(r, nil, h.ParseRequest); err != nil || string(h.Target) != "/" ||
			!strings.HasPrefix(string(memory), head) {
			t.Errorf("%d bytes at a time: %q, %v", size, memory, err)
		}
		if rest, _ := io.ReadAll(r); string(rest) != "rest" {
			t.Errorf("%d bytes at a time: %q is left", size, rest)
		}
	}
	var h Head
	r := bufio.NewReaderSize(strings.NewReader(strings.Repeat("x", 5000)), 4096)
	var bad *BadMessage
	if _, err := ReadHead(r, nil, h.ParseRequest); !errors.As(err, &bad) || bad.Status != 431 {
		t.Error(err)
	}
}

// slowly reads so many bytes at a time at most.
type slowly struct {
	io.Reader
	most int
}

func (s *slowly) Read(p []byte) (int, error) { return s.Reader.Read(p[:min(len(p), s.most)]) }

// FuzzRequest holds the parser against net/http's and fasthttp's. What it takes, both
// others must take, and all three must agree on method, target, fields and the length of
// the body. The other way round it may be stricter. Known differences are named.
func FuzzRequest(f *testing.F) {
	for _, s := range []string{
		"POST /v2/models/a/infer HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\n\r\nabc",
		"GET / HTTP/1.0\r\nConnection: keep-alive\r\n\r\n",
		"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n",
		"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\nabc",
		"GET http://b/x?y HTTP/1.1\r\nHost: a\r\nX: \t1\t\r\n\r\n",
		"OPTIONS * HTTP/1.1\r\nHost: a\r\n\r\n",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, wire []byte) {
		var h Head
		n, err := h.ParseRequest(wire)
		if err != nil {
			return
		}
		framing, err := h.RequestFraming()
		if err != nil {
			return
		}
		compareWithNetHTTP(t, wire, &h, framing, n)
		compareWithFasthttp(t, wire[:n], &h, framing)
	})
}

func compareWithNetHTTP(t *testing.T, wire []byte, h *Head, framing Framing, n int) {
	theirs, err := http.ReadRequest(bufio.NewReader(bytes.NewReader(bytes.TrimLeft(wire, "\r\n"))))
	if err != nil {
		// net/http also reads the target, the host and some values, which we leave to
		// whoever uses them.
		for _, known := range []string{
			"invalid URI", "invalid URL", "malformed Host", "invalid URL port", "parse ",
			"malformed HTTP version", "invalid method", "bad trailer key",
		} {
			if strings.Contains(err.Error(), known) {
				return
			}
		}
		t.Fatalf("we take %q, net/http says %v", wire, err)
	}
	if theirs.Method != string(h.Method) || theirs.RequestURI != string(h.Target) {
		t.Fatalf("%q: %q %q, net/http reads %q %q", wire, h.Method, h.Target, theirs.Method, theirs.RequestURI)
	}
	length := theirs.ContentLength
	if framing.Length != length && !(framing.Chunked && length == -1) {
		t.Fatalf("%q: a body of %+v, net/http reads %d", wire, framing, length)
	}
	for _, f := range h.Fields {
		if f.Known == Host || f.Known == TransferEncoding || f.Known == Trailer {
			continue
		}
		if got := theirs.Header.Values(string(f.Name)); !slices.Contains(got, string(f.Value)) {
			t.Fatalf("%q: %q is %q, net/http reads %q", wire, f.Name, f.Value, got)
		}
	}
	// Both must also agree on where the body ends.
	var b Body
	b.Reset(bufio.NewReaderSize(bytes.NewReader(wire[n:]), 16<<10), framing)
	ours, err := io.ReadAll(&b)
	if err != nil {
		return
	}
	if their, err := io.ReadAll(theirs.Body); err != nil || !bytes.Equal(ours, their) {
		if err != nil && strings.Contains(err.Error(), "trailer") {
			return // we drop trailers unread
		}
		t.Fatalf("%q: the body is %q, net/http reads %q, %v", wire, ours, their, err)
	}
}

func compareWithFasthttp(t *testing.T, head []byte, h *Head, framing Framing) {
	var theirs fasthttp.RequestHeader
	if err := theirs.Read(bufio.NewReaderSize(bytes.NewReader(bytes.TrimLeft(head, "\r\n")), 64<<10)); err != nil {
		return // it refuses more; net/http has been asked already
	}
	if string(theirs.Method()) != string(h.Method) || string(theirs.RequestURI()) != string(h.Target) {
		t.Fatalf("%q: %q %q, fasthttp reads %q %q", head, h.Method, h.Target, theirs.Method(), theirs.RequestURI())
	}
	if n := theirs.ContentLength(); framing.Length > 0 && int64(n) != framing.Length && !theirs.IsGet() &&
		!theirs.IsHead() {
		t.Fatalf("%q: a body of %+v, fasthttp reads %d", head, framing, n)
	}
}
