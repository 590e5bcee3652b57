package traffic

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"time"
)

// RequestIDs makes ids of requests that say who answered. An id is a UUID of version 7
// (RFC 9562): 48 bits of milliseconds, then 74 bits that look random. Those are a
// counter, which makes the id unique, the endpoint, the split, the lane and whether it counts apart, and a check,
// all of it enciphered with a key that only this installation has. So any request can
// be traced for as long as splits are kept, without a log of requests; an id that was
// mistyped or made elsewhere is told by the check, but for one in 16 384.
type RequestIDs struct{ block cipher.Block }

// Origin is what an id says about where its request was answered.
type Origin struct {
	// Endpoint is the number of the endpoint, Split that of its split, and Lane the
	// position of the lane in it.
	Endpoint int64
	Split    int
	Lane     int
	// Apart is set where the caller named the version, or a rule chose the lane: who is not drawn for a lane is never
	// counted with those who are.
	Apart bool
}

// Unwritten is a lane that no id can say.
const Unwritten = -1

// NoLane stands in an Origin for a request that no lane dealt with: the gateway turned it away. Positions of lanes
// are below it.
const NoLane = 1<<laneBits - 1

const (
	countBits, endpointBits, splitBits, laneBits, apartBits, checkBits = 22, 14, 20, 3, 1, 14

	halfBits = (countBits + endpointBits + splitBits + laneBits + apartBits + checkBits) / 2 // 37
	halfMask = 1<<halfBits - 1
	rounds   = 4
)

// NewRequestIDs takes a key of 16 bytes.
func NewRequestIDs(key []byte) (*RequestIDs, error) {
	block, err := aes.NewCipher(key)
	return &RequestIDs{block}, err
}

// round is the round function of the Feistel network: a keyed mixture of one half, the
// time, and the number of the round.
func (r *RequestIDs) round(b *[16]byte, half, millis uint64, n byte) uint64 {
	clear(b[:])
	binary.LittleEndian.PutUint64(b[:], half)
	binary.LittleEndian.PutUint64(b[8:], millis)
	b[15] = n
	r.block.Encrypt(b[:], b[:])
	return binary.LittleEndian.Uint64(b[:]) & halfMask
}

// check is what tells an id of ours from others.
func (r *RequestIDs) check(b *[16]byte, millis uint64, o Origin) uint64 {
	all := uint64(o.Endpoint)<<24 ^ uint64(o.Split)<<4 ^ uint64(o.Lane)<<1 ^ o.apart()
	return r.round(b, all, millis, 0xff) & (1<<checkBits - 1)
}

func (o Origin) apart() uint64 {
	if o.Apart {
		return 1
	}
	return 0
}

// Make gives the id of a request that arrived at a moment and was answered at an origin.
// Two ids are different when their counts are, as long as those differ within the
// last 4 million. An origin too large to be written down gives an id that cannot be
// traced.
func (r *RequestIDs) Make(at time.Time, o Origin, count uint64) [16]byte {
	millis := uint64(at.UnixMilli()) & (1<<48 - 1)
	b := new([16]byte) // for all rounds: a cipher's memory cannot stay on the stack
	check := r.check(b, millis, o)
	if o.Endpoint >= 1<<endpointBits || o.Split >= 1<<splitBits || o.Lane >= 1<<laneBits || o.Endpoint < 0 ||
		o.Split < 0 || o.Lane < 0 {
		o, check = Origin{}, ^r.check(b, millis, Origin{})&(1<<checkBits-1)
	}
	// The left half holds count, whether it counts apart, and check, the right one the origin: 22 + 1 + 14 and
	// 14 + 20 + 3.
	left := (count&(1<<countBits-1))<<(apartBits+checkBits) | o.apart()<<checkBits | check
	right := uint64(o.Endpoint)<<(splitBits+laneBits) | uint64(o.Split)<<laneBits | uint64(o.Lane)
	for n := range byte(rounds) {
		left, right = right, left^r.round(b, right, millis, n)
	}
	var id [16]byte
	binary.BigEndian.PutUint64(id[:], millis<<16)
	id[6] = 0x70 | byte(left>>33) // the first 4 of 12 bits beside the version
	id[7] = byte(left >> 25)
	binary.BigEndian.PutUint64(id[8:], 1<<63|(left&(1<<25-1))<<halfBits|right)
	return id
}

// Read takes an id apart; ok is false when it is not one of ours.
func (r *RequestIDs) Read(id [16]byte) (at time.Time, o Origin, ok bool) {
	millis := binary.BigEndian.Uint64(id[:]) >> 16
	low := binary.BigEndian.Uint64(id[8:])
	if id[6]>>4 != 7 || low>>62 != 2 {
		return at, o, false
	}
	b := new([16]byte)
	left := uint64(id[6]&0xf)<<33 | uint64(id[7])<<25 | low>>halfBits&(1<<25-1)
	right := low & halfMask
	for n := byte(rounds); n > 0; n-- {
		left, right = right^r.round(b, left, millis, n-1), left
	}
	o = Origin{
		int64(right >> (splitBits + laneBits)), int(right >> laneBits & (1<<splitBits - 1)),
		int(right & (1<<laneBits - 1)), left>>checkBits&1 == 1,
	}
	return time.UnixMilli(int64(millis)).UTC(), o, left&(1<<checkBits-1) == r.check(b, millis, o)
}
