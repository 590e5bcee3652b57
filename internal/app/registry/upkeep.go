package registry

import (
	"context"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// What may change of a model or a version after it was registered. Every change is one
// entry of the record, with before and after, so its history can be read there.

// marks are the tags and properties of something, for the record.
type marks struct {
	Tags        []string          `json:"tags"`
	Properties  map[string]string `json:"properties,omitempty"`
	Note        string            `json:"note,omitempty"`
	Description string            `json:"description,omitempty"`
	Owner       string            `json:"owner,omitempty"`
}

// mark changes tags and properties.
func mark(ctx context.Context, t *act.Tx, subject records.Subject, e registry.Edit) error {
	for _, tag := range e.AddTags {
		if err := t.Tag(ctx, subject, tag, true); err != nil {
			return err
		}
	}
	for _, tag := range e.RemoveTags {
		if err := t.Tag(ctx, subject, tag, false); err != nil {
			return err
		}
	}
	for name, value := range e.SetProperties {
		if err := t.SetProperty(ctx, subject, name, &value); err != nil {
			return err
		}
	}
	for _, name := range e.RemoveProperties {
		if err := t.SetProperty(ctx, subject, name, nil); err != nil {
			return err
		}
	}
	return nil
}

// EditVersion changes what may change of a version.
func (s *Service) EditVersion(ctx context.Context, by act.Actor, ref string,
	e registry.Edit,
) (*registry.Version, error) {
	if err := e.Check(); err != nil {
		return nil, err
	}
	if e.Description != nil || e.Owner != nil || e.Name != nil || e.Project != nil {
		return nil, fault.New(fault.Invalid, "edit.of_model", "a version has no description, owner, name or project "+
			"of its own").
			In("description").Do("change those of its model")
	}
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*registry.Version, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		if e.Note != nil {
			if err := t.SetNote(ctx, v.Model, v.Number, *e.Note); err != nil {
				return nil, err
			}
		}
		if err := mark(ctx, t, records.Subject{Model: v.Model, Number: v.Number}, e); err != nil {
			return nil, err
		}
		if err := t.IndexVersions(ctx, v.Ref); err != nil {
			return nil, err
		}
		after, err := t.Version(ctx, v.Model, v.Number)
		if err != nil {
			return nil, err
		}
		return after, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "version.edited", Subject: v.Ref,
			Sentence: e.Sentence(v.Ref), Reason: e.Reason,
			Before: marks{Tags: v.Tags, Properties: v.Properties, Note: v.Note},
			After:  marks{Tags: after.Tags, Properties: after.Properties, Note: after.Note},
		})
	})
}

// changeModel changes a model, once it is found.
func (s *Service) changeModel(ctx context.Context, by act.Actor, may access.Permission, name string,
	change func(*act.Tx, registry.Model) (registry.Model, error),
) (registry.Model, error) {
	return act.Change(ctx, s.Base, by, may, func(t *act.Tx) (registry.Model, error) {
		m, err := s.FindModel(ctx, t.View, "model", name)
		if err != nil {
			return m, err
		}
		return change(t, m)
	})
}

// EditModel changes what may change of a model.
func (s *Service) EditModel(ctx context.Context, by act.Actor, name string, e registry.Edit) (registry.Model, error) {
	if err := e.Check(); err != nil {
		return registry.Model{}, err
	}
	if e.Note != nil {
		return registry.Model{}, fault.New(fault.Invalid, "edit.of_version", "a model has no note").In("note").
			Do("change its description")
	}
	return s.changeModel(ctx, by, access.Register, name, func(t *act.Tx, m registry.Model) (registry.Model, error) {
		description, owner := m.Description, m.Owner
		if e.Description != nil {
			description = *e.Description
		}
		if e.Owner != nil {
			if owner = *e.Owner; owner != m.Owner {
				if err := s.people.CheckPerson(ctx, t.View, "owner", owner); err != nil {
					return m, err
				}
			}
		}
		if err := t.SetModel(ctx, name, description, owner); err != nil {
			return m, err
		}
		if e.Project != nil && *e.Project != m.Project {
			if err := s.moveModel(ctx, t, m, *e.Project, e.Reason); err != nil {
				return m, err
			}
			m.Project = *e.Project
		}
		if e.Name != nil && *e.Name != name {
			if err := s.renameModel(ctx, t, m, *e.Name, e.Reason); err != nil {
				return m, err
			}
			name = *e.Name
		}
		if err := mark(ctx, t, records.Subject{Model: name}, e); err != nil {
			return m, err
		}
		if err := t.IndexVersions(ctx, name); err != nil {
			return m, err
		}
		after, err := t.Model(ctx, name)
		if err != nil {
			return m, err
		}
		return after, t.Note(ctx, act.Entry{
			Project: m.Project, Kind: "model.edited", Subject: name,
			Sentence: e.Sentence(name), Reason: e.Reason,
			Before: marks{Tags: m.Tags, Properties: m.Properties, Description: m.Description, Owner: m.Owner},
			After: marks{
				Tags: after.Tags, Properties: after.Properties, Description: after.Description,
				Owner: after.Owner,
			},
		})
	})
}

// Vet marks a model as one that the organisation stands behind, or takes the mark away.
func (s *Service) Vet(ctx context.Context, by act.Actor, name, why string, on bool) (registry.Model, error) {
	if err := naming.CheckReason(why, "say why the organisation does or does not stand behind it"); err != nil {
		return registry.Model{}, err
	}
	return s.changeModel(ctx, by, access.Sign, name, func(t *act.Tx, m registry.Model) (registry.Model, error) {
		var v *registry.Vetting
		sentence, kind := name+" is vetted no more.", "model.unvetted"
		if on {
			v = &registry.Vetting{By: t.By.Name, At: t.Now, Why: why}
			sentence, kind = name+" was vetted as a place to start from.", "model.vetted"
		} else if m.Vetted == nil {
			return m, fault.New(fault.Refused, "vet.not", "%s is not vetted", name).In("model").
				Do("nothing needs doing")
		}
		if err := t.SetVetted(ctx, name, v); err != nil {
			return m, err
		}
		before := m.Vetted
		m.Vetted = v
		return m, t.Note(ctx, act.Entry{
			Project: m.Project, Kind: kind, Subject: name, Sentence: sentence, Reason: why,
			Before: before, After: v,
		})
	})
}

// Attach adds an attachment to a version, in place of one with the same name.
func (s *Service) Attach(ctx context.Context, by act.Actor, ref string, f *File) (*registry.Version, error) {
	opened, media, err := f.open()
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*registry.Version, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		if err := f.Upload.Keep(); err != nil {
			return nil, err
		}
		a := registry.Attachment{
			Name: f.Name, Digest: f.Upload.Digest, Size: f.Upload.Size, Media: media,
			AddedBy: t.By.Name, AddedAt: t.Now,
		}
		if err := t.PutAttachment(ctx, v.Model, v.Number, a); err != nil {
			return nil, err
		}
		var before any
		if old, err := attachmentOf(v, a.Name); err == nil {
			before = old
		}
		after, err := t.Version(ctx, v.Model, v.Number)
		if err != nil {
			return nil, err
		}
		return after, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "version.attached", Subject: v.Ref,
			Sentence: fmt.Sprintf("%s was attached to %s.", a.Name, v.Ref), Before: before, After: a,
		})
	})
}

// Detach takes an attachment away.
func (s *Service) Detach(ctx context.Context, by act.Actor, ref, name, reason string) (*registry.Version, error) {
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*registry.Version, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		a, err := attachmentOf(v, name)
		if err != nil {
			return nil, err
		}
		if err := t.RemoveAttachment(ctx, v.Model, v.Number, name); err != nil {
			return nil, err
		}
		after, err := t.Version(ctx, v.Model, v.Number)
		if err != nil {
			return nil, err
		}
		return after, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "version.detached", Subject: v.Ref,
			Sentence: fmt.Sprintf("%s was taken off %s.", name, v.Ref), Reason: reason, Before: a,
		})
	})
}

// free refuses when a version is in use, and names the uses.
func (s *Service) free(ctx context.Context, t *act.Tx, v *registry.Version, what string) error {
	l, err := t.Ladder(ctx, v.Project)
	if err != nil {
		return err
	}
	uses, err := t.UsesOf(ctx, v.Model, v.Number, l.Highest())
	if err != nil || len(uses) == 0 {
		return err
	}
	return fault.New(fault.Refused, "version.in_use", "%s cannot be %s: it %s", v.Ref, what,
		strings.Join(uses, ", and ")).In("version").Do("end that use first")
}

// Retire takes a version off the ladder; it must not be in use.
func (s *Service) Retire(ctx context.Context, by act.Actor, ref, reason string) (*registry.Version, error) {
	if err := naming.CheckReason(reason, "say why the version is %s", "retired"); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Prune, func(t *act.Tx) (*registry.Version, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		if isRetired(v) {
			return nil, fault.New(fault.Refused, "version.retired", "%s is retired already", v.Ref).In("version").
				Do("nothing needs doing")
		}
		if err := s.free(ctx, t, v, "retired"); err != nil {
			return nil, err
		}
		return s.Step(ctx, t, v, ladder.Retired,
			act.Entry{
				Kind: "version.retired", Sentence: v.Ref + " was retired; it stood on " + v.Rung + ".",
				Reason: reason,
			})
	})
}

// Reinstate puts a retired version on the lowest rung again; it has to climb anew.
func (s *Service) Reinstate(ctx context.Context, by act.Actor, ref, reason string) (*registry.Version, error) {
	if err := naming.CheckReason(reason, "say why the version is %s", "reinstated"); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Prune, func(t *act.Tx) (*registry.Version, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		if !isRetired(v) {
			return nil, fault.New(fault.Refused, "version.not_retired", "%s stands on %s", v.Ref, v.Rung).In("version").
				Do("nothing needs doing")
		}
		l, err := t.Ladder(ctx, v.Project)
		if err != nil {
			return nil, err
		}
		return s.Step(ctx, t, v, l.Lowest(),
			act.Entry{
				Kind: "version.reinstated", Sentence: v.Ref + " was reinstated on " + l.Lowest() + ".",
				Reason: reason,
			})
	})
}

// Step moves a version to a rung outside of a promotion.
func (s *Service) Step(ctx context.Context, t *act.Tx, v *registry.Version, rung string,
	e act.Entry,
) (*registry.Version, error) {
	if err := t.SetRung(ctx, v.Model, v.Number, rung, "", t.Now); err != nil {
		return nil, err
	}
	type standing struct {
		Rung  string    `json:"rung"`
		Since time.Time `json:"since"`
	}
	e.Project, e.Subject, e.Before, e.After = v.Project, v.Ref, standing{v.Rung, v.RungSince}, standing{rung, t.Now}
	v.Rung, v.RungSince, v.RungBy, v.Emergency = rung, t.Now, "", ""
	return v, t.Note(ctx, e)
}

// Delete removes a version for good; it must not be in use. Its number stays taken, and
// its files go when they are collected.
func (s *Service) Delete(ctx context.Context, by act.Actor, ref, reason string) (wire.Deleted, error) {
	if err := naming.CheckReason(reason, "say why the version is %s", "deleted"); err != nil {
		return wire.Deleted{}, err
	}
	return act.Change(ctx, s.Base, by, access.Prune, func(t *act.Tx) (wire.Deleted, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return wire.Deleted{}, err
		}
		if err := s.free(ctx, t, v, "deleted"); err != nil {
			return wire.Deleted{}, err
		}
		if err := t.DeleteVersion(ctx, v.Model, v.Number,
			records.Deleted{At: t.Now, By: t.By.Name, Why: reason}); err != nil {
			return wire.Deleted{}, err
		}
		return wire.Deleted{Version: v.Ref, Reason: reason},
			t.Note(ctx, act.Entry{
				Project: v.Project, Kind: "version.deleted", Subject: v.Ref,
				Sentence: v.Ref + " was deleted.", Reason: reason, Before: forRecord(v),
			})
	})
}
