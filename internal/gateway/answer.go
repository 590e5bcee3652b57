package gateway

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/http1"
	"innerladder/internal/oip"
	"innerladder/internal/upstream"
)

// largestError is the largest body of a model server's error that is passed on.
const largestError = 64 << 10

// overrides reports whether the environment sets a field that the caller has sent.
func (e *endpoint) overrides(f http1.Field) bool {
	for _, h := range e.headers {
		if len(f.Name) == len(h.lower) && strings.EqualFold(string(f.Name), h.lower) {
			return true
		}
	}
	return false
}

func appendField(out []byte, f http1.Field) []byte {
	out = append(append(out, f.Name...), ": "...)
	return append(append(out, f.Value...), "\r\n"...)
}

// receive reads the head of the answer.
func (x *exchange) receive(conn *upstream.Conn, begin time.Time) (http1.Framing, *upstream.Failure) {
	var framing http1.Framing
	var failure *upstream.Failure
	x.replyMemory, framing, failure = conn.Receive(begin, x.deadline, x.leaves, &x.reply, x.replyMemory)
	conn.Moved()
	x.now = time.Now()
	x.backend = x.now.Sub(begin)
	if failure != nil {
		return framing, failure
	}
	switch status := x.reply.Status; {
	case status == http.StatusSwitchingProtocols:
		return framing, malformed("wants another protocol")
	case status >= 300 && status < 400:
		return framing, malformed("sends its caller elsewhere (" + strconv.Itoa(status) + ")")
	}
	return framing, nil
}

func malformed(what string) *upstream.Failure {
	return &upstream.Failure{Class: sketch.Malformed, What: what}
}

// pass reads the body of the answer, makes sure that it is one, and passes it on. kept is
// whether the connection was given back.
func (x *exchange) pass(conn *upstream.Conn, framing http1.Framing,
	begin time.Time,
) (kept bool, failure *upstream.Failure) {
	body, whole, failure := x.readAnswer(conn, framing)
	if failure != nil {
		return false, failure
	}
	x.look(conn.Conn)
	x.backend = x.now.Sub(begin)
	if x.reply.Status >= 400 {
		// The body may lie in the connection's buffer: it is written before that is used again.
		x.passError(body, whole)
		if whole {
			x.keepConn(conn, framing)
		}
		return whole, nil
	}
	if !whole {
		return x.stream(conn, body)
	}
	named, lines, err := x.nameAnswer(body)
	if err != nil {
		return false, malformed(err.Error())
	}
	var observed []byte
	if len(lines) == 0 {
		observed = body
	}
	x.write(x.reply.Status, named, lines)
	// The body may lie in the connection's buffer: it is looked at before that is used again.
	x.observe(sketch.Answered, observed)
	x.copyOut(observed)
	x.keepConn(conn, framing)
	return true, nil
}

// keepConn gives back a connection whose answer was read whole.
func (x *exchange) keepConn(conn *upstream.Conn, framing http1.Framing) {
	if x.replyPeeked > 0 {
		_, _ = conn.R.Discard(x.replyPeeked)
		x.replyPeeked = 0
	}
	if framing.Length < 0 && !framing.Chunked {
		conn.Discard() // its end was the end of the connection
		return
	}
	conn.Keep(x.now, &x.reply)
}

// readAnswer reads the body of the answer, or its first heldBody bytes when it is larger;
// whole says which.
func (x *exchange) readAnswer(conn *upstream.Conn,
	framing http1.Framing,
) (body []byte, whole bool, failure *upstream.Failure) {
	x.replyPeeked = 0
	if framing.Length > largestBody {
		return nil, false, malformed(fmt.Sprintf("answered with more than %d MiB", largestBody>>20))
	}
	if n := int(framing.Length); !framing.Chunked && n >= 0 && n <= conn.R.Size() {
		b, err := conn.R.Peek(n) // a small one stays where it is
		if err != nil {
			return nil, false, x.cutShort(conn, err)
		}
		x.replyPeeked = n
		return b, true, nil
	}
	if framing.Length > lightBody {
		x.task.Heavy()
	}
	need := framing.Length
	if need < 0 || need > heldBody {
		need = heldBody
	}
	if !x.g.bodies.reserve(need) {
		return nil, false, &upstream.Failure{
			Class: sketch.NotReached,
			What:  "answered at length while too many large answers are under way",
		}
	}
	x.reserved += need
	x.replyBody.Reset(conn.R, framing)
	first := 0
	if framing.Length > 0 {
		first = int(min(framing.Length, heldBody))
	}
	if x.answered == nil {
		x.answered = x.g.bodies.lend(first)
	}
	*x.answered = (*x.answered)[:0]
	if err := x.fill(&x.answered, &x.replyBody); err != nil {
		return nil, false, x.cutShort(conn, err)
	}
	return *x.answered, x.replyBody.Done(), nil
}

// cutShort says what an error in the middle of an answer means: not that the server cannot
// be reached.
func (x *exchange) cutShort(conn *upstream.Conn, err error) *upstream.Failure {
	f := conn.Failed(err)
	if f.Class == sketch.NotReached {
		f = malformed("broke off in the middle of its answer")
	}
	return f
}

// nameAnswer writes the version into a whole answer. An answer with binary tensors says in
// a header how long its JSON is; lines then holds that header anew.
func (x *exchange) nameAnswer(body []byte) (named, lines []byte, err error) {
	if said := x.reply.Get(http1.InferenceHeaderContentLength); said != nil {
		n, err := strconv.ParseInt(string(said), 10, 64)
		if err != nil || n < 0 || n > int64(len(body)) {
			return nil, nil, &oip.Malformed{What: "says a length of its JSON that is not possible"}
		}
		if err := oip.CheckBinary(n, body[:n], int64(len(body))); err != nil {
			return nil, nil, err
		}
		if x.named, err = oip.NameAll(x.named[:0], body[:n], x.lane.naming, &x.answer); err != nil {
			return nil, nil, err
		}
		lines = append([]byte("Inference-Header-Content-Length: "), strconv.Itoa(len(x.named))+"\r\n"...)
		x.named = append(x.named, body[n:]...)
		return x.named, lines, nil
	}
	x.named, err = oip.NameAll(x.named[:0], body, x.lane.naming, &x.answer)
	return x.named, nil, err
}

// passError passes a model server's error on. Only errors of the protocol are: a page or
// a trace is for those who look after the server.
func (x *exchange) passError(body []byte, whole bool) {
	class := sketch.CallerError
	if x.reply.Status >= 500 {
		class = sketch.ServerError
	}
	if !whole || len(body) > largestError || !json.Valid(body) {
		x.refuse(
			&refusal{
				x.reply.Status,
				"model_server.error",
				fmt.Sprintf(
					"%s answered %d without saying why in the protocol's form",
					x.lane.version,
					x.reply.Status,
				),
				false,
			},
		)
	} else {
		x.write(x.reply.Status, body, nil)
		x.said = body
	}
	x.observe(class, nil)
}

// answerHead appends the head of the answer but for its framing. Cookies are not for our
// callers, nor is what would lead them past us.
func (x *exchange) answerHead(status int, lines []byte) []byte {
	out := statusLine(x.out[:0], status)
	x.passed = x.reply.Passed(x.passed[:0])
	for _, i := range x.passed {
		f := x.reply.Fields[i]
		switch f.Known {
		case http1.SetCookie,
			http1.SetCookie2,
			http1.Location,
			http1.ContentLocation,
			http1.Refresh,
			http1.AltSvc,
			http1.ClearSiteData,
			http1.StrictTransportSecurity,
			http1.LadderVersion,
			http1.LadderRequest:
			continue
		case http1.InferenceHeaderContentLength:
			if len(lines) > 0 {
				continue
			}
		}
		out = appendField(out, f)
	}
	out = x.namedLines(out)
	out = append(out, lines...)
	if x.requestLeft() {
		x.keep, x.linger = false, true
	}
	return x.connectionLine(out, !x.keep)
}

// requestLeft reports whether some of the request's body has not been read.
func (x *exchange) requestLeft() bool { return x.streamed && !x.requestBody.Done() }

// write writes a whole answer.
func (x *exchange) write(status int, body, lines []byte) {
	x.begun, x.status = true, status
	out := append(x.answerHead(status, lines), "Content-Length: "...)
	out = append(strconv.AppendInt(out, int64(len(body)), 10), "\r\n\r\n"...)
	var err error
	if len(out)+len(body) <= wholeHead {
		x.out = append(out, body...)
		_, err = x.wire.WriteAt(x.now, x.out)
	} else {
		x.out = out
		if _, err = x.wire.Write(out); err == nil {
			_, err = x.wire.Write(body)
		}
	}
	if err != nil {
		x.keep = false
	}
}

// stream passes on an answer that is too large to be held, of which first has been read.
// Whether it is one shows as it passes; when it turns out not to be, it breaks off.
func (x *exchange) stream(conn *upstream.Conn, first []byte) (kept bool, failure *upstream.Failure) {
	binary := int64(-1)
	if said := x.reply.Get(http1.InferenceHeaderContentLength); said != nil {
		n, err := strconv.ParseInt(string(said), 10, 64)
		if err != nil || n < 0 || n > int64(len(first)) {
			return false, malformed("says a length of its JSON that is not possible")
		}
		binary = n
	}
	x.answer.Reset(x.lane.naming)
	var err error
	var rest []byte
	json := first
	if binary >= 0 {
		json, rest = first[:binary], first[binary:]
	}
	if x.named, err = x.answer.Write(x.named[:0], json); err == nil && binary >= 0 {
		err = x.answer.End()
	}
	if err != nil {
		return false, malformed(err.Error())
	}
	var lines []byte
	if binary >= 0 {
		lines = append([]byte("Inference-Header-Content-Length: "), strconv.Itoa(len(x.named))+"\r\n"...)
		x.named = append(x.named, rest...)
	}
	class := sketch.Answered
	if broken := x.streamPieces(conn, lines, binary >= 0); broken != nil {
		x.keep = false // the answer cannot be taken back, but it is not ended either
		class = broken.Class
	}
	x.observe(class, nil)
	return false, nil // so large an answer is rare: its connection is not worth keeping
}

// streamPieces writes the head of a streamed answer, what x.named holds of it, and then
// all that follows.
func (x *exchange) streamPieces(conn *upstream.Conn, lines []byte, binary bool) *upstream.Failure {
	x.begun, x.status = true, x.reply.Status
	chunked := x.head.Minor == 1
	x.keep = x.keep && chunked // without chunks the answer ends with the connection
	out := x.answerHead(x.reply.Status, lines)
	if chunked {
		out = append(out, "Transfer-Encoding: chunked\r\n"...)
	}
	out = append(out, "\r\n"...)
	x.out = out
	write := func(b []byte) error {
		if chunked {
			return chunk(x.wire, b)
		}
		_, err := x.wire.Write(b)
		return err
	}
	left := &upstream.Failure{Class: sketch.Abandoned, What: "was answering when the caller left"}
	if _, err := x.wire.Write(out); err != nil || write(x.named) != nil {
		return left
	}
	b := *x.answered
	for total := int64(len(b)); !x.replyBody.Done(); {
		now := time.Now()
		conn.Await(now, now.Add(http1.BlockTime), x.leaves)
		n, err := x.replyBody.Read(b[:cap(b)])
		if err != nil && !errors.Is(err, io.EOF) {
			return x.cutShort(conn, err)
		}
		if total += int64(n); total > largestBody {
			return malformed("answered at too great length")
		}
		piece := b[:n]
		if !binary {
			if x.named, err = x.answer.Write(x.named[:0], piece); err != nil {
				return malformed(err.Error())
			}
			piece = x.named
		}
		if write(piece) != nil {
			return left
		}
	}
	if !binary {
		if err := x.answer.End(); err != nil {
			return malformed(err.Error())
		}
	}
	if chunked {
		if _, err := x.wire.Write([]byte("0\r\n\r\n")); err != nil {
			return left
		}
	}
	return nil
}

// metadata asks the main lane's model server, or the named version's, and answers in the
// endpoint's name.
func (x *exchange) metadata() {
	x.lane = x.planned
	var a *upstream.Address
	if x.lane != nil {
		a = upstream.Choose(x.lane.addresses, nil)
	} else {
		x.lane, a = x.endpoint.instead(nil)
	}
	if a == nil {
		x.lane = nil
		x.refuse(x.nobody())
		return
	}
	x.name(time.Now())
	x.deadline = time.Now().Add(x.g.config.Timeout)
	m, failure := x.askMetadata(a)
	if failure != nil {
		x.refuse(x.explain(failure))
		return
	}
	m.Name, m.Versions = x.endpoint.name, x.endpoint.versions()
	x.say(m, x.namedLines(nil))
}

func (x *exchange) askMetadata(a *upstream.Address) (m oip.ModelMetadata, failure *upstream.Failure) {
	conn, failure := a.Connect(x.task, time.Now(), x.deadline, true, false)
	if failure != nil {
		return m, failure
	}
	defer conn.Discard()
	out := append(append(append(x.out[:0], x.lane.metadata...), a.Host...), "\r\nConnection: close\r\n"...)
	for _, h := range x.endpoint.headers {
		out = append(out, h.line...)
	}
	x.out = append(out, "\r\n"...)
	now := time.Now()
	if _, err := conn.Write(x.out); err != nil {
		return m, conn.Failed(err)
	}
	framing, failure := x.receive(conn, now)
	if failure != nil {
		return m, failure
	}
	body, whole, failure := x.readAnswer(conn, framing)
	if failure != nil {
		return m, failure
	}
	if x.reply.Status != http.StatusOK || !whole || json.Unmarshal(body, &m) != nil {
		return m, malformed("did not answer with model metadata")
	}
	return m, nil
}
