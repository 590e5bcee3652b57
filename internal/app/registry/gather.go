package registry

import (
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

// gathered is a registration with everything that was read from its files.
type gathered struct {
	version     *registry.Version
	files       []*File // artifacts and attachments that are kept
	attachments []registry.Attachment
	remarks     []string
	profiler    *profile.Profiler
	answers     *File // known answers, which need the signature to be read
	reports     []report
}

// gather reads the files and builds the version from what was said and read.
func (s *Service) gather(reg wire.Registration, files []*File) (*gathered, error) {
	g := &gathered{version: &registry.Version{
		Model: reg.Model, Note: reg.Note, Metrics: maps.Clone(reg.Metrics),
		Params: maps.Clone(reg.Params), Importance: reg.Importance,
		Code: reg.Code, Dependencies: reg.Dependencies, Tags: reg.Tags, Properties: reg.Properties,
		Artifacts: []registry.Artifact{},
	}}
	v := g.version
	if v.Metrics == nil {
		v.Metrics = map[string]float64{}
	}
	if v.Params == nil {
		v.Params = map[string]string{}
	}
	var reference *profile.Profiler
	types := reg.Signature.Types()
	for _, f := range files {
		if f.Upload.Size == 0 {
			return nil, fault.New(fault.Invalid, "artifact.empty", "%s is empty", f.Name).In(string(f.Part)).
				Do("give the file that was meant")
		}
		opened, err := f.Upload.Open()
		if err != nil {
			return nil, fmt.Errorf("reading %s: %w", f.Name, err)
		}
		if err := g.take(f, opened, types, &reference); err != nil {
			_ = opened.Close()
			return nil, err
		}
		_ = opened.Close()
	}
	if v.Card == nil && reg.Card != "" {
		card, err := intake.ReadCard("the card", strings.NewReader(reg.Card))
		if err != nil {
			return nil, err
		}
		v.Card = card
	}
	if err := g.sign(reg); err != nil {
		return nil, err
	}
	if err := g.know(reg); err != nil {
		return nil, err
	}
	if reference == nil {
		reference = g.profiler
	}
	if reference != nil {
		var targets []string
		if v.Signature != nil {
			targets = signature.Names(v.Signature.Outputs)
		}
		if v.Profile = reference.Profile(targets); v.Profile != nil {
			v.ProfileRows = v.Profile.Rows
		}
	}
	return g, nil
}

// take reads one file for what it is.
func (g *gathered) take(f *File, opened *os.File, types map[string]signature.Type,
	reference **profile.Profiler,
) (err error) {
	v := g.version
	once := func(there bool) error {
		if there {
			return fault.New(fault.Invalid, "register.twice", "two files are given as %s", f.Part).In(string(f.Part)).
				Do("give one")
		}
		return nil
	}
	switch f.Part {
	case wire.PartArtifact:
		if slices.ContainsFunc(v.Artifacts, func(a registry.Artifact) bool { return a.Name == f.Name }) {
			return fault.New(fault.Invalid, "artifact.twice", "two files are named %q", f.Name).In("artifact").
				Do("give each file its own name")
		}
		contents, err := intake.Read(f.Name, opened, f.Upload.Size)
		if err != nil {
			return err
		}
		v.Artifacts = append(v.Artifacts,
			registry.Artifact{
				Name: f.Name, Digest: f.Upload.Digest, Size: f.Upload.Size, Stored: !f.reference,
				Address: f.address, Contents: contents,
			})
		if !f.reference {
			g.files = append(g.files, f)
		}
	case wire.PartSample:
		if err := once(g.profiler != nil); err != nil {
			return err
		}
		g.profiler, err = intake.Profile(f.Name, opened, f.Upload.Size, types)
	case wire.PartReference:
		if err := once(*reference != nil); err != nil {
			return err
		}
		*reference, err = intake.Profile(f.Name, opened, f.Upload.Size, types)
	case wire.PartCard:
		if err := once(v.Card != nil); err != nil {
			return err
		}
		v.Card, err = intake.ReadCard(f.Name, opened)
	case wire.PartAnswers:
		if err := once(g.answers != nil); err != nil {
			return err
		}
		g.answers = f // read once the signature is known
	case wire.PartReport:
		read, err := recognise(f)
		if err != nil {
			return err
		}
		g.reports = append(g.reports, read)
	case wire.PartRequirements:
		if err := once(len(v.Dependencies) > 0); err != nil {
			return err
		}
		var remarks []string
		v.Dependencies, remarks, err = intake.ReadRequirements(f.Name, opened)
		g.remarks = append(g.remarks, remarks...)
	case wire.PartAttachment:
		media, err := mediaType(f.Name, opened)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(g.attachments, func(a registry.Attachment) bool { return a.Name == f.Name }) {
			return fault.New(fault.Invalid, "attachment.twice", "two attachments are named %q", f.Name).
				In("attachment").Do("give each its own name")
		}
		g.attachments = append(g.attachments,
			registry.Attachment{Name: f.Name, Digest: f.Upload.Digest, Size: f.Upload.Size, Media: media})
		g.files = append(g.files, f)
	}
	return err
}

// sign finds the signature: what was written by hand, else what the sample shows with the exact
// types that the model file declares, else what the file declares; and makes the sample request.
func (g *gathered) sign(reg wire.Registration) (err error) {
	v := g.version
	var seen *signature.Signature
	if g.profiler != nil {
		if reg.Signature != nil {
			for _, c := range reg.Signature.Inputs {
				if !slices.Contains(g.profiler.Columns(), c.Name) {
					return fault.New(fault.Invalid, "signature.sample",
						"the signature has an input %q, which the sample does not have", c.Name).In("signature").
						Do("the sample has %s", strings.Join(g.profiler.Columns(), ", "))
				}
			}
		}
		targets := reg.Targets
		if reg.Signature != nil && len(targets) == 0 {
			for _, c := range reg.Signature.Outputs {
				if slices.Contains(g.profiler.Columns(), c.Name) {
					targets = append(targets, c.Name)
				}
			}
		}
		if seen, err = g.profiler.Signature(targets, reg.Units); err != nil {
			return err
		}
	} else if len(reg.Targets) > 0 || len(reg.Units) > 0 {
		return fault.New(fault.Invalid, "sample.missing", "targets or units are named, but there is no sample").
			In("sample").Do("give one with -sample")
	}
	var declared *signature.Signature
	for _, a := range v.Artifacts {
		if a.Contents.Signature != nil && declared == nil {
			declared = a.Contents.Signature
		}
	}
	switch {
	case reg.Signature != nil:
		v.Signature = reg.Signature.Completed(seen)
	case seen != nil:
		v.Signature = seen.TypedBy(declared)
	default:
		v.Signature = declared
	}
	if err := markSensitive(v.Signature, reg.Sensitive); err != nil {
		return err
	}
	if v.Signature != nil {
		v.SampleRequest = v.Signature.SampleRequest(g.profiler.First)
	}
	return nil
}

// markSensitive marks inputs by whose groups quality and predictions are looked at.
func markSensitive(s *signature.Signature, names []string) error {
	for _, name := range names {
		at := -1
		if s != nil {
			at = slices.IndexFunc(s.Inputs, func(c signature.Column) bool { return c.Name == name })
		}
		if at < 0 {
			return fault.New(fault.Invalid, "signature.sensitive", "the version has no input %q", name).In("sensitive").
				Do("name one of its inputs")
		}
		s.Inputs[at].Sensitive = true
	}
	return nil
}

// open opens the file to be read, and finds out what it is.
func (f *File) open() (*os.File, string, error) {
	opened, err := f.Upload.Open()
	if err != nil {
		return nil, "", fmt.Errorf("reading %s: %w", f.Name, err)
	}
	media, err := mediaType(f.Name, opened)
	if err != nil {
		_ = opened.Close()
		return nil, "", err
	}
	return opened, media, nil
}

// know reads what the version must answer.
func (g *gathered) know(reg wire.Registration) error {
	if g.answers == nil {
		if reg.Tolerance != 0 {
			return fault.New(fault.Invalid, "answers.tolerance", "a tolerance is given, but no answers").
				In("tolerance").Do("give them with -answers")
		}
		return nil
	}
	opened, _, err := g.answers.open()
	if err != nil {
		return err
	}
	defer opened.Close()
	cases, err := intake.Answers(g.answers.Name, opened, g.answers.Upload.Size, g.version.Signature)
	if err != nil {
		return err
	}
	g.version.KnownAnswers = &answers.Known{Cases: cases, Tolerance: reg.Tolerance, Origin: answers.Registered}
	return g.version.KnownAnswers.Check()
}

// mediaType finds out what an attachment is: from its bytes, and where those say no more
// than text, from its name. What a browser would run is text.
func mediaType(name string, f *os.File) (string, error) {
	head := make([]byte, 512)
	n, err := f.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return "", fmt.Errorf("reading %s: %w", name, err)
	}
	return sniff(strings.ToLower(path.Ext(name)), head[:n]), nil
}
