package requestlog

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"innerladder/internal/core/request"
)

// write writes lines in one transaction: all of them, or none. A request whose id is there already is left out.
func (f *file) write(ctx context.Context, lines []line) error {
	err := f.InOne(ctx, func(tx *sql.Tx) error {
		heads, err := tx.PrepareContext(
			ctx,
			`INSERT INTO requests (id, ended, asked, split, lane, version, instead, key,
				outcome, status, reason, total, backend, request_bytes, request_note, answer_bytes, answer_note, chance)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		)
		if err != nil {
			return err
		}
		defer heads.Close()
		bodies, err := tx.PrepareContext(ctx, `INSERT INTO bodies (n, request, answer) VALUES (?, ?, ?)`)
		if err != nil {
			return err
		}
		defer bodies.Close()
		if f.last == 0 {
			newest := tx.QueryRowContext(ctx, `SELECT coalesce(max(ended), 0) FROM requests`)
			if err := newest.Scan(&f.last); err != nil {
				return err
			}
		}
		for i := range lines {
			e := &lines[i].entry
			f.last = max(f.last, e.Ended.UnixMilli())
			done, err := heads.ExecContext(ctx, lines[i].id[:], f.last, e.Asked, e.Split, e.Lane, e.Version, e.Instead,
				e.Key, e.Outcome, e.Status, e.Reason, e.Total, e.Backend, e.RequestBytes, e.RequestNote, e.AnswerBytes,
				e.AnswerNote, e.Chance)
			if err != nil {
				return err
			}
			if n, err := done.RowsAffected(); err != nil || n == 0 || len(e.Request)+len(e.Answer) == 0 {
				continue
			}
			n, err := done.LastInsertId()
			if err != nil {
				return err
			}
			if _, err := bodies.ExecContext(ctx, n, text(e.Request), text(e.Answer)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("writing the requests of %s: %w", f.day, err)
	}
	return nil
}

// text is what is kept of a body as a column.
func text(body []byte) any {
	if len(body) == 0 {
		return nil
	}
	return string(body)
}

const columns = `r.n, r.id, r.ended, r.asked, r.split, r.lane, r.version, r.instead, r.key, r.outcome, r.status,
	r.reason, r.total, r.backend, r.request_bytes, r.request_note,
	r.answer_bytes, r.answer_note, r.chance, b.request, b.answer`

// scan reads one request.
func scan(rows *sql.Rows) (row, error) {
	var r row
	var id []byte
	var ended int64
	var asked, answered sql.NullString
	e := &r.Kept
	err := rows.Scan(&r.n, &id, &ended, &e.Asked, &e.Split, &e.Lane, &e.Version, &e.Instead, &e.Key, &e.Outcome,
		&e.Status, &e.Reason, &e.Total, &e.Backend, &e.RequestBytes, &e.RequestNote, &e.AnswerBytes, &e.AnswerNote,
		&e.Chance, &asked, &answered)
	if err != nil {
		return r, err
	}
	e.ID, e.Ended = textOf(id), time.UnixMilli(ended).UTC()
	if asked.Valid {
		e.Request = []byte(asked.String)
	}
	if answered.Valid {
		e.Answer = []byte(answered.String)
	}
	return r, nil
}

// row is a request with its number in its file.
type row struct {
	n int64
	request.Kept
}
