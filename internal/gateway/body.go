package gateway

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"innerladder/internal/http1"
)

// lightBody is the largest body that is dealt with among the small ones.
const lightBody = 64 << 10

// block is how much of a body that is streamed is read at once.
const block = 64 << 10

// readBody reads the body of the request, unless it is so large that it is streamed. It
// returns why the request cannot be dealt with.
func (x *exchange) readBody() *refusal {
	f := x.framing
	if f.Length > largestBody {
		return &refusal{
			http.StatusRequestEntityTooLarge,
			"gateway.too_large",
			fmt.Sprintf("the request is larger than %d MiB", largestBody>>20),
			true,
		}
	}
	x.streamed = f.Length > heldBody
	need := f.Length
	if f.Chunked {
		need = heldBody
	}
	if !x.reserve(need) {
		x.streamed = false
		return crowded()
	}
	if x.head.Minor == 1 && !f.Empty() && x.wire.R.Buffered() == 0 &&
		string(x.head.Get(http1.Expect)) == "100-continue" {
		if _, err := x.wire.Write([]byte("HTTP/1.1 100 Continue\r\n\r\n")); err != nil {
			return broken(err)
		}
	}
	now := x.now
	if n := int(f.Length); !f.Chunked && n <= x.wire.R.Size() {
		// A small body stays where it is.
		if x.wire.R.Buffered() < n {
			x.wire.Await(now, now.Add(x.g.patience.block), nil)
		}
		b, err := x.wire.R.Peek(n)
		if err != nil {
			return broken(err)
		}
		x.body, x.peeked = b, n
		return nil
	}
	x.requestBody.Reset(x.wire.R, f)
	if f.Length > lightBody {
		x.task.Heavy()
	}
	x.wire.Await(now, now.Add(x.g.patience.block), nil)
	if x.streamed {
		return nil
	}
	x.request = x.g.bodies.lend(int(max(f.Length, 0)))
	if err := x.fill(&x.request, &x.requestBody); err != nil {
		return broken(err)
	}
	x.body = *x.request
	x.streamed = !x.requestBody.Done()
	return nil
}

// reserve takes bytes of the budget for the request's body.
func (x *exchange) reserve(n int64) bool {
	if !x.streamed {
		ok := x.g.bodies.reserve(n)
		if ok {
			x.reserved += n
		}
		return ok
	}
	ok := x.g.bodies.reserveStream(n)
	if ok {
		x.reserved += n
		x.reservedStream += n
	}
	return ok
}

// crowded says that the bodies of all requests together are too much.
func crowded() *refusal {
	return &refusal{
		http.StatusServiceUnavailable,
		"gateway.crowded",
		"too many large requests are under way; try again soon",
		true,
	}
}

// broken says what is wrong with a body that did not come whole.
func broken(err error) *refusal {
	var bad *http1.BadMessage
	switch {
	case errors.As(err, &bad):
		return &refusal{bad.Status, "gateway.bad_request", bad.What, true}
	case errors.Is(err, http1.ErrTimedOut):
		return &refusal{
			http.StatusRequestTimeout,
			"gateway.slow_body",
			"the body of the request came too slowly",
			true,
		}
	}
	return &refusal{http.StatusBadRequest, "gateway.bad_request", "the request broke off in its body", true}
}

// fill reads a body into a buffer that was lent, changing it for a larger one as needed,
// until the body is done or heldBody is reached. The bytes must have been reserved.
func (x *exchange) fill(into **[]byte, from *http1.Body) error {
	for !from.Done() {
		b := **into
		if len(b) == cap(b) {
			if len(b) >= heldBody {
				return nil
			}
			if len(b) >= lightBody {
				x.task.Heavy()
			}
			larger := x.g.bodies.lend(len(b) + 1)
			*larger = append(*larger, b...)
			x.g.bodies.takeBack(*into)
			*into, b = larger, *larger
		}
		n, err := from.Read(b[len(b):cap(b)])
		**into = b[:len(b)+n]
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// streamTo sends what is left of the request's body, piece by piece. callers is why the
// caller's side broke, theirs why the model server's did.
func (x *exchange) streamTo(w *http1.Conn) (callers *refusal, theirs error) {
	buffer := x.g.bodies.lend(block)
	defer x.g.bodies.takeBack(buffer)
	b := (*buffer)[:block]
	left := largestBody - int64(len(x.body))
	deadline := time.Time{}
	for !x.requestBody.Done() {
		if now := time.Now(); deadline.Before(now.Add(x.g.patience.block / 2)) {
			// A block must come within its time, however it is cut into packets.
			deadline = now.Add(x.g.patience.block)
			x.wire.Await(now, deadline, nil)
		}
		n, err := io.ReadAtLeast(&x.requestBody, b, len(b))
		if n > 0 {
			if left -= int64(n); left < 0 {
				return &refusal{
					http.StatusRequestEntityTooLarge,
					"gateway.too_large",
					fmt.Sprintf("the request is larger than %d MiB", largestBody>>20),
					true,
				}, nil
			}
			if x.framing.Chunked && !x.reserve(int64(n)) { // others have been reserved whole
				return crowded(), nil
			}
			if err := x.piece(w, b[:n]); err != nil {
				return nil, err
			}
		}
		if err != nil && err != io.EOF && !(err == io.ErrUnexpectedEOF && x.requestBody.Done()) {
			return broken(err), nil
		}
	}
	if x.framing.Chunked {
		_, theirs = w.Write([]byte("0\r\n\r\n"))
	}
	return nil, theirs
}

// piece sends one piece of a streamed body, as a chunk where it has no length.
func (x *exchange) piece(w io.Writer, b []byte) error {
	if x.framing.Chunked {
		return chunk(w, b)
	}
	_, err := w.Write(b)
	return err
}

// chunk writes a chunk.
func chunk(w io.Writer, b []byte) error {
	if len(b) == 0 {
		return nil // an empty one would be the end
	}
	if _, err := fmt.Fprintf(w, "%x\r\n", len(b)); err != nil {
		return err
	}
	if _, err := w.Write(b); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\r\n")
	return err
}
