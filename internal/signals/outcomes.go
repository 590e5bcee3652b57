package signals

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/outcome"
	"innerladder/internal/sqlite"

	"github.com/google/uuid"
)

// OutcomeKey names what the outcomes of an hour are of.
type OutcomeKey struct {
	Version, Lane, Output string
	At                    time.Time
}

// OutcomeSums are the outcomes of a span that begins at a moment.
type OutcomeSums struct {
	OutcomeKey
	outcome.Sums
}

// PutOutcomes keeps pairs of an endpoint, and says of each what became of it: joined, or told before. Where another
// truth was told before, that stays, unless it is to be replaced.
func (s *Store) PutOutcomes(ctx context.Context, endpoint string, pairs []outcome.Pair, replace bool,
) ([]outcome.Fate, error) {
	var fates []outcome.Fate
	err := s.db.InOne(ctx, func(tx *sql.Tx) error {
		fates = make([]outcome.Fate, len(pairs))
		if len(pairs) == 0 {
			return nil
		}
		seq, err := nextSeq(ctx, tx, pairs[0].Arrived, "outcomes WHERE endpoint = ?", endpoint)
		if err != nil {
			return err
		}
		changes := map[OutcomeKey]*outcome.Sums{}
		of := func(p *outcome.Pair) *outcome.Sums {
			key := OutcomeKey{p.Version, p.Lane, p.Output, p.At.UTC().Truncate(time.Hour)}
			if changes[key] == nil {
				changes[key] = &outcome.Sums{}
			}
			return changes[key]
		}
		for i := range pairs {
			p := &pairs[i]
			id, err := uuid.Parse(p.Request)
			if err != nil {
				return fmt.Errorf("the outcome of request %q: %w", p.Request, err)
			}
			before, err := oneOutcome(ctx, tx, id, p)
			none := errors.Is(err, sql.ErrNoRows)
			switch {
			case err != nil && !none:
				return err
			case none:
				fates[i] = outcome.Joined
				first, err := firstOf(ctx, tx, id, p.Output)
				if err != nil {
					return err
				}
				of(p).Add(p, first)
			case before.Same(p):
				fates[i] = outcome.Again
				continue
			case !replace:
				fates[i] = outcome.Other
				continue
			default:
				fates[i] = outcome.Replaced
				of(&before).Remove(&before)
				of(p).Add(p, false)
			}
			if err := putOutcome(ctx, tx, endpoint, id, p, seq); err != nil {
				return err
			}
			seq++
		}
		for key, sums := range changes {
			if err := addToHour(ctx, tx, endpoint, key, sums); err != nil {
				return err
			}
		}
		return nil
	})
	return fates, err
}

const outcomeColumns = `request, row, output, version, lane, at, arrived, predicted, truth`

func oneOutcome(ctx context.Context, tx *sql.Tx, id uuid.UUID, p *outcome.Pair) (outcome.Pair, error) {
	return scanOutcome(tx.QueryRowContext(ctx, `SELECT `+outcomeColumns+` FROM outcomes
		WHERE request = ? AND row = ? AND output = ?`, id[:], p.Row, p.Output))
}

// firstOf reports whether a request has no outcome of an output yet.
func firstOf(ctx context.Context, tx *sql.Tx, id uuid.UUID, output string) (first bool, err error) {
	err = tx.QueryRowContext(ctx, `SELECT NOT EXISTS (SELECT 1 FROM outcomes WHERE request = ? AND output = ?)`, id[:],
		output).Scan(&first)
	return first, err
}

// putOutcome keeps a pair. One that takes the place of another has its number: what was taken in by guards stays taken
// in.
func putOutcome(ctx context.Context, tx *sql.Tx, endpoint string, id uuid.UUID, p *outcome.Pair, seq int64) error {
	var predicted, truth any = p.PredictedClass, p.TruthClass
	if p.Number {
		predicted, truth = p.Predicted, p.Truth
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO outcomes (endpoint, `+outcomeColumns+`, seq)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET version = excluded.version, lane = excluded.lane, at = excluded.at,
			arrived = excluded.arrived, predicted = excluded.predicted, truth = excluded.truth`, endpoint, id[:], p.Row,
		p.Output, p.Version, p.Lane, p.At.UnixMilli(), p.Arrived.UnixMilli(), predicted, truth, seq)
	return err
}

func addToHour(ctx context.Context, tx *sql.Tx, endpoint string, key OutcomeKey, change *outcome.Sums) error {
	var sums outcome.Sums
	var raw string
	err := tx.QueryRowContext(ctx, `SELECT sums FROM outcome_hours
		WHERE endpoint = ? AND at = ? AND version = ? AND lane = ? AND output = ?`, endpoint, key.At.Unix(),
		key.Version, key.Lane, key.Output).Scan(&raw)
	if err == nil {
		err = json.Unmarshal([]byte(raw), &sums)
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	sums.Merge(change)
	made, err := json.Marshal(sums)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO outcome_hours (endpoint, at, version, lane, output, sums)
		VALUES (?, ?, ?, ?, ?, ?)`, endpoint, key.At.Unix(), key.Version, key.Lane, key.Output, string(made))
	return err
}

func scanOutcome(row interface{ Scan(...any) error }) (p outcome.Pair, err error) {
	var id []byte
	var at, arrived int64
	var predicted, truth any
	if err := row.Scan(&id, &p.Row, &p.Output, &p.Version, &p.Lane, &at, &arrived, &predicted, &truth); err != nil {
		return p, err
	}
	u, err := uuid.FromBytes(id)
	if err != nil {
		return p, err
	}
	p.Request, p.At, p.Arrived = u.String(), time.UnixMilli(at).UTC(), time.UnixMilli(arrived).UTC()
	if p.Predicted, p.Number = predicted.(float64); p.Number {
		p.Truth, _ = truth.(float64) // a check of the table says so
		return p, nil
	}
	p.PredictedClass, _ = predicted.(string)
	p.TruthClass, _ = truth.(string)
	return p, nil
}

// OutcomeQuery says which outcomes of an endpoint are asked for.
type OutcomeQuery struct {
	Endpoint, Version, Output string
	// From and To bound when it was predicted.
	From, To time.Time
	// Worst lists those that were furthest off first; else the newest are.
	Worst bool
	Limit int
}

// Outcomes lists single outcomes.
func (s *Store) Outcomes(ctx context.Context, q OutcomeQuery) ([]outcome.Pair, error) {
	order := `at DESC, request, row`
	if q.Worst {
		order = `CASE typeof(predicted) WHEN 'text' THEN predicted <> truth ELSE abs(predicted - truth) END DESC, ` +
			order
	}
	rows, err := s.db.Read.QueryContext(ctx, `SELECT `+outcomeColumns+` FROM outcomes
		WHERE endpoint = ? AND at >= ? AND at < ? AND (? = '' OR version = ?) AND (? = '' OR output = ?)
		ORDER BY `+order+` LIMIT ?`, q.Endpoint, q.From.UnixMilli(), q.To.UnixMilli(), q.Version, q.Version, q.Output,
		q.Output, q.Limit)
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (outcome.Pair, error) { return scanOutcome(rows) })
}

// askedAtOnce is how many requests are asked for with one query.
const askedAtOnce = 500

// OutcomesOf lists the outcomes of some requests of an endpoint.
func (s *Store) OutcomesOf(ctx context.Context, endpoint string, requests []uuid.UUID) ([]outcome.Pair, error) {
	var out []outcome.Pair
	for some := range slices.Chunk(requests, askedAtOnce) {
		args := []any{endpoint}
		for i := range some {
			args = append(args, some[i][:])
		}
		rows, err := s.db.Read.QueryContext(ctx, `SELECT `+outcomeColumns+` FROM outcomes WHERE endpoint = ?
			AND request IN (?`+strings.Repeat(`, ?`, len(some)-1)+`) ORDER BY request, row, output`, args...)
		found, err := sqlite.Collect(rows, err, func(rows *sql.Rows) (outcome.Pair, error) { return scanOutcome(rows) })
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}

// NumberedOutcome is a pair with its number.
type NumberedOutcome struct {
	outcome.Pair
	Seq int64
}

// LaterQuery says which values that came later than the answers are asked for: truths, or values of a custom signal.
type LaterQuery struct {
	Endpoint string
	// Output narrows truths down when it is not empty; Numbers are wanted, or else classes.
	Output  string
	Numbers bool
	// Versions are of whose answers, to callers who were drawn for them.
	Versions []string
	// From and To bound when it was answered; a zero To does not.
	From, To time.Time
	// After is the number above which they are asked for.
	After int64
	Limit int
}

// putBack is how far a clock may have been put back between an answer and what came of it.
const putBack = 24 * time.Hour

// where is the condition on what is asked for, but for what truths alone have. A number is no less than the moment at
// which it was given, in milliseconds (nextSeq), so that what came before the answers that are asked for is not looked
// at.
func (q LaterQuery) where() (condition string, args []any) {
	to := int64(math.MaxInt64)
	if !q.To.IsZero() {
		to = q.To.UnixMilli()
	}
	after := max(q.After, q.From.Add(-putBack).UnixMilli())
	args = []any{q.Endpoint, q.From.UnixMilli(), to, after, Pinned, Shadow}
	for _, v := range q.Versions {
		args = append(args, v)
	}
	return `endpoint = ? AND at >= ? AND at < ? AND seq > ? AND lane NOT IN (?, ?) AND version IN (?` +
		strings.Repeat(`, ?`, max(0, len(q.Versions)-1)) + `)`, args
}

// OutcomesLater lists pairs in the order in which their truth came; of a request with several rows the one that came
// first, because rows of a request are not independent.
func (s *Store) OutcomesLater(ctx context.Context, q LaterQuery) ([]NumberedOutcome, error) {
	condition, args := q.where()
	kind := "text"
	if q.Numbers {
		kind = "real"
	}
	rows, err := s.db.Read.QueryContext(ctx, `SELECT `+outcomeColumns+`, seq FROM outcomes o
		WHERE `+condition+` AND typeof(predicted) = ? AND (? = '' OR output = ?) AND NOT EXISTS (
			SELECT 1 FROM outcomes b WHERE b.request = o.request AND b.output = o.output AND b.seq < o.seq)
		ORDER BY seq LIMIT ?`, append(args, kind, q.Output, q.Output, q.Limit)...)
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (o NumberedOutcome, err error) {
		o.Pair, err = scanOutcome(scanner(func(into ...any) error { return rows.Scan(append(into, &o.Seq)...) }))
		return o, err
	})
}

// scanner reads a row with columns beside those that are asked for.
type scanner func(into ...any) error

// Scan reads the row.
func (s scanner) Scan(into ...any) error { return s(into...) }

// OutcomeHours lists the sums of the hours that begin in [from, to), in the order of time.
func (s *Store) OutcomeHours(ctx context.Context, endpoint string, from, to time.Time) ([]OutcomeSums, error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT at, version, lane, output, sums FROM outcome_hours
		WHERE endpoint = ? AND at >= ? AND at < ? ORDER BY at, version, lane, output`, endpoint, from.Unix(), to.Unix())
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (o OutcomeSums, err error) {
		var at int64
		var raw string
		if err := rows.Scan(&at, &o.Version, &o.Lane, &o.Output, &raw); err != nil {
			return o, err
		}
		o.At = time.Unix(at, 0).UTC()
		return o, json.Unmarshal([]byte(raw), &o.Sums)
	})
}
