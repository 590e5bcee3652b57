package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/traffic"
)

// AddEnvironment adds an environment.
func (r View) AddEnvironment(ctx context.Context, e traffic.Environment) error {
	allowed, err := json.Marshal(append([]traffic.AddressRule{}, e.Allowed...))
	if err != nil {
		return err
	}
	if _, err := r.q.exec(ctx, `INSERT INTO environments (name, description, project, allowed, added_by, added_at)
		VALUES (?, ?, ?, ?, ?, ?)`,
		e.Name, e.Description, e.Project, string(allowed), e.AddedBy, toMillis(e.AddedAt)); err != nil {
		return err
	}
	return r.share(ctx, e)
}

// share writes down with which projects an environment is shared.
func (r View) share(ctx context.Context, e traffic.Environment) error {
	if _, err := r.q.exec(ctx, `DELETE FROM environment_shares
		WHERE environment_id = (SELECT id FROM environments WHERE name = ?)`, e.Name); err != nil {
		return err
	}
	for _, project := range e.SharedWith {
		if _, err := r.q.exec(ctx, `INSERT INTO environment_shares (environment_id, project)
			SELECT id, ? FROM environments WHERE name = ?`, project, e.Name); err != nil {
			return err
		}
	}
	return nil
}

// SetEnvironment changes what an environment is; name is how it was called before.
func (r View) SetEnvironment(ctx context.Context, name string, e traffic.Environment) error {
	allowed, err := json.Marshal(append([]traffic.AddressRule{}, e.Allowed...))
	if err != nil {
		return err
	}
	if _, err := r.q.exec(ctx, `UPDATE environments SET name = ?, description = ?, project = ?, allowed = ?
		WHERE name = ?`, e.Name, e.Description, e.Project, string(allowed), name); err != nil {
		return err
	}
	if name != e.Name {
		if _, err := r.q.exec(ctx, `UPDATE labels SET environment = ? WHERE environment = ?`, e.Name,
			name); err != nil {
			return err
		}
	}
	return r.share(ctx, e)
}

// RemoveEnvironment takes an environment away. What ran there is still known, so the row stays
// under a name that nothing else can have.
func (r View) RemoveEnvironment(ctx context.Context, name string, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE environments SET removed_at = ?, name = name || ' (removed ' || id || ')'
		WHERE name = ?`, toMillis(now), name)
	return err
}

// seesEnvironment is the condition that an environment e is one that may be seen.
func (r View) seesEnvironment() piece {
	return orAll(!r.sight.All, `(? OR EXISTS (SELECT 1 FROM environment_shares s
		WHERE s.environment_id = e.id AND ?))`, r.sees("e.project"), r.sees("s.project"))
}

// Environments lists all environments by name.
func (r View) Environments(ctx context.Context) ([]traffic.Environment, error) {
	return r.environments(ctx, "")
}

// Environment finds an environment by name.
func (r View) Environment(ctx context.Context, name string) (*traffic.Environment, error) {
	return single(r.environments(ctx, `AND e.name = ?`, name))
}

func (r View) environments(ctx context.Context, clause string, args ...any) ([]traffic.Environment, error) {
	narrow := write(clause, args...)
	rows, err := r.q.rows(ctx, `SELECT e.name, e.description, e.project, e.allowed, e.added_by, e.added_at,
			(SELECT count(*) FROM placements p JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id
			WHERE p.environment_id = e.id AND p.removed_at IS NULL AND ?),
			(SELECT count(*) FROM secrets s WHERE s.name >= 'environment/' || e.name || '/'
				AND s.name < 'environment/' || e.name || '0')
		FROM environments e WHERE e.removed_at IS NULL AND ? ? ORDER BY e.name`, r.sees("m.project"),
		r.seesEnvironment(), narrow)
	out, err := collect(rows, err, func(rows *sql.Rows) (traffic.Environment, error) {
		e := traffic.Environment{SharedWith: []string{}}
		var at int64
		var allowed string
		if err := rows.Scan(&e.Name, &e.Description, &e.Project, &allowed, &e.AddedBy, &at, &e.Placements,
			&e.Headers); err != nil {
			return e, err
		}
		e.AddedAt = fromMillis(at)
		return e, json.Unmarshal([]byte(allowed), &e.Allowed)
	})
	if err != nil {
		return nil, err
	}
	return out, r.each(ctx, write(`SELECT e.name, s.project FROM environment_shares s
		JOIN environments e ON e.id = s.environment_id WHERE ? ? ORDER BY s.project`, r.sees("s.project"), narrow),
		func(rows *sql.Rows) error {
			var name, project string
			err := rows.Scan(&name, &project)
			if i, there := slices.BinarySearchFunc(out, name, func(e traffic.Environment, name string) int {
				return strings.Compare(e.Name, name)
			}); there {
				out[i].SharedWith = append(out[i].SharedWith, project)
			}
			return err
		})
}

// UsesOfEnvironment lists in words what an environment is in use for.
func (r View) UsesOfEnvironment(ctx context.Context, name string) ([]string, error) {
	return r.texts(ctx, write(`SELECT m.name || '@' || v.number || ' is placed there' FROM placements p
			JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id
			JOIN environments e ON e.id = p.environment_id WHERE e.name = ? AND p.removed_at IS NULL
		UNION SELECT n.name || ' answers from there' FROM endpoints n JOIN environments e ON e.id = n.environment_id
			WHERE e.name = ? AND n.removed_at IS NULL ORDER BY 1 LIMIT 5`, name, name))
}

// AddPlacement adds a placement with its addresses and sets its id.
func (r View) AddPlacement(ctx context.Context, p *traffic.Placement) error {
	declared, err := optionalJSON(p.Declared)
	if err != nil {
		return err
	}
	heard, err := optionalJSON(p.Heard)
	if err != nil {
		return err
	}
	runner, err := optionalJSON(p.Runner)
	if err != nil {
		return err
	}
	err = r.q.row(ctx, `INSERT INTO placements (version_id, environment_id, served_as, declared, heard, runner,
			placed_by, placed_at)
		VALUES (?, (SELECT id FROM environments WHERE name = ?), ?, ?, ?, ?, ?, ?) RETURNING id`,
		versionOf(p.Version), p.Environment, p.ServedAs, declared, heard, runner, p.PlacedBy,
		toMillis(p.PlacedAt)).Scan(&p.ID)
	if err != nil {
		return one(err)
	}
	return r.addAddresses(ctx, p)
}

// SetAddresses puts the addresses of a placement in the place of those that it had, with what its
// servers declared.
func (r View) SetAddresses(ctx context.Context, p *traffic.Placement) error {
	declared, err := optionalJSON(p.Declared)
	if err != nil {
		return err
	}
	runner, err := optionalJSON(p.Runner)
	if err != nil {
		return err
	}
	if _, err := r.q.exec(ctx, `UPDATE placements SET declared = ?, runner = ? WHERE id = ?`, declared, runner,
		p.ID); err != nil {
		return err
	}
	if _, err := r.q.exec(ctx, `DELETE FROM addresses WHERE placement_id = ?`, p.ID); err != nil {
		return err
	}
	return r.addAddresses(ctx, p)
}

func (r View) addAddresses(ctx context.Context, p *traffic.Placement) error {
	for i, a := range p.Addresses {
		if _, err := r.q.exec(ctx,
			`INSERT INTO addresses (placement_id, position, url, healthy, reason, since) VALUES (?, ?, ?, ?, ?, ?)`,
			p.ID, i, a.URL, a.Healthy, a.Reason, toMillis(a.Since)); err != nil {
			return err
		}
	}
	return nil
}

// RemovePlacement ends a placement.
func (r View) RemovePlacement(ctx context.Context, id int64, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE placements SET removed_at = ? WHERE id = ? AND removed_at IS NULL`,
		toMillis(now), id)
	return err
}

// SetAddressHealth records that an address turned healthy (empty reason) or not.
func (r View) SetAddressHealth(ctx context.Context, placement int64, url, reason string, now time.Time) error {
	_, err := r.q.exec(ctx,
		`UPDATE addresses SET healthy = ?, reason = ?, since = ? WHERE placement_id = ? AND url = ?`,
		reason == "", reason, toMillis(now), placement, url)
	return err
}

func (r View) placements(ctx context.Context, clause string, args ...any) ([]traffic.Placement, error) {
	rows, err := r.q.rows(ctx, `SELECT p.id, m.project, m.name || '@' || v.number, e.name, p.served_as,
		p.declared, p.heard, p.runner, p.placed_by, p.placed_at
		FROM placements p JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id AND ?
		JOIN environments e ON e.id = p.environment_id
		WHERE p.removed_at IS NULL ? ORDER BY p.id`, r.sees("m.project"), write(clause, args...))
	out, err := collect(rows, err, func(rows *sql.Rows) (traffic.Placement, error) {
		p := traffic.Placement{Addresses: []traffic.Address{}}
		var at int64
		var declared, heard, runner sql.NullString
		if err := rows.Scan(&p.ID, &p.Project, &p.Version, &p.Environment, &p.ServedAs, &declared, &heard,
			&runner, &p.PlacedBy, &at); err != nil {
			return p, err
		}
		p.PlacedAt = fromMillis(at)
		return p, errors.Join(fromJSON(declared, &p.Declared), fromJSON(heard, &p.Heard), fromJSON(runner, &p.Runner))
	})
	if err != nil {
		return nil, err
	}
	for i := range out {
		p := &out[i]
		rows, err := r.q.rows(ctx,
			`SELECT url, healthy, reason, since FROM addresses WHERE placement_id = ? ORDER BY position`, p.ID)
		p.Addresses, err = collect(rows, err, func(rows *sql.Rows) (traffic.Address, error) {
			var a traffic.Address
			var since int64
			err := rows.Scan(&a.URL, &a.Healthy, &a.Reason, &since)
			a.Since = fromMillis(since)
			return a, err
		})
		if err != nil {
			return nil, err
		}
		p.Elsewhere = len(p.Addresses) == 0
		p.Healthy = p.Elsewhere
		for _, a := range p.Addresses {
			p.Healthy = p.Healthy || a.Healthy
		}
	}
	return out, nil
}

// Placements lists all placements, narrowed down to a version when one is given.
func (r View) Placements(ctx context.Context, version string) ([]traffic.Placement, error) {
	if version == "" {
		return r.placements(ctx, "")
	}
	return r.placements(ctx, `AND v.id = ?`, versionOf(version))
}

// PlacementsOfModel lists where versions of a model are placed.
func (r View) PlacementsOfModel(ctx context.Context, model string) ([]traffic.Placement, error) {
	return r.placements(ctx, `AND m.name = ?`, model)
}

// PlacementsOfProject lists where versions of the models of a project are placed.
func (r View) PlacementsOfProject(ctx context.Context, project string) ([]traffic.Placement, error) {
	return r.placements(ctx, `AND m.project = ?`, project)
}

// RunPlacements lists the placements that are run on the service's machine, narrowed down to a version when one is
// given.
func (r View) RunPlacements(ctx context.Context, version string) ([]traffic.Placement, error) {
	if version == "" {
		return r.placements(ctx, `AND p.runner IS NOT NULL`)
	}
	return r.placements(ctx, `AND p.runner IS NOT NULL AND v.id = ?`, versionOf(version))
}

// PlacementOf finds where a version runs in an environment.
func (r View) PlacementOf(ctx context.Context, version, environment string) (*traffic.Placement, error) {
	return single(r.placements(ctx, `AND e.name = ? AND v.id = ?`, environment, versionOf(version)))
}

// PlacedAt finds which other version than one is placed at an address under the name by which
// a server knows it.
func (r View) PlacedAt(ctx context.Context, url, servedAs, but string) (*traffic.Placement, error) {
	return single(r.placements(ctx, `AND p.served_as = ? AND m.name || '@' || v.number <> ?
		AND EXISTS (SELECT 1 FROM addresses a WHERE a.placement_id = p.id AND a.url = ?)`, servedAs, but, url))
}
