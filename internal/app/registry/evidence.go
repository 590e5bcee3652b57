package registry

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// largestReport is how large a report may be that is read; documents and pictures are not.
const largestReport = 64 << 20

// AttachEvidence attaches a report to a version, read for what it says. verdict is that of
// who attaches it, empty for none.
func (s *Service) AttachEvidence(ctx context.Context, by act.Actor, ref, kind, verdict string,
	f *File,
) (*evidence.Evidence, error) {
	if err := evidence.CheckKind("kind", kind); err != nil {
		return nil, err
	}
	opened, media, err := f.open()
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	if kind == evidence.PictureKind && !strings.HasPrefix(media, "image/") {
		return nil, fault.New(fault.Invalid, "evidence.picture", "%s is no picture but %s", f.Name, media).In("file").
			Do("attach it with -kind document")
	}
	if f.Upload.Size > largestReport && kind != evidence.PictureKind && kind != evidence.DocumentKind {
		return nil, fault.New(fault.TooLarge, "evidence.large", "%s has %d bytes", f.Name, f.Upload.Size).In("file").
			Do("attach a report of at most %d MiB", largestReport>>20)
	}
	findings, own, err := evidence.Read(kind, verdict, opened)
	if err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (*evidence.Evidence, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return nil, err
		}
		if err := t.Need(v.Project); err != nil {
			return nil, err
		}
		if err := f.Upload.Keep(); err != nil {
			return nil, err
		}
		e := &evidence.Evidence{
			Version: v.Ref, Project: v.Project, Kind: kind, Name: f.Name, Digest: f.Upload.Digest,
			Size: f.Upload.Size, Media: media, Verdict: own,
			AddedBy: t.By.Name, AddedAt: t.Now, Findings: findings,
		}
		if err := t.AddEvidence(ctx, e); err != nil {
			return nil, err
		}
		said := fmt.Sprintf("%s: %s was attached to %s as evidence of kind %s.", e.ID, e.Name, v.Ref, kind)
		if findings.Says != "" {
			said = fmt.Sprintf("%s: %s was attached to %s as evidence of kind %s: %s.", e.ID, e.Name, v.Ref, kind,
				findings.Says)
		}
		return e, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "evidence.attached", Subject: v.Ref, Also: []string{e.ID},
			Sentence: said,
			After:    map[string]any{"id": e.ID, "kind": kind, "name": e.Name, "digest": e.Digest, "verdict": own},
		})
	})
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
