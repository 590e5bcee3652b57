package store

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"innerladder/internal/core/registry"
)

// MetricBound keeps versions whose metric is on one side of a value.
type MetricBound struct {
	Metric string
	// How is one of < <= > >=.
	How   string
	Value float64
}

// Search says which versions are looked for; zero members do not narrow down.
type Search struct {
	// Text is looked for in names, notes, cards, tags, parameters and more; all words
	// must be there, the last may be a beginning.
	Text                              string
	Project, Task, Model, Owner, Rung string
	Label, Tag, Format, Licence       string
	PlacedIn                          string
	// Answering is an endpoint, or "any".
	Answering string
	// Data is a data set, or one revision of it, that the version used.
	Data          registry.DataRef
	Metrics       []MetricBound
	Vetted        bool
	After, Before time.Time
	// Sort is a metric's name, or empty for the newest first; Descending turns it.
	Sort       string
	Descending bool
}

// Found is one version in the catalogue.
type Found struct {
	Ref       string             `json:"ref"`
	Model     string             `json:"model"`
	Number    int                `json:"number"`
	Project   string             `json:"project"`
	Task      registry.Task      `json:"task" enum:"regression,classification,other"`
	Owner     string             `json:"owner"`
	Vetted    bool               `json:"vetted,omitempty" description:"the model is vetted"`
	Rung      string             `json:"rung"`
	Note      string             `json:"note,omitempty"`
	Licence   string             `json:"licence,omitempty"`
	Labels    []string           `json:"labels,omitempty"`
	Tags      []string           `json:"tags,omitempty" description:"of the version and of its model"`
	Formats   []string           `json:"formats"`
	Metrics   map[string]float64 `json:"metrics"`
	Size      int64              `json:"size" description:"bytes of all artifacts"`
	Answering []string           `json:"answering,omitempty" description:"endpoints it answers for now"`
	PlacedIn  []string           `json:"placed_in,omitempty"`
	CreatedAt time.Time          `json:"created_at"`
	CreatedBy string             `json:"created_by"`
	id        int64
	value     float64
}

// narrowing is one filter of a search, in two forms: as the set of version ids that pass,
// and as a condition on v and m.
type narrowing struct {
	set, check string
	args       []any
}

const (
	// fewEnough is how many versions a filter may leave for them to be looked at one by
	// one.
	fewEnough = 800
)

// narrowings turns a search into filters.
func (s Search) narrowings() []narrowing {
	var out []narrowing
	both := func(set, check string, args ...any) { out = append(out, narrowing{set, check, args}) }
	for _, f := range []struct{ column, value string }{{"project", s.Project}, {"task", s.Task}, {"owner", s.Owner}, {"name", s.Model}} {
		if f.value != "" {
			both(`SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE m.`+f.column+` = ?`, `m.`+f.column+` = ?`, f.value)
		}
	}
	if s.Vetted {
		both(`SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE m.vetted_by IS NOT NULL`, `m.vetted_by IS NOT NULL`)
	}
	if s.Rung != "" {
		both(`SELECT id FROM versions WHERE rung = ? AND deleted_at IS NULL`, `v.rung = ?`, s.Rung)
	}
	if s.Licence != "" {
		both(`SELECT id FROM versions WHERE licence = ? COLLATE NOCASE AND licence <> ''`, `v.licence = ? COLLATE NOCASE`, s.Licence)
	}
	if s.Label != "" {
		both(`SELECT version_id FROM labels WHERE name = ?`, `EXISTS (SELECT 1 FROM labels l WHERE l.version_id = v.id AND l.name = ?)`, s.Label)
	}
	if s.Tag != "" {
		both(`SELECT version_id FROM tags WHERE tag = ?1 AND version_id > 0 UNION SELECT v.id FROM tags g JOIN versions v ON v.model_id = g.model_id WHERE g.tag = ?1 AND g.model_id > 0`,
			`EXISTS (SELECT 1 FROM tags g WHERE g.tag = ? AND ((g.version_id = v.id AND g.model_id = 0) OR (g.model_id = m.id AND g.version_id = 0)))`, s.Tag)
	}
	if s.Format != "" {
		both(`SELECT version_id FROM artifacts WHERE format = ?`, `EXISTS (SELECT 1 FROM artifacts a WHERE a.format = ? AND a.version_id = v.id)`, s.Format)
	}
	if s.PlacedIn != "" {
		both(`SELECT p.version_id FROM placements p JOIN environments e ON e.id = p.environment_id WHERE p.removed_at IS NULL AND e.name = ?`,
			`EXISTS (SELECT 1 FROM placements p JOIN environments e ON e.id = p.environment_id WHERE p.version_id = v.id AND p.removed_at IS NULL AND e.name = ?)`, s.PlacedIn)
	}
	if s.Answering != "" {
		const set = `SELECT l.version_id FROM endpoints e JOIN lanes l ON l.endpoint_id = e.id AND l.split = (SELECT max(number) FROM splits WHERE endpoint_id = e.id) WHERE (?1 = 'any' OR e.name = ?1)`
		both(set, `v.id IN (`+strings.ReplaceAll(set, "?1", "?")+`)`, s.Answering)
	}
	if s.Data.Name != "" {
		const set = `SELECT l.from_id FROM data_sets d JOIN links l ON l.to_kind = 2 AND l.to_id = d.id AND l.from_kind = 1 WHERE d.name = ?1 AND (?2 = 0 OR d.number = ?2)`
		both(set, `EXISTS (SELECT 1 FROM links l JOIN data_sets d ON d.id = l.to_id WHERE l.from_kind = 1 AND l.from_id = v.id AND l.to_kind = 2 AND d.name = ? AND (? = 0 OR d.number = ?))`,
			s.Data.Name, s.Data.Number)
	}
	for _, b := range s.Metrics {
		both(`SELECT version_id FROM metrics WHERE name = ? AND value `+b.How+` ?`, `EXISTS (SELECT 1 FROM metrics x WHERE x.version_id = v.id AND x.name = ? AND x.value `+b.How+` ?)`, b.Metric, b.Value)
	}
	if !s.After.IsZero() {
		both(`SELECT id FROM versions WHERE created_at >= ?`, `v.created_at >= ?`, toMillis(s.After))
	}
	if !s.Before.IsZero() {
		both(`SELECT id FROM versions WHERE created_at < ?`, `v.created_at < ?`, toMillis(s.Before))
	}
	if match := matchOf(s.Text); match != "" {
		both(`SELECT rowid FROM search WHERE search MATCH ?`, `EXISTS (SELECT 1 FROM search WHERE search MATCH ? AND rowid = v.id)`, match)
	}
	return out
}

// checkArgs are the arguments of the condition, which cannot name one twice.
func (n narrowing) checkArgs() []any {
	if extra := strings.Count(n.check, "?") - len(n.args); extra > 0 {
		return append(slices.Clone(n.args), slices.Repeat(n.args[len(n.args)-1:], extra)...)
	}
	return n.args
}

// matchOf makes a full-text query of what someone typed: every word must be there, the
// last may be the beginning of one. Nothing in it is an operator.
func matchOf(text string) string {
	words := strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) })
	words = words[:min(len(words), 20)]
	for i, w := range words {
		words[i] = `"` + w + `"`
	}
	if len(words) == 0 {
		return ""
	}
	return strings.Join(words, " ") + "*"
}

// Find lists the versions that a search leaves. It first looks for a filter that leaves
// few versions, by counting no further than it must, and looks at those one by one; if
// all filters leave many, it goes along the order that was asked for and stops when the
// page is full.
func (r Records) Find(ctx context.Context, s Search, p Page) ([]Found, string, error) {
	filters := s.narrowings()
	best, bestCount := -1, fewEnough+1
	for i, f := range filters {
		var n int
		if err := r.q.QueryRowContext(ctx, `SELECT count(*) FROM (`+f.set+` LIMIT `+strconv.Itoa(bestCount)+`)`, f.args...).Scan(&n); err != nil {
			return nil, "", err
		}
		if n < bestCount {
			best, bestCount = i, n
		}
	}
	query, args := r.findQuery(s, filters, best)
	byText := best < 0 && s.Sort == "" && matchOf(s.Text) != ""
	after, err := s.after(p.After)
	if err != nil {
		return nil, "", err
	}
	clauses := after.clause + s.order()
	if byText { // the same id, but of the table that hands it out in order
		clauses = strings.ReplaceAll(clauses, "v.id", "search.rowid")
	}
	query.WriteString(clauses)
	args = append(args, after.args...)
	args = append(args, p.Limit+1)
	rows, err := r.q.QueryContext(ctx, query.String(), args...)
	items, err := collect(rows, err, func(rows *sql.Rows) (Found, error) {
		f := Found{Formats: []string{}, Metrics: map[string]float64{}}
		var at int64
		err := rows.Scan(&f.id, &f.Model, &f.Number, &f.Project, &f.Task, &f.Owner, &f.Vetted, &f.Rung, &f.Note, &f.Licence, &at, &f.CreatedBy, &f.value)
		f.Ref, f.CreatedAt = registry.Ref{Model: f.Model, Number: f.Number}.String(), fromMillis(at)
		return f, err
	})
	if err != nil {
		return nil, "", fmt.Errorf("searching the catalogue: %w", err)
	}
	items, next := cut(items, p.Limit, func(f Found) string {
		return strconv.FormatUint(math.Float64bits(f.value), 16) + "|" + strconv.FormatInt(f.id, 10)
	})
	return items, next, r.fillFound(ctx, items)
}

// findQuery writes the query up to its conditions.
func (r Records) findQuery(s Search, filters []narrowing, best int) (*strings.Builder, []any) {
	var q strings.Builder
	var args []any
	q.WriteString(`SELECT v.id, m.name, v.number, m.project, m.task, m.owner, m.vetted_by IS NOT NULL, v.rung, v.note, v.licence, v.created_at, v.created_by, `)
	if match := matchOf(s.Text); s.Sort == "" && best < 0 && match != "" {
		// Full text hands out its matches in the order that is wanted; the last filter is
		// the text, and needs no check any more.
		filters = filters[:len(filters)-1]
		q.WriteString(`0.0 FROM search CROSS JOIN versions v ON v.id = search.rowid CROSS JOIN models m ON m.id = v.model_id WHERE search MATCH ? AND `)
		args = append(args, match)
	} else if s.Sort == "" {
		q.WriteString(`0.0 FROM versions v CROSS JOIN models m ON m.id = v.model_id WHERE `)
	} else if best >= 0 {
		q.WriteString(`s.value FROM versions v CROSS JOIN models m ON m.id = v.model_id CROSS JOIN metrics s ON s.version_id = v.id AND s.name = ? WHERE `)
		args = append(args, s.Sort)
	} else {
		q.WriteString(`s.value FROM metrics s INDEXED BY metrics_by_value CROSS JOIN versions v ON v.id = s.version_id CROSS JOIN models m ON m.id = v.model_id WHERE s.name = ? AND `)
		args = append(args, s.Sort)
	}
	if best >= 0 {
		// Numbered arguments would clash with the others.
		set := filters[best].set
		for i := len(filters[best].args); i >= 1; i-- {
			set = strings.ReplaceAll(set, "?"+strconv.Itoa(i), "?")
		}
		q.WriteString(`v.id IN (` + set + `) AND `)
		args = append(args, spread(filters[best].set, filters[best].args)...)
	}
	q.WriteString(`v.deleted_at IS NULL`)
	for i, f := range filters {
		if i != best {
			q.WriteString(` AND ` + f.check)
			args = append(args, f.checkArgs()...)
		}
	}
	return &q, args
}

// spread repeats arguments as often as a query with numbered ones names them.
func spread(query string, args []any) []any {
	if !strings.Contains(query, "?1") {
		return args
	}
	var out []any
	for i := range len(query) - 1 {
		if query[i] == '?' && query[i+1] >= '1' && query[i+1] <= '9' {
			out = append(out, args[query[i+1]-'1'])
		}
	}
	return out
}

type after struct {
	clause string
	args   []any
}

// after is the condition that takes a list up again behind its last item.
func (s Search) after(cursor string) (after, error) {
	if cursor == "" {
		return after{}, nil
	}
	bits, id, _ := strings.Cut(cursor, "|")
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return after{}, err
	}
	raw, err := strconv.ParseUint(bits, 16, 64)
	if err != nil {
		return after{}, err
	}
	switch value := math.Float64frombits(raw); {
	case s.Sort == "" && s.Descending:
		return after{` AND v.id > ?`, []any{n}}, nil
	case s.Sort == "":
		return after{` AND v.id < ?`, []any{n}}, nil
	case s.Descending:
		return after{` AND (s.value, s.version_id) < (?, ?)`, []any{value, n}}, nil
	default:
		return after{` AND (s.value, s.version_id) > (?, ?)`, []any{value, n}}, nil
	}
}

// order is that of the list. Ids ascend with time, so the newest have the largest.
func (s Search) order() string {
	switch {
	case s.Sort == "" && s.Descending: // turned: the oldest first
		return ` ORDER BY v.id LIMIT ?`
	case s.Sort == "":
		return ` ORDER BY v.id DESC LIMIT ?`
	case s.Descending:
		return ` ORDER BY s.value DESC, s.version_id DESC LIMIT ?`
	}
	return ` ORDER BY s.value, s.version_id LIMIT ?`
}

// fillFound adds what stands in tables of its own.
func (r Records) fillFound(ctx context.Context, items []Found) error {
	if len(items) == 0 {
		return nil
	}
	at := map[int64]*Found{}
	ids := make([]any, len(items))
	for i := range items {
		at[items[i].id], ids[i] = &items[i], items[i].id
	}
	in := ` IN (` + places(len(ids)) + `)`
	var id int64
	var name string
	for _, part := range []struct {
		query string
		add   func(f *Found)
	}{
		{`SELECT version_id, name FROM labels WHERE version_id` + in + ` ORDER BY name`, func(f *Found) { f.Labels = append(f.Labels, name) }},
		{`SELECT version_id, tag FROM tags WHERE version_id` + in + ` UNION SELECT v.id, g.tag FROM versions v JOIN tags g ON g.version_id = 0 AND g.model_id = v.model_id WHERE v.id` + in + ` ORDER BY 2`,
			func(f *Found) { f.Tags = append(f.Tags, name) }},
		{inForce + ` WHERE l.version_id` + in + ` ORDER BY e.name`, func(f *Found) { f.Answering = append(f.Answering, name) }},
		{`SELECT p.version_id, e.name FROM placements p JOIN environments e ON e.id = p.environment_id WHERE p.removed_at IS NULL AND p.version_id` + in + ` ORDER BY e.name`,
			func(f *Found) { f.PlacedIn = append(f.PlacedIn, name) }},
	} {
		args := ids
		for range strings.Count(part.query, in) - 1 {
			args = append(slices.Clone(args), ids...)
		}
		if err := r.each(ctx, part.query, args, func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name)
			part.add(at[id])
			return err
		}); err != nil {
			return err
		}
	}
	if err := r.each(ctx, `SELECT version_id, format, sum(size) FROM artifacts WHERE version_id`+in+` GROUP BY version_id, format ORDER BY format`, ids, func(rows *sql.Rows) error {
		var size int64
		err := rows.Scan(&id, &name, &size)
		at[id].Formats, at[id].Size = append(at[id].Formats, name), at[id].Size+size
		return err
	}); err != nil {
		return err
	}
	return r.each(ctx, `SELECT version_id, name, value FROM metrics WHERE version_id`+in, ids, func(rows *sql.Rows) error {
		var x float64
		err := rows.Scan(&id, &name, &x)
		at[id].Metrics[name] = x
		return err
	})
}

// MetricNames lists the names of metrics that versions have, at most `most`.
func (r Records) MetricNames(ctx context.Context, most int) ([]string, error) {
	// A walk from name to name along the index, not over all values.
	rows, err := r.q.QueryContext(ctx, `WITH RECURSIVE names (name) AS (SELECT min(name) FROM metrics UNION ALL
		SELECT (SELECT min(m.name) FROM metrics m WHERE m.name > n.name) FROM names n WHERE n.name IS NOT NULL) SELECT name FROM names WHERE name IS NOT NULL LIMIT ?`, most)
	return collect(rows, err, func(rows *sql.Rows) (string, error) {
		var name string
		err := rows.Scan(&name)
		return name, err
	})
}
