package records

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"

	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"
)

// SignWith sets who signs the record, and takes over lines that were written before the
// record was chained.
func (s *DB) SignWith(ctx context.Context, signer record.Signer) error {
	s.signer = signer
	return s.Write(ctx, Everything, func(r View) error {
		rows, err := r.q.rows(ctx, `SELECT b.at, b.actor, b.kind, b.subject, b.sentence, b.reason, b.before, b.after,
			b.request_id,
			coalesce((SELECT m.project FROM models m
			WHERE m.name = CASE instr(b.subject, '@') WHEN 0 THEN b.subject ELSE substr(b.subject, 1,
			instr(b.subject, '@') - 1) END),
				(SELECT m.project FROM endpoints e JOIN models m ON m.id = e.model_id WHERE e.name = b.subject), ''),
			coalesce((SELECT group_concat(subject, ' ') FROM audit_also a WHERE a.seq = b.seq), '')
			FROM audit_before b WHERE b.seq > (SELECT count(*) FROM record) ORDER BY b.seq`)
		old, err := collect(rows, err, func(rows *sql.Rows) (record.Entry, error) {
			var e record.Entry
			var at int64
			var before, after sql.NullString
			var also string
			err := rows.Scan(&at, &e.Actor, &e.Kind, &e.Subject, &e.Sentence, &e.Reason, &before, &after, &e.RequestID,
				&e.Project, &also)
			e.At, e.Also = fromMillis(at), strings.Fields(also)
			if before.Valid {
				e.Before = json.RawMessage(before.String)
			}
			if after.Valid {
				e.After = json.RawMessage(after.String)
			}
			return e, err
		})
		for i := range old {
			if err == nil {
				err = r.AddEntry(ctx, &old[i])
			}
		}
		if err != nil || len(old) == 0 {
			return err
		}
		// They are in the record now, so the rule that they stay is kept.
		for _, statement := range []string{
			`DROP TRIGGER audit_lines_remain`, `DELETE FROM audit_also`,
			`DELETE FROM audit_before`,
		} {
			if _, err := r.q.exec(ctx, statement); err != nil {
				return err
			}
		}
		return nil
	})
}

// tail is the end of the record as the present transaction sees it.
type tail struct {
	seq  int64
	hash record.Hash
	at   time.Time
	// known is set when it was read; then only this process writes.
	known bool
	// indexed is set when this transaction added words to those that are remembered.
	indexed bool
}

// readTail reads the last line.
func (r View) readTail(ctx context.Context) (t tail, err error) {
	var line string
	err = r.q.row(ctx, `SELECT seq, line FROM record ORDER BY seq DESC LIMIT 1`).Scan(&t.seq, &line)
	t.known = true
	if errors.Is(err, sql.ErrNoRows) {
		return t, nil
	}
	if err != nil {
		return t, err
	}
	var e record.Entry
	if err := json.Unmarshal([]byte(line), &e); err != nil {
		return t, fmt.Errorf("the last line of the record cannot be read: %w", err)
	}
	t.hash, t.at = record.LinkOf([]byte(line)), e.At
	return t, nil
}

// AddEntry appends a line to the record and sets its number. The times of the record
// never run back: if the clock was put back, lines carry the last time until it has
// caught up.
func (r View) AddEntry(ctx context.Context, e *record.Entry) error {
	if r.db.signer == nil {
		return errors.New("nobody signs the record")
	}
	if !r.tail.known {
		t, err := r.readTail(ctx)
		if err != nil {
			return err
		}
		*r.tail = t
	}
	e.Seq = r.tail.seq + 1
	if e.At.Before(r.tail.at) {
		e.At = r.tail.at
	}
	line, h, err := e.Write(r.tail.hash)
	if err != nil {
		return err
	}
	if _, err := r.q.exec(ctx, `INSERT INTO record (seq, line) VALUES (?, ?)`, e.Seq, string(line)); err != nil {
		return err
	}
	if _, err := r.q.exec(ctx, `INSERT INTO record_head (one, seq, hash, mac) VALUES (1, ?, ?, ?)
		ON CONFLICT (one) DO UPDATE SET seq = excluded.seq, hash = excluded.hash, mac = excluded.mac`,
		e.Seq, h[:], r.db.signer.Mac(record.HeadMessage(e.Seq, h))); err != nil {
		return err
	}
	if e.Seq%record.SealEvery == 0 {
		if _, err := r.q.exec(ctx, `INSERT INTO record_seals (seq, hash, signature) VALUES (?, ?, ?)`,
			e.Seq, h[:], r.db.signer.Sign(record.SealMessage(e.Seq, h))); err != nil {
			return err
		}
	}
	if e.On > 0 {
		if _, err := r.q.exec(ctx, `INSERT INTO comments (seq, on_seq) VALUES (?, ?)`, e.Seq, e.On); err != nil {
			return err
		}
	}
	r.tail.seq, r.tail.hash, r.tail.at = e.Seq, h, e.At
	return nil
}

// mostWords is how many words are remembered to be in record_words; one that is not
// remembered is written again, which does no harm.
const mostWords = 50_000

// wordsOf lists the words of a text as the index has them: in small letters, without
// diacritics.
func wordsOf(text string) []string {
	folded, _, err := transform.String(transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)), norm.NFC),
		strings.ToLower(text))
	if err != nil {
		return nil
	}
	return strings.FieldsFunc(folded, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// mostCompletions is how many words a beginning is completed to.
const mostCompletions = 40

// completed turns words into a query of the index. The last word may be only the beginning of
// one: it matches every word that begins so, of those that stand in entries which may be found.
func (r View) completed(ctx context.Context, s RecordSearch) (string, error) {
	text, match := s.Text, matchOf(s.Text)
	if match == "" {
		return "", nil
	}
	words := wordsOf(text)
	words = words[:min(len(words), mostSearched)]
	if len(words) == 0 {
		return match, nil
	}
	rest, last := words[:len(words)-1], words[len(words)-1]
	rows, err := r.q.rows(ctx, `SELECT word FROM record_words WHERE word >= ? AND word < ? LIMIT ?`, last,
		last+"\U0010ffff", mostCompletions)
	found, err := collect(rows, err, func(rows *sql.Rows) (string, error) {
		var w string
		err := rows.Scan(&w)
		return `"` + w + `"`, err
	})
	if err == nil {
		found, err = r.standsIn(ctx, s, found)
	}
	switch {
	case err != nil:
		return "", err
	case len(found) == 0:
		return match, nil // the index finds nothing either
	case slices.Contains(found, `"`+last+`"`):
		return match, nil // it is a whole word
	}
	out := "(" + strings.Join(found, " OR ") + ")"
	for _, w := range rest {
		out = `"` + w + `" AND ` + out
	}
	return out, nil
}

// indexAtOnce is how many lines are indexed in one transaction.
const indexAtOnce = 2000

// IndexRecord brings the index of the record up to date, if it is behind. The record
// itself does not wait for it.
func (s *DB) IndexRecord(ctx context.Context) error { return s.Read(Everything).indexed(ctx) }

func (s *DB) indexAll(ctx context.Context) error {
	for more := true; more; {
		if err := s.Write(ctx, Everything, func(r View) (err error) {
			more, err = r.indexSome(ctx)
			return err
		}); err != nil {
			return fmt.Errorf("indexing the record: %w", err)
		}
	}
	return nil
}

// indexSome indexes the next lines and reports whether there may be more.
func (r View) indexSome(ctx context.Context) (more bool, err error) {
	var from int64
	if err := r.q.row(ctx, `SELECT seq FROM record_indexed`).Scan(&from); err != nil {
		return false, err
	}
	lines, err := r.entries(ctx, `SELECT seq, line FROM record WHERE seq > ? ORDER BY seq LIMIT ?`, from, indexAtOnce)
	if err != nil || len(lines) == 0 {
		return false, err
	}
	for i := range lines {
		if _, err := r.q.exec(ctx, `INSERT INTO record_index (rowid, terms) VALUES (?, ?)`,
			lines[i].Seq, terms(&lines[i])); err != nil {
			return false, err
		}
		for _, word := range wordsOf(lines[i].Subject + " " + lines[i].Sentence + " " + lines[i].Reason) {
			if r.db.words[word] {
				continue
			}
			if _, err := r.q.exec(ctx, `INSERT INTO record_words (word) VALUES (?) ON CONFLICT DO NOTHING`,
				word); err != nil {
				return false, err
			}
			if len(r.db.words) > mostWords {
				clear(r.db.words)
			}
			r.db.words[word], r.tail.indexed = true, true
		}
	}
	_, err = r.q.exec(ctx, `UPDATE record_indexed SET seq = ?`, lines[len(lines)-1].Seq)
	return len(lines) == indexAtOnce, err
}

// indexed sees to it that a search finds every line that was written before it.
func (r View) indexed(ctx context.Context) error {
	var behind bool
	if err := r.q.row(ctx,
		`SELECT coalesce((SELECT max(seq) FROM record), 0) > (SELECT seq FROM record_indexed)`).
		Scan(&behind); err != nil || !behind {
		return err
	}
	if r.q.tx == nil {
		return r.db.indexAll(ctx)
	}
	for more := true; more; {
		var err error
		if more, err = r.indexSome(ctx); err != nil {
			return err
		}
	}
	return nil
}

// token is how something that is filtered by stands in the index among the words.
func token(what string, parts ...string) string {
	sum := sha256.Sum256([]byte(what + "\x00" + strings.Join(parts, "\x00")))
	return "x" + hex.EncodeToString(sum[:10])
}

// terms is what an entry can be found by. Who and what kind also stand together, because
// both may be frequent and what has both rare.
func terms(e *record.Entry) string {
	class, _, _ := strings.Cut(e.Kind, ".")
	out := []string{
		token("project", e.Project), token("actor", e.Actor), token("kind", e.Kind), token("kind", class),
		token("actor+kind", e.Actor, e.Kind), token("actor+kind", e.Actor, class),
	}
	for _, subject := range subjectsOf(e) {
		out = append(out, token("subject", subject))
	}
	return strings.Join(append(out, e.Subject, e.Sentence, e.Reason), " ")
}

// subjectsOf lists what an entry is about: a version's entry is about its model too.
func subjectsOf(e *record.Entry) []string {
	var out []string
	for _, s := range append([]string{e.Subject}, e.Also...) {
		if ref, err := registry.ParseRef("subject", s); err == nil && !slices.Contains(out, ref.Model) {
			out = append(out, ref.Model)
		}
		if s != "" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// RecordSearch narrows the record down; zero members do not.
type RecordSearch struct {
	// Kind is one such as split.made, or a class of them such as split.
	Project, Kind, Actor, Subject string
	// Text are words that must all be in subject, sentence or reason; the last may be a
	// beginning.
	Text         string
	After, Until time.Time
	// Projects, when not nil, are the only ones that are looked at, together with
	// nothing about the service itself.
	Projects []string
	words    string
}

// standsIn leaves out words that stand in no entry of the projects that are searched: what others write decides
// nothing here.
func (r View) standsIn(ctx context.Context, s RecordSearch, words []string) (out []string, err error) {
	if s.Projects == nil {
		return words, nil
	}
	for _, w := range words {
		var there bool
		alone := RecordSearch{Projects: s.Projects, words: w}
		if err := r.q.row(ctx, `SELECT EXISTS (SELECT 1 FROM record_index WHERE record_index MATCH ?)`, alone.match()).
			Scan(&there); err != nil {
			return nil, err
		}
		if there {
			out = append(out, w)
		}
	}
	return out, nil
}

// match is the search as a query of the index.
func (s RecordSearch) match() string {
	var all []string
	add := func(t string) { all = append(all, `"`+t+`"`) }
	if s.Project != "" {
		add(token("project", s.Project))
	}
	switch {
	case s.Actor != "" && s.Kind != "":
		add(token("actor+kind", s.Actor, s.Kind))
	case s.Actor != "":
		add(token("actor", s.Actor))
	case s.Kind != "":
		add(token("kind", s.Kind))
	}
	if s.Subject != "" {
		add(token("subject", s.Subject))
	}
	if s.words != "" {
		all = append(all, s.words)
	}
	if s.Projects != nil {
		any := make([]string, len(s.Projects))
		for i, p := range s.Projects {
			any[i] = `"` + token("project", p) + `"`
		}
		all = append(all, "("+strings.Join(any, " OR ")+")")
	}
	return strings.Join(all, " AND ")
}

// seqAt is the first line that is not older than a moment; one past the last when all
// are.
func (r View) seqAt(ctx context.Context, at time.Time) (int64, error) {
	last, err := r.readTail(ctx)
	if err != nil {
		return 0, err
	}
	low, high := int64(1), last.seq+1
	for low < high {
		half := (low + high) / 2
		var when string
		err := r.q.row(ctx, `SELECT json_extract(line, '$.at') FROM record WHERE seq = ?`, half).Scan(&when)
		if err != nil {
			return 0, err
		}
		t, err := time.Parse(time.RFC3339Nano, when)
		if err != nil {
			return 0, err
		}
		if t.Before(at) {
			low = half + 1
		} else {
			high = half
		}
	}
	return low, nil
}

// Entries lists the record, newest first.
func (r View) Entries(ctx context.Context, s RecordSearch, p Page) ([]record.Entry, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	match, until, from, err := r.bounds(ctx, s)
	if err != nil {
		return nil, "", err
	}
	before = min(before, until)
	if s.Projects != nil && len(s.Projects) == 0 {
		return []record.Entry{}, "", nil
	}
	var items []record.Entry
	if match != "" {
		items, err = r.entries(ctx, `SELECT r.seq, r.line FROM (SELECT rowid AS seq FROM record_index
			WHERE record_index MATCH ? AND rowid < ? AND rowid >= ? ORDER BY rowid DESC LIMIT ?) i
			JOIN record r ON r.seq = i.seq ORDER BY r.seq DESC`, match, before, from, p.Limit+1)
	} else {
		items, err = r.entries(ctx, `SELECT seq, line FROM record WHERE seq < ? AND seq >= ? ORDER BY seq DESC LIMIT ?`,
			before, from, p.Limit+1)
	}
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(e record.Entry) string { return strconv.FormatInt(e.Seq, 10) })
	return items, next, nil
}

// EachEntry hands out what a search finds, oldest first, one after the other.
func (r View) EachEntry(ctx context.Context, s RecordSearch, each func(record.Entry) error) error {
	if s.Projects != nil && len(s.Projects) == 0 {
		return nil
	}
	for from := int64(0); ; {
		batch, err := r.batch(ctx, s, from, 2000)
		if err != nil || len(batch) == 0 {
			return err
		}
		for _, e := range batch {
			if err := each(e); err != nil {
				return err
			}
		}
		from = batch[len(batch)-1].Seq
	}
}

// batch lists what a search finds after a line, oldest first.
func (r View) batch(ctx context.Context, s RecordSearch, after int64, limit int) ([]record.Entry, error) {
	match, before, from, err := r.bounds(ctx, s)
	if err != nil {
		return nil, err
	}
	from = max(from, after+1)
	if match == "" {
		return r.entries(ctx, `SELECT seq, line FROM record WHERE seq < ? AND seq >= ? ORDER BY seq LIMIT ?`, before,
			from, limit)
	}
	return r.entries(ctx, `SELECT r.seq, r.line FROM (SELECT rowid AS seq FROM record_index
		WHERE record_index MATCH ? AND rowid < ? AND rowid >= ? ORDER BY rowid LIMIT ?) i
		JOIN record r ON r.seq = i.seq ORDER BY r.seq`, match, before, from, limit)
}

// bounds turns a search into a query of the index and a span of lines.
func (r View) bounds(ctx context.Context, s RecordSearch) (match string, before, from int64, err error) {
	before, from = 1<<62, 1
	if err := r.db.ByTheWay(func() error { return r.indexed(ctx) }); err != nil {
		return "", 0, 0, err
	}
	if !s.After.IsZero() {
		if from, err = r.seqAt(ctx, s.After); err != nil {
			return "", 0, 0, err
		}
	}
	if !s.Until.IsZero() {
		if before, err = r.seqAt(ctx, s.Until); err != nil {
			return "", 0, 0, err
		}
	}
	if s.words, err = r.completed(ctx, s); err != nil {
		return "", 0, 0, err
	}
	return s.match(), before, from, nil
}

func (r View) entries(ctx context.Context, query string, args ...any) ([]record.Entry, error) {
	rows, err := r.q.rows(ctx, query, args...)
	return collect(rows, err, func(rows *sql.Rows) (record.Entry, error) {
		var e record.Entry
		var seq int64
		var line string
		if err := rows.Scan(&seq, &line); err != nil {
			return e, err
		}
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			return e, fmt.Errorf("line %d of the record cannot be read, find out more with audit verify: %w", seq, err)
		}
		return e, nil
	})
}

// NewestLine is the number of the newest line of the record, 0 when there is none.
func (r View) NewestLine(ctx context.Context) (seq int64, err error) {
	err = r.q.row(ctx, `SELECT coalesce(max(seq), 0) FROM record`).Scan(&seq)
	if err != nil {
		err = fmt.Errorf("reading the end of the record: %w", err)
	}
	return seq, err
}

// EntriesSince lists the record after a line, oldest first.
func (r View) EntriesSince(ctx context.Context, seq int64, limit int) ([]record.Entry, error) {
	return r.entries(ctx, `SELECT seq, line FROM record WHERE seq > ? ORDER BY seq LIMIT ?`, seq, limit)
}

// Entry finds a line of the record that may be seen.
func (r View) Entry(ctx context.Context, seq int64) (*record.Entry, error) {
	e, err := single(r.entries(ctx, `SELECT seq, line FROM record WHERE seq = ?`, seq))
	if err == nil && !r.sight.sees(e.Project) {
		return nil, ErrNone
	}
	return e, err
}

// CommentsOn lists the comments on some lines, oldest first, by line.
func (r View) CommentsOn(ctx context.Context, lines []int64) (map[int64][]record.Entry, error) {
	if len(lines) == 0 {
		return nil, nil
	}
	all, err := r.entries(ctx, `SELECT r.seq, r.line FROM comments c JOIN record r ON r.seq = c.seq WHERE c.on_seq IN ?
		ORDER BY c.seq`, listOf(lines))
	out := map[int64][]record.Entry{}
	for _, e := range all {
		out[e.On] = append(out[e.On], e)
	}
	return out, err
}

// Tail is the last line's number and hash.
func (r View) Tail(ctx context.Context) (int64, record.Hash, error) {
	t, err := r.readTail(ctx)
	return t.seq, t.hash, err
}
