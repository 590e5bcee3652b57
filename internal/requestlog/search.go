package requestlog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/request"
	"innerladder/internal/sqlite"

	"github.com/google/uuid"
)

// ErrNone is returned when a request is not in the log.
var ErrNone = errors.New("no such request in the log")

// mostLooked is how many requests a search looks into for conditions on their columns before it gives what it has.
const mostLooked = 20_000

// Part says which part of what is found is given.
type Part struct {
	Limit int
	// Before is where an earlier part ended: what is older follows. After is where the newest was: what has come
	// since follows, the oldest first.
	Before, After string
}

// Found is part of what was found.
type Found struct {
	Items []request.Kept
	// Next leads to older ones, empty when there are none; Newest to those that come later.
	Next, Newest string
	// Until is how far back was looked, where that is not as far as was asked for.
	Until time.Time
}

// Search finds requests of an endpoint, the newest first; 0 stands for those that found no endpoint.
func (l *Log) Search(ctx context.Context, endpoint int64, f request.Filter, p Part) (Found, error) {
	all, err := l.files.of(endpoint)
	if err != nil {
		return Found{}, err
	}
	var days []place
	for _, p := range all {
		if f.Day(p.day) {
			days = append(days, p)
		}
	}
	if p.After != "" {
		return l.since(ctx, days, f, p)
	}
	slices.Reverse(days)
	from, n, err := parseCursor("cursor", p.Before)
	if err != nil {
		return Found{}, err
	}
	var out Found
	looked := 0
	for _, d := range days {
		last := int64(0)
		switch {
		case from != "" && d.day > from:
			continue
		case d.day == from:
			last = n
		}
		rows, more, err := l.read(ctx, d, f, last, p.Limit-len(out.Items), &looked)
		if err != nil {
			return out, err
		}
		for _, r := range rows.kept {
			out.Items = append(out.Items, r.Kept)
		}
		if out.Newest == "" && p.Before == "" && rows.first > 0 {
			out.Newest = cursor(d.day, rows.first)
		}
		if more {
			out.Next = cursor(d.day, rows.last)
			if len(out.Items) < p.Limit {
				out.Until = rows.until
			}
			return out, nil
		}
	}
	if out.Newest == "" {
		out.Newest = cursor(time.Now().UTC().Format(time.DateOnly), 0)
	}
	return out, nil
}

// since gives what has come after a cursor, the oldest first.
func (l *Log) since(ctx context.Context, days []place, f request.Filter, p Part) (Found, error) {
	from, n, err := parseCursor("after", p.After)
	if err != nil {
		return Found{}, err
	}
	out := Found{Newest: p.After}
	for _, d := range days {
		if d.day < from {
			continue
		}
		if d.day > from {
			n = 0
		}
		rows, err := l.readAfter(ctx, d, f, n, p.Limit-len(out.Items))
		if err != nil {
			return out, err
		}
		for _, r := range rows.kept {
			out.Items = append(out.Items, r.Kept)
		}
		if rows.last > 0 {
			out.Newest = cursor(d.day, rows.last)
		}
		if len(out.Items) >= p.Limit {
			break
		}
	}
	return out, nil
}

func cursor(day string, n int64) string { return day + ":" + strconv.FormatInt(n, 10) }

func parseCursor(field, text string) (day string, n int64, err error) {
	if text == "" {
		return "", 0, nil
	}
	day, number, _ := strings.Cut(text, ":")
	_, err1 := time.Parse(time.DateOnly, day)
	n, err2 := strconv.ParseInt(number, 10, 64)
	if err1 != nil || err2 != nil || n < 0 {
		return "", 0, fault.New(fault.Invalid, "list.cursor", "%q is no place in the log", text).In(field).
			Do("give back what an earlier answer gave, or leave it out")
	}
	return day, n, nil
}

// window is what was read of one file, and how far: first and last are the numbers of what was looked at.
type window struct {
	kept        []row
	first, last int64
	until       time.Time
}

// where is a filter as a condition of SQL; what it says of columns is not in it.
func where(f request.Filter) (text string, args []any) {
	var and []string
	add := func(condition string, arg any) { and, args = append(and, condition), append(args, arg) }
	for _, one := range []struct{ column, value string }{
		{"lane", f.Lane},
		{"version", f.Version},
		{"key", f.Key},
		{"outcome", string(f.Outcome)},
		{"reason", f.Reason},
	} {
		if one.value != "" {
			add("r."+one.column+" = ?", one.value)
		}
	}
	if f.Status != 0 {
		add("r.status = ?", f.Status)
	}
	if f.Slower > 0 {
		add("r.total >= ?", f.Slower.Microseconds())
	}
	if !f.From.IsZero() {
		add("r.ended >= ?", f.From.UnixMilli())
	}
	if !f.To.IsZero() {
		add("r.ended < ?", f.To.UnixMilli())
	}
	if f.Trouble || (f.Outcome != "" && f.Outcome != request.Answered) {
		and = append(and, "(r.outcome <> 'answered' OR r.instead <> '')")
	}
	for _, c := range and {
		text += " AND " + c
	}
	return text, args
}

// read reads the newest requests of a file that are as wanted, below a number unless that is 0. more says that
// there may be others in it. looked counts, over all files, those whose columns were looked into.
func (l *Log) read(ctx context.Context, p place, f request.Filter, below int64, limit int, looked *int) (w window,
	more bool, err error,
) {
	err = l.with(ctx, p, func(open *file) error {
		text, args := where(f)
		query := `SELECT ` + columns + ` FROM requests r LEFT JOIN bodies b ON b.n = r.n
			WHERE (r.n < ? OR ? = 0)` + text + ` ORDER BY r.n DESC`
		if len(f.Where) == 0 {
			query += ` LIMIT ` + strconv.Itoa(limit+1)
		}
		rows, err := open.Read.QueryContext(ctx, query, append([]any{below, below}, args...)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			r, err := scan(rows)
			if err != nil {
				return err
			}
			if len(w.kept) == limit || *looked >= l.looks {
				more = true
				return nil
			}
			w.take(r, f)
			if len(f.Where) > 0 {
				*looked++
			}
		}
		return rows.Err()
	})
	return w, more, err
}

// readAfter reads the oldest requests of a file after a number that are as wanted.
func (l *Log) readAfter(ctx context.Context, p place, f request.Filter, after int64, limit int) (w window, err error) {
	err = l.with(ctx, p, func(open *file) error {
		// Up to where it is looked is read first, so that what comes meanwhile is found the next time.
		var newest int64
		if err := open.Read.QueryRowContext(ctx, `SELECT coalesce(max(n), 0) FROM requests`).Scan(&newest); err != nil {
			return err
		}
		text, args := where(f)
		rows, err := open.Read.QueryContext(ctx, `SELECT `+columns+` FROM requests r LEFT JOIN bodies b ON b.n = r.n
			WHERE r.n > ?`+text+` ORDER BY r.n LIMIT ?`, append(append([]any{after}, args...), l.looks)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		looked := 0
		for rows.Next() {
			r, err := scan(rows)
			if err != nil {
				return err
			}
			if w.take(r, f); len(w.kept) == limit {
				return nil
			}
			looked++
		}
		if looked < l.looks { // all others are not as wanted
			w.last = max(w.last, newest)
		}
		return rows.Err()
	})
	return w, err
}

// take looks at one request.
func (w *window) take(r row, f request.Filter) {
	if w.first == 0 {
		w.first = r.n
	}
	w.last, w.until = r.n, r.Ended
	if len(f.Where) == 0 || f.Holds(request.ColumnsOf(&r.Kept)) {
		w.kept = append(w.kept, r)
	}
}

// with opens a file, which need not be there any more.
func (l *Log) with(ctx context.Context, p place, do func(*file) error) error {
	f, err := l.files.get(ctx, p, false)
	if err != nil || f == nil {
		return err
	}
	defer l.files.giveBack(f)
	if err := do(f); err != nil {
		return fmt.Errorf("reading the requests of %s: %w", p.day, err)
	}
	return nil
}

// Find finds one request of an endpoint that came at a moment, ErrNone when it was not kept.
func (l *Log) Find(ctx context.Context, endpoint int64, id [16]byte, came time.Time) (request.Kept, error) {
	// It lies where it ended, which may have been a day later.
	for _, day := range []time.Time{came, came.Add(24 * time.Hour)} {
		var found []row
		err := l.with(ctx, place{day.UTC().Format(time.DateOnly), endpoint}, func(f *file) error {
			rows, err := f.Read.QueryContext(ctx,
				`SELECT `+columns+` FROM requests r LEFT JOIN bodies b ON b.n = r.n WHERE r.id = ?`, id[:])
			found, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (row, error) { return scan(rows) })
			return err
		})
		if err != nil {
			return request.Kept{}, err
		}
		if len(found) > 0 {
			return found[0].Kept, nil
		}
	}
	return request.Kept{}, ErrNone
}

func textOf(id []byte) string {
	u, err := uuid.FromBytes(id)
	if err != nil {
		return ""
	}
	return u.String()
}
