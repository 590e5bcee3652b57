package registry

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Models lists the models.
func (s *Service) Models(ctx context.Context, by act.Actor, f records.ModelFilter,
	p records.Page,
) (wire.Listed[registry.Model], error) {
	return act.List(s.Base, by, func(r records.View) ([]registry.Model, string, error) { return r.Models(ctx, f, p) })
}

// Model finds a model.
func (s *Service) Model(ctx context.Context, by act.Actor, name string) (registry.Model, error) {
	if err := by.May(access.Read); err != nil {
		return registry.Model{}, err
	}
	return s.FindModel(ctx, s.Read(by), "model", name)
}

// FindModel finds a model by name, or says which there are.
func (s *Service) FindModel(ctx context.Context, r records.View, field, name string) (registry.Model, error) {
	m, err := r.Model(ctx, name)
	if !errors.Is(err, records.ErrNone) {
		return m, err
	}
	f := fault.New(fault.Unknown, "model.unknown", "there is no model %q", name).In(field)
	if all, _, err := r.Models(ctx, records.ModelFilter{}, records.Page{Limit: 20}); err == nil {
		names := make([]string, len(all))
		for i, m := range all {
			names[i] = m.Name
		}
		f = f.Do("%s", act.Exist("models", names))
	}
	return m, f
}

// Versions lists the versions of a model, newest first.
func (s *Service) Versions(ctx context.Context, by act.Actor, model string,
	p records.Page,
) (wire.Listed[registry.Version], error) {
	if _, err := s.Model(ctx, by, model); err != nil {
		return wire.Listed[registry.Version]{}, err
	}
	return act.List(s.Base, by, func(r records.View) ([]registry.Version, string, error) {
		return r.Versions(ctx, model, p)
	})
}

// Version finds the version that a ref names.
func (s *Service) Version(ctx context.Context, by act.Actor, ref string) (*registry.Version, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	return s.Resolve(ctx, s.Read(by), "version", ref)
}

// Resolve finds the version that a ref names, or says what exists instead.
func (s *Service) Resolve(ctx context.Context, r records.View, field, raw string) (*registry.Version, error) {
	ref, err := registry.ParseRef(field, raw)
	if err != nil {
		return nil, err
	}
	if ref.Number > 0 {
		return s.resolveNumber(ctx, r, field, ref)
	}
	m, err := s.FindModel(ctx, r, field, ref.Model)
	if err != nil {
		return nil, err
	}
	if n, labelled := m.Labels[ref.Name]; labelled {
		return r.Version(ctx, m.Name, n)
	}
	l, err := r.Ladder(ctx, m.Project)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(names(l), ref.Name) {
		return nil, fault.New(fault.Unknown, "label.unknown", "%s has no label %q, and no rung is called so", m.Name,
			ref.Name).In(field).Do("%s; the rungs are %s; %s", describeLabels(m), strings.Join(l.Names(), ", "),
			describeStanding(l, m))
	}
	standing, err := r.VersionsOnRung(ctx, ref.Model, ref.Name, 12)
	if err != nil {
		return nil, err
	}
	switch len(standing) {
	case 1:
		return r.Version(ctx, m.Name, standing[0].Number)
	case 0:
		return nil, fault.New(fault.Unknown, "rung.empty", "no version of %s stands on %s", m.Name, ref.Name).In(field).
			Do("%s", describeStanding(l, m))
	}
	var refs []string
	for _, v := range standing {
		refs = append(refs, v.Ref)
	}
	return nil, fault.New(fault.Refused, "rung.several", "%d versions of %s stand on %s: %s", m.Counts[ref.Name],
		m.Name, ref.Name, strings.Join(refs, ", ")).
		In(field).Do("name one of them by its number, or give it a label: innerladder label %s LABEL", refs[0])
}

func (s *Service) resolveNumber(ctx context.Context, r records.View, field string,
	ref registry.Ref,
) (*registry.Version, error) {
	v, err := r.Version(ctx, ref.Model, ref.Number)
	if !errors.Is(err, records.ErrNone) {
		return v, err
	}
	if g, err := r.DeletedVersion(ctx, ref.Model, ref.Number); err == nil {
		return nil, fault.New(fault.Unknown, "version.deleted", "%s was deleted by %s on %s: %s", ref, g.By,
			g.At.Format("2006-01-02 15:04"), g.Why).In(field).Do("what happened to it: innerladder activity %s", ref)
	}
	m, err := s.FindModel(ctx, r, field, ref.Model)
	if err != nil {
		return nil, err
	}
	f := fault.New(fault.Unknown, "version.unknown", "there is no %s", ref).In(field)
	if m.Newest == 0 {
		return nil, f.Do("%s has no versions", m.Name)
	}
	return nil, f.Do("%s has versions up to %d", m.Name, m.Newest)
}

// describeStanding says where the versions of a model stand.
func describeStanding(l ladder.Revision, m registry.Model) string {
	var parts []string
	for _, rung := range slices.Backward(names(l)) {
		for _, n := range m.Standing[rung] {
			parts = append(parts, fmt.Sprintf("%s@%d on %s", m.Name, n, rung))
		}
	}
	if len(parts) == 0 {
		return m.Name + " has no versions yet"
	}
	return "there is " + strings.Join(parts[:min(len(parts), 12)], ", ")
}

func describeLabels(m registry.Model) string {
	var parts []string
	for name, n := range m.Labels {
		parts = append(parts, fmt.Sprintf("%s (@%d)", name, n))
	}
	slices.Sort(parts)
	if len(parts) == 0 {
		return m.Name + " has no labels"
	}
	return "its labels are " + strings.Join(parts, ", ")
}

// Diff compares two versions.
func (s *Service) Diff(ctx context.Context, by act.Actor, from, to string) (registry.Diff, error) {
	a, err := s.Version(ctx, by, from)
	if err != nil {
		return registry.Diff{}, err
	}
	b, err := s.Version(ctx, by, to)
	if err != nil {
		return registry.Diff{}, err
	}
	return registry.DiffVersions(a, b), nil
}

// Profile finds the reference profile of a version.
func (s *Service) Profile(ctx context.Context, by act.Actor, ref string) (*profile.Profile, error) {
	v, err := s.Version(ctx, by, ref)
	if err != nil {
		return nil, err
	}
	return s.profile(ctx, by, v)
}

func (s *Service) profile(ctx context.Context, by act.Actor, v *registry.Version) (*profile.Profile, error) {
	p, err := s.Read(by).Profile(ctx, v.Model, v.Number)
	if err == nil && p == nil {
		return nil, fault.New(fault.Unknown, "profile.none", "%s has no reference profile", v.Ref).In("version").
			Do("register with -sample or -reference and at least 200 rows")
	}
	return p, err
}

// Artifact opens a file of a version; the caller closes it.
func (s *Service) Artifact(ctx context.Context, by act.Actor, ref, name string) (registry.Artifact, *os.File, error) {
	v, err := s.Version(ctx, by, ref)
	if err != nil {
		return registry.Artifact{}, nil, err
	}
	i := slices.IndexFunc(v.Artifacts, func(a registry.Artifact) bool { return a.Name == name })
	if i < 0 {
		names := make([]string, len(v.Artifacts))
		for j, a := range v.Artifacts {
			names[j] = a.Name
		}
		return registry.Artifact{}, nil,
			fault.New(fault.Unknown, "artifact.unknown", "%s has no artifact %q", v.Ref, name).In("artifact").
				Do("%s", act.Exist("artifacts", names))
	}
	a := v.Artifacts[i]
	if !a.Stored {
		return a, nil, fault.New(fault.Refused, "artifact.referenced",
			"the bytes of %s are not kept here, only their digest", name).In("artifact").
			Do("get them at %s and check that their SHA-256 is %s", a.Address, a.Digest)
	}
	f, err := s.blobs.Open(a.Digest)
	if err != nil {
		return a, nil, fmt.Errorf("opening %s of %s: %w", name, v.Ref, err)
	}
	return a, f, nil
}

// Attachment opens an attachment of a version; the caller closes it.
func (s *Service) Attachment(ctx context.Context, by act.Actor, ref,
	name string,
) (registry.Attachment, *os.File, error) {
	v, err := s.Version(ctx, by, ref)
	if err != nil {
		return registry.Attachment{}, nil, err
	}
	a, err := attachmentOf(v, name)
	if err != nil {
		return a, nil, err
	}
	f, err := s.blobs.Open(a.Digest)
	if err != nil {
		return a, nil, fmt.Errorf("opening %s of %s: %w", name, v.Ref, err)
	}
	return a, f, nil
}

func attachmentOf(v *registry.Version, name string) (registry.Attachment, error) {
	var names []string
	for _, a := range v.Attachments {
		if a.Name == name {
			return a, nil
		}
		names = append(names, a.Name)
	}
	return registry.Attachment{}, fault.New(fault.Unknown, "attachment.unknown", "%s has no attachment %q", v.Ref,
		name).In("attachment").Do("%s", act.Exist("attachments", names))
}

// isRetired reports whether a version is off the ladder.
func isRetired(v *registry.Version) bool { return v.Rung == ladder.Retired }

// FileOf is where the file with a digest stands on this machine, for what computes from it. It is not to be changed.
func (s *Service) FileOf(digest string) (string, error) {
	f, err := s.blobs.Open(digest)
	if err != nil {
		return "", fmt.Errorf("opening %s: %w", digest, err)
	}
	defer f.Close()
	return filepath.Abs(f.Name())
}
