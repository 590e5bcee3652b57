package traffic

import (
	"testing"
	"time"
)

func TestRequestIDs(t *testing.T) {
	ids, err := NewRequestIDs([]byte("0123456789abcdef"))
	if err != nil {
		t.Fatal(err)
	}
	others, _ := NewRequestIDs([]byte("another key here"))
	at := time.UnixMilli(1_790_000_000_123).UTC()
	seen := map[[16]byte]bool{}
	strangers, flipped := 0, 0
	for i := range 60_000 {
		o := Origin{int64(i%300 + 1), i % 70000, i % 3, i%7 == 0}
		id := ids.Make(at, o, uint64(i))
		if seen[id] {
			t.Fatalf("the id of request %d was given before", i)
		}
		seen[id] = true
		if id[6]>>4 != 7 || id[8]>>6 != 2 {
			t.Fatalf("%x is no UUID of version 7", id)
		}
		when, got, ok := ids.Read(id)
		if !ok || got != o || !when.Equal(at) {
			t.Fatalf("request %d: %v at %v, %v; want %v at %v", i, got, when, ok, o, at)
		}
		if _, _, ok := others.Read(id); ok {
			strangers++
		}
		id[9+i%7] ^= 1 << (i % 8)
		if _, _, ok := ids.Read(id); ok {
			flipped++
		}
	}
	if strangers > 20 || flipped > 20 { // about 4 of 60 000 expected
		t.Errorf("%d ids of another key and %d damaged ids were taken for ours", strangers, flipped)
	}
	for _, o := range []Origin{{1 << 14, 1, 0, false}, {1, 1 << 20, 0, true}, {1, 1, 8, false}} {
		if _, _, ok := ids.Read(ids.Make(at, o, 1)); ok {
			t.Errorf("%v does not fit into an id and was read from one", o)
		}
	}
}

func BenchmarkRequestID(b *testing.B) {
	ids, _ := NewRequestIDs([]byte("0123456789abcdef"))
	at := time.Now()
	for i := range b.N {
		ids.Make(at, Origin{3, 41, 1, false}, uint64(i))
	}
}
