package record

import (
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

type signer struct{ ed25519.PrivateKey }

func (s signer) Sign(m []byte) []byte      { return ed25519.Sign(s.PrivateKey, m) }
func (s signer) Public() ed25519.PublicKey { return s.PrivateKey.Public().(ed25519.PublicKey) }
func (s signer) Mac(m []byte) []byte       { return ed25519.Sign(s.PrivateKey, m)[:32] }

var ours = signer{ed25519.NewKeyFromSeed(make([]byte, 32))}

func written(t *testing.T, n int) (lines [][]byte, hashes []Hash) {
	t.Helper()
	var h Hash
	for i := range n {
		e := Entry{
			Seq: int64(i + 1), Project: []string{"heat", "valves"}[i%2], Actor: "runa", Kind: "model.added",
			Subject: fmt.Sprint("m-", i), Sentence: "m <was> added.",
		}
		line, next, err := e.Write(h)
		if err != nil {
			t.Fatal(err)
		}
		var back Entry
		if err := json.Unmarshal(line, &back); err != nil || back.Subject != e.Subject || LinkOf(line) != next ||
			!strings.Contains(string(line), "<was>") {
			t.Fatalf("%s: %v", line, err)
		}
		h = next
		lines, hashes = append(lines, line), append(hashes, h)
	}
	return lines, hashes
}

// head is what says that a line is the last.
type head struct {
	seq int64
	h   Hash
	mac []byte
}

func headAt(seq int64, h Hash) head { return head{seq, h, ours.Mac(HeadMessage(seq, h))} }

func verify(lines [][]byte, end head, checkpoints map[int64]string) Verified {
	c := Chain{Signer: ours, Checkpoints: checkpoints}
	for _, l := range lines {
		c.Add(l)
	}
	return c.End(end.seq, end.h[:], end.mac)
}

func edited(line []byte) []byte { return []byte(strings.Replace(string(line), "runa", "odd!", 1)) }

// linkedAnew gives a line the right link after a hash, as someone would who knows how.
func linkedAnew(line []byte, prev Hash) ([]byte, Hash) {
	var e Entry
	if json.Unmarshal(line, &e) != nil {
		panic("no line")
	}
	out, h, err := e.Write(prev)
	if err != nil {
		panic(err)
	}
	return out, h
}

func renumbered(line []byte, from, to int) []byte {
	return []byte(strings.Replace(string(line), fmt.Sprintf(`{"seq":%d,`, from), fmt.Sprintf(`{"seq":%d,`, to), 1))
}

func TestTamperingIsFound(t *testing.T) {
	const n = 40
	whole, hashes := written(t, n)
	end := headAt(n, hashes[n-1])
	if v := verify(whole, end, map[int64]string{7: hashes[6].String()}); !v.Intact() || v.Lines != n {
		t.Fatalf("untouched: %+v", v)
	}
	if v := verify(nil, head{}, nil); !v.Intact() {
		t.Errorf("empty: %+v", v)
	}
	for _, c := range []struct {
		name string
		do   func([][]byte) [][]byte
		// what is found first, and where
		what string
		seq  int64
	}{
		{"a word is edited", func(l [][]byte) [][]byte { l[9] = edited(l[9]); return l }, "altered", 10},
		{
			"a word and its link", func(l [][]byte) [][]byte {
				l[9],
					_ = linkedAnew(edited(l[9]), hashes[8])
				return l
			},
			"altered", 11,
		},
		{"a link alone", func(l [][]byte) [][]byte {
			l[9] = append(l[9][:len(l[9])-linkSize:len(l[9])-linkSize], l[3][len(l[3])-linkSize:]...)
			return l
		}, "altered", 10},
		{
			"two lines are edited", func(l [][]byte) [][]byte { l[9], l[19] = edited(l[9]), edited(l[19]); return l },
			"altered", 10,
		},
		{"a line is deleted", func(l [][]byte) [][]byte { return slices.Delete(l, 9, 10) }, "missing", 10},
		{"lines are deleted at the beginning", func(l [][]byte) [][]byte { return l[5:] }, "missing", 1},
		{"a line is deleted and the rest moves up", func(l [][]byte) [][]byte {
			l = slices.Delete(l, 9, 10)
			for i := 9; i < len(l); i++ {
				l[i] = renumbered(l[i], i+2, i+1)
			}
			return l
		}, "altered", 10},
		{
			"a line is inserted", func(l [][]byte) [][]byte { return slices.Insert(l, 9, renumbered(l[2], 3, 10)) },
			"altered", 10,
		},
		{"two lines swap places", func(l [][]byte) [][]byte { l[9], l[10] = l[10], l[9]; return l }, "missing", 10},
		{"two lines swap places and numbers", func(l [][]byte) [][]byte {
			l[9], l[10] = renumbered(l[10], 11, 10), renumbered(l[9], 10, 11)
			return l
		}, "altered", 10},
		{
			"a line of another project is copied over one", func(l [][]byte) [][]byte { l[9] = l[4]; return l },
			"misplaced", 10,
		},
		{"the end is cut off", func(l [][]byte) [][]byte { return l[:30] }, "cut_off", 31},
		{"everything is cut off", func(l [][]byte) [][]byte { return nil }, "cut_off", 1},
		{"a line is added at the end", func(l [][]byte) [][]byte {
			more, _ := linkedAnew(renumbered(l[2], 3, n+1), hashes[n-1])
			return append(l, more)
		}, "not_signed", n + 1},
		{"a line becomes nonsense", func(l [][]byte) [][]byte { l[9] = []byte("x"); return l }, "altered", 10},
		{"a line is empty", func(l [][]byte) [][]byte { l[9] = nil; return l }, "altered", 10},
		{"all is written anew from a line on", func(l [][]byte) [][]byte {
			h := hashes[8]
			l[9] = edited(l[9])
			for i := 9; i < n; i++ {
				l[i], h = linkedAnew(l[i], h)
			}
			return l
		}, "rewritten", n},
	} {
		v := verify(c.do(slices.Clone(whole)), end, nil)
		if v.Intact() || v.Breaks[0].What != c.what || v.Breaks[0].Seq != c.seq {
			t.Errorf("%s: %+v", c.name, v.Breaks)
		}
		if c.name == "two lines are edited" && (len(v.Breaks) != 2 || v.Breaks[1].Seq != 20) {
			t.Errorf("%s: %+v", c.name, v.Breaks)
		}
	}
	if v := verify(whole, head{n, hashes[n-1], make([]byte, 32)}, nil); v.Intact() {
		t.Error("a head that nobody vouches for")
	}
}

func TestSealsFitOneLineOnly(t *testing.T) {
	_, hashes := written(t, 2*SealEvery)
	c := Chain{Signer: ours}
	h := hashes[SealEvery-1]
	good := ours.Sign(SealMessage(SealEvery, h))
	if !c.Sealed(SealEvery, h, h[:], good) {
		t.Error("the right seal")
	}
	if c.Sealed(2*SealEvery, h, h[:], good) || c.Sealed(SealEvery, hashes[3], h[:], good) ||
		c.Sealed(SealEvery, h, h[:], make([]byte, 64)) || c.Sealed(SealEvery, h, nil, nil) ||
		c.Sealed(SealEvery, h, h[:], ours.Sign(HeadMessage(SealEvery, h))) {
		t.Error("a seal that does not belong there")
	}
}

func TestCheckpointsHold(t *testing.T) {
	whole, hashes := written(t, 40)
	now := time.Date(2026, 1, 31, 14, 0, 0, 0, time.UTC)
	p := NewCheckpoint(20, hashes[19], now, ours)
	if err := p.Check(ours.Public()); err != nil {
		t.Fatal(err)
	}
	b, _ := json.Marshal(p)
	var back Checkpoint
	if err := json.Unmarshal(b, &back); err != nil || back.Check(ours.Public()) != nil {
		t.Errorf("through a file: %v", back.Check(ours.Public()))
	}
	// cut back to before the checkpoint, and a head from that time put back with it
	if v := verify(whole[:15], headAt(15, hashes[14]), nil); !v.Intact() {
		t.Errorf("without the checkpoint this cannot be told: %+v", v)
	}
	if v := verify(whole[:15], headAt(15, hashes[14]), map[int64]string{20: p.Hash}); v.Intact() ||
		v.Breaks[0].What != "cut_off" || v.Breaks[0].Seq != 16 {
		t.Errorf("with the checkpoint: %+v", v)
	}
	other := signer{ed25519.NewKeyFromSeed([]byte(strings.Repeat("x", 32)))}
	for name, bend := range map[string]func(*Checkpoint){
		"another number": func(c *Checkpoint) { c.Seq = 19 },
		"another hash":   func(c *Checkpoint) { c.Hash = Hash{}.String() },
		"another time":   func(c *Checkpoint) { c.At = now.Add(1) },
		"another key":    func(c *Checkpoint) { *c = NewCheckpoint(20, hashes[19], now, other) },
		"no format":      func(c *Checkpoint) { c.Format = "" },
	} {
		c := p
		bend(&c)
		if c.Check(ours.Public()) == nil {
			t.Errorf("%s was taken", name)
		}
	}
}

func TestMentions(t *testing.T) {
	for text, want := range map[string][]string{
		"@tove look, and @runa-2 too": {"tove", "runa-2"}, "(@tove) @tove.": {"tove"},
		"heat-demand@2 and heat-demand@live": nil, "tove@tarnholm.example": nil, "@": nil, "a\n@odd": {"odd"},
		"@Tove": nil,
	} {
		if got := Mentions(text); !slices.Equal(got, want) {
			t.Errorf("%q: %v", text, got)
		}
	}
}

func TestActivityShowsNoValues(t *testing.T) {
	e := Entry{
		Seq: 1, Before: json.RawMessage(`1`), After: json.RawMessage(`2`), Address: "10.0.0.1", RequestID: "x",
		Sentence: "s", Reason: "r",
	}
	b, _ := json.Marshal(e.Activity())
	if s := string(b); strings.Contains(s, "before") || strings.Contains(s, "after") || strings.Contains(s, "10.0") ||
		!strings.Contains(s, `"reason":"r"`) {
		t.Error(s)
	}
	if ev := e.Event("http://ladder"); ev.SpecVersion != "1.0" || ev.ID != "1" || ev.Type != "innerladder." ||
		ev.Source != "http://ladder" {
		t.Errorf("%+v", ev)
	}
}
