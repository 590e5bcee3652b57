package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"innerladder/internal/core/keep"
	"innerladder/internal/core/traffic"
)

// Secret is something that is kept sealed.
type Secret struct {
	Name   string
	Sealed []byte
	SetBy  string
	SetAt  time.Time
}

// Secrets lists the secrets whose names begin so, by name.
func (r View) Secrets(ctx context.Context, prefix string) ([]Secret, error) {
	rows, err := r.q.rows(ctx,
		`SELECT name, sealed, set_by, set_at FROM secrets WHERE name >= ? AND name < ? ORDER BY name`, prefix,
		prefix+"\U0010ffff")
	return collect(rows, err, func(rows *sql.Rows) (Secret, error) {
		var s Secret
		var at int64
		err := rows.Scan(&s.Name, &s.Sealed, &s.SetBy, &at)
		s.SetAt = fromMillis(at)
		return s, err
	})
}

// PutSecret keeps a sealed secret in place of one with the same name.
func (r View) PutSecret(ctx context.Context, s Secret) error {
	_, err := r.q.exec(ctx, `INSERT INTO secrets (name, sealed, set_by, set_at) VALUES (?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET sealed = excluded.sealed, set_by = excluded.set_by, set_at = excluded.set_at`,
		s.Name, s.Sealed, s.SetBy, toMillis(s.SetAt))
	return err
}

// RemoveSecret removes a secret.
func (r View) RemoveSecret(ctx context.Context, name string) error {
	_, err := r.q.exec(ctx, `DELETE FROM secrets WHERE name = ?`, name)
	return err
}

// Key reads a key that was kept in the open before there were secrets.
func (r View) Key(ctx context.Context, name string) ([]byte, error) {
	var key []byte
	err := r.q.row(ctx, `SELECT value FROM keys WHERE name = ?`, name).Scan(&key)
	return key, one(err)
}

// RemoveKey removes a key that is a secret now.
func (r View) RemoveKey(ctx context.Context, name string) error {
	_, err := r.q.exec(ctx, `DELETE FROM keys WHERE name = ?`, name)
	return err
}

// Setting reads a setting into v, or leaves v as it is when it was never set.
func (r View) Setting(ctx context.Context, name string, v any) error {
	var raw string
	err := one(r.q.row(ctx, `SELECT value FROM settings WHERE name = ?`, name).Scan(&raw))
	if err == ErrNone {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte(raw), v)
}

// Retention is how long what grows is kept: as was chosen, or else the usual.
func (r View) Retention(ctx context.Context) (keep.Retention, error) {
	out := keep.Usual()
	return out, r.Setting(ctx, "retention", &out)
}

// PutSetting keeps a setting.
func (r View) PutSetting(ctx context.Context, name string, v any, by string, now time.Time) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO settings (name, value, set_by, set_at) VALUES (?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET value = excluded.value, set_by = excluded.set_by, set_at = excluded.set_at`,
		name, string(b), by, toMillis(now))
	return err
}

// Callers lists who has a key to an endpoint, by name.
func (r View) Callers(ctx context.Context, endpoint string) ([]traffic.Caller, error) {
	rows, err := r.q.rows(ctx,
		`SELECT c.name, c.hint, c.made_by, c.made_at, c.digest FROM callers c JOIN endpoints e ON e.id = c.endpoint_id
			WHERE e.name = ? AND c.ended_at IS NULL ORDER BY c.name`, endpoint)
	return collect(rows, err, func(rows *sql.Rows) (traffic.Caller, error) {
		var c traffic.Caller
		var at int64
		err := rows.Scan(&c.Name, &c.Hint, &c.MadeBy, &at, &c.Digest)
		c.MadeAt = fromMillis(at)
		return c, err
	})
}

// AddCaller gives a caller a key to an endpoint.
func (r View) AddCaller(ctx context.Context, endpoint string, c traffic.Caller) error {
	_, err := r.q.exec(ctx,
		`INSERT INTO callers (endpoint_id, name, digest, hint, made_by, made_at) SELECT id, ?, ?, ?, ?, ? FROM endpoints
			WHERE name = ?`,
		c.Name, c.Digest, c.Hint, c.MadeBy, toMillis(c.MadeAt), endpoint)
	return err
}

// EndCaller takes a caller's key away and reports whether there was one.
func (r View) EndCaller(ctx context.Context, endpoint, name string, now time.Time) (bool, error) {
	res, err := r.q.exec(ctx,
		`UPDATE callers SET ended_at = ? WHERE name = ? AND ended_at IS NULL AND endpoint_id = (SELECT id FROM endpoints
			WHERE name = ?)`, toMillis(now), name, endpoint)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// SetKeyed says whether callers of an endpoint need a key.
func (r View) SetKeyed(ctx context.Context, endpoint string, keyed bool) error {
	_, err := r.q.exec(ctx, `UPDATE endpoints SET keyed = ? WHERE name = ?`, keyed, endpoint)
	return err
}

// Taken reports whether a name is taken by something of a kind, in sight or not: by a
// model, an endpoint or a data set.
func (r View) Taken(ctx context.Context, table, name string) (taken bool, err error) {
	err = r.q.row(ctx, `SELECT EXISTS (SELECT 1 FROM `+table+` WHERE name = ?)`, name).Scan(&taken)
	return taken, err
}

// Forget removes deliveries that are done, notices that were read and answers to repeated
// calls from before a moment each, and sessions and links that are over at now.
func (r View) Forget(ctx context.Context, deliveries, notices, repeats, now time.Time) error {
	for _, f := range []struct {
		statement string
		before    time.Time
	}{
		{`DELETE FROM deliveries WHERE state <> 'waiting' AND done_at < ?`, deliveries},
		{`DELETE FROM notices WHERE read_at < ?`, notices},
		{`DELETE FROM repeats WHERE at < ?`, repeats},
		{`DELETE FROM sessions WHERE expires_at < ?`, now},
		{`DELETE FROM links_in WHERE expires_at < ?`, now},
	} {
		if _, err := r.q.exec(ctx, f.statement, toMillis(f.before)); err != nil {
			return err
		}
	}
	return nil
}

// Repeat is the answer to a call that carried an Idempotency-Key.
type Repeat struct {
	RequestDigest []byte
	Answer        json.RawMessage
}

// Repeated finds the answer that a person's call with a key got before.
func (r View) Repeated(ctx context.Context, person, key string) (Repeat, error) {
	var rep Repeat
	var answer string
	err := r.q.row(ctx, `SELECT request_digest, answer FROM repeats WHERE person = ? AND key = ?`, person,
		key).Scan(&rep.RequestDigest, &answer)
	rep.Answer = json.RawMessage(answer)
	return rep, one(err)
}

// AddRepeat keeps the answer to a call with a key.
func (r View) AddRepeat(ctx context.Context, person, key string, rep Repeat, now time.Time) error {
	_, err := r.q.exec(ctx,
		`INSERT INTO repeats (person, key, request_digest, answer, at) VALUES (?, ?, ?, ?, ?)`, person, key,
		rep.RequestDigest, string(rep.Answer), toMillis(now))
	return err
}
