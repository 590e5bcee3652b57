package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strconv"
	"time"
)

// Entry is one line of the record: who did what, when and why. It is also the event
// that is published when the change is confirmed.
type Entry struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor" description:"a person's name, or inner-ladder for the service itself"`
	Kind    string    `json:"kind" description:"such as split.made"`
	Subject string    `json:"subject" description:"what changed, such as demand-hourly or heat-demand@2"`
	// Sentence says in words what happened.
	Sentence  string          `json:"sentence"`
	Reason    string          `json:"reason,omitempty"`
	Before    json.RawMessage `json:"before,omitempty"`
	After     json.RawMessage `json:"after,omitempty"`
	RequestID string          `json:"request_id,omitempty"`
	// Also lists what else the line is about; it is written and searched, not read.
	Also []string `json:"-"`
}

// AddEntry appends a line to the record and sets its number.
func (r Records) AddEntry(ctx context.Context, e *Entry) error {
	optional := func(j json.RawMessage) any {
		if len(j) == 0 {
			return nil
		}
		return string(j)
	}
	err := r.q.QueryRowContext(ctx, `INSERT INTO audit (at, actor, kind, subject, sentence, reason, before, after, request_id)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING seq`, toMillis(e.At), e.Actor, e.Kind, e.Subject, e.Sentence, e.Reason,
		optional(e.Before), optional(e.After), e.RequestID).Scan(&e.Seq)
	for _, also := range e.Also {
		if err == nil && also != "" && also != e.Subject {
			_, err = r.q.ExecContext(ctx, `INSERT INTO audit_also (subject, seq) VALUES (?, ?) ON CONFLICT DO NOTHING`, also, e.Seq)
		}
	}
	return err
}

func (r Records) entries(ctx context.Context, clause string, args ...any) ([]Entry, error) {
	rows, err := r.q.QueryContext(ctx, `SELECT seq, at, actor, kind, subject, sentence, reason, before, after, request_id FROM audit `+clause, args...)
	return collect(rows, err, func(rows *sql.Rows) (Entry, error) {
		var e Entry
		var at int64
		var before, after sql.NullString
		err := rows.Scan(&e.Seq, &at, &e.Actor, &e.Kind, &e.Subject, &e.Sentence, &e.Reason, &before, &after, &e.RequestID)
		e.At = fromMillis(at)
		if before.Valid {
			e.Before = json.RawMessage(before.String)
		}
		if after.Valid {
			e.After = json.RawMessage(after.String)
		}
		return e, err
	})
}

// Entries lists the record, newest first; subject narrows it down when given.
func (r Records) Entries(ctx context.Context, subject string, p Page) ([]Entry, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	clause, args := `WHERE seq < ?`, []any{before}
	if subject != "" {
		clause, args = clause+` AND seq IN (SELECT seq FROM audit WHERE subject = ? UNION ALL SELECT seq FROM audit_also WHERE subject = ?)`, append(args, subject, subject)
	}
	items, err := r.entries(ctx, clause+` ORDER BY seq DESC LIMIT ?`, append(args, p.Limit+1)...)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(e Entry) string { return strconv.FormatInt(e.Seq, 10) })
	return items, next, nil
}

// EntriesSince lists the record after a line, oldest first.
func (r Records) EntriesSince(ctx context.Context, seq int64, limit int) ([]Entry, error) {
	return r.entries(ctx, `WHERE seq > ? ORDER BY seq LIMIT ?`, seq, limit)
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
