// Package record is the append-only record of who did what, when and why: its lines, the
// chain of hashes that binds each line to all before it, and how a broken chain is found.
package record

import (
	"bytes"
	"cmp"
	"crypto/ed25519"
	"crypto/hmac"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"

	"innerladder/internal/core/fault"

	"golang.org/x/crypto/blake2b"
)

// Entry is one line of the record. It is also the event that is published when the change
// is confirmed.
type Entry struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at" description:"never before the line before it"`
	Project string    `json:"project,omitempty" description:"absent when it is about the service itself"`
	Actor   string    `json:"actor" description:"a person's or robot's name, or inner-ladder for the service itself"`
	Kind    string    `json:"kind" description:"such as split.made"`
	Subject string    `json:"subject" description:"what changed, such as demand-hourly or heat-demand@2"`
	// Also lists what else the line is about.
	Also []string `json:"also,omitempty" description:"what else it is about"`
	// On is the line that a comment answers.
	On int64 `json:"on,omitempty" description:"the line that a comment is about"`
	// Sentence says in words what happened.
	Sentence string `json:"sentence"`
	Reason   string `json:"reason,omitempty" description:"why, in the words of whoever did it; of a comment its text"`
	// The rest is for those who may look into the record.
	Before    json.RawMessage `json:"before,omitempty"`
	After     json.RawMessage `json:"after,omitempty"`
	Address   string          `json:"address,omitempty" description:"where the call came from"`
	RequestID string          `json:"request_id,omitempty"`
}

// Activity is the entry as everyone in the project may read it: without values and
// without where it came from.
func (e Entry) Activity() Entry {
	e.Before, e.After, e.Address, e.RequestID = nil, nil, "", ""
	return e
}

// Hash binds a line to all before it. It is BLAKE2b-256 (RFC 7693), which takes a third
// of the time of SHA-256 where the processor has no instructions for that.
type Hash [blake2b.Size256]byte

// String is the hash in hexadecimal digits.
func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// next is the hash of a line that follows one with the hash h: that of h and the line
// without its link. Before the first line h is zero.
func (h Hash) next(scratch, unlinked []byte) (Hash, []byte) {
	scratch = append(append(scratch[:0], h[:]...), unlinked...)
	return blake2b.Sum256(scratch), scratch
}

// A line ends in its link: ,"link":"…"} with the hash in base64.
const (
	linkStart = `,"link":"`
	linkText  = (blake2b.Size256*8 + 5) / 6
	linkSize  = len(linkStart) + linkText + len(`"}`)
)

// Write writes an entry as the line that follows one with the hash prev, and returns the
// line's own hash. Signs such as < stand as they are, so that a line can be read by eye.
func (e *Entry) Write(prev Hash) (line []byte, h Hash, err error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(e); err != nil {
		return nil, h, fmt.Errorf("writing a line of the record: %w", err)
	}
	body := bytes.TrimSuffix(b.Bytes(), []byte("}\n"))
	h, _ = prev.next(nil, body)
	return fmt.Appendf(body, `%s%s"}`, linkStart, base64.RawURLEncoding.EncodeToString(h[:])), h, nil
}

// link reads the hash that a line says it has, and the line without it.
func link(line []byte) (h Hash, unlinked []byte, ok bool) {
	if len(line) < linkSize {
		return h, nil, false
	}
	unlinked, end := line[:len(line)-linkSize], line[len(line)-linkSize:]
	if string(end[:len(linkStart)]) != linkStart || string(end[linkSize-2:]) != `"}` {
		return h, nil, false
	}
	n, err := base64.RawURLEncoding.Decode(h[:], end[len(linkStart):linkSize-2])
	return h, unlinked, err == nil && n == len(h)
}

// LinkOf is the hash that a line says it has; zero when it says none.
func LinkOf(line []byte) Hash {
	h, _, _ := link(line)
	return h
}

// Signer signs what must not be made up by whoever can write to the disk.
type Signer interface {
	Sign(message []byte) []byte
	Public() ed25519.PublicKey
	// Mac is quicker than a signature, and can be checked only by who has the key.
	Mac(message []byte) []byte
}

// SealEvery is how far apart the lines are that are sealed with a signature: signing takes
// as long as hashing a hundred lines.
const SealEvery = 64

// SealMessage is what is signed to seal a line.
func SealMessage(seq int64, h Hash) []byte {
	return fmt.Appendf(nil, "inner-ladder seal\n%d\n%s", seq, h)
}

// HeadMessage is what is authenticated to say that a line is the last. A seal must not do
// for that, or cutting lines off would go unseen.
func HeadMessage(seq int64, h Hash) []byte {
	return fmt.Appendf(nil, "inner-ladder head\n%d\n%s", seq, h)
}

// Checkpoint says what the hash of a line was at a moment. Kept elsewhere, it proves later
// that nothing up to that line was changed or cut off.
type Checkpoint struct {
	Format    string    `json:"format"`
	Seq       int64     `json:"seq"`
	Hash      string    `json:"hash" description:"BLAKE2b-256 in hexadecimal digits"`
	At        time.Time `json:"at"`
	Key       string    `json:"key" description:"the Ed25519 public key, base64"`
	Signature string    `json:"signature" description:"base64"`
}

// CheckpointFormat names the form of a checkpoint.
const CheckpointFormat = "inner-ladder-checkpoint/1"

func (c Checkpoint) message() []byte {
	return fmt.Appendf(nil, "inner-ladder checkpoint\n%d\n%s\n%s", c.Seq, c.Hash, c.At.UTC().Format(time.RFC3339Nano))
}

// NewCheckpoint signs that a line has a hash.
func NewCheckpoint(seq int64, h Hash, now time.Time, s Signer) Checkpoint {
	c := Checkpoint{
		Format: CheckpointFormat, Seq: seq, Hash: h.String(), At: now,
		Key: base64.StdEncoding.EncodeToString(s.Public()),
	}
	c.Signature = base64.StdEncoding.EncodeToString(s.Sign(c.message()))
	return c
}

// Check refuses a checkpoint that is not whole or that another installation signed.
func (c Checkpoint) Check(key ed25519.PublicKey) error {
	bad := func(why string) error {
		return fault.New(fault.Invalid, "checkpoint.bad", "the checkpoint %s", why).In("checkpoint").
			Do("give a file that innerladder audit checkpoint wrote, unchanged")
	}
	sig, err := base64.StdEncoding.DecodeString(c.Signature)
	if c.Format != CheckpointFormat || err != nil || len(c.Hash) != 2*len(Hash{}) || c.Seq < 0 {
		return bad("is not one of ours")
	}
	if c.Key != base64.StdEncoding.EncodeToString(key) {
		return bad("was signed with another key than this service has")
	}
	if !ed25519.Verify(key, c.message(), sig) {
		return bad("has been changed since it was signed")
	}
	return nil
}

// Break is one place where the record is not what it was.
type Break struct {
	Seq  int64  `json:"seq" description:"the line at fault; the first of them when several are missing"`
	What string `json:"what" enum:"altered,missing,misplaced,not_signed,cut_off,rewritten"`
	// Sentence says it in words.
	Sentence string `json:"sentence"`
}

// Verified is what a verification found.
type Verified struct {
	Lines  int64   `json:"lines"`
	Head   string  `json:"head" description:"hash of the last line"`
	Breaks []Break `json:"breaks" description:"empty when nothing was changed; the first hundred"`
	// MS is how long it took.
	MS int64 `json:"ms"`
}

// Intact reports whether nothing was found.
func (v Verified) Intact() bool { return len(v.Breaks) == 0 }

// mostBreaks is how many breaks are told; many are one deed.
const mostBreaks = 100

// checkedEvery is how far apart the seals are that are checked while the chain holds.
const checkedEvery = 300 * SealEvery

// Chain verifies a record line by line. Its zero value, with a signer, is before the first
// line.
type Chain struct {
	Signer Signer
	// Checkpoints are hashes that lines must have, by number.
	Checkpoints map[int64]string

	seq     int64
	hash    Hash
	scratch []byte
	breaks  []Break
}

func (c *Chain) broken(seq int64, what, sentence string, args ...any) {
	if len(c.breaks) < mostBreaks {
		c.breaks = append(c.breaks, Break{seq, what, fmt.Sprintf(sentence, args...)})
	}
}

// Add takes the next line as it is stored.
func (c *Chain) Add(line []byte) {
	next := c.seq + 1
	own, numbered := ownNumber(line)
	stored, unlinked, linked := link(line)
	if !numbered || !linked {
		c.seq = next
		c.broken(next, "altered", "line %d is no line of the record any more", next)
		c.hash = Hash{} // the next line cannot follow from it, and is not blamed
		return
	}
	var computed Hash
	computed, c.scratch = c.hash.next(c.scratch, unlinked)
	switch {
	case own == next && computed == stored:
	case own == next && c.hash == Hash{} && next > 1: // what came before it is not known
	case own == next:
		c.broken(next, "altered", "line %d was altered after it was written, or line %d with its link", next, next-1)
	case own == next+1:
		c.broken(next, "missing", "line %d is missing", next)
	case own > next:
		c.broken(next, "missing", "%d lines are missing, %d to %d", own-next, next, own-1)
	default:
		// It stands where it does not belong; what follows goes on from before it.
		c.broken(next, "misplaced", "line %d stands after line %d", own, c.seq)
		return
	}
	c.seq, c.hash = own, stored
	if want, there := c.Checkpoints[own]; there && want != stored.String() {
		c.broken(own, "rewritten", "line %d has another hash than its checkpoint", own)
	}
}

// Seq is the number of the last line that was taken.
func (c *Chain) Seq() int64 { return c.seq }

// Due reports whether the last line's seal should be looked at.
func (c *Chain) Due() bool { return c.seq%checkedEvery == 0 && len(c.breaks) == 0 }

// Sealed reports whether a line with a hash has a seal that fits.
func (c *Chain) Sealed(seq int64, h Hash, sealed, signature []byte) bool {
	return bytes.Equal(h[:], sealed) && ed25519.Verify(c.Signer.Public(), SealMessage(seq, h), signature)
}

// Intact reports whether nothing was found so far.
func (c *Chain) Intact() bool { return len(c.breaks) == 0 }

// Rewritten says that the chain was written anew from somewhere between two lines on.
func (c *Chain) Rewritten(after, to int64) {
	c.broken(after+1, "rewritten",
		"somewhere from line %d to %d on the chain was written anew, and not by this service", after+1, to)
}

// End compares the last line with the head that was kept and tells what was found.
func (c *Chain) End(headSeq int64, headHash, headMac []byte) Verified {
	var h Hash
	copy(h[:], headHash)
	known := headSeq > 0 && hmac.Equal(c.Signer.Mac(HeadMessage(headSeq, h)), headMac)
	switch {
	case headSeq == 0 && c.seq == 0:
	case !known:
		c.broken(c.seq, "not_signed", "what says which line is the last does not come from this service")
	case headSeq > c.seq:
		c.broken(c.seq+1, "cut_off", "the record ends at line %d, but had %d", c.seq, headSeq)
	case headSeq < c.seq:
		c.broken(headSeq+1, "not_signed",
			"line %d was the last when the service wrote; what follows it did not come from the service", headSeq)
	case h != c.hash && c.Intact():
		c.broken(headSeq, "rewritten", "the last line is not the one that the service wrote")
	}
	for seq := range c.Checkpoints {
		if seq > c.seq {
			c.broken(c.seq+1, "cut_off", "the record ends at line %d, but a checkpoint knows line %d", c.seq, seq)
		}
	}
	slices.SortStableFunc(c.breaks, func(a, b Break) int { return cmp.Compare(a.Seq, b.Seq) })
	out := Verified{Lines: c.seq, Head: c.hash.String(), Breaks: c.breaks}
	if out.Breaks == nil {
		out.Breaks = []Break{}
	}
	return out
}

// ownNumber reads the number that a line gives itself.
func ownNumber(line []byte) (int64, bool) {
	const start = `{"seq":`
	if len(line) < len(start)+2 || string(line[:len(start)]) != start {
		return 0, false
	}
	n, i := int64(0), len(start)
	for ; i < len(line) && line[i] >= '0' && line[i] <= '9'; i++ {
		n = n*10 + int64(line[i]-'0')
	}
	return n, i > len(start)
}

// CloudEvent is an entry as an event of the CloudEvents specification, version 1.0, in
// its JSON form.
type CloudEvent struct {
	SpecVersion     string    `json:"specversion"`
	ID              string    `json:"id"`
	Source          string    `json:"source"`
	Type            string    `json:"type"`
	Subject         string    `json:"subject,omitempty"`
	Time            time.Time `json:"time"`
	DataContentType string    `json:"datacontenttype"`
	// Project is an extension attribute.
	Project string `json:"project,omitempty"`
	Data    Entry  `json:"data"`
}

// Event turns an entry into a CloudEvent; source is the service's own address.
func (e Entry) Event(source string) CloudEvent {
	return CloudEvent{
		SpecVersion: "1.0", ID: strconv.FormatInt(e.Seq, 10), Source: source,
		Type: "innerladder." + e.Kind, Subject: e.Subject, Time: e.At,
		DataContentType: "application/json", Project: e.Project, Data: e,
	}
}

var mention = regexp.MustCompile(`(?:^|[^\w@.-])@([a-z0-9](?:[a-z0-9-]*[a-z0-9])?)`)

// Mentions lists who a text mentions as @NAME, each once, in order. MODEL@NUMBER mentions
// nobody.
func Mentions(text string) []string {
	var out []string
	for _, m := range mention.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}
