package registry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// report is a file that was read as evidence.
type report struct {
	evidence.Evidence
	file *File
}

// readReport reads a file for what it says as evidence of a kind. verdict is that of who attaches
// it, empty for none; ours says that the service has made it.
func readReport(kind, verdict string, f *File, ours bool) (report, error) {
	if err := evidence.CheckKind("kind", kind); err != nil {
		return report{}, err
	}
	opened, media, err := f.open()
	if err != nil {
		return report{}, err
	}
	defer opened.Close()
	if kind == evidence.PictureKind && !strings.HasPrefix(media, "image/") {
		return report{}, fault.New(fault.Invalid, "evidence.picture", "%s is no picture but %s", f.Name, media).
			In("file").Do("attach it with -kind document")
	}
	if err := evidence.CheckSize(kind, f.Name, f.Upload.Size); err != nil {
		return report{}, err
	}
	findings, own, err := evidence.Read(kind, verdict, opened)
	if err == nil && !ours {
		err = findings.CheckForeign()
	}
	if err != nil {
		return report{}, err
	}
	return report{evidence.Evidence{
		Kind: kind, Name: f.Name, Digest: f.Upload.Digest, Size: f.Upload.Size, Media: media, Verdict: own,
		Findings: findings,
	}, f}, nil
}

// recognise reads a file that comes with a registration as evidence of the kind that it is.
func recognise(f *File) (report, error) {
	if err := evidence.CheckSize("", f.Name, f.Upload.Size); err != nil {
		return report{}, err
	}
	opened, _, err := f.open()
	if err != nil {
		return report{}, err
	}
	kind := evidence.KindOf(opened)
	if err := opened.Close(); err != nil {
		return report{}, err
	}
	if kind == "" {
		return report{}, fault.New(fault.Invalid, "evidence.kind", "%s is no report whose kind can be told", f.Name).
			In(string(f.Part)).
			Do("attach it to the version afterwards with: innerladder attach MODEL@NUMBER -kind KIND FILE")
	}
	return readReport(kind, "", f, false)
}

// AttachEvidence attaches a report to a version, read for what it says. verdict is that of
// who attaches it, empty for none.
func (s *Service) AttachEvidence(ctx context.Context, by act.Actor, ref, kind, verdict string,
	f *File,
) (*evidence.Evidence, error) {
	read, err := readReport(kind, verdict, f, false)
	if err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*evidence.Evidence, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		return s.enterReport(ctx, t, v, read)
	})
}

// AttachOwn attaches a report that the service has made itself, in a transaction that is under way.
func (s *Service) AttachOwn(ctx context.Context, t *act.Tx, ref, kind, verdict, name string,
	content any,
) (*evidence.Evidence, error) {
	v, err := s.Resolve(ctx, t.View, "version", ref)
	if err != nil {
		return nil, err
	}
	text, is := content.([]byte) // as it is; else it is written as JSON
	if !is {
		if text, err = json.MarshalIndent(content, "", "  "); err != nil {
			return nil, err
		}
		text = append(text, '\n')
	}
	u, err := s.blobs.Receive(bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	f := &File{Part: wire.PartReport, Name: name, Upload: u}
	defer u.Discard()
	read, err := readReport(kind, verdict, f, true)
	if err != nil {
		return nil, err
	}
	return s.enterReport(ctx, t, v, read)
}

// enterReport writes down that a report belongs to a version.
func (s *Service) enterReport(ctx context.Context, t *act.Tx, v *registry.Version,
	read report,
) (*evidence.Evidence, error) {
	if err := t.Need(v.Project); err != nil {
		return nil, err
	}
	if err := read.file.Upload.Keep(); err != nil {
		return nil, err
	}
	e := &read.Evidence
	e.Version, e.Project, e.AddedBy, e.AddedAt = v.Ref, v.Project, t.By.Name, t.Now
	if err := t.AddEvidence(ctx, e); err != nil {
		return nil, err
	}
	says := ""
	if e.Says != "" {
		says = ": " + e.Says
	}
	return e, t.Note(ctx, act.Entry{
		Project: v.Project, Kind: "evidence.attached", Subject: v.Ref, Also: []string{e.ID},
		Sentence: fmt.Sprintf("%s: %s was attached to %s as evidence of kind %s%s.", e.ID, e.Name, v.Ref, e.Kind, says),
		After:    map[string]any{"id": e.ID, "kind": e.Kind, "name": e.Name, "digest": e.Digest, "verdict": e.Verdict},
	})
}

// enterReports attaches the reports that came with a registration, but for those that are
// attached already.
func (s *Service) enterReports(ctx context.Context, t *act.Tx, v *registry.Version, reports []report) error {
	if len(reports) == 0 {
		return nil
	}
	there, err := t.EvidenceOf(ctx, v.Ref)
	if err != nil {
		return err
	}
	for _, read := range reports {
		if slices.ContainsFunc(there, func(e evidence.Evidence) bool {
			return e.Digest == read.Digest && e.Kind == read.Kind
		}) {
			continue
		}
		if _, err := s.enterReport(ctx, t, v, read); err != nil {
			return err
		}
	}
	return nil
}

// EvidenceOf lists the reports of a version, newest first.
func (s *Service) EvidenceOf(ctx context.Context, by act.Actor, ref string) (wire.Listed[evidence.Evidence], error) {
	v, err := s.Version(ctx, by, ref)
	if err != nil {
		return wire.Listed[evidence.Evidence]{}, err
	}
	all, err := s.Read(by).EvidenceOf(ctx, v.Ref)
	return wire.Listed[evidence.Evidence]{Items: all}, err
}

// Report finds a piece of evidence.
func (s *Service) Report(ctx context.Context, by act.Actor, id string) (*evidence.Evidence, error) {
	if err := by.May(access.Read); err != nil {
		return nil, err
	}
	n, err := evidence.ParseID("evidence", id)
	if err != nil {
		return nil, err
	}
	e, err := s.Read(by).Evidence(ctx, n)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "evidence.unknown", "there is no %s", evidence.ID(n)).
			In("evidence").Do("see what is attached with: innerladder evidence MODEL@NUMBER")
	}
	return e, err
}

// ReportFile opens the file of a piece of evidence; the caller closes it.
func (s *Service) ReportFile(ctx context.Context, by act.Actor, id string) (*evidence.Evidence, *os.File, error) {
	e, err := s.Report(ctx, by, id)
	if err != nil {
		return nil, nil, err
	}
	f, err := s.blobs.Open(e.Digest)
	if err != nil {
		return nil, nil, fmt.Errorf("opening %s: %w", e.ID, err)
	}
	return e, f, nil
}
