package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/record"
)

// chronicle writes n lines about two projects, four people and several kinds.
func chronicle(t *testing.T, s *DB, n int) []record.Entry {
	t.Helper()
	r := rand.New(rand.NewPCG(4, 4))
	var out []record.Entry
	err := s.Write(t.Context(), Everything, func(w View) error {
		for i := range n {
			e := record.Entry{
				At:      now.Add(time.Duration(i) * time.Minute),
				Actor:   []string{"runa", "tove", "sif", "inner-ladder"}[r.IntN(4)],
				Kind:    []string{"split.made", "split.held", "promotion.opened", "version.registered"}[r.IntN(4)],
				Project: []string{"heat", "valves", ""}[r.IntN(3)], Subject: fmt.Sprintf("heat-demand@%d", 1+r.IntN(5)),
				Sentence: "It was done in the " + []string{"morning", "evening"}[r.IntN(2)] + ".",
				Reason:   []string{"", "the Ærø feed <b>"}[r.IntN(2)],
			}
			if e.Kind == "split.made" {
				e.Subject, e.Also = "demand-hourly", []string{e.Subject}
			}
			if err := w.AddEntry(t.Context(), &e); err != nil {
				return err
			}
			out = append(out, e)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Every search gives what going through all lines gives.
func recordIsSearched(t *testing.T, s *DB) {
	all := chronicle(t, s, 400)
	about := func(e record.Entry, subject string) bool {
		return e.Subject == subject || slices.Contains(e.Also, subject) || strings.HasPrefix(e.Subject, subject+"@") ||
			slices.ContainsFunc(e.Also, func(a string) bool { return strings.HasPrefix(a, subject+"@") })
	}
	for i, c := range []struct {
		q    RecordSearch
		want func(record.Entry) bool
	}{
		{RecordSearch{}, func(record.Entry) bool { return true }},
		{RecordSearch{Kind: "split.made"}, func(e record.Entry) bool { return e.Kind == "split.made" }},
		{RecordSearch{Kind: "split"}, func(e record.Entry) bool { return strings.HasPrefix(e.Kind, "split.") }},
		{RecordSearch{Actor: "tove"}, func(e record.Entry) bool { return e.Actor == "tove" }},
		{
			RecordSearch{Actor: "tove", Kind: "split"},
			func(e record.Entry) bool { return e.Actor == "tove" && strings.HasPrefix(e.Kind, "split.") },
		},
		{RecordSearch{Project: "valves"}, func(e record.Entry) bool { return e.Project == "valves" }},
		{RecordSearch{Subject: "heat-demand@3"}, func(e record.Entry) bool { return about(e, "heat-demand@3") }},
		{RecordSearch{Subject: "heat-demand"}, func(e record.Entry) bool { return about(e, "heat-demand") }},
		{RecordSearch{Subject: "demand-hourly", Text: "evening"}, func(e record.Entry) bool {
			return e.Subject == "demand-hourly" && strings.Contains(e.Sentence, "evening")
		}},
		{RecordSearch{Text: "ÆRØ feed"}, func(e record.Entry) bool { return e.Reason != "" }},
		{RecordSearch{Text: "even"}, func(e record.Entry) bool { return strings.Contains(e.Sentence, "evening") }},
		{RecordSearch{Text: "heat-demand@4"}, func(e record.Entry) bool { return e.Subject == "heat-demand@4" }},
		{RecordSearch{Text: `" OR AND NOT * ( x`}, func(record.Entry) bool { return false }},
		{
			RecordSearch{After: now.Add(100 * time.Minute), Until: now.Add(120 * time.Minute)},
			func(e record.Entry) bool { return e.Seq >= 101 && e.Seq <= 120 },
		},
		{RecordSearch{After: now.Add(1000 * time.Minute)}, func(record.Entry) bool { return false }},
		{RecordSearch{Projects: []string{"heat"}}, func(e record.Entry) bool { return e.Project == "heat" }},
		{
			RecordSearch{Projects: []string{"heat", "valves"}, Actor: "sif"},
			func(e record.Entry) bool { return e.Project != "" && e.Actor == "sif" },
		},
		{RecordSearch{Projects: []string{}}, func(record.Entry) bool { return false }},
		{RecordSearch{Projects: []string{"heat"}, Project: "valves"}, func(record.Entry) bool { return false }},
	} {
		var want, got, forth []int64
		for _, e := range slices.Backward(all) {
			if c.want(e) {
				want = append(want, e.Seq)
			}
		}
		for after := ""; ; { // page by page
			items, next, err := s.Read(Everything).Entries(t.Context(), c.q, Page{Limit: 7, After: after})
			if err != nil {
				t.Fatalf("%d: %v", i, err)
			}
			for _, e := range items {
				got = append(got, e.Seq)
			}
			if after = next; after == "" {
				break
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%d %+v: got %v, want %v", i, c.q, got, want)
		}
		if err := s.Read(Everything).EachEntry(t.Context(), c.q,
			func(e record.Entry) error { forth = append(forth, e.Seq); return nil }); err != nil {
			t.Fatal(err)
		}
		slices.Reverse(forth)
		if !slices.Equal(forth, want) {
			t.Errorf("%d %+v oldest first: got %v, want %v", i, c.q, forth, want)
		}
	}
}

// What was written is what is read.
func linesAreReadAsWritten(t *testing.T, s *DB) {
	e := record.Entry{
		At: now, Project: "heat", Actor: "runa", Kind: "model.edited", Subject: "m", Also: []string{"n"},
		Sentence: "<“odd” & \u2028>", Reason: "r\n", Before: json.RawMessage(`{"a":"<b>"}`),
		After: json.RawMessage(`null`), Address: "::1", RequestID: "x",
	}
	later := record.Entry{At: now.Add(-time.Hour), Actor: "runa", Kind: "x.y", Sentence: "the clock was put back"}
	if err := s.Write(t.Context(), Everything, func(w View) error {
		return errors.Join(w.AddEntry(t.Context(), &e), w.AddEntry(t.Context(), &later))
	}); err != nil {
		t.Fatal(err)
	}
	got, err := s.Read(Everything).Entry(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if a, b := fmt.Sprintf("%+v", *got), fmt.Sprintf("%+v", e); a != b {
		t.Errorf("got  %s\nwant %s", a, b)
	}
	if next, err := s.Read(Everything).Entry(t.Context(), 2); err != nil || !next.At.Equal(now) {
		t.Errorf("times run back: %v %v", next, err)
	}
	if _, err := s.Read(Sight{Projects: []string{"valves"}}).Entry(t.Context(), 1); !errors.Is(err, ErrNone) {
		t.Errorf("out of sight: %v", err)
	}
}

// Somebody who can write to the file, with the triggers out of the way.
func TestTamperingWithTheFileIsFound(t *testing.T) {
	for name, c := range map[string]struct{ statement, what string }{
		"edit": {`UPDATE record SET line = replace(line, 'runa', 'odd')
			WHERE seq = (SELECT min(seq) FROM record WHERE line LIKE '%runa%')`, "altered"},
		"delete":              {`DELETE FROM record WHERE seq = 20`, "missing"},
		"delete the first":    {`DELETE FROM record WHERE seq = 1`, "missing"},
		"truncate":            {`DELETE FROM record WHERE seq > 130`, "cut_off"},
		"truncate to nothing": {`DELETE FROM record`, "cut_off"},
		"insert":              {`INSERT INTO record SELECT 161, line FROM record WHERE seq = 5`, "misplaced"},
		"swap": {`UPDATE record SET seq = 1000 WHERE seq = 20; UPDATE record SET seq = 20
			WHERE seq = 21; UPDATE record SET seq = 21 WHERE seq = 1000`, "missing"},
		"copy from another project": {`UPDATE record SET line = (SELECT line FROM record
			WHERE json_extract(line, '$.project') = 'valves' ORDER BY seq LIMIT 1) WHERE seq = (SELECT max(seq)
			FROM record WHERE json_extract(line, '$.project') = 'heat')`, "misplaced"},
		"another link": {`UPDATE record SET line = replace(line, substr(line, -20, 4), 'AAAA')
			WHERE seq = 20`, "altered"},
		"another head": {`UPDATE record_head SET seq = 150`, "not_signed"},
		"no head":      {`DELETE FROM record_head`, "not_signed"},
		"an earlier head": {`UPDATE record_head SET seq = 128, hash = (SELECT hash FROM record_seals
			WHERE seq = 128), mac = zeroblob(32); DELETE FROM record WHERE seq > 128`, "not_signed"},
		"a time is moved": {`UPDATE record SET line = json_set(line, '$.at', '2020-01-01T00:00:00Z')
			WHERE seq = 20`, "altered"},
		"a project is moved": {`UPDATE record SET line = replace(line, '"project":"heat"', '"project":"heav"')
			WHERE seq = (SELECT max(seq) FROM record WHERE line LIKE '%"project":"heat"%')`, "altered"},
		"a seal":    {`UPDATE record_seals SET signature = zeroblob(64) WHERE seq = 128`, "rewritten"},
		"the seals": {`DELETE FROM record_seals`, "rewritten"},
	} {
		t.Run(name, func(t *testing.T) {
			s, path := open2(t)
			chronicle(t, s, 160)
			if v, err := s.VerifyRecord(t.Context(), nil); err != nil || !v.Intact() || v.Lines != 160 {
				t.Fatalf("before: %+v %v", v, err)
			}
			tamper(t, path, c.statement)
			v, err := s.VerifyRecord(t.Context(), nil)
			if err != nil || v.Intact() ||
				!slices.ContainsFunc(v.Breaks, func(b record.Break) bool { return b.What == c.what }) {
				t.Errorf("%+v %v", v, err)
			}
		})
	}
}

func tamper(t *testing.T, path, statement string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+strings.NewReplacer("?", "%3f", " ", "%20").Replace(path))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, q := range []string{`DROP TRIGGER record_lines_stay`, `DROP TRIGGER record_lines_remain`, statement} {
		if _, err := db.ExecContext(t.Context(), q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
}

// Somebody writes the record anew from a line on, with right links all along, and even
// moves the head.
func TestARewrittenRecordTellsFromWhere(t *testing.T) {
	s, path := open2(t)
	chronicle(t, s, 300)
	var h record.Hash
	var statements []string
	for seq := int64(1); seq <= 300; seq++ {
		e, err := s.Read(Everything).Entry(t.Context(), seq)
		if err != nil {
			t.Fatal(err)
		}
		if seq == 150 {
			e.Sentence = "It was never done."
		}
		line, next, err := e.Write(h)
		if err != nil {
			t.Fatal(err)
		}
		h = next
		if seq >= 150 {
			statements = append(statements,
				fmt.Sprintf(`UPDATE record SET line = '%s' WHERE seq = %d`, strings.ReplaceAll(string(line), "'", "''"),
					seq))
		}
	}
	tamper(t, path, strings.Join(statements, "; "))
	v, err := s.VerifyRecord(t.Context(), nil)
	if err != nil || !slices.ContainsFunc(v.Breaks, func(b record.Break) bool {
		return b.What == "rewritten" && b.Seq == 129 && strings.Contains(b.Sentence, "from line 129 to 192")
	}) {
		t.Errorf("%+v %v", v, err)
	}
}

// Many write at once; the chain has no fork and no gap.
func manyWriteOneChain(t *testing.T, s *DB) {
	done := make(chan error)
	for w := range 8 {
		go func() {
			var err error
			for i := range 25 {
				failed := s.Write(context.WithoutCancel(t.Context()), Everything, func(r View) error {
					e := record.Entry{At: now, Actor: fmt.Sprint("w", w), Kind: "x.y", Sentence: "s"}
					if err := r.AddEntry(t.Context(), &e); err != nil {
						return err
					}
					if i%5 == 4 {
						return errTurnedDown // it leaves nothing
					}
					return nil
				})
				if !errors.Is(failed, errTurnedDown) {
					err = errors.Join(err, failed)
				}
			}
			done <- err
		}()
	}
	for range 8 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	if v, err := s.VerifyRecord(t.Context(), nil); err != nil || !v.Intact() || v.Lines != 160 {
		t.Errorf("%+v %v", v, err)
	}
}

var errTurnedDown = errors.New("turned down")
