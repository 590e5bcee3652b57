package blob

import (
	"hash"
	"io"
	"os"
)

const (
	// chunk is how much is read, hashed and written at a time.
	chunk = 1 << 20
	// flushEvery is after how many bytes the system is told to begin writing to disk, so
	// that not everything is left to the last moment.
	flushEvery = 64 << 20
)

// receive reads r to its end into f and h, and returns how much both have got, also
// when it fails. Hashing and writing go on at the same time as reading.
func receive(f *os.File, h hash.Hash, r io.Reader) (int64, error) {
	type piece struct {
		b []byte
		n int
	}
	free, full := make(chan []byte, 4), make(chan piece, 4)
	for range cap(free) {
		free <- make([]byte, chunk)
	}
	written := make(chan error, 1)
	var done, flushed int64
	go func() {
		var failed error
		for p := range full {
			if failed == nil {
				_, failed = f.Write(p.b[:p.n])
			}
			if failed == nil {
				h.Write(p.b[:p.n]) // never fails
				done += int64(p.n)
				if done-flushed >= flushEvery {
					beginFlush(f, flushed, done-flushed)
					flushed = done
				}
			}
			free <- p.b
		}
		written <- failed
	}()
	var readErr error
	for readErr == nil {
		b := <-free
		var n int
		n, readErr = io.ReadAtLeast(r, b, 1)
		for readErr == nil && n < len(b) {
			var more int
			more, readErr = r.Read(b[n:])
			n += more
			if more == 0 && readErr == nil {
				break
			}
		}
		if n > 0 {
			full <- piece{b, n}
		}
	}
	close(full)
	if err := <-written; err != nil {
		return done, err
	}
	if readErr == io.EOF {
		readErr = nil
	}
	return done, readErr
}
