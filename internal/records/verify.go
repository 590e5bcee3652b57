package records

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"innerladder/internal/core/record"
)

// VerifyRecord reads the whole record in one view of it and tells where it is not what
// was written. Checkpoints are hashes that lines must have.
func (s *DB) VerifyRecord(ctx context.Context, checkpoints map[int64]string) (record.Verified, error) {
	return s.VerifyWith(ctx, s.signer, checkpoints)
}

// VerifyWith is VerifyRecord with the signer that must have signed the record.
func (s *DB) VerifyWith(ctx context.Context, signer record.Signer,
	checkpoints map[int64]string,
) (record.Verified, error) {
	start := time.Now()
	tx, err := s.db.Read.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return record.Verified{}, err
	}
	defer func() { _ = tx.Rollback() }()
	c := &record.Chain{Signer: signer, Checkpoints: checkpoints}
	sealed, suspect, err := readChain(ctx, tx, c)
	if err != nil {
		return record.Verified{}, err
	}
	if c.Intact() && suspect > 0 {
		after, to, err := firstUnsealed(ctx, tx, c, sealed, suspect)
		if err != nil {
			return record.Verified{}, err
		}
		c.Rewritten(after, to)
	}
	var seq int64
	var hash, mac []byte
	err = tx.QueryRowContext(ctx, `SELECT seq, hash, mac FROM record_head`).Scan(&seq, &hash, &mac)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return record.Verified{}, err
	}
	found := c.End(seq, hash, mac)
	found.MS = time.Since(start).Milliseconds()
	return found, nil
}

// readChain reads all lines. It returns the last line whose seal was found to fit and, when
// one did not, that.
func readChain(ctx context.Context, tx *sql.Tx, c *record.Chain) (sealed, suspect int64, err error) {
	rows, err := tx.QueryContext(ctx, `SELECT line FROM record ORDER BY seq`)
	if err != nil {
		return 0, 0, err
	}
	defer rows.Close()
	var line sql.RawBytes
	check := func() error {
		seq := c.Seq() - c.Seq()%record.SealEvery
		hash, signature, stored, err := sealOf(ctx, tx, seq)
		switch {
		case err != nil || seq == 0 || suspect > 0:
			return err
		case c.Sealed(seq, stored, hash, signature):
			sealed = seq
		default:
			suspect = seq
		}
		return nil
	}
	for rows.Next() {
		if err := rows.Scan(&line); err != nil {
			return 0, 0, err
		}
		c.Add(line)
		if c.Due() {
			if err := check(); err != nil {
				return 0, 0, err
			}
		}
	}
	return sealed, suspect, errors.Join(rows.Err(), check())
}

// sealOf reads the seal of a line, and the hash that the line says it has.
func sealOf(ctx context.Context, tx *sql.Tx, seq int64) (hash, signature []byte, stored record.Hash, err error) {
	var line string
	err = tx.QueryRowContext(ctx, `SELECT r.line, s.hash, s.signature FROM record r
		LEFT JOIN record_seals s ON s.seq = r.seq WHERE r.seq = ?`, seq).Scan(&line, &hash, &signature)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return hash, signature, record.LinkOf([]byte(line)), err
}

// firstUnsealed narrows down where the chain was written anew: between a line whose seal
// fits and the first whose seal does not. All before fit, and none after.
func firstUnsealed(ctx context.Context, tx *sql.Tx, c *record.Chain, sealed,
	suspect int64,
) (after, to int64, err error) {
	low, high := sealed/record.SealEvery+1, suspect/record.SealEvery
	for low < high {
		half := (low + high) / 2
		hash, signature, stored, err := sealOf(ctx, tx, half*record.SealEvery)
		if err != nil {
			return 0, 0, err
		}
		if c.Sealed(half*record.SealEvery, stored, hash, signature) {
			low = half + 1
		} else {
			high = half
		}
	}
	return (low - 1) * record.SealEvery, low * record.SealEvery, nil
}
