package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/notice"
	"innerladder/internal/core/people"
)

const personQuery = `SELECT p.id, p.name, p.robot, p.email, coalesce(p.password, ''), p.issuer, p.subject, p.choices,
	p.project, p.added_by, p.added_at, p.disabled_at FROM people p `

func (r View) people(ctx context.Context, clause string, args ...any) ([]people.Person, error) {
	rows, err := r.q.rows(ctx, personQuery+"?", write(clause, args...))
	out, err := collect(rows, err, func(rows *sql.Rows) (people.Person, error) {
		p := people.Person{Memberships: []access.Membership{}}
		var at int64
		var disabled sql.NullInt64
		var choices sql.NullString
		if err := rows.Scan(&p.ID, &p.Name, &p.Robot, &p.Email, &p.Password, &p.Issuer, &p.Subject, &choices,
			&p.Project, &p.AddedBy, &at, &disabled); err != nil {
			return p, err
		}
		p.AddedAt, p.Disabled, p.Choices = fromMillis(at), optionalTime(disabled), notice.Default()
		if choices.Valid {
			p.Choices = nil
			return p, json.Unmarshal([]byte(choices.String), &p.Choices)
		}
		return p, nil
	})
	if err != nil || len(out) == 0 {
		return out, err
	}
	at := map[int64]*people.Person{}
	ids := make([]any, len(out))
	for i := range out {
		at[out[i].ID], ids[i] = &out[i], out[i].ID
	}
	return out, r.each(ctx, write(`SELECT person_id, project, role FROM memberships WHERE person_id IN ?
		ORDER BY project, role`, listOf(ids)), func(rows *sql.Rows) error {
		var id int64
		var m access.Membership
		err := rows.Scan(&id, &m.Project, &m.Role)
		at[id].Memberships = append(at[id].Memberships, m)
		return err
	})
}

// AddPerson adds a person or robot.
func (r View) AddPerson(ctx context.Context, p people.Person) error {
	_, err := r.q.exec(ctx, `INSERT INTO people (name, robot, email, added_by, added_at) VALUES (?, ?, ?, ?, ?)`,
		p.Name, p.Robot, p.Email, p.AddedBy, toMillis(p.AddedAt))
	return err
}

// People lists everyone, by name.
func (r View) People(ctx context.Context) ([]people.Person, error) {
	return r.people(ctx, `ORDER BY p.name`)
}

// PersonNamed finds a person by name.
func (r View) PersonNamed(ctx context.Context, name string) (*people.Person, error) {
	return single(r.people(ctx, `WHERE p.name = ?`, name))
}

// PersonBySubject finds who someone is that a provider of sign-ins vouches for.
func (r View) PersonBySubject(ctx context.Context, issuer, subject string) (*people.Person, error) {
	return single(r.people(ctx, `WHERE p.issuer = ? AND p.subject = ? AND p.subject <> ''`, issuer, subject))
}

// PersonByEmail finds whose e-mail address it is.
func (r View) PersonByEmail(ctx context.Context, email string) (*people.Person, error) {
	return single(r.people(ctx, `WHERE p.email <> '' AND lower(p.email) = lower(?)`, email))
}

// UseProject sets where what a person adds goes when they name no project.
func (r View) UseProject(ctx context.Context, name, project string) error {
	_, err := r.q.exec(ctx, `UPDATE people SET project = ? WHERE name = ?`, project, name)
	return err
}

// SetEmail changes someone's e-mail address.
func (r View) SetEmail(ctx context.Context, id int64, email string) error {
	_, err := r.q.exec(ctx, `UPDATE people SET email = ? WHERE id = ?`, email, id)
	return err
}

// SetPassword changes someone's password, given as its hash.
func (r View) SetPassword(ctx context.Context, id int64, hash string) error {
	_, err := r.q.exec(ctx, `UPDATE people SET password = ? WHERE id = ?`, hash, id)
	return err
}

// SetSubject keeps who someone is to a provider of sign-ins.
func (r View) SetSubject(ctx context.Context, id int64, issuer, subject string) error {
	_, err := r.q.exec(ctx, `UPDATE people SET issuer = ?, subject = ? WHERE id = ?`, issuer, subject, id)
	return err
}

// SetChoices keeps what reaches someone.
func (r View) SetChoices(ctx context.Context, id int64, c notice.Choices) error {
	b, err := json.Marshal(c)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE people SET choices = ? WHERE id = ?`, string(b), id)
	return err
}

// SetDisabled shuts someone out at a moment, or lets them in again with nil.
func (r View) SetDisabled(ctx context.Context, id int64, at *time.Time) error {
	var when any
	if at != nil {
		when = toMillis(*at)
	}
	_, err := r.q.exec(ctx, `UPDATE people SET disabled_at = ? WHERE id = ?`, when, id)
	return err
}

// PutMembership gives someone a role in a project.
func (r View) PutMembership(ctx context.Context, id int64, m access.Membership, by string, now time.Time) error {
	_, err := r.q.exec(ctx,
		`INSERT INTO memberships (person_id, project, role, given_by, given_at) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT DO NOTHING`, id, m.Project, m.Role, by, toMillis(now))
	return err
}

// GivenBy lists the roles that someone has and that were given by somebody.
func (r View) GivenBy(ctx context.Context, id int64, by string) ([]access.Membership, error) {
	rows, err := r.q.rows(ctx, `SELECT project, role FROM memberships WHERE person_id = ? AND given_by = ?
		ORDER BY project, role`, id, by)
	return collect(rows, err, func(rows *sql.Rows) (m access.Membership, err error) {
		return m, rows.Scan(&m.Project, &m.Role)
	})
}

// RemoveMembership takes a role away.
func (r View) RemoveMembership(ctx context.Context, id int64, m access.Membership) error {
	_, err := r.q.exec(ctx, `DELETE FROM memberships WHERE person_id = ? AND project = ? AND role = ?`, id,
		m.Project, m.Role)
	return err
}

// Roles lists the roles that were made here, by name.
func (r View) Roles(ctx context.Context) ([]access.Role, error) {
	rows, err := r.q.rows(ctx, `SELECT name, permissions, description FROM roles ORDER BY name`)
	return collect(rows, err, func(rows *sql.Rows) (access.Role, error) {
		var role access.Role
		var raw string
		if err := rows.Scan(&role.Name, &raw, &role.Description); err != nil {
			return role, err
		}
		return role, json.Unmarshal([]byte(raw), &role.Permissions)
	})
}

// PutRole makes a role or changes it.
func (r View) PutRole(ctx context.Context, role access.Role, by string, now time.Time) error {
	b, err := json.Marshal(role.Permissions)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO roles (name, permissions, description, made_by, made_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET permissions = excluded.permissions, description = excluded.description`,
		role.Name, string(b), role.Description, by, toMillis(now))
	return err
}

// RemoveRole removes a role that nobody has.
func (r View) RemoveRole(ctx context.Context, name string) error {
	_, err := r.q.exec(ctx, `DELETE FROM roles WHERE name = ?`, name)
	return err
}

// RightsOf computes what someone may do now.
func (r View) RightsOf(ctx context.Context, p *people.Person) (access.Rights, error) {
	roles := access.BuiltIn()
	if slices.ContainsFunc(p.Memberships, func(m access.Membership) bool {
		return !slices.ContainsFunc(roles, func(b access.Role) bool { return b.Name == m.Role })
	}) {
		own, err := r.Roles(ctx)
		if err != nil {
			return access.Rights{}, err
		}
		roles = append(roles, own...)
	}
	rights := access.RightsOf(p.Memberships, roles)
	if p.Robot {
		rights = rights.Without(access.OfPersons...)
	}
	return rights, nil
}

// AddToken keeps a token's digest and sets its id.
func (r View) AddToken(ctx context.Context, person int64, digest []byte, t *people.Token) error {
	b, err := json.Marshal(t.Scope)
	if err != nil {
		return err
	}
	return r.q.row(ctx,
		`INSERT INTO tokens (person_id, title, digest, hint, scope, made_by, made_at, expires_at)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
		person, t.Title, digest, t.Hint, string(b), t.MadeBy, toMillis(t.MadeAt), toMillis(t.Expires)).Scan(&t.ID)
}

func (r View) tokens(ctx context.Context, clause string, args ...any) ([]people.Token, error) {
	rows, err := r.q.rows(ctx,
		`SELECT t.id, p.name, t.title, t.hint, t.scope, t.made_by, t.made_at, t.expires_at, t.used_at, t.ended_at
			FROM tokens t JOIN people p ON p.id = t.person_id ?`,
		write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (people.Token, error) {
		var t people.Token
		var scope string
		var made, expires int64
		var used, ended sql.NullInt64
		if err := rows.Scan(&t.ID, &t.Owner, &t.Title, &t.Hint, &scope, &t.MadeBy, &made, &expires, &used,
			&ended); err != nil {
			return t, err
		}
		t.MadeAt, t.Expires, t.UsedAt, t.EndedAt = fromMillis(made), fromMillis(expires), optionalTime(used),
			optionalTime(ended)
		return t, json.Unmarshal([]byte(scope), &t.Scope)
	})
}

// Tokens lists someone's tokens, newest first, without those that were taken away.
func (r View) Tokens(ctx context.Context, owner string) ([]people.Token, error) {
	return r.tokens(ctx, `WHERE p.name = ? AND t.ended_at IS NULL ORDER BY t.id DESC`, owner)
}

// Token finds a token by its id.
func (r View) Token(ctx context.Context, id int64) (*people.Token, error) {
	return single(r.tokens(ctx, `WHERE t.id = ?`, id))
}

// TokenByDigest finds a token by the digest of it.
func (r View) TokenByDigest(ctx context.Context, digest []byte) (*people.Token, error) {
	return single(r.tokens(ctx, `WHERE t.digest = ?`, digest))
}

// UseToken notes that a token was used.
func (r View) UseToken(ctx context.Context, id int64, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE tokens SET used_at = ? WHERE id = ?`, toMillis(now), id)
	return err
}

// EndToken takes a token away.
func (r View) EndToken(ctx context.Context, id int64, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE tokens SET ended_at = ? WHERE id = ? AND ended_at IS NULL`, toMillis(now),
		id)
	return err
}

// AddSession opens a session of the console.
func (r View) AddSession(ctx context.Context, person int64, digest []byte, s people.Session) error {
	_, err := r.q.exec(ctx,
		`INSERT INTO sessions (digest, person_id, how, address, agent, made_at, expires_at)
			VALUES (?, ?, ?, ?, ?, ?, ?)`,
		digest, person, s.How, s.Address, s.Agent, toMillis(s.MadeAt), toMillis(s.Expires))
	return err
}

// Sessions lists someone's sessions that hold at now, newest first.
func (r View) Sessions(ctx context.Context, person int64, now time.Time) ([]people.Session, error) {
	rows, err := r.q.rows(ctx,
		`SELECT id, how, address, agent, made_at, expires_at FROM sessions WHERE person_id = ? AND expires_at > ?
			ORDER BY id DESC`, person, toMillis(now))
	return collect(rows, err, func(rows *sql.Rows) (people.Session, error) {
		var s people.Session
		var made, expires int64
		err := rows.Scan(&s.ID, &s.How, &s.Address, &s.Agent, &made, &expires)
		s.MadeAt, s.Expires = fromMillis(made), fromMillis(expires)
		return s, err
	})
}

// PersonBySession finds whose session has the digest and has not expired at now.
func (r View) PersonBySession(ctx context.Context, digest []byte, now time.Time) (*people.Person, error) {
	return single(r.people(ctx, `JOIN sessions s ON s.person_id = p.id WHERE s.digest = ? AND s.expires_at > ?`, digest,
		toMillis(now)))
}

// EndSession closes a session, and all that have expired at now.
func (r View) EndSession(ctx context.Context, digest []byte, now time.Time) error {
	_, err := r.q.exec(ctx, `DELETE FROM sessions WHERE digest = ? OR expires_at <= ?`, digest, toMillis(now))
	return err
}

// EndSessionsOf closes someone's sessions, all but the one with a digest.
func (r View) EndSessionsOf(ctx context.Context, person int64, but []byte) error {
	_, err := r.q.exec(ctx, `DELETE FROM sessions WHERE person_id = ? AND digest <> ?`, person, but)
	return err
}

// AddLink keeps a link that lets someone in once; person 0 is the first owner, who is
// not there yet. An earlier link for the same person ends.
func (r View) AddLink(ctx context.Context, person int64, digest []byte, by string, now, expires time.Time) error {
	var id any
	if person > 0 {
		id = person
	}
	if _, err := r.q.exec(ctx, `DELETE FROM links_in WHERE person_id IS ? OR expires_at <= ?`, id,
		toMillis(now)); err != nil {
		return err
	}
	_, err := r.q.exec(ctx,
		`INSERT INTO links_in (digest, person_id, made_by, made_at, expires_at) VALUES (?, ?, ?, ?, ?)`, digest, id, by,
		toMillis(now), toMillis(expires))
	return err
}

// Link finds whom a link lets in; the person is nil for the first owner.
func (r View) Link(ctx context.Context, digest []byte, now time.Time) (*people.Person, error) {
	var id sql.NullInt64
	err := r.q.row(ctx, `SELECT person_id FROM links_in WHERE digest = ? AND expires_at > ?`, digest,
		toMillis(now)).Scan(&id)
	if err != nil || !id.Valid {
		return nil, one(err)
	}
	return single(r.people(ctx, `WHERE p.id = ?`, id.Int64))
}

// EndLink uses a link up.
func (r View) EndLink(ctx context.Context, digest []byte) error {
	_, err := r.q.exec(ctx, `DELETE FROM links_in WHERE digest = ?`, digest)
	return err
}
