package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"innerladder/internal/blob"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/store"
)

// Registration is what is said about a version when it is registered.
type Registration struct {
	Model string `json:"model"`
	// Task and Description are for a model that is new.
	Task        string             `json:"task,omitempty" enum:"regression,classification,other" description:"of a new model; read off the target when not given"`
	Description string             `json:"description,omitempty" description:"of a new model"`
	Note        string             `json:"note,omitempty"`
	Metrics     map[string]float64 `json:"metrics,omitempty"`
	Params      map[string]string  `json:"params,omitempty"`
	Code        *registry.Code     `json:"code,omitempty"`
	Targets     []string           `json:"targets,omitempty" description:"columns of the sample that are outputs"`
	Units       map[string]string  `json:"units,omitempty" description:"unit by column of the sample"`
}

// Registered is a version that was registered, now or before.
type Registered struct {
	registry.Version
	Created bool `json:"created" description:"false when the same content was registered before"`
}

// File is a received file with its name.
type File struct {
	Name   string
	Upload *blob.Upload
}

// Receive reads a file to its end; it is kept when a version is registered with it.
func (s *Service) Receive(ctx context.Context, name string, r interface{ Read([]byte) (int, error) }) (*File, error) {
	if _, err := may(ctx, Write); err != nil {
		return nil, err
	}
	if err := checkFileName(name); err != nil {
		return nil, err
	}
	u, err := s.blobs.Receive(r)
	if err != nil {
		return nil, err
	}
	return &File{name, u}, nil
}

func checkFileName(name string) error {
	if name == "" || len(name) > 255 || name == "." || name == ".." || strings.ContainsAny(name, "/\\") || strings.ContainsFunc(name, func(r rune) bool { return r < 0x20 || r == 0x7f }) {
		return fault.New(fault.Invalid, "artifact.name", "%q cannot be the name of an artifact", name).In("artifact").Do("give a plain file name without a path")
	}
	return nil
}

// Register registers a version with its files; sample may be nil. The same content
// registered again gives the version that is there.
func (s *Service) Register(ctx context.Context, reg Registration, files []*File, sample *registry.Sample) (Registered, error) {
	v, err := draftVersion(reg, files, sample)
	if err != nil {
		return Registered{}, err
	}
	// The content itself makes a repeated registration harmless.
	ctx = withoutRepeat(ctx)
	return change(ctx, s, Write, func(t *tx) (Registered, error) {
		model, err := s.modelFor(ctx, t, reg, v.Signature)
		if err != nil {
			return Registered{}, err
		}
		if before, err := t.VersionByDigest(ctx, model.Name, v.Digest); err == nil {
			return Registered{*before, false}, nil
		} else if !errors.Is(err, store.ErrNone) {
			return Registered{}, err
		}
		for _, f := range files {
			if err := f.Upload.Keep(); err != nil {
				return Registered{}, err
			}
		}
		v.Rung, v.RungSince, v.CreatedBy, v.CreatedAt = s.ladder.Lowest(), t.now, t.actor.Name, t.now
		if err := t.AddVersion(ctx, v); err != nil {
			return Registered{}, err
		}
		return Registered{*v, true}, t.note(ctx, entry{Kind: "version.registered", Subject: v.Ref,
			Sentence: v.Ref + " was registered.", Reason: reg.Note, After: v})
	})
}

// draftVersion builds the version from what was said and read.
func draftVersion(reg Registration, files []*File, sample *registry.Sample) (*registry.Version, error) {
	if err := registry.CheckName("model", reg.Model); err != nil {
		return nil, err
	}
	if err := registry.CheckMetrics(reg.Metrics); err != nil {
		return nil, err
	}
	if len(files) == 0 {
		return nil, fault.New(fault.Invalid, "version.no_artifact", "the version has no file").In("artifact").Do("give at least one with -file")
	}
	v := &registry.Version{Model: reg.Model, Note: reg.Note, Metrics: reg.Metrics, Params: reg.Params, Code: reg.Code, Artifacts: []registry.Artifact{}}
	if v.Metrics == nil {
		v.Metrics = map[string]float64{}
	}
	if v.Params == nil {
		v.Params = map[string]string{}
	}
	for _, f := range files {
		if slices.ContainsFunc(v.Artifacts, func(a registry.Artifact) bool { return a.Name == f.Name }) {
			return nil, fault.New(fault.Invalid, "artifact.twice", "two files are named %q", f.Name).In("artifact").Do("give each file its own name")
		}
		if f.Upload.Size == 0 {
			return nil, fault.New(fault.Invalid, "artifact.empty", "%s is empty", f.Name).In("artifact").Do("give the file that was meant")
		}
		v.Artifacts = append(v.Artifacts, registry.Artifact{Name: f.Name, Digest: f.Upload.Digest, Size: f.Upload.Size})
	}
	switch {
	case sample != nil:
		var err error
		if v.Signature, err = sample.Signature(reg.Targets, reg.Units); err != nil {
			return nil, err
		}
		v.Profile = sample.Profile()
	case len(reg.Targets) > 0 || len(reg.Units) > 0:
		return nil, fault.New(fault.Invalid, "sample.missing", "targets or units are named, but there is no sample").In("sample").Do("give one with -sample")
	}
	v.Digest = v.Identity()
	return v, nil
}

// modelFor finds the model of a registration, or adds it when it is new.
func (s *Service) modelFor(ctx context.Context, t *tx, reg Registration, sig *registry.Signature) (store.Model, error) {
	m, err := t.Model(ctx, reg.Model)
	if err == nil {
		if reg.Task != "" && registry.Task(reg.Task) != m.Task {
			return m, fault.New(fault.Refused, "model.task_differs", "%s is a model for %s", m.Name, m.Task).In("task").Do("leave the task out, or register under another name")
		}
		return m, nil
	}
	if !errors.Is(err, store.ErrNone) {
		return m, err
	}
	m = store.Model{Name: reg.Model, Task: taskOf(sig), Description: reg.Description, CreatedBy: t.actor.Name, CreatedAt: t.now, Standing: map[string][]int{}}
	if reg.Task != "" {
		if m.Task, err = registry.ParseTask("task", reg.Task); err != nil {
			return m, err
		}
	}
	if err := t.AddModel(ctx, m); err != nil {
		return m, err
	}
	return m, t.note(ctx, entry{Kind: "model.added", Subject: m.Name, Sentence: m.Name + " was added, a model for " + string(m.Task) + ".", After: m})
}

// taskOf reads the task off the outputs: numbers are regression, texts and booleans
// classification.
func taskOf(sig *registry.Signature) registry.Task {
	if sig == nil || len(sig.Outputs) == 0 {
		return registry.Other
	}
	switch sig.Outputs[0].Type {
	case registry.Number, registry.Integer:
		return registry.Regression
	}
	return registry.Classification
}

// Models lists the models.
func (s *Service) Models(ctx context.Context, p store.Page) (Listed[store.Model], error) {
	return list(ctx, func(r store.Records) ([]store.Model, string, error) { return r.Models(ctx, p) }, s)
}

// Model finds a model.
func (s *Service) Model(ctx context.Context, name string) (store.Model, error) {
	if _, err := may(ctx, Read); err != nil {
		return store.Model{}, err
	}
	return s.model(ctx, s.store.Read(), "model", name)
}

func (s *Service) model(ctx context.Context, r store.Records, field, name string) (store.Model, error) {
	m, err := r.Model(ctx, name)
	if !errors.Is(err, store.ErrNone) {
		return m, err
	}
	f := fault.New(fault.Unknown, "model.unknown", "there is no model %q", name).In(field)
	if all, _, err := r.Models(ctx, store.Page{Limit: 20}); err == nil {
		names := make([]string, len(all))
		for i, m := range all {
			names[i] = m.Name
		}
		f = f.Do("%s", exist("models", names))
	}
	return m, f
}

// exist says what there is instead of what was asked for.
func exist(what string, names []string) string {
	if len(names) == 0 {
		return "there are no " + what + " yet"
	}
	return "the " + what + " are " + strings.Join(names, ", ")
}

// Versions lists the versions of a model, newest first.
func (s *Service) Versions(ctx context.Context, model string, p store.Page) (Listed[registry.Version], error) {
	if _, err := s.Model(ctx, model); err != nil {
		return Listed[registry.Version]{}, err
	}
	return list(ctx, func(r store.Records) ([]registry.Version, string, error) { return r.Versions(ctx, model, p) }, s)
}

// Version finds the version that a ref names.
func (s *Service) Version(ctx context.Context, ref string) (*registry.Version, error) {
	if _, err := may(ctx, Read); err != nil {
		return nil, err
	}
	return s.resolve(ctx, s.store.Read(), "version", ref)
}

// resolve finds the version that a ref names, or says what exists instead.
func (s *Service) resolve(ctx context.Context, r store.Records, field, raw string) (*registry.Version, error) {
	ref, err := registry.ParseRef(field, raw)
	if err != nil {
		return nil, err
	}
	m, err := s.model(ctx, r, field, ref.Model)
	if err != nil {
		return nil, err
	}
	if ref.Number > 0 {
		v, err := r.Version(ctx, ref.Model, ref.Number)
		if errors.Is(err, store.ErrNone) {
			return nil, fault.New(fault.Unknown, "version.unknown", "there is no %s", ref).In(field).Do("%s has versions 1 to %d", m.Name, m.Newest)
		}
		return v, err
	}
	if ref.Rung != ladder.Retired {
		if err := s.ladder.CheckRung(field, ref.Rung); err != nil {
			return nil, err
		}
	}
	standing, err := r.VersionsOnRung(ctx, ref.Model, ref.Rung)
	if err != nil {
		return nil, err
	}
	switch len(standing) {
	case 1:
		return &standing[0], nil
	case 0:
		return nil, fault.New(fault.Unknown, "rung.empty", "no version of %s stands on %s", m.Name, ref.Rung).In(field).Do("%s", s.describeStanding(m))
	}
	var refs []string
	for _, v := range standing {
		refs = append(refs, v.Ref)
	}
	return nil, fault.New(fault.Refused, "rung.several", "%d versions of %s stand on %s: %s", len(standing), m.Name, ref.Rung, strings.Join(refs, ", ")).
		In(field).Do("name one of them by its number")
}

// describeStanding says where the versions of a model stand.
func (s *Service) describeStanding(m store.Model) string {
	var parts []string
	for _, rung := range append(s.ladder.Names(), ladder.Retired) {
		for _, n := range m.Standing[rung] {
			parts = append(parts, fmt.Sprintf("%s@%d on %s", m.Name, n, rung))
		}
	}
	if len(parts) == 0 {
		return m.Name + " has no versions yet"
	}
	return "there is " + strings.Join(parts[:min(len(parts), 12)], ", ")
}

// Diff compares two versions.
func (s *Service) Diff(ctx context.Context, from, to string) (registry.Diff, error) {
	a, err := s.Version(ctx, from)
	if err != nil {
		return registry.Diff{}, err
	}
	b, err := s.Version(ctx, to)
	if err != nil {
		return registry.Diff{}, err
	}
	return registry.DiffVersions(a, b), nil
}

// Artifact opens a file of a version; the caller closes it.
func (s *Service) Artifact(ctx context.Context, ref, name string) (registry.Artifact, *os.File, error) {
	v, err := s.Version(ctx, ref)
	if err != nil {
		return registry.Artifact{}, nil, err
	}
	i := slices.IndexFunc(v.Artifacts, func(a registry.Artifact) bool { return a.Name == name })
	if i < 0 {
		names := make([]string, len(v.Artifacts))
		for j, a := range v.Artifacts {
			names[j] = a.Name
		}
		return registry.Artifact{}, nil, fault.New(fault.Unknown, "artifact.unknown", "%s has no artifact %q", v.Ref, name).In("artifact").Do("%s", exist("artifacts", names))
	}
	f, err := s.blobs.Open(v.Artifacts[i].Digest)
	if err != nil {
		return registry.Artifact{}, nil, fmt.Errorf("opening %s of %s: %w", name, v.Ref, err)
	}
	return v.Artifacts[i], f, nil
}
