package http1

import (
	"bytes"
	"errors"
	"fmt"
)

// Field is one header field. Both parts lie in the memory that the head was read from.
type Field struct {
	Name, Value []byte
	// Known says which field it is, when it is one that a proxy treats in some way.
	Known Known
}

// Head is the start line and the header fields of a message. Its parts lie in the memory
// that it was read from and are good for as long as that is not written to.
type Head struct {
	// Method and Target are a request's.
	Method, Target []byte
	// Status is an answer's.
	Status int
	// Minor is the second number of the version: 0 or 1.
	Minor  int
	Fields []Field
}

// mostFields is how many header fields a message may have.
const mostFields = 128

// ErrIncomplete says that the end of the head has not been read yet.
var ErrIncomplete = errors.New("the head is not complete")

// BadMessage says what is wrong with a message.
type BadMessage struct {
	// Status is what a server answers to it.
	Status int
	What   string
}

func (e *BadMessage) Error() string { return e.What }

func bad(what string) error { return &BadMessage{400, what} }

// ParseRequest reads the head of a request from the start of b and returns its length.
// It returns ErrIncomplete when b does not hold all of it, and a BadMessage when it is
// none that may be passed on.
func (h *Head) ParseRequest(b []byte) (n int, err error) {
	skipped := 0
	for skipped < 4 && bytes.HasPrefix(b[skipped:], []byte("\r\n")) {
		skipped += 2 // empty lines before a request are allowed (RFC 9112, 2.2)
	}
	h.Status = 0
	line, err := cutLine(b[skipped:])
	if err != nil {
		return 0, err
	}
	first := bytes.IndexByte(line, ' ')
	last := bytes.LastIndexByte(line, ' ')
	if first <= 0 || last <= first+1 {
		return 0, bad("the request line is not METHOD TARGET VERSION")
	}
	h.Method, h.Target = line[:first], line[first+1:last]
	if !isToken(h.Method) {
		return 0, bad("the method is no token")
	}
	for _, c := range h.Target {
		if c <= ' ' || c >= 0x7f {
			return 0, bad("the target holds a character that must be encoded")
		}
	}
	switch string(line[last+1:]) {
	case "HTTP/1.1":
		h.Minor = 1
	case "HTTP/1.0":
		h.Minor = 0
	default:
		if bytes.HasPrefix(line[last+1:], []byte("HTTP/")) {
			return 0, &BadMessage{505, "only HTTP/1.1 and HTTP/1.0 are spoken here"}
		}
		return 0, bad("the request line is not METHOD TARGET VERSION")
	}
	n = skipped + len(line) + 2
	fields, err := h.parseFields(b[n:])
	if err != nil {
		return 0, err
	}
	hosts := 0
	for _, f := range h.Fields {
		if f.Known == Host {
			hosts++
		}
	}
	if hosts > 1 || (hosts == 0 && h.Minor == 1) {
		return 0, bad(fmt.Sprintf("the request has %d Host fields and needs one", hosts))
	}
	return n + fields, nil
}

// ParseAnswer reads the head of an answer from the start of b and returns its length.
// Its errors are those of ParseRequest.
func (h *Head) ParseAnswer(b []byte) (n int, err error) {
	line, err := cutLine(b)
	if err != nil {
		return 0, err
	}
	h.Method, h.Target = nil, nil
	if len(line) < len("HTTP/1.1 200") || string(line[:7]) != "HTTP/1." || line[8] != ' ' ||
		(line[7] != '0' && line[7] != '1') {
		return 0, bad("the answer does not begin with a status line of HTTP/1")
	}
	h.Minor = int(line[7] - '0')
	h.Status = 0
	for _, c := range line[9:12] {
		if c < '0' || c > '9' {
			return 0, bad("the status is no number")
		}
		h.Status = 10*h.Status + int(c-'0')
	}
	if h.Status < 100 || (len(line) > 12 && line[12] != ' ') {
		return 0, bad("the status is no number of three digits")
	}
	fields, err := h.parseFields(b[len(line)+2:])
	return len(line) + 2 + fields, err
}

// cutLine cuts the first line off b, without its end.
func cutLine(b []byte) (line []byte, err error) {
	end := bytes.IndexByte(b, '\n')
	if end < 0 {
		return nil, ErrIncomplete
	}
	if end == 0 || b[end-1] != '\r' || bytes.IndexByte(b[:end-1], '\r') >= 0 {
		return nil, bad("a line does not end as it must")
	}
	return b[:end-1], nil
}

// parseFields reads header lines up to the empty one that ends them, and returns how many
// bytes they are. It looks at every byte once.
func (h *Head) parseFields(b []byte) (n int, err error) {
	h.Fields = h.Fields[:0]
	for i := 0; ; {
		if len(b)-i >= 2 && b[i] == '\r' && b[i+1] == '\n' {
			return i + 2, nil
		}
		start := i
		for i < len(b) && token[b[i]] {
			i++
		}
		if i == len(b) || (b[i] == '\r' && i+1 == len(b) && i == start) {
			return 0, ErrIncomplete
		}
		if b[i] != ':' || i == start {
			return 0, bad("a header line is not NAME: VALUE")
		}
		colon := i
		for i++; i < len(b) && visible[b[i]]; i++ {
		}
		switch {
		case i == len(b) || (b[i] == '\r' && i+1 == len(b)):
			return 0, ErrIncomplete
		case b[i] != '\r' || b[i+1] != '\n':
			return 0, bad("a header value holds a control character")
		case len(h.Fields) == mostFields:
			return 0, &BadMessage{431, fmt.Sprintf("the message has more than %d header fields", mostFields)}
		}
		h.Fields = append(h.Fields, Field{b[start:colon], trim(b[colon+1 : i]), known(b[start:colon])})
		i += 2
	}
}

// Get returns the value of the first field that is known as k; nil when there is none.
func (h *Head) Get(k Known) []byte {
	for i := range h.Fields {
		if h.Fields[i].Known == k {
			return h.Fields[i].Value
		}
	}
	return nil
}

// lists reports whether any field that is known as k holds a word in its list, whatever the
// case of either.
func (h *Head) lists(k Known, word []byte) bool {
	for _, f := range h.Fields {
		if f.Known != k {
			continue
		}
		for item := range bytes.SplitSeq(f.Value, []byte(",")) {
			if bytes.EqualFold(trim(item), word) {
				return true
			}
		}
	}
	return false
}

var (
	closeWord     = []byte("close")
	keepAliveWord = []byte("keep-alive")
)

// Closes reports whether the sender ends the connection after this message.
func (h *Head) Closes() bool {
	return h.lists(Connection, closeWord) || (h.Minor == 0 && !h.lists(Connection, keepAliveWord))
}

// KeepAlive is how many seconds the sender says it keeps an idle connection, 0 when it
// does not say.
func (h *Head) KeepAlive() int {
	said := h.Get(KeepAliveField)
	if said == nil {
		return 0
	}
	for item := range bytes.SplitSeq(said, []byte(",")) {
		name, value, _ := bytes.Cut(trim(item), []byte("="))
		if !equalFold(trim(name), "timeout") {
			continue
		}
		if n, ok := number(trim(value), 10, 6); ok {
			return int(n)
		}
	}
	return 0
}

// Passed lists the positions of the fields that may be passed on: not those about this
// connection, whether they are known to be or Connection names them (RFC 9110, 7.6.1), nor
// the body's length, which is written anew. It appends to into.
func (h *Head) Passed(into []int) []int {
	named := false
	for i := range h.Fields {
		f := &h.Fields[i]
		named = named ||
			(f.Known == Connection && !bytes.EqualFold(f.Value, closeWord) && !bytes.EqualFold(f.Value, keepAliveWord))
	}
	for i := range h.Fields {
		f := &h.Fields[i]
		if f.Known.aboutConnection() || f.Known == ContentLength || (named && h.lists(Connection, f.Name)) {
			continue
		}
		into = append(into, i)
	}
	return into
}

func trim(b []byte) []byte {
	for len(b) > 0 && (b[0] == ' ' || b[0] == '\t') {
		b = b[1:]
	}
	for len(b) > 0 && (b[len(b)-1] == ' ' || b[len(b)-1] == '\t') {
		b = b[:len(b)-1]
	}
	return b
}

func toLower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// equalFold compares without regard to the case of ASCII letters; lower is in lower case.
func equalFold(b []byte, lower string) bool {
	if len(b) != len(lower) {
		return false
	}
	for i, c := range b {
		if toLower(c) != lower[i] {
			return false
		}
	}
	return true
}

// token are the characters of methods and names of fields (RFC 9110, 5.6.2).
var token = func() (t [256]bool) {
	for c := byte('0'); c <= 'z'; c++ {
		t[c] = (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z')
	}
	for _, c := range []byte("!#$%&'*+-.^_`|~") {
		t[c] = true
	}
	return t
}()

// visible are the characters that a value may hold (RFC 9110, 5.5).
var visible = func() (v [256]bool) {
	for c := range v {
		v[c] = (c >= ' ' && c != 0x7f) || c == '\t'
	}
	return v
}()

func isToken(b []byte) bool {
	for _, c := range b {
		if !token[c] {
			return false
		}
	}
	return len(b) > 0
}

// number reads up to so many digits of a base, 10 or 16, and nothing else.
func number(b []byte, base int64, digits int) (n int64, ok bool) {
	if len(b) == 0 || len(b) > digits {
		return 0, false
	}
	for _, c := range b {
		d := int64(99)
		switch c = toLower(c); {
		case c >= '0' && c <= '9':
			d = int64(c - '0')
		case c >= 'a' && c <= 'f':
			d = int64(c-'a') + 10
		}
		if d >= base {
			return 0, false
		}
		n = n*base + d
	}
	return n, true
}
