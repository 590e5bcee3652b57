// Package record is the append-only record of who did what, when and why: its lines, the
// chain of hashes that binds each line to all before it, and how a broken chain is found.
package record

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"

	"innerladder/internal/core/fault"
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

// Hash binds a line to all before it.
type Hash [sha256.Size]byte

// String is the hash in hexadecimal digits.
func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// Next is the hash of a line that follows one with the hash h:
// SHA-256(h ‖ line). Before the first line h is zero.
func (h Hash) Next(line []byte) Hash {
	d := sha256.New()
	d.Write(h[:])
	d.Write(line)
	var out Hash
	d.Sum(out[:0])
	return out
}

// Signer signs what must not be made up by whoever can write to the disk.
type Signer interface {
	Sign(message []byte) []byte
	Public() ed25519.PublicKey
}

// LineMessage is what is signed with every line, HeadMessage what is signed for the last
// one: a line's own signature must not do for the head, or cutting lines off would go
// unseen.
func LineMessage(h Hash) []byte { return append([]byte("inner-ladder line\n"), h[:]...) }

// HeadMessage is what is signed to say that a line is the last.
func HeadMessage(seq int64, h Hash) []byte {
	return fmt.Appendf(nil, "inner-ladder head\n%d\n%s", seq, h)
}

// Checkpoint says what the hash of a line was at a moment. Kept elsewhere, it proves later
// that nothing up to that line was changed or cut off.
type Checkpoint struct {
	Format    string    `json:"format"`
	Seq       int64     `json:"seq"`
	Hash      string    `json:"hash" description:"SHA-256 in hexadecimal digits"`
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
	c := Checkpoint{Format: CheckpointFormat, Seq: seq, Hash: h.String(), At: now, Key: base64.StdEncoding.EncodeToString(s.Public())}
	c.Signature = base64.StdEncoding.EncodeToString(s.Sign(c.message()))
	return c
}

// Check refuses a checkpoint that is not whole or that another installation signed.
func (c Checkpoint) Check(key ed25519.PublicKey) error {
	bad := func(why string) error {
		return fault.New(fault.Invalid, "checkpoint.bad", "the checkpoint %s", why).In("checkpoint").Do("give a file that innerladder audit checkpoint wrote, unchanged")
	}
	sig, err := base64.StdEncoding.DecodeString(c.Signature)
	if c.Format != CheckpointFormat || err != nil || len(c.Hash) != 2*sha256.Size || c.Seq < 0 {
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

// signedEvery is how far apart the lines are whose signatures are checked while the chain
// holds: a signature takes as long to check as a hundred hashes.
const signedEvery = 20_000

// Chain verifies a record line by line. Its zero value, with a key, is before the first
// line.
type Chain struct {
	Key ed25519.PublicKey
	// Checkpoints are hashes that lines must have, by number.
	Checkpoints map[int64]string

	seq    int64
	hash   Hash
	breaks []Break
	// signature is that of the last line, told the last line whose hash was told of.
	signature []byte
	told      int64
	// signedTo is the last line whose signature was checked, and suspect is set when one
	// failed.
	signedTo int64
	suspect  int64
}

func (c *Chain) broken(seq int64, what, sentence string, args ...any) {
	if len(c.breaks) < mostBreaks {
		c.breaks = append(c.breaks, Break{seq, what, fmt.Sprintf(sentence, args...)})
	}
}

// Add takes the next line as it is stored, with its hash and signature.
func (c *Chain) Add(seq int64, line, hash, signature []byte) {
	switch {
	case seq > c.seq+1:
		if n := seq - c.seq - 1; n == 1 {
			c.broken(c.seq+1, "missing", "line %d is missing", c.seq+1)
		} else {
			c.broken(c.seq+1, "missing", "%d lines are missing, %d to %d", n, c.seq+1, seq-1)
		}
	case seq <= c.seq:
		c.broken(seq, "misplaced", "line %d stands after line %d", seq, c.seq)
	}
	gap := seq != c.seq+1
	c.seq = seq
	var stored Hash
	copy(stored[:], hash)
	own, ok := ownNumber(line)
	switch {
	case !ok || len(hash) != sha256.Size:
		c.broken(seq, "altered", "line %d is no line of the record any more", seq)
	case own != seq:
		c.broken(seq, "misplaced", "line %d is a copy of line %d", seq, own)
	case gap: // what came before it is not known
		if !c.signed(stored, signature) {
			c.broken(seq, "altered", "line %d is not the one that was signed", seq)
		}
	case c.hash.Next(line) != stored:
		switch {
		case seq > 1 && !c.signed(c.hash, c.signature): // this line is right, the one before it is not
			if c.told != seq-1 {
				c.broken(seq-1, "rewritten", "line %d was altered, and its hash with it", seq-1)
			}
		case c.signed(stored, signature):
			c.broken(seq, "altered", "line %d was altered after it was written", seq)
		default:
			c.broken(seq, "rewritten", "line %d was altered, and its hash with it", seq)
			c.told = seq
		}
	}
	c.hash, c.signature = stored, append(c.signature[:0], signature...)
	if want, there := c.Checkpoints[seq]; there && want != stored.String() {
		c.broken(seq, "rewritten", "line %d has another hash than its checkpoint", seq)
	}
	if seq%signedEvery == 0 && c.suspect == 0 && len(c.breaks) == 0 {
		if c.signed(stored, signature) {
			c.signedTo = seq
		} else {
			c.suspect = seq
		}
	}
}

func (c *Chain) signed(h Hash, signature []byte) bool { return c.Signed(h[:], signature) }

// Signed reports whether a line with a hash was signed by this service.
func (c *Chain) Signed(hash, signature []byte) bool {
	var h Hash
	copy(h[:], hash)
	return ed25519.Verify(c.Key, LineMessage(h), signature)
}

// Suspect is a span of lines, the last of which has a signature that does not fit
// although the chain holds: somebody wrote the chain anew from within it. It is empty
// when to is 0.
func (c *Chain) Suspect() (after, to int64) { return c.signedTo, c.suspect }

// End compares the last line with the head that was kept and tells what was found.
// lastSignature is that of the last line.
func (c *Chain) End(headSeq int64, headHash, headSignature, lastSignature []byte) Verified {
	var h Hash
	copy(h[:], headHash)
	switch {
	case c.seq > 0 && c.suspect == 0 && len(c.breaks) == 0 && !c.signed(c.hash, lastSignature):
		c.suspect = c.seq
	case headSeq > c.seq:
		c.broken(c.seq+1, "cut_off", "the record ends at line %d, but had %d", c.seq, headSeq)
	case headSeq < c.seq:
		c.broken(headSeq+1, "not_signed", "line %d was the last when the service wrote; what follows it did not come from the service", headSeq)
	case headSeq > 0 && h != c.hash && len(c.breaks) == 0:
		c.broken(headSeq, "rewritten", "the last line is not the one that the service wrote")
	}
	if headSeq > 0 && !ed25519.Verify(c.Key, HeadMessage(headSeq, h), headSignature) {
		c.broken(headSeq, "cut_off", "what says which line is the last was not signed by this service")
	}
	for seq := range c.Checkpoints {
		if seq > c.seq {
			c.broken(c.seq+1, "cut_off", "the record ends at line %d, but a checkpoint knows line %d", c.seq, seq)
		}
	}
	slices.SortStableFunc(c.breaks, func(a, b Break) int { return int(a.Seq - b.Seq) })
	out := Verified{Lines: c.seq, Head: c.hash.String(), Breaks: c.breaks}
	if out.Breaks == nil {
		out.Breaks = []Break{}
	}
	return out
}

// Rewritten says that the chain was written anew from a line on.
func (v *Verified) Rewritten(seq int64) {
	v.Breaks = append(v.Breaks, Break{seq, "rewritten", fmt.Sprintf("from line %d on the chain was written anew, and not by this service", seq)})
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
	return CloudEvent{SpecVersion: "1.0", ID: strconv.FormatInt(e.Seq, 10), Source: source, Type: "innerladder." + e.Kind, Subject: e.Subject, Time: e.At,
		DataContentType: "application/json", Project: e.Project, Data: e}
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
