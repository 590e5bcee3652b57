package http1

import (
	"bufio"
	"bytes"
	"io"
	"slices"
)

// Framing says where the body of a message ends.
type Framing struct {
	// Length is the number of bytes; -1 when the sender does not say it.
	Length int64
	// Chunked bodies end with an empty chunk, others without a length with the
	// connection.
	Chunked bool
}

// Empty reports whether there is no body.
func (f Framing) Empty() bool { return f.Length == 0 }

// RequestFraming says where the body of a request ends, or that its framing is in doubt.
func (h *Head) RequestFraming() (Framing, error) {
	f, said, err := h.framing()
	if err == nil && !said {
		f.Length = 0 // a request without either has no body
	}
	return f, err
}

// AnswerFraming says where the body of an answer to a method other than HEAD ends, or
// that its framing is in doubt.
func (h *Head) AnswerFraming() (Framing, error) {
	f, _, err := h.framing()
	if h.Status < 200 || h.Status == 204 || h.Status == 304 {
		return Framing{}, err
	}
	return f, err
}

func (h *Head) framing() (f Framing, said bool, err error) {
	f.Length = -1
	for _, field := range h.Fields {
		switch {
		case field.Known == ContentLength:
			n, ok := number(field.Value, 10, 18)
			if !ok || f.Length >= 0 {
				return f, true, bad("the message has more than one length, or one that is no number")
			}
			f.Length, said = n, true
		case field.Known == TransferEncoding:
			if f.Chunked || !equalFold(field.Value, "chunked") {
				return f, true, &BadMessage{501, "the only transfer coding spoken here is chunked, once"}
			}
			f.Chunked, said = true, true
		}
	}
	if f.Chunked && (f.Length >= 0 || h.Minor == 0) {
		return f, true, bad("the message has a transfer coding beside a length, or in HTTP/1.0")
	}
	return f, said, nil
}

// Body reads the body of a message, and nothing after it.
type Body struct {
	r *bufio.Reader
	// left is what is left of the body, or of the chunk; -1 is all until the connection
	// ends.
	left    int64
	chunked bool
	// begun is set in a chunked body after the first chunk; done at its end.
	begun, done bool
	err         error
}

// longestLine bounds a line between chunks, and all trailers together.
const longestLine = 4 << 10

// Reset makes b read a body that begins at r.
func (b *Body) Reset(r *bufio.Reader, f Framing) {
	*b = Body{r: r, left: f.Length, chunked: f.Chunked}
	if f.Chunked {
		b.left = 0
	}
	b.done = f.Empty() && !f.Chunked
}

// Done reports whether all of the body has been read.
func (b *Body) Done() bool { return b.done }

// Read implements io.Reader. A body that ends before its time is io.ErrUnexpectedEOF.
func (b *Body) Read(p []byte) (int, error) {
	if b.err != nil {
		return 0, b.err
	}
	if b.done {
		return 0, io.EOF
	}
	if b.chunked && b.left == 0 {
		if b.err = b.nextChunk(); b.err != nil {
			return 0, b.err
		}
		if b.done {
			return 0, io.EOF
		}
	}
	if b.left >= 0 && int64(len(p)) > b.left {
		p = p[:b.left]
	}
	n, err := b.r.Read(p)
	switch {
	case b.left < 0 && err == io.EOF:
		b.done = true
		return n, io.EOF
	case err == io.EOF:
		b.err = io.ErrUnexpectedEOF
	case err != nil:
		b.err = err
	}
	if b.left > 0 {
		b.left -= int64(n)
		b.done = b.left == 0 && !b.chunked
	}
	if n > 0 {
		return n, nil
	}
	return 0, b.err
}

// nextChunk reads the line that begins a chunk, with the end of the one before it.
func (b *Body) nextChunk() error {
	if b.begun {
		if line, err := b.line(); err != nil {
			return err
		} else if len(line) > 0 {
			return bad("a chunk is longer than it says")
		}
	}
	b.begun = true
	line, err := b.line()
	if err != nil {
		return err
	}
	size, _, _ := bytes.Cut(line, []byte(";"))
	n, ok := number(trim(size), 16, 15)
	if !ok {
		return bad("the size of a chunk is no number")
	}
	b.left = n
	if n > 0 {
		return nil
	}
	for total := 0; ; { // trailers are read and dropped
		line, err := b.line()
		if err != nil {
			return err
		}
		if len(line) == 0 {
			b.done = true
			return nil
		}
		if total += len(line); total > longestLine {
			return bad("the trailers are too long")
		}
	}
}

// line reads one line of the framing, without its end.
func (b *Body) line() ([]byte, error) {
	line, err := b.r.ReadSlice('\n')
	if err == io.EOF {
		return nil, io.ErrUnexpectedEOF
	}
	if err == bufio.ErrBufferFull || (err == nil && len(line) > longestLine) {
		return nil, bad("a line between chunks is too long")
	}
	if err != nil {
		return nil, err
	}
	line, ok := bytes.CutSuffix(line, []byte("\r\n"))
	if !ok || slices.Contains(line, '\r') {
		return nil, bad("a line between chunks does not end as it must")
	}
	return line, nil
}

// ReadHead waits until r has a whole head, copies it to memory and hands it to parse, which
// is ParseRequest or ParseAnswer. What follows the head stays in r. It returns the memory,
// which may have grown.
func ReadHead(r *bufio.Reader, memory []byte, parse func([]byte) (int, error)) ([]byte, error) {
	for want := 1; ; want = r.Buffered() + 1 {
		if want > r.Size() {
			return memory, &BadMessage{431, "the head of the message is too long"}
		}
		if _, err := r.Peek(want); err != nil {
			if err == io.EOF && r.Buffered() > 0 {
				err = io.ErrUnexpectedEOF
			}
			return memory, err
		}
		b, _ := r.Peek(r.Buffered())
		// Mostly the head ends at the first empty line, and then no more is copied.
		if end := bytes.Index(b, []byte("\r\n\r\n")); end >= 4 {
			b = b[:end+4]
		}
		memory = append(memory[:0], b...)
		n, err := parse(memory)
		if err == ErrIncomplete && len(b) < r.Buffered() {
			b, _ = r.Peek(r.Buffered())
			memory = append(memory[:0], b...)
			n, err = parse(memory)
		}
		if err == nil {
			_, err = r.Discard(n)
		}
		if err != ErrIncomplete {
			return memory, err
		}
	}
}
