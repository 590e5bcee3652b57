package records

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

	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
)

// Search says which versions are looked for; zero members do not narrow down.
type Search struct {
	// Text is looked for in names, notes, cards, tags, parameters and more; all words
	// must be there, the last may be a beginning if nothing has it whole.
	Text                              string
	Project, Task, Model, Owner, Rung string
	Label, Tag, Format, Licence       string
	PlacedIn                          string
	// Answering is an endpoint, or "any".
	Answering string
	// Data is a data set, or one revision of it, that the version used.
	Data          lineage.DataRef
	Metrics       []metric.Bound
	Vetted        bool
	After, Before time.Time
	// Sort is a metric's name, or empty for the newest first; Descending turns it.
	Sort       string
	Descending bool
	// match is the text as a full-text query.
	match string
}

// narrowing is one filter of a search, in three forms: as the set of version ids that
// pass, as a condition on v and m, and, where an index has them in order, as the table
// and condition that hand the ids out newest first.
type narrowing struct {
	set, check string
	args       []any
	// ordered is "TABLE x WHERE …" with x.ID, id the name of that column; empty when no
	// index has the ids in order.
	ordered, id string
}

const (
	// fewEnough is how many versions a filter may leave for them to be looked at one by
	// one whatever the order; countedTo is how far the versions that a filter leaves are
	// counted.
	fewEnough, countedTo = 800, 4000
	// usualPage is how many versions are asked for at once, about.
	usualPage = 50
)

// narrowings turns a search into filters.
func (s Search) narrowings() []narrowing {
	var out []narrowing
	both := func(set, check string, args ...any) { out = append(out, narrowing{set: set, check: check, args: args}) }
	// inOrder says how the last filter's ids come in order.
	inOrder := func(table, id, condition string) {
		out[len(out)-1].ordered, out[len(out)-1].id = table+" x WHERE "+condition, id
	}
	for _, f := range []struct{ column, value string }{
		{"project", s.Project},
		{"task", s.Task},
		{"owner", s.Owner},
		{"name", s.Model},
	} {
		if f.value != "" {
			both(`SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE m.`+f.column+` = ?`,
				`m.`+f.column+` = ?`, f.value)
		}
	}
	if s.Vetted {
		both(`SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE m.vetted_by IS NOT NULL`,
			`m.vetted_by IS NOT NULL`)
	}
	if s.Rung != "" {
		both(`SELECT id FROM versions WHERE rung = ? AND deleted_at IS NULL`, `v.rung = ?`, s.Rung)
		inOrder("versions", "id", `x.rung = ? AND x.deleted_at IS NULL`)
	}
	if s.Licence != "" {
		both(`SELECT id FROM versions WHERE licence = ? COLLATE NOCASE AND licence <> ''`,
			`v.licence = ? COLLATE NOCASE`, s.Licence)
		inOrder("versions", "id", `x.licence = ? COLLATE NOCASE AND x.licence <> ''`)
	}
	if s.Label != "" {
		both(`SELECT version_id FROM labels WHERE name = ?`,
			`EXISTS (SELECT 1 FROM labels l WHERE l.version_id = v.id AND l.name = ?)`, s.Label)
		inOrder("labels", "version_id", `x.name = ?`)
	}
	if s.Tag != "" {
		both(`SELECT version_id FROM tags WHERE tag = ?1 AND model_id = 0 UNION ALL SELECT v.id FROM tags g JOIN versions v ON v.model_id = g.model_id WHERE g.tag = ?1 AND g.model_id > 0`,
			`(EXISTS (SELECT 1 FROM tags g WHERE g.tag = ? AND g.model_id = 0 AND g.version_id = v.id) OR EXISTS (SELECT 1 FROM tags g WHERE g.tag = ? AND g.model_id = m.id AND g.version_id = 0))`, s.Tag)
		inOrder("tags", "version_id", `x.tag = ? AND x.model_id = 0`)
	}
	if s.Format != "" {
		both(`SELECT version_id FROM artifacts WHERE format = ?`,
			`EXISTS (SELECT 1 FROM artifacts a WHERE a.format = ? AND a.version_id = v.id)`, s.Format)
		inOrder("artifacts", "version_id", `x.format = ? AND x.name = (SELECT min(o.name) FROM artifacts o WHERE o.version_id = x.version_id AND o.format = x.format)`) // each version once
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
		const set = `SELECT l.from_id FROM data_sets d CROSS JOIN links l INDEXED BY links_back ON l.to_kind = 2 AND l.to_id = d.id AND l.from_kind = 1 WHERE d.name = ?1 AND (?2 = 0 OR d.number = ?2)`
		both(set, `EXISTS (SELECT 1 FROM links l CROSS JOIN data_sets d ON d.id = l.to_id WHERE l.from_kind = 1 AND l.from_id = v.id AND l.to_kind = 2 AND d.name = ? AND (? = 0 OR d.number = ?))`,
			s.Data.Name, s.Data.Number)
	}
	for _, b := range s.Metrics {
		if b.Metric == s.Sort { // its value is at hand
			both(`SELECT version_id FROM metrics WHERE name = ? AND value `+b.How+` ?`,
				`(? <> '' AND s.value `+b.How+` ?)`, b.Metric, b.Value)
			continue
		}
		both(`SELECT version_id FROM metrics WHERE name = ? AND value `+b.How+` ?`,
			`EXISTS (SELECT 1 FROM metrics x WHERE x.version_id = v.id AND x.name = ? AND x.value `+b.How+` ?)`,
			b.Metric, b.Value)
	}
	if !s.After.IsZero() {
		both(`SELECT id FROM versions WHERE created_at >= ?`, `v.created_at >= ?`, toMillis(s.After))
	}
	if !s.Before.IsZero() {
		both(`SELECT id FROM versions WHERE created_at < ?`, `v.created_at < ?`, toMillis(s.Before))
	}
	if match := s.match; match != "" {
		// Full text hands out its matches in the order of their ids too. Along a metric
		// many versions are looked at, so all matches are read once; else few are, and each
		// is asked about.
		const set = `SELECT rowid FROM search WHERE search MATCH ?`
		check := `EXISTS (SELECT 1 FROM search WHERE search MATCH ? AND rowid = v.id)`
		if s.Sort != "" {
			check = `v.id IN (` + set + `)`
		}
		both(set, check, match)
		out[len(out)-1].ordered, out[len(out)-1].id = "search x WHERE search MATCH ?", "rowid"
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

// mostSearched is how many words a search looks for.
const mostSearched = 20

// matchOf makes a full-text query of what someone typed: every word must be there.
// Nothing in it is an operator.
func matchOf(text string) string {
	words := strings.FieldsFunc(text,
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.Is(unicode.Mn, r) })
	words = words[:min(len(words), mostSearched)]
	for i, w := range words {
		words[i] = `"` + w + `"`
	}
	if len(words) == 0 {
		return ""
	}
	return strings.Join(words, " ")
}

// plan is how a search is answered.
type plan struct {
	filters []narrowing
	// few is the filter whose versions are looked at one by one, −1 for none.
	few int
	// along is the filter that hands out its versions in the order that is wanted, −1
	// for none: then the order's own index does.
	along int
}

// wholeOrBeginning lets the last word of a full-text query be a beginning if nothing has
// it whole: a search for beginnings reads through all words that begin so.
func (r View) wholeOrBeginning(ctx context.Context, index, match string) (string, error) {
	var whole bool
	err := r.q.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM `+index+` WHERE `+index+` MATCH ?)`, match).
		Scan(&whole)
	if !whole {
		match += "*"
	}
	return match, err
}

// planFor counts what each filter leaves, no further than it must, and decides: few
// versions are looked at one by one; else the search goes along the order that was
// asked for, through the narrowest filter that has it, and stops when the page is full.
func (r View) planFor(ctx context.Context, s Search) (plan, error) {
	if s.match = matchOf(s.Text); s.match != "" {
		var err error
		if s.match, err = r.wholeOrBeginning(ctx, "search", s.match); err != nil {
			return plan{}, err
		}
	}
	p := plan{filters: s.narrowings(), few: -1, along: -1}
	if !r.sight.All {
		p.filters = append(p.filters, narrowing{set: `SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE ` + r.sees("m.project"), check: r.sees("m.project")})
	}
	least, narrowest, share := countedTo, countedTo+1, 1.0
	var all float64
	var tagged bool
	if err := r.q.QueryRowContext(ctx,
		`SELECT coalesce(max(id), 1), EXISTS (SELECT 1 FROM tags WHERE tag = ? AND model_id > 0) FROM versions`, s.Tag).
		Scan(&all, &tagged); err != nil {
		return p, err
	}
	for i, f := range p.filters {
		if f.id == "version_id" && tagged && strings.HasPrefix(f.ordered, "tags ") {
			f.ordered = "" // models have the tag too, and their versions come in no order
		}
		var n int
		if err := r.q.QueryRowContext(ctx, `SELECT count(*) FROM (`+f.set+` LIMIT `+strconv.Itoa(countedTo)+`)`,
			f.args...).Scan(&n); err != nil {
			return p, err
		}
		if n < least {
			least, p.few = n, i
		}
		if f.ordered != "" && n < narrowest {
			narrowest, p.along = n, i
		}
		if n == countedTo {
			share *= 0.3 // many: it is not worth knowing how many
		} else {
			share *= float64(n) / all
		}
	}
	switch {
	case p.few >= 0 && least <= fewEnough:
		p.along = -1
	case s.Sort == "":
		p.few = -1
	default:
		// Along a metric's index the page is full after about page / share versions.
		if p.along = -1; usualPage/share < float64(least) {
			p.few = -1
		}
	}
	return p, nil
}

// Find lists the versions that a search leaves.
func (r View) Find(ctx context.Context, s Search, p Page) ([]registry.Found, string, error) {
	how, err := r.planFor(ctx, s)
	if err != nil {
		return nil, "", fmt.Errorf("searching the catalogue: %w", err)
	}
	after, err := s.after(p.After)
	if err != nil {
		return nil, "", err
	}
	chosen, args := how.query(s)
	clauses := after.clause + s.order() + " LIMIT ?"
	if how.along >= 0 { // the same id, but of the table that hands it out in order
		clauses = strings.ReplaceAll(clauses, "v.id", "x."+how.filters[how.along].id)
	}
	args = append(append(args, after.args...), p.Limit+1)
	// Only those that are on the page are looked at whole.
	rows, err := r.q.QueryContext(ctx, `SELECT v.id, m.name, v.number, m.project, m.task, m.owner, m.vetted_by IS NOT NULL, v.rung, v.note, v.licence, v.created_at, v.created_by, s.value
		FROM (`+chosen+clauses+`) s CROSS JOIN versions v ON v.id = s.version_id CROSS JOIN models m ON m.id = v.model_id`+s.order(), args...)
	items, err := collect(rows, err, func(rows *sql.Rows) (registry.Found, error) {
		f := registry.Found{Formats: []string{}, Metrics: map[string]float64{}}
		var at int64
		err := rows.Scan(&f.ID, &f.Model, &f.Number, &f.Project, &f.Task, &f.Owner, &f.Vetted, &f.Rung, &f.Note,
			&f.Licence, &at, &f.CreatedBy, &f.Value)
		f.Ref, f.CreatedAt = registry.Ref{Model: f.Model, Number: f.Number}.String(), fromMillis(at)
		return f, err
	})
	if err != nil {
		return nil, "", fmt.Errorf("searching the catalogue: %w", err)
	}
	items, next := cut(items, p.Limit, func(f registry.Found) string {
		return strconv.FormatUint(math.Float64bits(f.Value), 16) + "|" + strconv.FormatInt(f.ID, 10)
	})
	return items, next, r.fillFound(ctx, items)
}

// query writes the query that chooses versions, up to where the list is taken up.
func (p plan) query(s Search) (string, []any) {
	var q strings.Builder
	var args []any
	q.WriteString(`SELECT v.id AS version_id, `)
	models, alone := ` `, s.Sort != ""
	for i, f := range p.filters {
		if i == p.few || i == p.along {
			continue
		}
		if strings.Contains(f.check, "m.") {
			models = ` CROSS JOIN models m ON m.id = v.model_id `
		}
		if strings.Contains(strings.ReplaceAll(f.check, "v.id", ""), "v.") || models != ` ` {
			alone = false
		}
	}
	if alone { // deleted versions have no metrics, so nothing else of versions is needed
		return p.metricsAlone(s)
	}
	switch {
	case p.along >= 0:
		f := p.filters[p.along]
		table, condition, _ := strings.Cut(f.ordered, " WHERE ")
		q.WriteString(`0.0 AS value FROM ` + table + ` CROSS JOIN versions v ON v.id = x.` + f.id + models + `WHERE ` +
			condition + ` AND `)
		args = append(args, f.args...)
	case s.Sort == "":
		q.WriteString(`0.0 AS value FROM versions v` + models + `WHERE `)
	case p.few >= 0:
		q.WriteString(`s.value FROM versions v` + models +
			`CROSS JOIN metrics s ON s.version_id = v.id AND s.name = ? WHERE `)
		args = append(args, s.Sort)
	default:
		q.WriteString(`s.value FROM metrics s INDEXED BY metrics_by_value CROSS JOIN versions v ON v.id = s.version_id` + models + `WHERE s.name = ? AND `)
		args = append(args, s.Sort)
	}
	if p.few >= 0 {
		set, with := setOf(p.filters[p.few])
		q.WriteString(`v.id IN (` + set + `) AND `)
		args = append(args, with...)
	}
	q.WriteString(`v.deleted_at IS NULL`)
	for i, f := range p.filters {
		if i != p.few && i != p.along {
			q.WriteString(` AND ` + f.check)
			args = append(args, f.checkArgs()...)
		}
	}
	return q.String(), args
}

// setOf is a filter's set with plain arguments: numbered ones would clash with others.
func setOf(f narrowing) (string, []any) {
	set := f.set
	for i := len(f.args); i >= 1; i-- {
		set = strings.ReplaceAll(set, "?"+strconv.Itoa(i), "?")
	}
	return set, spread(f.set, f.args)
}

// metricsAlone writes the query that looks at nothing of versions but their metrics:
// those of few versions, or all along the index of values.
func (p plan) metricsAlone(s Search) (string, []any) {
	q, args := `SELECT s.version_id, s.value FROM metrics s INDEXED BY metrics_by_value WHERE s.name = ?`, []any{s.Sort}
	if p.few >= 0 {
		set, with := setOf(p.filters[p.few])
		q, args = `SELECT s.version_id, s.value FROM metrics s NOT INDEXED WHERE s.version_id IN (`+set+
			`) AND s.name = ?`, append(with, s.Sort)
	}
	// The last filter is the text when there is one: its matches were read once, so asking
	// for it costs least and comes first.
	for i, f := range slices.Backward(p.filters) {
		if i != p.few {
			q += ` AND ` + strings.ReplaceAll(f.check, "v.id", "s.version_id")
			args = append(args, f.checkArgs()...)
		}
	}
	return q, args
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

// resumption is a condition that takes a list up again.
type resumption struct {
	clause string
	args   []any
}

// after is the condition that takes a list up again behind its last item.
func (s Search) after(cursor string) (resumption, error) {
	if cursor == "" {
		return resumption{}, nil
	}
	bits, id, _ := strings.Cut(cursor, "|")
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return resumption{}, err
	}
	raw, err := strconv.ParseUint(bits, 16, 64)
	if err != nil {
		return resumption{}, err
	}
	switch value := math.Float64frombits(raw); {
	case s.Sort == "" && s.Descending:
		return resumption{` AND v.id > ?`, []any{n}}, nil
	case s.Sort == "":
		return resumption{` AND v.id < ?`, []any{n}}, nil
	case s.Descending:
		return resumption{` AND (s.value, s.version_id) < (?, ?)`, []any{value, n}}, nil
	default:
		return resumption{` AND (s.value, s.version_id) > (?, ?)`, []any{value, n}}, nil
	}
}

// order is that of the list. Ids ascend with time, so the newest have the largest.
func (s Search) order() string {
	switch {
	case s.Sort == "" && s.Descending: // turned: the oldest first
		return ` ORDER BY v.id`
	case s.Sort == "":
		return ` ORDER BY v.id DESC`
	case s.Descending:
		return ` ORDER BY s.value DESC, s.version_id DESC`
	}
	return ` ORDER BY s.value, s.version_id`
}

// fillFound adds what stands in tables of its own.
func (r View) fillFound(ctx context.Context, items []registry.Found) error {
	if len(items) == 0 {
		return nil
	}
	at := map[int64]*registry.Found{}
	ids := make([]any, len(items))
	for i := range items {
		at[items[i].ID], ids[i] = &items[i], items[i].ID
	}
	in := ` IN (` + places(len(ids)) + `)`
	var id int64
	var name string
	for _, part := range []struct {
		query string
		add   func(f *registry.Found)
	}{
		{
			`SELECT version_id, name FROM labels WHERE version_id` + in + ` ORDER BY name`,
			func(f *registry.Found) { f.Labels = append(f.Labels, name) },
		},
		{
			`SELECT version_id, tag FROM tags WHERE version_id` + in +
				` UNION SELECT v.id, g.tag FROM versions v JOIN tags g ON g.version_id = 0 AND g.model_id = v.model_id WHERE v.id` + in + ` ORDER BY 2`,
			func(f *registry.Found) { f.Tags = append(f.Tags, name) },
		},
		{
			inForce + ` WHERE l.version_id` + in + ` ORDER BY e.name`,
			func(f *registry.Found) { f.Answering = append(f.Answering, name) },
		},
		{
			`SELECT p.version_id, e.name FROM placements p JOIN environments e ON e.id = p.environment_id WHERE p.removed_at IS NULL AND p.version_id` + in + ` ORDER BY e.name`,
			func(f *registry.Found) { f.PlacedIn = append(f.PlacedIn, name) },
		},
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
	if err := r.each(ctx, `SELECT version_id, format, sum(size) FROM artifacts WHERE version_id`+in+
		` GROUP BY version_id, format ORDER BY format`, ids, func(rows *sql.Rows) error {
		var size int64
		err := rows.Scan(&id, &name, &size)
		at[id].Formats, at[id].Size = append(at[id].Formats, name), at[id].Size+size
		return err
	}); err != nil {
		return err
	}
	return r.each(ctx, `SELECT version_id, name, value FROM metrics WHERE version_id`+in, ids,
		func(rows *sql.Rows) error {
			var x float64
			err := rows.Scan(&id, &name, &x)
			at[id].Metrics[name] = x
			return err
		})
}

// seesMetric is the condition that a metric x is one of a version that may be seen.
func (r View) seesMetric() string {
	if r.sight.All {
		return ""
	}
	return ` AND EXISTS (SELECT 1 FROM versions v JOIN models m ON m.id = v.model_id WHERE v.id = x.version_id AND ` +
		r.sees("m.project") + `)`
}

// HasMetric reports whether some version has a metric.
func (r View) HasMetric(ctx context.Context, name string) (there bool, err error) {
	err = r.q.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM metrics x WHERE x.name = ?`+r.seesMetric()+`)`, name).
		Scan(&there)
	return there, err
}

// MetricNames lists the names of metrics that versions have, at most `most`.
func (r View) MetricNames(ctx context.Context, most int) ([]string, error) {
	// A walk from name to name along the index, not over all values.
	rows, err := r.q.QueryContext(ctx, `WITH RECURSIVE names (name) AS (SELECT min(name) FROM metrics UNION ALL
		SELECT (SELECT min(m.name) FROM metrics m WHERE m.name > n.name) FROM names n WHERE n.name IS NOT NULL)
		SELECT n.name FROM names n WHERE n.name IS NOT NULL AND EXISTS (SELECT 1 FROM metrics x WHERE x.name = n.name`+r.seesMetric()+`) LIMIT ?`, most)
	return collect(rows, err, func(rows *sql.Rows) (string, error) {
		var name string
		err := rows.Scan(&name)
		return name, err
	})
}
