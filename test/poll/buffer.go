package poll

import (
	"bytes"
	"sync"
)

// Buffer is written to by some goroutines and read by others. Its zero value is empty.
type Buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

// Write appends.
func (b *Buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

// String is what was written so far.
func (b *Buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}
