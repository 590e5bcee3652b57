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
	// Sort is a metric's name, or empty for the newest first; Descending turns it. Worst asks for the
	// worst value of a metric first: which way that is, is said by what the metric means.
	Sort              string
	Descending, Worst bool
	// match is the text as a full-text query.
	match string
}

// narrowing is one filter of a search, in three forms: as the set of version ids that
// pass, as a condition on one version, and, where an index has them in order, as the table
// that hands the ids out newest first.
type narrowing struct {
	set piece
	// check is the condition on the version whose id is in a column.
	check func(id string) piece
	// reads says which tables the condition reads besides.
	reads tables
	// ordered is nil when no index has the ids in order.
	ordered *inOrder
}

// tables are those that a condition reads: versions as v, models as m.
type tables struct{ versions, models bool }

// inOrder is a table, called x, one column of which has the ids of versions in order.
type inOrder struct {
	table, id string
	where     piece
	// unlessModels is set where models may pass too, whose versions come in no order.
	unlessModels bool
}

const (
	// fewEnough is how many versions a filter may leave for them to be looked at one by
	// one whatever the order; countedTo is how far the versions that a filter leaves are
	// counted.
	fewEnough, countedTo = 800, 4000
	// usualPage is how many versions are asked for at once, about.
	usualPage = 50
)

// always is a condition that does not name the version by its id.
func always(p piece) func(string) piece { return func(string) piece { return p } }

// ofModel is a filter of models, called m.
func ofModel(condition piece) narrowing {
	return narrowing{
		set:   write(`SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE ?`, condition),
		check: always(condition), reads: tables{models: true},
	}
}

// narrowings turns a search into filters.
func (s Search) narrowings() []narrowing {
	return slices.Concat(s.byModel(), s.byVersion(), s.byName(), s.byUse(), s.byMetrics(), s.byText())
}

func (s Search) byModel() (out []narrowing) {
	for _, f := range []struct{ condition, value string }{
		{`m.project = ?`, s.Project},
		{`m.task = ?`, s.Task},
		{`m.owner = ?`, s.Owner},
		{`m.name = ?`, s.Model},
	} {
		if f.value != "" {
			out = append(out, ofModel(write(f.condition, f.value)))
		}
	}
	if s.Vetted {
		out = append(out, ofModel(write(`m.vetted_by IS NOT NULL`)))
	}
	return out
}

// byVersion are the filters by columns of versions.
func (s Search) byVersion() (out []narrowing) {
	add := func(set, check string, value any, ordered string) {
		n := narrowing{
			set: write(`SELECT id FROM versions WHERE `+set, value), check: always(write(check, value)),
			reads: tables{versions: true},
		}
		if ordered != "" {
			n.ordered = &inOrder{table: "versions", id: "id", where: write(ordered, value)}
		}
		out = append(out, n)
	}
	if s.Rung != "" {
		add(`rung = ? AND deleted_at IS NULL`, `v.rung = ?`, s.Rung, `x.rung = ? AND x.deleted_at IS NULL`)
	}
	if s.Licence != "" {
		add(`licence = ? COLLATE NOCASE AND licence <> ''`, `v.licence = ? COLLATE NOCASE`, s.Licence,
			`x.licence = ? COLLATE NOCASE AND x.licence <> ''`)
	}
	if !s.After.IsZero() {
		add(`created_at >= ?`, `v.created_at >= ?`, toMillis(s.After), "")
	}
	if !s.Before.IsZero() {
		add(`created_at < ?`, `v.created_at < ?`, toMillis(s.Before), "")
	}
	return out
}

// byName are the filters by what a version is called: labels, tags, formats.
func (s Search) byName() (out []narrowing) {
	if s.Label != "" {
		out = append(out, narrowing{
			set: write(`SELECT version_id FROM labels WHERE name = ?`, s.Label),
			check: func(id string) piece {
				return write(`EXISTS (SELECT 1 FROM labels l WHERE l.version_id = `+id+` AND l.name = ?)`, s.Label)
			},
			ordered: &inOrder{table: "labels", id: "version_id", where: write(`x.name = ?`, s.Label)},
		})
	}
	if s.Tag != "" {
		out = append(out, narrowing{
			set: write(`SELECT version_id FROM tags WHERE tag = ? AND model_id = 0 UNION ALL
				SELECT v.id FROM tags g JOIN versions v ON v.model_id = g.model_id WHERE g.tag = ? AND g.model_id > 0`,
				s.Tag, s.Tag),
			check: func(id string) piece {
				return write(`(EXISTS (SELECT 1 FROM tags g WHERE g.tag = ? AND g.model_id = 0
					AND g.version_id = `+id+`)
					OR EXISTS (SELECT 1 FROM tags g WHERE g.tag = ? AND g.model_id = m.id AND g.version_id = 0))`,
					s.Tag, s.Tag)
			},
			reads: tables{models: true},
			ordered: &inOrder{
				table: "tags", id: "version_id", where: write(`x.tag = ?
					AND x.model_id = 0`, s.Tag), unlessModels: true,
			},
		})
	}
	if s.Format != "" {
		out = append(out, narrowing{
			set: write(`SELECT version_id FROM artifacts WHERE format = ?`, s.Format),
			check: func(id string) piece {
				return write(`EXISTS (SELECT 1 FROM artifacts a
					WHERE a.format = ? AND a.version_id = `+id+`)`, s.Format)
			},
			// Each version once, however many artifacts of the format it has.
			ordered: &inOrder{table: "artifacts", id: "version_id", where: write(`x.format = ? AND x.name =
				(SELECT min(o.name) FROM artifacts o WHERE o.version_id = x.version_id AND o.format = x.format)`,
				s.Format)},
		})
	}
	return out
}

// byUse are the filters by where a version runs and what it was made from.
func (s Search) byUse() (out []narrowing) {
	if s.PlacedIn != "" {
		const placed = `FROM placements p JOIN environments e ON e.id = p.environment_id
			WHERE p.removed_at IS NULL AND e.name = ?`
		out = append(out, narrowing{
			set: write(`SELECT p.version_id `+placed, s.PlacedIn),
			check: func(id string) piece {
				return write(`EXISTS (SELECT 1 `+placed+` AND p.version_id = `+id+`)`, s.PlacedIn)
			},
		})
	}
	if s.Answering != "" {
		set := write(`SELECT l.version_id FROM endpoints e JOIN lanes l ON l.endpoint_id = e.id
			AND l.split = (SELECT max(number) FROM splits WHERE endpoint_id = e.id) WHERE ?`,
			orAll(s.Answering != "any", `e.name = ?`, s.Answering))
		out = append(out, narrowing{
			set: set, check: func(id string) piece { return write(id+` IN (?)`, set) },
		})
	}
	if s.Data.Name != "" {
		which := write(`d.name = ? AND ?`, s.Data.Name, orAll(s.Data.Number > 0, `d.number = ?`, s.Data.Number))
		out = append(out, narrowing{
			set: write(`SELECT l.from_id FROM data_sets d CROSS JOIN links l INDEXED BY links_back
				ON l.to_kind = 2 AND l.to_id = d.id AND l.from_kind = 1 WHERE ?`, which),
			check: func(id string) piece {
				return write(`EXISTS (SELECT 1 FROM links l CROSS JOIN data_sets d ON d.id = l.to_id
					WHERE l.from_kind = 1 AND l.from_id = `+id+` AND l.to_kind = 2 AND ?)`, which)
			},
		})
	}
	return out
}

func (s Search) byMetrics() (out []narrowing) {
	for _, b := range s.Metrics {
		n := narrowing{
			set: write(`SELECT version_id FROM metrics WHERE name = ? AND value `+b.How+` ?`, b.Metric, b.Value),
			check: func(id string) piece {
				return write(`EXISTS (SELECT 1 FROM metrics x WHERE x.version_id = `+id+` AND x.name = ? AND x.value `+
					b.How+` ?)`, b.Metric, b.Value)
			},
		}
		if b.Metric == s.Sort { // its value is at hand
			n.check = always(write(`s.value `+b.How+` ?`, b.Value))
		}
		out = append(out, n)
	}
	return out
}

func (s Search) byText() []narrowing {
	if s.match == "" {
		return nil
	}
	// Full text hands out its matches in the order of their ids too. Along a metric
	// many versions are looked at, so all matches are read once; else few are, and each
	// is asked about.
	set := write(`SELECT rowid FROM search WHERE search MATCH ?`, s.match)
	return []narrowing{{
		set: set,
		check: func(id string) piece {
			if s.Sort != "" {
				return write(id+` IN (?)`, set)
			}
			return write(`EXISTS (SELECT 1 FROM search WHERE search MATCH ? AND rowid = `+id+`)`, s.match)
		},
		ordered: &inOrder{table: "search", id: "rowid", where: write(`search MATCH ?`, s.match)},
	}}
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

// wholeOrBeginning lets the last word of a full-text query be a beginning if nothing that one sees has
// it whole: a search for beginnings reads through all words that begin so.
func (r View) wholeOrBeginning(ctx context.Context, index, match string) (string, error) {
	var whole bool
	err := r.q.row(ctx, `SELECT EXISTS (SELECT 1 FROM `+index+` s WHERE `+index+` MATCH ? AND ?)`, match,
		orAll(!r.sight.All, `EXISTS (SELECT 1 FROM versions v JOIN models m ON m.id = v.model_id
			WHERE v.id = s.rowid AND ?)`, r.sees("m.project"))).Scan(&whole)
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
		p.filters = append(p.filters, ofModel(r.sees("m.project")))
	}
	least, narrowest, share := countedTo, countedTo+1, 1.0
	var all float64
	var tagged bool
	if err := r.q.row(ctx,
		`SELECT coalesce(max(id), 1), EXISTS (SELECT 1 FROM tags WHERE tag = ? AND model_id > 0) FROM versions`, s.Tag).
		Scan(&all, &tagged); err != nil {
		return p, err
	}
	for i, f := range p.filters {
		var n int
		if err := r.q.row(ctx, `SELECT count(*) FROM (? LIMIT ?)`, f.set, countedTo).Scan(&n); err != nil {
			return p, err
		}
		if n < least {
			least, p.few = n, i
		}
		if f.ordered != nil && !(tagged && f.ordered.unlessModels) && n < narrowest {
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
	id := "v.id"
	if how.along >= 0 { // the same id, but of the table that hands it out in order
		id = "x." + how.filters[how.along].ordered.id
	}
	// Only those that are on the page are looked at whole.
	rows, err := r.q.rows(ctx, `SELECT v.id, m.name, v.number, m.project, m.task, m.owner, m.vetted_by IS NOT NULL,
		v.rung,
			v.note, v.licence, v.created_at, v.created_by, s.value
		FROM (? ? ? LIMIT ?) s CROSS JOIN versions v ON v.id = s.version_id CROSS JOIN models m ON m.id = v.model_id ?`,
		how.query(s), after(id), s.order(id), p.Limit+1, s.order("v.id"))
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
func (p plan) query(s Search) piece {
	var reads tables
	for i, f := range p.filters {
		if i != p.few && i != p.along {
			reads.versions = reads.versions || f.reads.versions
			reads.models = reads.models || f.reads.models
		}
	}
	if s.Sort != "" && reads == (tables{}) { // deleted versions have no metrics, so nothing else is needed
		return p.metricsAlone(s)
	}
	models := when(reads.models, `CROSS JOIN models m ON m.id = v.model_id`)
	var q piece
	switch {
	case p.along >= 0:
		o := p.filters[p.along].ordered
		q = write(`SELECT v.id AS version_id, 0.0 AS value FROM `+o.table+` x CROSS JOIN versions v ON v.id = x.`+o.id+
			` ? WHERE ? AND `, models, o.where)
	case s.Sort == "":
		q = write(`SELECT v.id AS version_id, 0.0 AS value FROM versions v ? WHERE `, models)
	case p.few >= 0:
		q = write(`SELECT v.id AS version_id, s.value FROM versions v ?
			CROSS JOIN metrics s ON s.version_id = v.id AND s.name = ? WHERE `, models, s.Sort)
	default:
		q = write(`SELECT v.id AS version_id, s.value FROM metrics s INDEXED BY metrics_by_value
			CROSS JOIN versions v ON v.id = s.version_id ? WHERE s.name = ? AND `, models, s.Sort)
	}
	if p.few >= 0 {
		q = q.plus(`v.id IN (?) AND `, p.filters[p.few].set)
	}
	q = q.plus(`v.deleted_at IS NULL`)
	for i, f := range p.filters {
		if i != p.few && i != p.along {
			q = q.plus(` AND ?`, f.check("v.id"))
		}
	}
	return q
}

// metricsAlone writes the query that looks at nothing of versions but their metrics:
// those of few versions, or all along the index of values.
func (p plan) metricsAlone(s Search) piece {
	q := write(`SELECT s.version_id, s.value FROM metrics s INDEXED BY metrics_by_value WHERE s.name = ?`, s.Sort)
	if p.few >= 0 {
		q = write(`SELECT s.version_id, s.value FROM metrics s NOT INDEXED WHERE s.version_id IN (?) AND s.name = ?`,
			p.filters[p.few].set, s.Sort)
	}
	// The last filter is the text when there is one: its matches were read once, so asking
	// for it costs least and comes first.
	for i, f := range slices.Backward(p.filters) {
		if i != p.few {
			q = q.plus(` AND ?`, f.check("s.version_id"))
		}
	}
	return q
}

// after is the condition, on the column of a version's id, that takes a list up again behind
// its last item.
func (s Search) after(cursor string) (func(id string) piece, error) {
	if cursor == "" {
		return always(piece{}), nil
	}
	bits, last, _ := strings.Cut(cursor, "|")
	n, err := strconv.ParseInt(last, 10, 64)
	if err != nil {
		return nil, err
	}
	raw, err := strconv.ParseUint(bits, 16, 64)
	if err != nil {
		return nil, err
	}
	value := math.Float64frombits(raw)
	return func(id string) piece {
		switch {
		case s.Sort == "" && s.Descending:
			return write(`AND `+id+` > ?`, n)
		case s.Sort == "":
			return write(`AND `+id+` < ?`, n)
		case s.Descending:
			return write(`AND (s.value, s.version_id) < (?, ?)`, value, n)
		default:
			return write(`AND (s.value, s.version_id) > (?, ?)`, value, n)
		}
	}, nil
}

// order is that of the list, by the column of a version's id. Ids ascend with time, so the
// newest have the largest.
func (s Search) order(id string) piece {
	switch {
	case s.Sort == "" && s.Descending: // turned: the oldest first
		return write(`ORDER BY ` + id)
	case s.Sort == "":
		return write(`ORDER BY ` + id + ` DESC`)
	case s.Descending:
		return write(`ORDER BY s.value DESC, s.version_id DESC`)
	}
	return write(`ORDER BY s.value, s.version_id`)
}

// fillFound adds what stands in tables of its own.
func (r View) fillFound(ctx context.Context, items []registry.Found) error {
	if len(items) == 0 {
		return nil
	}
	at := map[int64]*registry.Found{}
	ids := make(list, len(items))
	for i := range items {
		at[items[i].ID], ids[i] = &items[i], items[i].ID
	}
	var id int64
	var name string
	for _, part := range []struct {
		query piece
		add   func(f *registry.Found)
	}{
		{
			write(`SELECT version_id, name FROM labels WHERE version_id IN ? ORDER BY name`, ids),
			func(f *registry.Found) { f.Labels = append(f.Labels, name) },
		},
		{
			write(`SELECT version_id, tag FROM tags WHERE version_id IN ? UNION
				SELECT v.id, g.tag FROM versions v JOIN tags g ON g.version_id = 0 AND g.model_id = v.model_id
				WHERE v.id IN ? ORDER BY 2`, ids, ids),
			func(f *registry.Found) { f.Tags = append(f.Tags, name) },
		},
		{
			write(inForce+` WHERE l.version_id IN ? ORDER BY e.name`, ids),
			func(f *registry.Found) { f.Answering = append(f.Answering, name) },
		},
		{
			write(`SELECT p.version_id, e.name FROM placements p JOIN environments e ON e.id = p.environment_id
				WHERE p.removed_at IS NULL AND p.version_id IN ? ORDER BY e.name`, ids),
			func(f *registry.Found) { f.PlacedIn = append(f.PlacedIn, name) },
		},
	} {
		if err := r.each(ctx, part.query, func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name)
			part.add(at[id])
			return err
		}); err != nil {
			return err
		}
	}
	if err := r.each(ctx, write(`SELECT version_id, format, sum(size) FROM artifacts WHERE version_id IN ?
		GROUP BY version_id, format ORDER BY format`, ids), func(rows *sql.Rows) error {
		var size int64
		err := rows.Scan(&id, &name, &size)
		at[id].Formats, at[id].Size = append(at[id].Formats, name), at[id].Size+size
		return err
	}); err != nil {
		return err
	}
	if err := r.eachRolledBack(ctx, ids, func(id int64, b *registry.RolledBack) {
		at[id].RolledBack = b
	}); err != nil {
		return err
	}
	return r.each(ctx, write(metricsOf, ids), func(rows *sql.Rows) error {
		return scanMetric(rows, func(id int64, name string, x float64, m *metric.Measured) {
			at[id].Metrics[name] = x
			if m != nil {
				put(&at[id].Measured, name, *m)
			}
		})
	})
}

// seesMetric is the condition that a metric x is one of a version that may be seen.
func (r View) seesMetric() piece {
	return orAll(!r.sight.All, `EXISTS (SELECT 1 FROM versions v JOIN models m ON m.id = v.model_id
		WHERE v.id = x.version_id AND ?)`, r.sees("m.project"))
}

// HasMetric reports whether some version has a metric.
func (r View) HasMetric(ctx context.Context, name string) (there bool, err error) {
	err = r.q.row(ctx, `SELECT EXISTS (SELECT 1 FROM metrics x WHERE x.name = ? AND ?)`, name, r.seesMetric()).
		Scan(&there)
	return there, err
}

// MetricNames lists the names of metrics that versions have, at most `most`.
func (r View) MetricNames(ctx context.Context, most int) ([]string, error) {
	// A walk from name to name along the index, not over all values.
	rows, err := r.q.rows(ctx, `WITH RECURSIVE names (name) AS (SELECT min(name) FROM metrics UNION ALL
		SELECT (SELECT min(m.name) FROM metrics m WHERE m.name > n.name) FROM names n WHERE n.name IS NOT NULL)
		SELECT n.name FROM names n WHERE n.name IS NOT NULL AND EXISTS (SELECT 1 FROM metrics x
		WHERE x.name = n.name AND ?)
		LIMIT ?`, r.seesMetric(), most)
	return collect(rows, err, func(rows *sql.Rows) (string, error) {
		var name string
		err := rows.Scan(&name)
		return name, err
	})
}
