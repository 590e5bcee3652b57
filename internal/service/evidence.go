package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/compare"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/store"
)

// largestReport is how large a report may be that is read; documents and pictures are not.
const largestReport = 64 << 20

// AttachEvidence attaches a report to a version, read for what it says. verdict is that of
// who attaches it, empty for none.
func (s *Service) AttachEvidence(ctx context.Context, ref, kind, verdict string, f *File) (*registry.Evidence, error) {
	if err := registry.CheckEvidenceKind("kind", kind); err != nil {
		return nil, err
	}
	opened, err := f.Upload.Open()
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", f.Name, err)
	}
	defer opened.Close()
	media, err := mediaType(f.Name, opened)
	if err != nil {
		return nil, err
	}
	if kind == registry.PictureKind && !strings.HasPrefix(media, "image/") {
		return nil, fault.New(fault.Invalid, "evidence.picture", "%s is no picture but %s", f.Name, media).In("file").Do("attach it with -kind document")
	}
	if f.Upload.Size > largestReport && kind != registry.PictureKind && kind != registry.DocumentKind {
		return nil, fault.New(fault.TooLarge, "evidence.large", "%s has %d bytes", f.Name, f.Upload.Size).In("file").Do("attach a report of at most %d MiB", largestReport>>20)
	}
	findings, own, err := registry.ReadEvidence(kind, verdict, opened)
	if err != nil {
		return nil, err
	}
	return change(ctx, s, access.Register, func(t *tx) (*registry.Evidence, error) {
		v, err := s.resolve(ctx, t.Records, "version", ref)
		if err != nil {
			return nil, err
		}
		if err := t.need(v.Project); err != nil {
			return nil, err
		}
		if err := f.Upload.Keep(); err != nil {
			return nil, err
		}
		e := &registry.Evidence{Version: v.Ref, Project: v.Project, Kind: kind, Name: f.Name, Digest: f.Upload.Digest, Size: f.Upload.Size, Media: media, Verdict: own,
			AddedBy: t.actor.Name, AddedAt: t.now, Findings: findings}
		if err := t.AddEvidence(ctx, e); err != nil {
			return nil, err
		}
		said := fmt.Sprintf("%s: %s was attached to %s as evidence of kind %s.", e.ID, e.Name, v.Ref, kind)
		if findings.Says != "" {
			said = fmt.Sprintf("%s: %s was attached to %s as evidence of kind %s: %s.", e.ID, e.Name, v.Ref, kind, findings.Says)
		}
		return e, t.note(ctx, entry{Project: v.Project, Kind: "evidence.attached", Subject: v.Ref, Also: []string{e.ID}, Sentence: said,
			After: map[string]any{"id": e.ID, "kind": kind, "name": e.Name, "digest": e.Digest, "verdict": own}})
	})
}

// EvidenceOf lists the reports of a version, newest first.
func (s *Service) EvidenceOf(ctx context.Context, ref string) (Listed[registry.Evidence], error) {
	v, err := s.Version(ctx, ref)
	if err != nil {
		return Listed[registry.Evidence]{}, err
	}
	all, err := s.records(ctx).EvidenceOf(ctx, v.Ref)
	return Listed[registry.Evidence]{Items: all}, err
}

// Report finds a piece of evidence.
func (s *Service) Report(ctx context.Context, id string) (*registry.Evidence, error) {
	if _, err := may(ctx, access.Read); err != nil {
		return nil, err
	}
	n, err := registry.ParseEvidenceID("evidence", id)
	if err != nil {
		return nil, err
	}
	e, err := s.records(ctx).Evidence(ctx, n)
	if errors.Is(err, store.ErrNone) {
		return nil, fault.New(fault.Unknown, "evidence.unknown", "there is no %s", registry.EvidenceID(n)).In("evidence").Do("see what is attached with: innerladder evidence MODEL@NUMBER")
	}
	return e, err
}

// ReportFile opens the file of a piece of evidence; the caller closes it.
func (s *Service) ReportFile(ctx context.Context, id string) (*registry.Evidence, *os.File, error) {
	e, err := s.Report(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	f, err := s.blobs.Open(e.Digest)
	if err != nil {
		return nil, nil, fmt.Errorf("opening %s: %w", e.ID, err)
	}
	return e, f, nil
}

// Review is everything that someone reads who reviews a promotion.
type Review struct {
	Promotion ladder.Promotion `json:"promotion"`
	Checklist []ladder.Listed  `json:"checklist"`
	CarryOut  string           `json:"carry_out" enum:"at_once,by_hand"`
	// SignRoles and Reviewers say who can answer.
	SignRoles []string          `json:"sign_roles" description:"roles that may sign; everyone with the permission when there are none"`
	Candidate registry.Version  `json:"candidate"`
	Incumbent *registry.Version `json:"incumbent,omitempty"`
	Diff      *registry.Diff    `json:"diff,omitempty" description:"from the incumbent to the candidate"`
	// Evidence has the newest report of each kind.
	Evidence          []registry.Evidence `json:"evidence" description:"the newest of each kind"`
	IncumbentEvidence []registry.Evidence `json:"incumbent_evidence" description:"the newest of each kind"`
	// Measured is how the two behaved where both answered, over the last day.
	Measured []compare.Comparison `json:"measured" description:"how both behaved where both answered, over the last day"`
	Answers  []string             `json:"answers" description:"endpoints that the candidate answers for now"`
}

// measuredOver is how far back a review looks at behaviour.
const measuredOver = 24 * time.Hour

// Review gathers what someone reads who reviews a promotion.
func (s *Service) Review(ctx context.Context, id string) (Review, error) {
	p, err := s.Promotion(ctx, id)
	if err != nil {
		return Review{}, err
	}
	r := s.records(ctx)
	l, err := r.Ladder(ctx, p.Project)
	if err != nil {
		return Review{}, err
	}
	v, err := s.resolve(ctx, r, "version", p.Version)
	if err != nil {
		return Review{}, err
	}
	out := Review{Promotion: *p, Checklist: l.Checklist(p), CarryOut: l.CarryOut, SignRoles: append([]string{}, l.Rung(p.To).Sign...), Candidate: *v, Evidence: []registry.Evidence{}, IncumbentEvidence: []registry.Evidence{}, Measured: []compare.Comparison{}}
	if out.Answers, err = r.EndpointsAnsweredBy(ctx, v.Ref); err != nil {
		return out, err
	}
	if out.Evidence, err = newestEvidence(ctx, r, v.Ref); err != nil || p.Incumbent == "" {
		return out, err
	}
	if out.Incumbent, err = s.resolve(ctx, r, "incumbent", p.Incumbent); fault.Is(err, fault.Unknown) {
		out.Incumbent = nil // deleted since
		return out, nil
	} else if err != nil {
		return out, err
	}
	d := registry.DiffVersions(out.Incumbent, v)
	out.Diff = &d
	if out.IncumbentEvidence, err = newestEvidence(ctx, r, p.Incumbent); err != nil {
		return out, err
	}
	endpoints, err := r.Endpoints(ctx)
	if err != nil {
		return out, err
	}
	for _, e := range endpoints {
		if e.Model != v.Model {
			continue
		}
		c, err := s.Compare(ctx, e.Name, p.Incumbent, v.Ref, measuredOver)
		if err != nil {
			return out, err
		}
		if c.IncumbentRequests > 0 && c.CandidateRequests > 0 {
			out.Measured = append(out.Measured, c)
		}
	}
	return out, nil
}

func newestEvidence(ctx context.Context, r store.Records, ref string) ([]registry.Evidence, error) {
	all, err := r.EvidenceOf(ctx, ref)
	out := []registry.Evidence{}
	for _, e := range all {
		if !slices.ContainsFunc(out, func(o registry.Evidence) bool { return o.Kind == e.Kind }) {
			out = append(out, e)
		}
	}
	return out, err
}
