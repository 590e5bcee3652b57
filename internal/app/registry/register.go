package registry

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/blob"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// File is a received file with its name.
type File struct {
	Part   wire.Part
	Name   string
	Upload *blob.Upload
	// address and reference are set for files that came from an address.
	address   string
	reference bool
}

// Receive reads a file to its end; it is kept when a version is registered with it.
func (s *Service) Receive(ctx context.Context, by act.Actor, part wire.Part, name string, r io.Reader) (*File, error) {
	if err := by.May(access.Register); err != nil {
		return nil, err
	}
	if err := checkFileName(part, name); err != nil {
		return nil, err
	}
	u, err := s.blobs.Receive(r)
	if err != nil {
		return nil, err
	}
	return &File{Part: part, Name: name, Upload: u}, nil
}

func checkFileName(part wire.Part, name string) error {
	if name == "" || len(name) > 255 || name == "." || name == ".." || strings.ContainsAny(name, "/\\") {
		return fault.New(fault.Invalid, "artifact.name", "%q cannot be the name of a file", name).In(string(part)).
			Do("give a plain file name without a path")
	}
	return naming.CheckLine(string(part), name)
}

// Register registers a version with its files. The same content registered again gives
// the version that is there.
func (s *Service) Register(ctx context.Context, by act.Actor, reg wire.Registration,
	files []*File,
) (wire.Registered, error) {
	files, release, err := s.given(ctx, by, reg, files)
	defer release()
	if err != nil {
		return wire.Registered{}, err
	}
	fetched, err := s.fetchAll(ctx, by, reg.Sources)
	defer func() {
		for _, f := range fetched {
			f.Upload.Discard()
		}
	}()
	if err != nil {
		return wire.Registered{}, err
	}
	g, err := s.gather(reg, append(files, fetched...))
	if err != nil {
		return wire.Registered{}, err
	}
	if len(g.version.Artifacts) == 0 {
		return wire.Registered{}, fault.New(fault.Invalid, "version.no_artifact", "the version has no file").
			In("artifact").Do("give at least one with -file, or an address with -from")
	}
	// The content itself makes a repeated registration harmless.
	by = by.WithoutRepeat()
	out, err := act.Change(ctx, s.Base, by, access.Register,
		func(t *act.Tx) (wire.Registered, error) { return s.enter(ctx, t, reg, g) })
	if err == nil {
		for _, u := range reg.Uploads {
			if err := s.blobs.Forget(u.ID); err != nil && !errors.Is(err, fs.ErrNotExist) {
				s.Log.Warn("an upload that was used was not forgotten", "id", u.ID, "error", err)
			}
		}
	}
	return out, err
}

// given is the files of a registration, those that came with it and those that were uploaded before,
// once whoever registers may, and what they say can be. Nobody else has the uploads until they are released.
func (s *Service) given(ctx context.Context, by act.Actor, reg wire.Registration, came []*File,
) (files []*File, release func(), err error) {
	var held []string
	release = func() {
		for _, id := range held {
			s.held.Delete(id)
		}
	}
	if err := by.May(access.Register); err != nil {
		return nil, release, err
	}
	if err := s.checkRegistration(reg); err != nil {
		return nil, release, err
	}
	files = slices.Clone(came)
	for _, u := range reg.Uploads {
		if !slices.Contains(held, u.ID) {
			if _, taken := s.held.LoadOrStore(u.ID, true); taken {
				return nil, release, inUse()
			}
			held = append(held, u.ID)
		}
		f, err := s.useUpload(ctx, by, u)
		if err != nil {
			return nil, release, err
		}
		files = append(files, f)
	}
	return files, release, nil
}

func inUse() error {
	return fault.New(fault.Refused, "upload.in_use", "another registration is being made with the upload").In("upload").
		Do("wait for its end; if it fails, the upload is there again")
}

// checkRegistration refuses what is wrong whatever the state of the service.
func (s *Service) checkRegistration(reg wire.Registration) error {
	if err := naming.Check("model", reg.Model); err != nil {
		return err
	}
	if err := metric.Check(reg.Metrics); err != nil {
		return err
	}
	if err := reg.Meanings.Check("metric_meanings"); err != nil {
		return err
	}
	if err := registry.CheckImportance(reg.Importance); err != nil {
		return err
	}
	if reg.Signature != nil {
		if err := reg.Signature.Check("signature"); err != nil {
			return err
		}
	}
	for _, tag := range reg.Tags {
		if err := naming.CheckTag("tags", tag); err != nil {
			return err
		}
	}
	for _, label := range reg.Labels {
		if err := registry.CheckLabel("labels", label, nil); err != nil {
			return err
		}
	}
	for _, p := range reg.Parents {
		if err := naming.Check("relation", p.Relation); err != nil {
			return err
		}
	}
	for _, d := range reg.Data {
		if err := lineage.CheckRole("role", d.Role); err != nil {
			return err
		}
	}
	for name := range reg.Properties {
		if err := naming.CheckTag("properties", name); err != nil {
			return err
		}
	}
	for name := range reg.Params {
		if name == "" {
			return fault.New(fault.Invalid, "version.param", "a parameter has no name").In("params").
				Do("write NAME=VALUE")
		}
	}
	return nil
}

// fetchAll reads the files at addresses.
func (s *Service) fetchAll(ctx context.Context, by act.Actor, sources []wire.Source) (out []*File, err error) {
	for _, source := range sources {
		f, err := s.fetchOne(ctx, by, source)
		if err != nil {
			return out, err
		}
		out = append(out, f)
		if source.Digest != "" && !strings.EqualFold(source.Digest, f.Upload.Digest) {
			return out, fault.New(fault.Refused, "from.digest", "%s has the SHA-256 %s, not %s", source.Address,
				f.Upload.Digest, source.Digest).In("from").
				Do("the file has changed since; find out why, or leave the digest out")
		}
	}
	return out, nil
}

// fetchOne reads a file at an address. Its bytes are looked into in any case; those of a
// reference are not kept afterwards.
func (s *Service) fetchOne(ctx context.Context, by act.Actor, source wire.Source) (*File, error) {
	r, name, err := s.fetcher.Open(ctx, source.Address)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if source.Name != "" {
		name = source.Name
	}
	f, err := s.Receive(ctx, by, wire.PartArtifact, name, r)
	if err != nil {
		return nil, err
	}
	f.address, f.reference = source.Address, source.ReferenceOnly
	return f, nil
}

// enter writes the version down.
func (s *Service) enter(ctx context.Context, t *act.Tx, reg wire.Registration, g *gathered) (wire.Registered, error) {
	v := g.version
	if err := s.trace(ctx, t.View, reg, v); err != nil {
		return wire.Registered{}, err
	}
	if err := s.compose(ctx, t.View, v); err != nil {
		return wire.Registered{}, err
	}
	v.Digest = v.Identity()
	model, err := s.modelFor(ctx, t, reg, v.Signature)
	if err != nil {
		return wire.Registered{}, err
	}
	if before, err := t.VersionByDigest(ctx, model.Name, v.Digest); err == nil {
		if err := s.mend(before, g.files); err != nil {
			return wire.Registered{}, err
		}
		if before.KnownAnswers == nil && v.KnownAnswers != nil { // they came later than the version
			before.KnownAnswers = v.KnownAnswers
			if err := s.knowAnswers(ctx, t, before); err != nil {
				return wire.Registered{}, err
			}
		}
		if err := s.enterReports(ctx, t, before, g.reports); err != nil {
			return wire.Registered{}, err
		}
		return s.registered(ctx, t, before, false, g.remarks)
	} else if !errors.Is(err, records.ErrNone) {
		return wire.Registered{}, err
	}
	if err := t.Need(model.Project); err != nil {
		return wire.Registered{}, err
	}
	v.Project = model.Project
	if err := s.mean(ctx, t, model.Name, reg.Meanings); err != nil {
		return wire.Registered{}, err
	}
	l, err := t.Ladder(ctx, model.Project)
	if err != nil {
		return wire.Registered{}, err
	}
	for _, label := range reg.Labels {
		if err := registry.CheckLabel("labels", label, names(l)); err != nil {
			return wire.Registered{}, err // before any file is kept
		}
	}
	for _, f := range g.files {
		if err := f.Upload.Keep(); err != nil {
			return wire.Registered{}, err
		}
	}
	v.Rung, v.RungSince, v.CreatedBy, v.CreatedAt = l.Lowest(), t.Now, t.By.Name, t.Now
	if err := t.AddVersion(ctx, v); err != nil {
		return wire.Registered{}, err
	}
	if err := t.Note(ctx, act.Entry{
		Project: model.Project, Kind: "version.registered", Subject: v.Ref,
		Sentence: v.Ref + " was registered.", Reason: reg.Note, Also: []string{v.Run},
		After: forRecord(v),
	}); err != nil {
		return wire.Registered{}, err
	}
	if err := s.furnish(ctx, t, reg, g); err != nil {
		return wire.Registered{}, err
	}
	if err := s.knowAnswers(ctx, t, v); err != nil {
		return wire.Registered{}, err
	}
	if err := s.enterReports(ctx, t, v, g.reports); err != nil {
		return wire.Registered{}, err
	}
	return s.registered(ctx, t, v, true, g.remarks)
}

// registered is the answer to a registration: the version as it is now.
func (s *Service) registered(ctx context.Context, t *act.Tx, v *registry.Version, created bool,
	remarks []string,
) (wire.Registered, error) {
	whole, err := t.Version(ctx, v.Model, v.Number)
	if err != nil {
		return wire.Registered{}, err
	}
	return wire.Registered{Version: *whole, Created: created, Remarks: remarks}, nil
}

// mean adds what is said about the metrics of a model to what is known.
func (s *Service) mean(ctx context.Context, t *act.Tx, model string, said metric.Meanings) error {
	known, err := t.Meanings(ctx, model)
	if err != nil || len(said) == 0 {
		return err
	}
	all, err := known.With("metric_meanings", said)
	if err != nil {
		return err
	}
	return t.SetMeanings(ctx, model, all)
}

// mend puts files that came again in the place of those of a version that are missing or were
// found damaged.
func (s *Service) mend(v *registry.Version, files []*File) error {
	present := s.blobs.Present()
	for _, f := range files {
		kept := slices.ContainsFunc(v.Artifacts, func(a registry.Artifact) bool {
			return a.Stored && a.Digest == f.Upload.Digest
		})
		if !kept || present(f.Upload.Digest) {
			continue
		}
		if err := f.Upload.Keep(); err != nil {
			return err
		}
	}
	return nil
}

// furnish adds to a new version what may change later.
func (s *Service) furnish(ctx context.Context, t *act.Tx, reg wire.Registration, g *gathered) error {
	v := g.version
	subject := records.Subject{Model: v.Model, Number: v.Number}
	for _, a := range g.attachments {
		a.AddedBy, a.AddedAt = t.By.Name, t.Now
		if err := t.PutAttachment(ctx, v.Model, v.Number, a); err != nil {
			return err
		}
	}
	for _, tag := range reg.Tags {
		if err := t.Tag(ctx, subject, tag, true); err != nil {
			return err
		}
	}
	for name, value := range reg.Properties {
		if err := t.SetProperty(ctx, subject, name, &value); err != nil {
			return err
		}
	}
	for _, label := range reg.Labels {
		if _, err := s.putLabel(ctx, t, v, label, "", "registered with it"); err != nil {
			return err
		}
	}
	return t.IndexVersions(ctx, v.Ref)
}

// forRecord is the version without what is large.
func forRecord(v *registry.Version) registry.Version {
	out := *v
	out.Card, out.SampleRequest = nil, nil
	out.Artifacts = slices.Clone(v.Artifacts)
	for i := range out.Artifacts {
		out.Artifacts[i].Contents = registry.Contents{
			Format: out.Artifacts[i].Contents.Format,
			Unsafe: out.Artifacts[i].Contents.Unsafe,
		}
	}
	return out
}

// trace resolves what the version was made from: the run with what it knows, data sets
// and parents.
func (s *Service) trace(ctx context.Context, t records.View, reg wire.Registration, v *registry.Version) error {
	data := slices.Clone(reg.Data)
	if reg.Run != "" {
		run, err := s.FindRun(ctx, t, "run", reg.Run)
		if err != nil {
			return err
		}
		if run.Model != reg.Model {
			return fault.New(fault.Refused, "run.other_model", "%s trains %s, not %s", run.Ref, run.Model, reg.Model).
				In("run").Do("name a run of %s; see: innerladder runs %s", reg.Model, reg.Model)
		}
		v.Run = run.Ref
		for name, value := range run.Metrics {
			if _, given := v.Metrics[name]; !given {
				v.Metrics[name] = value
			}
		}
		for name, value := range run.Params {
			if _, given := v.Params[name]; !given {
				v.Params[name] = value
			}
		}
		if v.Code == nil {
			v.Code = run.Code
		}
		data = append(data, run.Data...)
	}
	v.Data = nil
	for _, use := range data {
		d, err := s.FindDataSet(ctx, t, "data", use.Data)
		if err != nil {
			return err
		}
		if use.Data = d.Ref; !slices.Contains(v.Data, use) {
			v.Data = append(v.Data, use)
		}
	}
	for _, p := range reg.Parents {
		parent, err := s.Resolve(ctx, t, "parent", p.Version)
		if err != nil {
			return err
		}
		if p.Version = parent.Ref; !slices.Contains(v.Parents, p) {
			v.Parents = append(v.Parents, p)
		}
	}
	return nil
}

// modelFor finds the model of a registration, or adds it when it is new.
func (s *Service) modelFor(ctx context.Context, t *act.Tx, reg wire.Registration,
	sig *signature.Signature,
) (registry.Model, error) {
	m, err := t.Model(ctx, reg.Model)
	if err == nil {
		switch {
		case reg.Task != "" && registry.Task(reg.Task) != m.Task:
			return m, fault.New(fault.Refused, "model.task_differs", "%s is a model for %s", m.Name, m.Task).In("task").
				Do("leave the task out, or register under another name")
		case reg.Project != "" && reg.Project != m.Project:
			return m, fault.New(fault.Refused, "model.project_differs", "%s is in the project %s", m.Name, m.Project).
				In("project").Do("leave the project out, or register under another name")
		}
		return m, nil
	}
	if !errors.Is(err, records.ErrNone) {
		return m, err
	}
	if err := act.NameFree(ctx, t.View, "models", reg.Model); err != nil {
		return m, err
	}
	m = registry.Model{
		Name: reg.Model, Task: taskOf(sig), Description: reg.Description, Owner: reg.Owner,
		CreatedBy: t.By.Name, CreatedAt: t.Now,
		Standing: map[string][]int{}, Counts: map[string]int{},
	}
	if m.Project, err = s.people.ProjectFor(ctx, t, reg.Project); err != nil {
		return m, err
	}
	if m.Owner == "" {
		m.Owner = t.By.Name
	}
	if err := s.people.CheckPerson(ctx, t.View, "owner", m.Owner); err != nil {
		return m, err
	}
	if reg.Task != "" {
		if m.Task, err = registry.ParseTask("task", reg.Task); err != nil {
			return m, err
		}
	}
	if err := t.AddModel(ctx, m); err != nil {
		return m, err
	}
	return m, t.Note(ctx, act.Entry{
		Project: m.Project, Kind: "model.added", Subject: m.Name,
		Sentence: m.Name + " was added, a model for " + string(m.Task) + ".", After: m,
	})
}

// taskOf reads the task off the outputs: numbers are regression, texts and booleans
// classification.
func taskOf(sig *signature.Signature) registry.Task {
	if sig == nil || len(sig.Outputs) == 0 {
		return registry.Other
	}
	switch sig.Outputs[0].Type {
	case signature.Number, signature.Integer:
		return registry.Regression
	}
	return registry.Classification
}
