package registry

import (
	"context"
	"errors"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/compare"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Find searches the catalogue.
func (s *Service) Find(ctx context.Context, by act.Actor, search records.Search,
	p records.Page,
) (wire.Listed[registry.Found], error) {
	if err := by.May(access.Read); err != nil {
		return wire.Listed[registry.Found]{}, err
	}
	rungs, err := s.rungsInSight(ctx, by)
	if err != nil {
		return wire.Listed[registry.Found]{}, err
	}
	if search.Rung != "" && !slices.Contains(rungs, search.Rung) {
		return wire.Listed[registry.Found]{}, fault.New(fault.Invalid, "rung.unknown",
			"there is no rung %q", search.Rung).
			In("rung").Do("%s", act.Exist("rungs", rungs))
	}
	named := []string{search.Sort}
	for _, b := range search.Metrics {
		named = append(named, b.Metric)
	}
	for _, name := range named {
		if err := s.checkMetric(ctx, by, name); err != nil {
			return wire.Listed[registry.Found]{}, err
		}
	}
	if search.Sort != "" {
		way, err := s.Read(by).Better(ctx, search.Sort)
		if err != nil {
			return wire.Listed[registry.Found]{}, err
		}
		search.Descending = metric.Meaning{Better: way}.LowerIsBetter(search.Sort) == search.Worst
	}
	return act.List(s.Base, by, func(r records.View) ([]registry.Found, string, error) {
		return r.Find(ctx, search, p)
	})
}

// checkMetric refuses a metric that no version has: it is most likely mistyped.
func (s *Service) checkMetric(ctx context.Context, by act.Actor, name string) error {
	if name == "" {
		return nil
	}
	r := s.Read(by)
	there, err := r.HasMetric(ctx, name)
	if err != nil || there {
		return err
	}
	names, err := r.MetricNames(ctx, 30)
	if err != nil {
		return err
	}
	return fault.New(fault.Invalid, "metric.unknown", "no version has a metric %q", name).In("metric").
		Do("%s", act.Exist("metrics", names))
}

// Vocabulary lists what a search can name.
func (s *Service) Vocabulary(ctx context.Context, by act.Actor) (wire.Vocabulary, error) {
	if err := by.May(access.Read); err != nil {
		return wire.Vocabulary{}, err
	}
	rungs, err := s.rungsInSight(ctx, by)
	if err != nil {
		return wire.Vocabulary{}, err
	}
	names, err := s.Read(by).MetricNames(ctx, 500)
	return wire.Vocabulary{
			Metrics: names, Rungs: rungs,
			Formats: []string{
				registry.FormatONNX, registry.FormatPMML, registry.FormatSafetensors, registry.FormatJSON,
				registry.FormatPickle, registry.FormatZip, registry.FormatTar, registry.FormatTarGz,
				registry.FormatUnknown,
			},
		},
		err
}

const (
	// mostInLine is how many versions can be lined up.
	mostInLine = 50
	// curvePoints is about how many points of a curve are shown.
	curvePoints = 400
)

// LineUp puts versions in one table, of one or of several models. A ref without a
// version stands for the newest versions of that model.
func (s *Service) LineUp(ctx context.Context, by act.Actor, refs []string) (registry.Lineup, error) {
	if err := by.May(access.Read); err != nil {
		return registry.Lineup{}, err
	}
	r := s.Read(by)
	var chosen []string
	for _, raw := range refs {
		if !strings.Contains(raw, "@") {
			m, err := s.FindModel(ctx, r, "versions", raw)
			if err != nil {
				return registry.Lineup{}, err
			}
			newest, _, err := r.Versions(ctx, m.Name, records.Page{Limit: 12})
			if err != nil {
				return registry.Lineup{}, err
			}
			for _, v := range slices.Backward(newest) {
				chosen = append(chosen, v.Ref)
			}
			continue
		}
		v, err := s.Resolve(ctx, r, "versions", raw)
		if err != nil {
			return registry.Lineup{}, err
		}
		chosen = append(chosen, v.Ref)
	}
	unique := []string{}
	for _, ref := range chosen {
		if !slices.Contains(unique, ref) {
			unique = append(unique, ref)
		}
	}
	if len(unique) == 0 || len(unique) > mostInLine {
		return registry.Lineup{}, fault.New(fault.Invalid, "lineup.how_many", "%d versions are given", len(unique)).
			In("versions").Do("give 1 to %d", mostInLine)
	}
	versions, err := r.VersionsByRef(ctx, unique)
	if err != nil {
		return registry.Lineup{}, err
	}
	base, err := s.liveAmong(ctx, r, versions)
	if err != nil {
		return registry.Lineup{}, err
	}
	out := registry.LineUp(versions, base)
	for _, v := range versions {
		if n, err := lineage.ParseRunRef("run", v.Run); err == nil {
			curves, err := r.Curves(ctx, n, curvePoints)
			if err != nil {
				return out, err
			}
			out.Curves = append(out.Curves, curves...)
		}
	}
	return out, nil
}

// liveAmong is the version that the others are measured against: the one that answers
// for an endpoint as main, of the first model; else the one that has been on the highest
// rung longest.
func (s *Service) liveAmong(ctx context.Context, r records.View,
	versions []registry.Version,
) (*registry.Version, error) {
	model := versions[0].Model
	endpoints, err := r.Endpoints(ctx)
	if err != nil {
		return nil, err
	}
	ref := ""
	for _, e := range endpoints {
		if e.Model == model && ref == "" {
			ref = e.MainVersion()
		}
	}
	if ref == "" {
		m, err := r.Model(ctx, model)
		if err != nil {
			return nil, err
		}
		l, err := r.Ladder(ctx, m.Project)
		if err != nil {
			return nil, err
		}
		live, err := r.VersionsOnRung(ctx, model, l.Highest(), mostInLine)
		if err != nil || len(live) == 0 {
			return nil, err
		}
		ref = live[len(live)-1].Ref
	}
	found, err := r.VersionsByRef(ctx, []string{ref})
	if errors.Is(err, records.ErrNone) || len(found) == 0 {
		return nil, nil
	}
	return &found[0], err
}

// CompareProfiles compares the reference profiles of two versions.
func (s *Service) CompareProfiles(ctx context.Context, by act.Actor, from, to string) (compare.Profiles, error) {
	a, err := s.Version(ctx, by, from)
	if err != nil {
		return compare.Profiles{}, err
	}
	b, err := s.Version(ctx, by, to)
	if err != nil {
		return compare.Profiles{}, err
	}
	p, err := s.profile(ctx, by, a)
	if err != nil {
		return compare.Profiles{}, err
	}
	q, err := s.profile(ctx, by, b)
	if err != nil {
		return compare.Profiles{}, err
	}
	return compare.OfProfiles(a.Ref, b.Ref, p, q), nil
}

// names are all places where a version of a project can stand, and so the names that its
// labels may not have.
func names(l ladder.Revision) []string { return append(l.Names(), ladder.Retired) }

// rungsInSight lists the rungs of all ladders that whoever acts may see.
func (s *Service) rungsInSight(ctx context.Context, by act.Actor) ([]string, error) {
	out := ladder.Default().Names()
	all, err := s.Read(by).Ladders(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range all {
		for _, name := range l.Names() {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return append(out, ladder.Retired), nil
}
