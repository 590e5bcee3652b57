package traffic

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/replica"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/runner"
	"innerladder/internal/wire"
)

// errNoCommands is said where whoever started the service does not let it run command lines.
var errNoCommands = fault.New(fault.Refused, "template.not_allowed", "this service runs no command lines").
	In("template").Do("whoever runs the service can allow it: innerladder serve -run-commands")

// Templates lists the command lines that are allowed to serve versions here.
func (s *Service) Templates(ctx context.Context, by act.Actor) (wire.Listed[replica.Template], error) {
	if err := by.May(access.Place); err != nil {
		return wire.Listed[replica.Template]{}, err
	}
	return act.List(s.Base, by, func(r records.View) ([]replica.Template, string, error) {
		all, err := r.Templates(ctx)
		return all, "", err
	})
}

// PutTemplate allows a command line, in the place of one of the same name. What runs by it goes on as it began; what is
// started from then on is started by the new one.
func (s *Service) PutTemplate(ctx context.Context, by act.Actor, in wire.PutTemplate) (replica.Template, error) {
	t := replica.Template{
		Name: in.Name, Command: in.Command, Environment: in.Environment, Description: in.Description,
	}
	if t.Environment == nil {
		t.Environment = map[string]string{}
	}
	if err := by.May(access.Administer); err != nil {
		return t, err
	}
	if s.runners == nil || !s.runners.Commands() {
		return t, errNoCommands
	}
	if err := naming.Check("name", t.Name); err != nil {
		return t, err
	}
	if err := t.Check(); err != nil {
		return t, err
	}
	const remedy = "say with -why what it is for: it runs on the service's machine"
	if err := naming.CheckReason(in.Reason, remedy); err != nil {
		return t, err
	}
	return act.Change(ctx, s.Base, by, access.Administer, func(tx *act.Tx) (replica.Template, error) {
		before, _, err := findTemplate(ctx, tx.View, t.Name)
		if err != nil {
			return t, err
		}
		t.AddedBy, t.AddedAt = tx.By.Name, tx.Now
		if err := tx.PutTemplate(ctx, t); err != nil {
			return t, err
		}
		return t, tx.Note(ctx, act.Entry{
			Kind: "template.allowed", Subject: t.Name, Reason: in.Reason, Before: before, After: t,
			Sentence: fmt.Sprintf("The command line %s is allowed to serve versions here: %s", t.Name,
				strings.Join(t.Command, " ")),
		})
	})
}

// RemoveTemplate allows a command line no more. One by which something is placed is refused.
func (s *Service) RemoveTemplate(ctx context.Context, by act.Actor, name, reason string) (replica.Template, error) {
	if err := by.May(access.Administer); err != nil {
		return replica.Template{}, err
	}
	return act.Change(ctx, s.Base, by, access.Administer, func(tx *act.Tx) (replica.Template, error) {
		t, there, err := findTemplate(ctx, tx.View, name)
		if err != nil || !there {
			return replica.Template{}, errOr(err, unknownTemplate(ctx, tx.View, name))
		}
		placed, err := tx.Within(records.Everything).RunPlacements(ctx, "")
		if err != nil {
			return t, err
		}
		if i := slices.IndexFunc(placed, func(p traffic.Placement) bool { return p.Runner.Template == name }); i >= 0 {
			return t, fault.New(fault.Refused, "template.in_use", "%s in %s is run by %s", placed[i].Version,
				placed[i].Environment, name).In("name").Do("take it away first with: innerladder unplace %s -env %s",
				placed[i].Version, placed[i].Environment)
		}
		if err := tx.RemoveTemplate(ctx, name); err != nil {
			return t, err
		}
		return t, tx.Note(ctx, act.Entry{
			Kind: "template.removed", Subject: name, Reason: reason, Before: t,
			Sentence: fmt.Sprintf("The command line %s may serve no versions any more.", name),
		})
	})
}

// errOr is the first error that there is.
func errOr(err, or error) error {
	if err != nil {
		return err
	}
	return or
}

func findTemplate(ctx context.Context, r records.View, name string) (t replica.Template, there bool, err error) {
	all, err := r.Templates(ctx)
	if i := slices.IndexFunc(all, func(t replica.Template) bool { return t.Name == name }); i >= 0 {
		return all[i], true, err
	}
	return replica.Template{}, false, err
}

func unknownTemplate(ctx context.Context, r records.View, name string) error {
	all, err := r.Templates(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	for i, t := range all {
		names[i] = t.Name
	}
	return fault.New(fault.Unknown, "template.unknown", "there is no runner template %q", name).In("template").
		Do("%s", act.Exist("runner templates", names))
}

// fill is a version as a template runs it; the port is filled in by whoever holds it.
func (s *Service) fill(v *registry.Version, r *traffic.Runner, t replica.Template, into runner.Version) runner.Version {
	folder := s.runners.Folder(r.ID)
	values := map[string]string{
		"folder": folder, "port": "{port}", "model": v.Model, "version": v.Ref,
		"requirements": filepath.Join(folder, "requirements.txt"),
	}
	into.Command = nil
	for _, text := range t.Command {
		into.Command = append(into.Command, replica.Fill(text, values))
	}
	for _, name := range slices.Sorted(maps.Keys(t.Environment)) {
		into.Environment = append(into.Environment, name+"="+replica.Fill(t.Environment[name], values))
	}
	return into
}

// unpack puts a version's files into the folder that its command line is told: copies, which it may do with what it
// likes, beside what is known of the version and the packages that it needs.
func (s *Service) unpack(v *registry.Version, r *traffic.Runner) error {
	files := map[string]string{}
	for _, a := range v.Artifacts {
		switch {
		case !a.Stored:
			return fault.New(fault.Refused, "artifact.referenced", "the bytes of %s are not kept here", a.Name).
				In("template").Do("register the file itself")
		case a.Name != filepath.Base(a.Name) || a.Name == "version.json" || a.Name == "requirements.txt":
			return fault.New(fault.Refused, "template.file", "%q cannot stand in a folder beside the others", a.Name).
				In("template").Do("register it under a plain name")
		}
		file, err := s.registry.FileOf(a.Digest)
		if err != nil {
			return err
		}
		files[a.Name] = file
	}
	about, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		return err
	}
	var needs strings.Builder
	for _, d := range v.Dependencies {
		fmt.Fprintf(&needs, "%s%s%s\n", d.Name, d.Extra, d.Want)
	}
	return s.runners.Unpack(r.ID, files, map[string][]byte{
		"version.json": about, "requirements.txt": []byte(needs.String()),
	})
}
