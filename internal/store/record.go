package store

import (
	"bytes"
	"context"
	"crypto/ed25519"
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

	"innerladder/internal/core/record"
)

// SignWith sets who signs the record, and takes over lines that were written before the
// record was chained.
func (s *Store) SignWith(ctx context.Context, signer record.Signer) error {
	s.signer = signer
	return s.Write(ctx, func(r Records) error {
		rows, err := r.q.QueryContext(ctx, `SELECT b.at, b.actor, b.kind, b.subject, b.sentence, b.reason, b.before, b.after, b.request_id,
			coalesce((SELECT m.project FROM models m WHERE m.name = CASE instr(b.subject, '@') WHEN 0 THEN b.subject ELSE substr(b.subject, 1, instr(b.subject, '@') - 1) END),
				(SELECT m.project FROM endpoints e JOIN models m ON m.id = e.model_id WHERE e.name = b.subject), ''),
			coalesce((SELECT group_concat(subject, ' ') FROM audit_also a WHERE a.seq = b.seq), '')
			FROM audit_before b WHERE b.seq > (SELECT count(*) FROM record) ORDER BY b.seq`)
		old, err := collect(rows, err, func(rows *sql.Rows) (record.Entry, error) {
			var e record.Entry
			var at int64
			var before, after sql.NullString
			var also string
			err := rows.Scan(&at, &e.Actor, &e.Kind, &e.Subject, &e.Sentence, &e.Reason, &before, &after, &e.RequestID, &e.Project, &also)
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
		for _, statement := range []string{`DROP TRIGGER audit_lines_remain`, `DELETE FROM audit_also`, `DELETE FROM audit_before`} {
			if _, err := r.q.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		return nil
	})
}

// tail is the last line of the record; the number 0 before the first.
func (r Records) tail(ctx context.Context) (seq int64, h record.Hash, at time.Time, err error) {
	var hash []byte
	var when string
	err = r.q.QueryRowContext(ctx, `SELECT seq, hash, json_extract(line, '$.at') FROM record ORDER BY seq DESC LIMIT 1`).Scan(&seq, &hash, &when)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, h, at, nil
	}
	if err == nil {
		at, err = time.Parse(time.RFC3339Nano, when)
	}
	copy(h[:], hash)
	return seq, h, at, err
}

// AddEntry appends a line to the record and sets its number. The times of the record
// never run back: if the clock was put back, lines carry the last time until it has
// caught up.
func (r Records) AddEntry(ctx context.Context, e *record.Entry) error {
	if r.signer == nil {
		return errors.New("nobody signs the record")
	}
	last, h, at, err := r.tail(ctx)
	if err != nil {
		return err
	}
	e.Seq = last + 1
	if e.At.Before(at) {
		e.At = at
	}
	line, err := encodeLine(e)
	if err != nil {
		return err
	}
	h = h.Next(line)
	if _, err := r.q.ExecContext(ctx, `INSERT INTO record (seq, line, hash, signature) VALUES (?, ?, ?, ?)`, e.Seq, string(line), h[:], r.signer.Sign(record.LineMessage(h))); err != nil {
		return err
	}
	if _, err := r.q.ExecContext(ctx, `INSERT INTO record_head (one, seq, hash, signature) VALUES (1, ?, ?, ?)
		ON CONFLICT (one) DO UPDATE SET seq = excluded.seq, hash = excluded.hash, signature = excluded.signature`, e.Seq, h[:], r.signer.Sign(record.HeadMessage(e.Seq, h))); err != nil {
		return err
	}
	if e.On > 0 {
		if _, err := r.q.ExecContext(ctx, `INSERT INTO comments (seq, on_seq) VALUES (?, ?)`, e.Seq, e.On); err != nil {
			return err
		}
	}
	_, err = r.q.ExecContext(ctx, `INSERT INTO record_index (rowid, terms) VALUES (?, ?)`, e.Seq, terms(e))
	return err
}

// encodeLine writes an entry as it is kept. Signs such as < stand as they are, so that a
// line can be searched by eye.
func encodeLine(e *record.Entry) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(e); err != nil {
		return nil, fmt.Errorf("writing a line of the record: %w", err)
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), nil
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
	out := []string{token("project", e.Project), token("actor", e.Actor), token("kind", e.Kind), token("kind", class),
		token("actor+kind", e.Actor, e.Kind), token("actor+kind", e.Actor, class)}
	for _, subject := range subjectsOf(e) {
		out = append(out, token("subject", subject))
	}
	return strings.Join(append(out, e.Subject, e.Sentence, e.Reason), " ")
}

// subjectsOf lists what an entry is about: a version's entry is about its model too.
func subjectsOf(e *record.Entry) []string {
	var out []string
	for _, s := range append([]string{e.Subject}, e.Also...) {
		if model, _, of := strings.Cut(s, "@"); of && !slices.Contains(out, model) {
			out = append(out, model)
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
func (r Records) seqAt(ctx context.Context, at time.Time) (int64, error) {
	last, _, _, err := r.tail(ctx)
	if err != nil {
		return 0, err
	}
	low, high := int64(1), last+1
	for low < high {
		half := (low + high) / 2
		var when string
		err := r.q.QueryRowContext(ctx, `SELECT json_extract(line, '$.at') FROM record WHERE seq = ?`, half).Scan(&when)
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
func (r Records) Entries(ctx context.Context, s RecordSearch, p Page) ([]record.Entry, string, error) {
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
		items, err = r.entries(ctx, `SELECT r.seq, r.line FROM (SELECT rowid AS seq FROM record_index WHERE record_index MATCH ? AND rowid < ? AND rowid >= ? ORDER BY rowid DESC LIMIT ?) i
			JOIN record r ON r.seq = i.seq ORDER BY r.seq DESC`, match, before, from, p.Limit+1)
	} else {
		items, err = r.entries(ctx, `SELECT seq, line FROM record WHERE seq < ? AND seq >= ? ORDER BY seq DESC LIMIT ?`, before, from, p.Limit+1)
	}
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(e record.Entry) string { return strconv.FormatInt(e.Seq, 10) })
	return items, next, nil
}

// EachEntry hands out what a search finds, oldest first, one after the other.
func (r Records) EachEntry(ctx context.Context, s RecordSearch, each func(record.Entry) error) error {
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
func (r Records) batch(ctx context.Context, s RecordSearch, after int64, limit int) ([]record.Entry, error) {
	match, before, from, err := r.bounds(ctx, s)
	if err != nil {
		return nil, err
	}
	from = max(from, after+1)
	if match == "" {
		return r.entries(ctx, `SELECT seq, line FROM record WHERE seq < ? AND seq >= ? ORDER BY seq LIMIT ?`, before, from, limit)
	}
	return r.entries(ctx, `SELECT r.seq, r.line FROM (SELECT rowid AS seq FROM record_index WHERE record_index MATCH ? AND rowid < ? AND rowid >= ? ORDER BY rowid LIMIT ?) i
		JOIN record r ON r.seq = i.seq ORDER BY r.seq`, match, before, from, limit)
}

// bounds turns a search into a query of the index and a span of lines.
func (r Records) bounds(ctx context.Context, s RecordSearch) (match string, before, from int64, err error) {
	before, from = 1<<62, 1
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
	if s.words = matchOf(s.Text); s.words != "" {
		if s.words, err = r.wholeOrBeginning(ctx, "record_index", s.words); err != nil {
			return "", 0, 0, err
		}
	}
	return s.match(), before, from, nil
}

func (r Records) entries(ctx context.Context, query string, args ...any) ([]record.Entry, error) {
	rows, err := r.q.QueryContext(ctx, query, args...)
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

// EntriesSince lists the record after a line, oldest first.
func (r Records) EntriesSince(ctx context.Context, seq int64, limit int) ([]record.Entry, error) {
	return r.entries(ctx, `SELECT seq, line FROM record WHERE seq > ? ORDER BY seq LIMIT ?`, seq, limit)
}

// Entry finds a line of the record that may be seen.
func (r Records) Entry(ctx context.Context, seq int64) (*record.Entry, error) {
	e, err := single(r.entries(ctx, `SELECT seq, line FROM record WHERE seq = ?`, seq))
	if err == nil && !r.sight.sees(e.Project) {
		return nil, ErrNone
	}
	return e, err
}

// CommentsOn lists the comments on some lines, oldest first, by line.
func (r Records) CommentsOn(ctx context.Context, lines []int64) (map[int64][]record.Entry, error) {
	if len(lines) == 0 {
		return nil, nil
	}
	all, err := r.entries(ctx, `SELECT r.seq, r.line FROM comments c JOIN record r ON r.seq = c.seq WHERE c.on_seq IN (`+places(len(lines))+`) ORDER BY c.seq`, anys(lines)...)
	out := map[int64][]record.Entry{}
	for _, e := range all {
		out[e.On] = append(out[e.On], e)
	}
	return out, err
}

// Tail is the last line's number and hash.
func (r Records) Tail(ctx context.Context) (int64, record.Hash, error) {
	seq, h, _, err := r.tail(ctx)
	return seq, h, err
}

// VerifyRecord reads the whole record in one view of it and tells where it is not what
// was written. Checkpoints are hashes that lines must have.
func (s *Store) VerifyRecord(ctx context.Context, checkpoints map[int64]string) (record.Verified, error) {
	return s.VerifyWith(ctx, s.signer.Public(), checkpoints)
}

// VerifyWith is VerifyRecord with the key that must have signed the record.
func (s *Store) VerifyWith(ctx context.Context, key ed25519.PublicKey, checkpoints map[int64]string) (record.Verified, error) {
	start := time.Now()
	tx, err := s.db.read.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return record.Verified{}, err
	}
	defer func() { _ = tx.Rollback() }()
	chain := record.Chain{Key: key, Checkpoints: checkpoints}
	rows, err := tx.QueryContext(ctx, `SELECT seq, line, hash, signature FROM record ORDER BY seq`)
	if err != nil {
		return record.Verified{}, err
	}
	defer rows.Close()
	var line, hash, signature sql.RawBytes
	var last []byte
	for rows.Next() {
		var seq int64
		if err := rows.Scan(&seq, &line, &hash, &signature); err != nil {
			return record.Verified{}, err
		}
		chain.Add(seq, line, hash, signature)
		last = append(last[:0], signature...)
	}
	if err := rows.Err(); err != nil {
		return record.Verified{}, err
	}
	var head struct {
		seq             int64
		hash, signature []byte
	}
	err = tx.QueryRowContext(ctx, `SELECT seq, hash, signature FROM record_head`).Scan(&head.seq, &head.hash, &head.signature)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return record.Verified{}, err
	}
	found := chain.End(head.seq, head.hash, head.signature, last)
	if after, to := chain.Suspect(); to > 0 {
		first, err := firstUnsigned(ctx, tx, key, after, to)
		if err != nil {
			return found, err
		}
		found.Rewritten(first)
	}
	found.MS = time.Since(start).Milliseconds()
	return found, nil
}

// firstUnsigned finds the first line after one whose signature does not fit its hash. All
// before it fit, and none after it.
func firstUnsigned(ctx context.Context, tx *sql.Tx, key ed25519.PublicKey, after, to int64) (int64, error) {
	c := record.Chain{Key: key}
	low, high := after+1, to
	for low < high {
		half := (low + high) / 2
		var hash, signature []byte
		if err := tx.QueryRowContext(ctx, `SELECT hash, signature FROM record WHERE seq = ?`, half).Scan(&hash, &signature); err != nil {
			return 0, err
		}
		if c.Signed(hash, signature) {
			low = half + 1
		} else {
			high = half
		}
	}
	return low, nil
}

// Repeat is the answer to a call that carried an Idempotency-Key.
type Repeat struct {
	RequestDigest []byte
	Answer        json.RawMessage
}

// Repeated finds the answer that a person's call with a key got before.
func (r Records) Repeated(ctx context.Context, person, key string) (Repeat, error) {
	var rep Repeat
	var answer string
	err := r.q.QueryRowContext(ctx, `SELECT request_digest, answer FROM repeats WHERE person = ? AND key = ?`, person, key).Scan(&rep.RequestDigest, &answer)
	rep.Answer = json.RawMessage(answer)
	return rep, one(err)
}

// AddRepeat keeps the answer to a call with a key.
func (r Records) AddRepeat(ctx context.Context, person, key string, rep Repeat, now time.Time) error {
	_, err := r.q.ExecContext(ctx, `INSERT INTO repeats (person, key, request_digest, answer, at) VALUES (?, ?, ?, ?, ?)`, person, key, rep.RequestDigest, string(rep.Answer), toMillis(now))
	return err
}
