package signals

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/sketch"
	"innerladder/internal/sqlite"

	"github.com/google/uuid"
)

// CustomKey names what values of an hour are of.
type CustomKey struct {
	Signal, Version, Lane string
	At                    time.Time
}

// CustomHour are the values of an hour.
type CustomHour struct {
	CustomKey
	Numbers sketch.Numbers
}

// nextSeq is the number of the next of some rows that are numbered: above all that there are, and above all that there
// were, however many are gone.
func nextSeq(ctx context.Context, tx *sql.Tx, now time.Time, rows string, args ...any) (seq int64, err error) {
	err = tx.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) + 1 FROM `+rows, args...).Scan(&seq)
	return max(seq, now.UnixMilli()), err
}

// PutCustom keeps values of an endpoint, and says of each what became of it: what was reported before with the same
// request and id counts once. Where it was reported otherwise, that stays, unless it is to be replaced.
func (s *Store) PutCustom(ctx context.Context, endpoint string, values []custom.Value, replace bool,
) (fates []outcome.Fate, err error) {
	err = s.db.InOne(ctx, func(tx *sql.Tx) error {
		fates = make([]outcome.Fate, len(values))
		if len(values) == 0 {
			return nil
		}
		seq, err := nextSeq(ctx, tx, values[0].Arrived, "custom")
		if err != nil {
			return err
		}
		fresh := map[CustomKey]*sketch.Numbers{}
		anew := map[CustomKey]bool{} // hours of which a value changed
		for i := range values {
			v := &values[i]
			request, err := requestBytes(v.Request)
			if err != nil {
				return err
			}
			before, err := oneCustom(ctx, tx, endpoint, v, request)
			none := errors.Is(err, sql.ErrNoRows)
			switch {
			case err != nil && !none:
				return err
			case none:
				fates[i] = outcome.Joined
				key := hourOf(v)
				if fresh[key] == nil {
					fresh[key] = &sketch.Numbers{}
				}
				fresh[key].Add(v.X)
				if err := addCustom(ctx, tx, endpoint, v, request, seq); err != nil {
					return err
				}
				seq++
				continue
			case before.Same(v):
				fates[i] = outcome.Again
				continue
			case !replace:
				fates[i] = outcome.Other
				continue
			}
			fates[i] = outcome.Replaced
			anew[hourOf(&before)], anew[hourOf(v)] = true, true
			if err := setCustom(ctx, tx, v, before.Seq); err != nil {
				return err
			}
		}
		return putCustomHours(ctx, tx, endpoint, fresh, anew)
	})
	return fates, err
}

// putCustomHours adds what is fresh to its hours, and makes those anew of which a value changed.
func putCustomHours(ctx context.Context, tx *sql.Tx, endpoint string, fresh map[CustomKey]*sketch.Numbers,
	anew map[CustomKey]bool,
) error {
	for key, n := range fresh {
		if anew[key] {
			continue
		}
		before, err := customHour(ctx, tx, endpoint, key)
		if err != nil {
			return err
		}
		before.Merge(n)
		if err := putCustomHour(ctx, tx, endpoint, key, before); err != nil {
			return err
		}
	}
	for key := range anew {
		n := &sketch.Numbers{}
		rows, err := tx.QueryContext(ctx, `SELECT value FROM custom WHERE endpoint = ? AND signal = ? AND at >= ?
			AND at < ? AND version = ? AND lane = ?`, endpoint, key.Signal, key.At.UnixMilli(),
			key.At.Add(time.Hour).UnixMilli(), key.Version, key.Lane)
		all, err := sqlite.Collect(rows, err, func(rows *sql.Rows) (x float64, err error) { return x, rows.Scan(&x) })
		if err != nil {
			return err
		}
		for _, x := range all {
			n.Add(x)
		}
		if err := putCustomHour(ctx, tx, endpoint, key, n); err != nil {
			return err
		}
	}
	return nil
}

func hourOf(v *custom.Value) CustomKey {
	return CustomKey{v.Signal, v.Version, v.Lane, v.At.UTC().Truncate(time.Hour)}
}

// requestBytes is the id of a request as it is kept; empty for none.
func requestBytes(id string) ([]byte, error) {
	if id == "" {
		return []byte{}, nil
	}
	u, err := uuid.Parse(id)
	if err != nil {
		return nil, fmt.Errorf("the value of request %q: %w", id, err)
	}
	return u[:], nil
}

// ForgetCustom takes away what was reported of a signal: another one of that name begins with nothing.
func (s *Store) ForgetCustom(ctx context.Context, endpoint, signal string) error {
	return s.db.InOne(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"custom", "custom_hours"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE endpoint = ? AND signal = ?`, endpoint,
				signal); err != nil {
				return err
			}
		}
		return nil
	})
}

const customColumns = `seq, signal, request, id, version, lane, split, at, arrived, value`

func scanCustom(row interface{ Scan(...any) error }) (v custom.Value, err error) {
	var request []byte
	var at, arrived int64
	if err := row.Scan(&v.Seq, &v.Signal, &request, &v.ID, &v.Version, &v.Lane, &v.Split, &at, &arrived,
		&v.X); err != nil {
		return v, err
	}
	if len(request) > 0 {
		u, err := uuid.FromBytes(request)
		if err != nil {
			return v, err
		}
		v.Request = u.String()
	}
	v.At, v.Arrived = time.UnixMilli(at).UTC(), time.UnixMilli(arrived).UTC()
	return v, nil
}

func oneCustom(ctx context.Context, tx *sql.Tx, endpoint string, v *custom.Value, request []byte,
) (custom.Value, error) {
	return scanCustom(tx.QueryRowContext(ctx, `SELECT `+customColumns+` FROM custom
		WHERE endpoint = ? AND signal = ? AND request = ? AND id = ?`, endpoint, v.Signal, request, v.ID))
}

func addCustom(ctx context.Context, tx *sql.Tx, endpoint string, v *custom.Value, request []byte, seq int64) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO custom (endpoint, `+customColumns+`)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, endpoint, seq, v.Signal, request, v.ID, v.Version, v.Lane, v.Split,
		v.At.UnixMilli(), v.Arrived.UnixMilli(), v.X)
	return err
}

// setCustom puts a value in the place of another, with its number: what was taken in by guards stays taken in.
func setCustom(ctx context.Context, tx *sql.Tx, v *custom.Value, seq int64) error {
	_, err := tx.ExecContext(ctx, `UPDATE custom SET version = ?, lane = ?, split = ?, at = ?, arrived = ?, value = ?
		WHERE seq = ?`, v.Version, v.Lane, v.Split, v.At.UnixMilli(), v.Arrived.UnixMilli(), v.X, seq)
	return err
}

func customHour(ctx context.Context, tx *sql.Tx, endpoint string, key CustomKey) (*sketch.Numbers, error) {
	n := &sketch.Numbers{}
	var raw []byte
	err := tx.QueryRowContext(ctx, `SELECT numbers FROM custom_hours
		WHERE endpoint = ? AND signal = ? AND at = ? AND version = ? AND lane = ?`, endpoint, key.Signal, key.At.Unix(),
		key.Version, key.Lane).Scan(&raw)
	if errors.Is(err, sql.ErrNoRows) {
		return n, nil
	}
	if err != nil {
		return nil, err
	}
	return n, n.MergeBinary(raw)
}

func putCustomHour(ctx context.Context, tx *sql.Tx, endpoint string, key CustomKey, n *sketch.Numbers) error {
	_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO custom_hours (endpoint, signal, version, lane, at, numbers)
		VALUES (?, ?, ?, ?, ?, ?)`, endpoint, key.Signal, key.Version, key.Lane, key.At.Unix(), n.AppendBinary(nil))
	return err
}

// CustomQuery says which values of an endpoint are asked for.
type CustomQuery struct {
	Endpoint string
	// From and To bound when it was answered.
	From, To time.Time
	Limit    int
}

// Customs lists values one by one, the newest answers first.
func (s *Store) Customs(ctx context.Context, q CustomQuery) ([]custom.Value, error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT `+customColumns+` FROM custom
		WHERE endpoint = ? AND at >= ? AND at < ? ORDER BY at DESC, seq DESC LIMIT ?`, q.Endpoint, q.From.UnixMilli(),
		q.To.UnixMilli(), q.Limit)
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (custom.Value, error) { return scanCustom(rows) })
}

// CustomsLater lists values of a signal in the order in which they came.
func (s *Store) CustomsLater(ctx context.Context, signal string, q LaterQuery) ([]custom.Value, error) {
	condition, args := q.where()
	rows, err := s.db.Read.QueryContext(ctx, `SELECT `+customColumns+` FROM custom WHERE `+condition+` AND signal = ?
		ORDER BY seq LIMIT ?`, append(args, signal, q.Limit)...)
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (custom.Value, error) { return scanCustom(rows) })
}

// CustomHours lists the hours that begin in [from, to), in the order of time; signal is empty for all.
func (s *Store) CustomHours(ctx context.Context, endpoint, signal string, from, to time.Time) ([]CustomHour, error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT at, signal, version, lane, numbers FROM custom_hours
		WHERE endpoint = ? AND (? = '' OR signal = ?) AND at >= ? AND at < ? ORDER BY at, signal, version, lane`,
		endpoint, signal, signal, from.Unix(), to.Unix())
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (h CustomHour, err error) {
		var at int64
		var raw []byte
		if err := rows.Scan(&at, &h.Signal, &h.Version, &h.Lane, &raw); err != nil {
			return h, err
		}
		h.At = time.Unix(at, 0).UTC()
		return h, h.Numbers.MergeBinary(raw)
	})
}
