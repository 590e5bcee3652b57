package store

import (
	"context"
	"database/sql"
	"time"
)

// Person is someone who may sign in.
type Person struct {
	Name    string    `json:"name"`
	Role    string    `json:"role" enum:"owner,member" description:"an owner may add people"`
	AddedBy string    `json:"added_by"`
	AddedAt time.Time `json:"added_at"`
}

const personColumns = `p.name, p.role, p.added_by, p.added_at`

func scanPerson(row interface{ Scan(...any) error }) (Person, error) {
	var p Person
	var at int64
	err := row.Scan(&p.Name, &p.Role, &p.AddedBy, &at)
	p.AddedAt = fromMillis(at)
	return p, err
}

// AddPerson adds a person with the digest of a token.
func (r Records) AddPerson(ctx context.Context, p Person, tokenDigest []byte) error {
	res, err := r.q.ExecContext(ctx, `INSERT INTO people (name, role, added_by, added_at) VALUES (?, ?, ?, ?)`,
		p.Name, p.Role, p.AddedBy, toMillis(p.AddedAt))
	if err != nil {
		return err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return err
	}
	_, err = r.q.ExecContext(ctx, `INSERT INTO tokens (digest, person_id, made_at) VALUES (?, ?, ?)`, tokenDigest, id, toMillis(p.AddedAt))
	return err
}

// People lists everyone, by name.
func (r Records) People(ctx context.Context) ([]Person, error) {
	rows, err := r.q.QueryContext(ctx, `SELECT `+personColumns+` FROM people p ORDER BY p.name`)
	return collect(rows, err, func(rows *sql.Rows) (Person, error) { return scanPerson(rows) })
}

// PersonNamed finds a person by name.
func (r Records) PersonNamed(ctx context.Context, name string) (Person, error) {
	p, err := scanPerson(r.q.QueryRowContext(ctx, `SELECT `+personColumns+` FROM people p WHERE p.name = ?`, name))
	return p, one(err)
}

// PersonByToken finds whose token has the digest.
func (r Records) PersonByToken(ctx context.Context, digest []byte) (Person, error) {
	p, err := scanPerson(r.q.QueryRowContext(ctx, `SELECT `+personColumns+` FROM tokens t JOIN people p ON p.id = t.person_id WHERE t.digest = ?`, digest))
	return p, one(err)
}

// AddSession opens a session of the console.
func (r Records) AddSession(ctx context.Context, person string, digest []byte, expires time.Time) error {
	_, err := r.q.ExecContext(ctx, `INSERT INTO sessions (digest, person_id, expires_at) SELECT ?, id, ? FROM people WHERE name = ?`,
		digest, toMillis(expires), person)
	return err
}

// PersonBySession finds whose session has the digest and has not expired at now.
func (r Records) PersonBySession(ctx context.Context, digest []byte, now time.Time) (Person, error) {
	p, err := scanPerson(r.q.QueryRowContext(ctx, `SELECT `+personColumns+` FROM sessions s JOIN people p ON p.id = s.person_id WHERE s.digest = ? AND s.expires_at > ?`, digest, toMillis(now)))
	return p, one(err)
}

// EndSession closes a session, and all that have expired at now.
func (r Records) EndSession(ctx context.Context, digest []byte, now time.Time) error {
	_, err := r.q.ExecContext(ctx, `DELETE FROM sessions WHERE digest = ? OR expires_at <= ?`, digest, toMillis(now))
	return err
}
