package registry

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/blob"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

func uploading(p blob.Partial) wire.Uploading {
	return wire.Uploading{
		ID: p.ID, Name: p.Name, Size: max(0, p.Size), Offset: p.Offset, Complete: p.Digest != "", Digest: p.Digest,
	}
}

// UploadsLast is how long an upload in pieces may rest before it is forgotten.
const UploadsLast = 24 * time.Hour

// BeginUpload begins an upload in pieces; size is −1 when it is not known.
func (s *Service) BeginUpload(ctx context.Context, by act.Actor, name string, size int64) (wire.Uploading, error) {
	if err := by.May(access.Register); err != nil {
		return wire.Uploading{}, err
	}
	if err := checkFileName("name", name); err != nil {
		return wire.Uploading{}, err
	}
	if _, err := s.blobs.ForgetOlder(s.Now().Add(-UploadsLast)); err != nil {
		s.Log.Warn("old uploads were not forgotten", "error", err)
	}
	p, err := s.blobs.Begin(by.Name, name, size, s.Now())
	return uploading(p), err
}

// Upload finds an upload of whoever asks.
func (s *Service) Upload(ctx context.Context, by act.Actor, id string) (wire.Uploading, error) {
	p, err := s.ownUpload(ctx, by, id)
	return uploading(p), err
}

// ownUpload finds an upload; those of others are not found.
func (s *Service) ownUpload(ctx context.Context, by act.Actor, id string) (blob.Partial, error) {
	if err := by.May(access.Register); err != nil {
		return blob.Partial{}, err
	}
	p, err := s.blobs.Partial(id)
	if errors.Is(err, fs.ErrNotExist) || (err == nil && p.By != by.Name) {
		return blob.Partial{}, noUpload(id)
	}
	return p, err
}

// AppendUpload adds a piece to an upload. When the connection breaks, what has come
// stays.
func (s *Service) AppendUpload(ctx context.Context, by act.Actor, id string, offset int64, r io.Reader,
	complete bool,
) (wire.Uploading, error) {
	p, err := s.ownUpload(ctx, by, id)
	if err != nil {
		return wire.Uploading{}, err
	}
	after, err := s.blobs.Append(id, offset, r, complete, s.Now())
	switch {
	case errors.Is(err, blob.ErrOffset):
		return uploading(after), fault.New(fault.Refused, "upload.offset",
			"the piece begins at byte %d, the upload ends at %d", offset, after.Offset).In("Upload-Offset").
			Do("ask for the offset with HEAD and go on from there")
	case errors.Is(err, blob.ErrBusy):
		return uploading(p), fault.New(fault.Refused, "upload.busy", "another connection is writing to the upload").
			In("upload").Do("wait for it to end and ask for the offset again")
	case errors.Is(err, blob.ErrComplete):
		return uploading(after), fault.New(fault.Refused, "upload.complete", "the upload is complete").In("upload").
			Do("register a version with it, or begin another")
	case errors.Is(err, blob.ErrTooLong):
		return uploading(after), fault.New(fault.Invalid, "upload.too_long", "more than the announced %d bytes came",
			p.Size).In("Upload-Length").Do("begin another upload with the right length")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return uploading(after), fault.New(fault.Invalid, "upload.cut", "the piece breaks off after byte %d",
			after.Offset).In("body").Do("go on from there; nothing is lost")
	}
	return uploading(after), err
}

// DropUpload forgets an upload.
func (s *Service) DropUpload(ctx context.Context, by act.Actor, id string) error {
	if _, err := s.ownUpload(ctx, by, id); err != nil {
		return err
	}
	if _, taken := s.held.LoadOrStore(id, true); taken {
		return inUse()
	}
	defer s.held.Delete(id)
	if err := s.blobs.Forget(id); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil // somebody was quicker
}

// useUpload takes a complete upload as a file of a registration.
func (s *Service) useUpload(ctx context.Context, by act.Actor, use wire.UploadUse) (*File, error) {
	part, err := wire.PartOf("uploads.part", string(use.Part))
	if err != nil {
		return nil, err
	}
	p, err := s.ownUpload(ctx, by, use.ID)
	if err != nil {
		return nil, err
	}
	u, err := s.blobs.Use(use.ID)
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		return nil, notComplete(p)
	case errors.Is(err, fs.ErrNotExist): // it was used, or forgotten, in this moment
		return nil, noUpload(use.ID)
	case errors.Is(err, blob.ErrBusy):
		return nil, inUse()
	}
	if err != nil {
		return nil, err
	}
	name := use.Name
	if name == "" {
		name = p.Name
	}
	return &File{Part: part, Name: name, Upload: u}, checkFileName(part, name)
}

func noUpload(id string) error {
	return fault.New(fault.Unknown, "upload.unknown", "there is no upload %q of yours", id).In("upload").
		Do("begin one with POST /uploads; those that rest for %s are forgotten", UploadsLast)
}

func notComplete(p blob.Partial) error {
	return fault.New(fault.Refused, "upload.not_complete", "%s is not complete: %d bytes have come", p.Name, p.Offset).
		In("upload").Do("send the rest first")
}

// LookAtUpload reads a complete upload as a part of a registration would be.
func (s *Service) LookAtUpload(ctx context.Context, by act.Actor, id string, part wire.Part,
	targets []string,
) (wire.LookedAt, error) {
	if _, err := wire.PartOf("part", string(part)); err != nil {
		return wire.LookedAt{}, err
	}
	p, err := s.ownUpload(ctx, by, id)
	if err != nil {
		return wire.LookedAt{}, err
	}
	f, err := s.blobs.OpenPartial(id)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return wire.LookedAt{}, notComplete(p)
	}
	if err != nil {
		return wire.LookedAt{}, err
	}
	defer f.Close()
	out, err := intake.Look(part, p.Name, f, p.Size, targets)
	out.Digest = p.Digest
	return out, err
}

// sniff is the media type of a file with an extension and a beginning.
func sniff(extension string, head []byte) string {
	media := http.DetectContentType(head)
	if media == "text/plain; charset=utf-8" || strings.HasPrefix(media, "text/html") ||
		strings.HasPrefix(media, "text/xml") {
		switch extension {
		case ".md":
			return "text/markdown; charset=utf-8"
		case ".csv":
			return "text/csv; charset=utf-8"
		case ".json", ".ipynb":
			return "application/json"
		}
		return "text/plain; charset=utf-8"
	}
	return media
}
