package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"strconv"
	"time"

	"innerladder/internal/core/notice"
	"innerladder/internal/core/registry"
)

// AddNotice puts an entry into someone's inbox; about is the promotion that waits for
// them, if one does.
func (r View) AddNotice(ctx context.Context, person, seq int64, topic notice.Topic, about string) error {
	_, err := r.q.exec(ctx, `INSERT INTO notices (person_id, seq, topic, about) VALUES (?, ?, ?, ?)`, person,
		seq, topic, about)
	return err
}

// Inbox lists someone's notices, newest first.
func (r View) Inbox(ctx context.Context, person int64, unread bool, p Page) ([]notice.Notice, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	rows, err := r.q.rows(ctx,
		`SELECT n.id, n.topic, n.read_at, r.line FROM notices n JOIN record r ON r.seq = n.seq
			WHERE n.person_id = ? AND n.id < ? ?
			ORDER BY n.id DESC LIMIT ?`, person, before, when(unread, `AND n.read_at IS NULL`), p.Limit+1)
	items, err := collect(rows, err, func(rows *sql.Rows) (notice.Notice, error) {
		var n notice.Notice
		var read sql.NullInt64
		var line string
		if err := rows.Scan(&n.ID, &n.Topic, &read, &line); err != nil {
			return n, err
		}
		n.Read = optionalTime(read)
		if err := json.Unmarshal([]byte(line), &n.Entry); err != nil {
			return n, err
		}
		n.Entry = n.Entry.Activity()
		return n, nil
	})
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(n notice.Notice) string { return strconv.FormatInt(n.ID, 10) })
	// Who has left a project is not shown what happened in it.
	kept := items[:0]
	for _, n := range items {
		if r.sight.sees(n.Entry.Project) {
			kept = append(kept, n)
		}
	}
	return kept, next, nil
}

// Unread counts someone's notices that were not read, up to 100.
func (r View) Unread(ctx context.Context, person int64) (n int, err error) {
	err = r.q.row(ctx,
		`SELECT count(*) FROM (SELECT 1 FROM notices WHERE person_id = ? AND read_at IS NULL LIMIT 100)`, person).
		Scan(&n)
	return n, err
}

// MarkRead marks notices up to one as read, or that one alone.
func (r View) MarkRead(ctx context.Context, person, id int64, alone bool, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE notices SET read_at = ? WHERE person_id = ? AND read_at IS NULL AND ?`,
		toMillis(now), person, write(map[bool]string{true: `id = ?`, false: `id <= ?`}[alone], id))
	return err
}

// Settle marks what waits for review as read for everyone, or for one person: the
// promotion is decided, or they have answered.
func (r View) Settle(ctx context.Context, promotion string, person int64, now time.Time) error {
	_, err := r.q.exec(ctx,
		`UPDATE notices SET read_at = ? WHERE about = ? AND about <> '' AND read_at IS NULL
			AND (? = 0 OR person_id = ?)`, toMillis(now), promotion, person, person)
	return err
}

// AddWebhook adds a webhook and sets its id.
func (r View) AddWebhook(ctx context.Context, w *notice.Webhook) error {
	kinds, err := json.Marshal(w.Kinds)
	if err != nil {
		return err
	}
	return r.q.row(ctx,
		`INSERT INTO webhooks (project, address, kinds, made_by, made_at) VALUES (?, ?, ?, ?, ?) RETURNING id`,
		w.Project, w.Address, string(kinds), w.MadeBy, toMillis(w.MadeAt)).Scan(&w.ID)
}

func (r View) webhooks(ctx context.Context, clause string, args ...any) ([]notice.Webhook, error) {
	rows, err := r.q.rows(ctx,
		`SELECT id, project, address, kinds, made_by, made_at FROM webhooks WHERE ended_at IS NULL ? ORDER BY id`,
		write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (notice.Webhook, error) {
		var w notice.Webhook
		var kinds string
		var at int64
		if err := rows.Scan(&w.ID, &w.Project, &w.Address, &kinds, &w.MadeBy, &at); err != nil {
			return w, err
		}
		w.MadeAt = fromMillis(at)
		return w, json.Unmarshal([]byte(kinds), &w.Kinds)
	})
}

// Webhooks lists all webhooks.
func (r View) Webhooks(ctx context.Context) ([]notice.Webhook, error) { return r.webhooks(ctx, "") }

// Webhook finds a webhook.
func (r View) Webhook(ctx context.Context, id int64) (*notice.Webhook, error) {
	return single(r.webhooks(ctx, `AND id = ?`, id))
}

// EndWebhook ends a webhook; what still waits for it is not sent.
func (r View) EndWebhook(ctx context.Context, id int64, now time.Time) error {
	if _, err := r.q.exec(ctx,
		`UPDATE deliveries SET state = 'failed', answer = 'the webhook was removed', done_at = ?
			WHERE webhook = ? AND state = 'waiting'`, toMillis(now), id); err != nil {
		return err
	}
	_, err := r.q.exec(ctx, `UPDATE webhooks SET ended_at = ? WHERE id = ?`, toMillis(now), id)
	return err
}

// AddDelivery puts an entry on its way, to a webhook or to a person.
func (r View) AddDelivery(ctx context.Context, webhook, person, seq int64, topic notice.Topic, now time.Time) error {
	id := func(n int64) any {
		if n == 0 {
			return nil
		}
		return n
	}
	_, err := r.q.exec(ctx,
		`INSERT INTO deliveries (webhook, person_id, seq, topic, state, next_at, made_at)
			VALUES (?, ?, ?, ?, 'waiting', ?, ?)`,
		id(webhook), id(person), seq, topic, toMillis(now), toMillis(now))
	return err
}

func (r View) deliveries(ctx context.Context, clause string, args ...any) ([]notice.Delivery, error) {
	rows, err := r.q.rows(ctx, `SELECT d.id, coalesce(d.webhook, 0), coalesce(p.name, ''), coalesce(p.email, ''),
		d.topic, r.line, d.state, d.tries, d.next_at, d.answer, d.made_at, d.done_at
		FROM deliveries d JOIN record r ON r.seq = d.seq LEFT JOIN people p ON p.id = d.person_id ?`,
		write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (notice.Delivery, error) {
		var d notice.Delivery
		var line string
		var next, made int64
		var done sql.NullInt64
		if err := rows.Scan(&d.ID, &d.Webhook, &d.Person, &d.Email, &d.Topic, &line, &d.State, &d.Tries, &next,
			&d.Answer, &made, &done); err != nil {
			return d, err
		}
		d.NextAt, d.MadeAt, d.DoneAt = fromMillis(next), fromMillis(made), optionalTime(done)
		if err := json.Unmarshal([]byte(line), &d.Entry); err != nil {
			return d, err
		}
		d.Entry = d.Entry.Activity()
		return d, nil
	})
}

// DueDeliveries lists what should be sent by now, the longest waiting first.
func (r View) DueDeliveries(ctx context.Context, now time.Time, most int) ([]notice.Delivery, error) {
	return r.deliveries(ctx, `WHERE d.state = 'waiting' AND d.next_at <= ? ORDER BY d.next_at LIMIT ?`, toMillis(now),
		most)
}

// Deliveries lists what went, or goes, to a webhook, newest first; 0 is e-mail.
func (r View) Deliveries(ctx context.Context, webhook int64, p Page) ([]notice.Delivery, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.deliveries(ctx, `WHERE coalesce(d.webhook, 0) = ? AND d.id < ? ORDER BY d.id DESC LIMIT ?`, webhook,
		before, p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(d notice.Delivery) string { return strconv.FormatInt(d.ID, 10) })
	return items, next, nil
}

// Delivery finds a delivery.
func (r View) Delivery(ctx context.Context, id int64) (*notice.Delivery, error) {
	return single(r.deliveries(ctx, `WHERE d.id = ?`, id))
}

// SetDelivery keeps how far a delivery has come.
func (r View) SetDelivery(ctx context.Context, d notice.Delivery) error {
	var done any
	if d.DoneAt != nil {
		done = toMillis(*d.DoneAt)
	}
	_, err := r.q.exec(ctx,
		`UPDATE deliveries SET state = ?, tries = ?, next_at = ?, answer = ?, done_at = ? WHERE id = ?`, d.State,
		d.Tries, toMillis(d.NextAt), d.Answer, done, d.ID)
	return err
}

// PutSearch keeps a search, in place of one that the same person keeps under the name.
func (r View) PutSearch(ctx context.Context, person int64, s *registry.SavedSearch) error {
	b, err := json.Marshal(s.Query)
	if err != nil {
		return err
	}
	return r.q.row(ctx, `INSERT INTO saved_searches (name, person_id, shared, query, made_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (person_id, name) DO UPDATE SET shared = excluded.shared, query = excluded.query RETURNING id`,
		s.Name, person, s.Shared, string(b), toMillis(s.MadeAt)).Scan(&s.ID)
}

// Searches lists what someone keeps and what others share, by name.
func (r View) Searches(ctx context.Context, person int64) ([]registry.SavedSearch, error) {
	rows, err := r.q.rows(ctx,
		`SELECT s.id, s.name, p.name, s.shared, s.query, s.made_at FROM saved_searches s
			JOIN people p ON p.id = s.person_id WHERE s.person_id = ? OR s.shared = 1 ORDER BY s.name, s.id`, person)
	return collect(rows, err, func(rows *sql.Rows) (registry.SavedSearch, error) {
		var s registry.SavedSearch
		var raw string
		var at int64
		if err := rows.Scan(&s.ID, &s.Name, &s.Owner, &s.Shared, &raw, &at); err != nil {
			return s, err
		}
		s.MadeAt = fromMillis(at)
		return s, json.Unmarshal([]byte(raw), &s.Query)
	})
}

// RemoveSearch removes a search that someone keeps and reports whether there was one.
func (r View) RemoveSearch(ctx context.Context, person, id int64) (bool, error) {
	res, err := r.q.exec(ctx, `DELETE FROM saved_searches WHERE id = ? AND person_id = ?`, id, person)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}
