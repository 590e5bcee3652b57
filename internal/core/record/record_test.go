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

var ours = signer{ed25519.NewKeyFromSeed(make([]byte, 32))}

type row struct {
	seq             int64
	line            []byte
	hash, signature []byte
}

func written(n int) []row {
	var h Hash
	out := make([]row, n)
	for i := range out {
		line, _ := json.Marshal(Entry{Seq: int64(i + 1), Project: []string{"heat", "valves"}[i%2], Actor: "runa", Kind: "model.added", Subject: fmt.Sprint("m-", i), Sentence: "m was added."})
		h = h.Next(line)
		out[i] = row{int64(i + 1), line, slices.Clone(h[:]), ours.Sign(LineMessage(h))}
	}
	return out
}

func verify(rows []row, head row, checkpoints map[int64]string) Verified {
	c := Chain{Key: ours.Public(), Checkpoints: checkpoints}
	var last []byte
	for _, r := range rows {
		c.Add(r.seq, r.line, r.hash, r.signature)
		last = r.signature
	}
	return c.End(head.seq, head.hash, head.signature, last)
}

// headOf is what says that the last of rows is the last.
func headOf(rows []row) row {
	r := rows[len(rows)-1]
	return row{seq: r.seq, hash: r.hash, signature: ours.Sign(HeadMessage(r.seq, Hash(r.hash)))}
}

func edited(r row) row {
	r.line = []byte(strings.Replace(string(r.line), "runa", "odd!", 1))
	return r
}

// again writes the chain anew from a line on, as someone would who can compute hashes but
// not sign.
func again(rows []row, from int) []row {
	var h Hash
	if from > 0 {
		h = Hash(rows[from-1].hash)
	}
	for i := from; i < len(rows); i++ {
		h = h.Next(rows[i].line)
		rows[i].hash = slices.Clone(h[:])
	}
	return rows
}

func renumbered(r row, seq int64) row {
	r.line = []byte(strings.Replace(string(r.line), fmt.Sprintf(`{"seq":%d,`, r.seq), fmt.Sprintf(`{"seq":%d,`, seq), 1))
	r.seq = seq
	return r
}

func TestTamperingIsFound(t *testing.T) {
	const n = 40
	whole := written(n)
	if v := verify(whole, headOf(whole), map[int64]string{7: Hash(whole[6].hash).String()}); !v.Intact() || v.Lines != n {
		t.Fatalf("untouched: %+v", v)
	}
	if v := verify(nil, row{}, nil); !v.Intact() {
		t.Errorf("empty: %+v", v)
	}
	for _, c := range []struct {
		name string
		do   func([]row) []row
		// what is found first, and where; headKept is unset where the tamperer moves it too
		what string
		seq  int64
	}{
		{"a word is edited", func(r []row) []row { r[9] = edited(r[9]); return r }, "altered", 10},
		{"a word and its hash", func(r []row) []row {
			r[9] = edited(r[9])
			h := Hash(r[8].hash).Next(r[9].line)
			r[9].hash = h[:]
			return r
		}, "rewritten", 10},
		{"a hash alone", func(r []row) []row { r[9].hash = slices.Clone(r[3].hash); return r }, "rewritten", 10},
		{"a line is deleted", func(r []row) []row { return slices.Delete(r, 9, 10) }, "missing", 10},
		{"lines are deleted at the beginning", func(r []row) []row { return r[5:] }, "missing", 1},
		{"a line is deleted and the rest moves up", func(r []row) []row {
			r = slices.Delete(r, 9, 10)
			for i := 9; i < len(r); i++ {
				r[i] = renumbered(r[i], int64(i+1))
			}
			return r
		}, "altered", 10},
		{"a line is inserted", func(r []row) []row { return slices.Insert(r, 9, renumbered(r[2], 10)) }, "altered", 10},
		{"two lines swap places", func(r []row) []row {
			r[9].line, r[10].line = r[10].line, r[9].line
			r[9].hash, r[10].hash = r[10].hash, r[9].hash
			return r
		}, "misplaced", 10},
		{"two lines swap numbers and all", func(r []row) []row { r[9], r[10] = renumbered(r[10], 10), renumbered(r[9], 11); return r }, "altered", 10},
		{"a line of another project is copied over one", func(r []row) []row { r[9].line = r[20].line; return r }, "misplaced", 10},
		{"the end is cut off", func(r []row) []row { return r[:30] }, "cut_off", 31},
		{"lines are added at the end", func(r []row) []row { return append(r, renumbered(r[2], n+1)) }, "altered", n + 1},
		{"a line becomes nonsense", func(r []row) []row { r[9].line = []byte("x"); return r }, "altered", 10},
		{"a line is no more", func(r []row) []row { r[9].line = nil; return r }, "altered", 10},
		{"a hash is no more", func(r []row) []row { r[9].hash = nil; return r }, "altered", 10},
		{"all signatures are taken away", func(r []row) []row {
			for i := range r {
				r[i].signature = make([]byte, 64)
			}
			return r
		}, "", 0},
	} {
		rows := c.do(slices.Clone(whole))
		v := verify(rows, headOf(whole), nil)
		if c.what == "" {
			chain := Chain{Key: ours.Public()}
			for _, r := range rows {
				chain.Add(r.seq, r.line, r.hash, r.signature)
			}
			chain.End(headOf(whole).seq, headOf(whole).hash, headOf(whole).signature, rows[len(rows)-1].signature)
			if _, to := chain.Suspect(); to == 0 {
				t.Errorf("%s: not found", c.name)
			}
			continue
		}
		if v.Intact() || v.Breaks[0].What != c.what || v.Breaks[0].Seq != c.seq {
			t.Errorf("%s: %+v", c.name, v.Breaks)
		}
	}
}

// Whoever writes the whole chain anew cannot sign it; which line is the first tells the
// search that begins where the last signature held.
func TestAChainThatWasWrittenAnewIsSuspect(t *testing.T) {
	whole := written(40)
	rows := slices.Clone(whole)
	rows[9] = edited(rows[9])
	rows = again(rows, 9)
	c := Chain{Key: ours.Public()}
	for _, r := range rows {
		c.Add(r.seq, r.line, r.hash, r.signature)
	}
	last := rows[len(rows)-1]
	v := c.End(last.seq, last.hash, headOf(whole).signature, last.signature)
	if _, to := c.Suspect(); to == 0 || v.Intact() {
		t.Errorf("with a head that is moved too: %+v", v)
	}
}

func TestCheckpointsHold(t *testing.T) {
	whole := written(40)
	now := time.Date(2026, 1, 31, 14, 0, 0, 0, time.UTC)
	p := NewCheckpoint(20, Hash(whole[19].hash), now, ours)
	if err := p.Check(ours.Public()); err != nil {
		t.Fatal(err)
	}
	b, _ := json.Marshal(p)
	var back Checkpoint
	if err := json.Unmarshal(b, &back); err != nil || back.Check(ours.Public()) != nil {
		t.Errorf("through a file: %v", back.Check(ours.Public()))
	}
	// cut back to before the checkpoint, and a head from that time put back with it
	if v := verify(whole[:15], headOf(whole[:15]), nil); !v.Intact() {
		t.Errorf("without the checkpoint this cannot be told: %+v", v)
	}
	if v := verify(whole[:15], headOf(whole[:15]), map[int64]string{20: p.Hash}); v.Intact() || v.Breaks[0].What != "cut_off" || v.Breaks[0].Seq != 16 {
		t.Errorf("with the checkpoint: %+v", v)
	}
	other := signer{ed25519.NewKeyFromSeed([]byte(strings.Repeat("x", 32)))}
	for name, bend := range map[string]func(*Checkpoint){
		"another number": func(c *Checkpoint) { c.Seq = 19 }, "another hash": func(c *Checkpoint) { c.Hash = Hash{}.String() }, "another time": func(c *Checkpoint) { c.At = now.Add(1) },
		"another key": func(c *Checkpoint) { *c = NewCheckpoint(20, Hash(whole[19].hash), now, other) }, "no format": func(c *Checkpoint) { c.Format = "" },
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
		"@tove look, and @runa-2 too": {"tove", "runa-2"}, "(@tove) @tove.": {"tove"}, "heat-demand@2 and heat-demand@live": nil, "tove@tarnholm.example": nil, "@": nil, "a\n@odd": {"odd"}, "@Tove": nil,
	} {
		if got := Mentions(text); !slices.Equal(got, want) {
			t.Errorf("%q: %v", text, got)
		}
	}
}

func TestActivityShowsNoValues(t *testing.T) {
	e := Entry{Seq: 1, Before: json.RawMessage(`1`), After: json.RawMessage(`2`), Address: "10.0.0.1", RequestID: "x", Sentence: "s", Reason: "r"}
	b, _ := json.Marshal(e.Activity())
	if s := string(b); strings.Contains(s, "before") || strings.Contains(s, "after") || strings.Contains(s, "10.0") || !strings.Contains(s, `"reason":"r"`) {
		t.Error(s)
	}
	if ev := e.Event("http://ladder"); ev.SpecVersion != "1.0" || ev.ID != "1" || ev.Type != "innerladder." || ev.Source != "http://ladder" {
		t.Errorf("%+v", ev)
	}
}
