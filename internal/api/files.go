package api

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/app/act"
	appregistry "innerladder/internal/app/registry"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

// fileOperations lists the routes that take or give files.
func fileOperations() []operation {
	return []operation{
		{
			method: "POST", path: "/versions", id: "register", summary: "Register a version with its files",
			permission: access.Register, status: 201, streams: true,
			in: new(registerIn), alone: new(wire.Registration), out: new(wire.Registered),
			handle: (*API).register,
		},
		{
			method: "GET", path: "/versions/{ref}/artifacts/{artifact}", id: "getArtifact",
			summary: "Get a file of a version", permission: access.Read, status: 200,
			in: new(artifactIn), produces: fiber.MIMEOctetStream, handle: (*API).artifact,
		},
		{
			method: "POST", path: "/versions/{ref}/attachments", id: "attach",
			summary: "Attach a document, a notebook or a picture to a version", permission: access.Register,
			status: 201, streams: true,
			in: new(attachIn), out: new(registry.Version), handle: (*API).attach,
		},
		{
			method: "POST", path: "/versions/{ref}/evidence", id: "attachEvidence",
			summary:    "Attach a report to a version, read for what it says; it cannot be changed",
			permission: access.Register, status: 201, streams: true,
			in: new(evidenceIn), out: new(evidence.Evidence), handle: (*API).attachEvidence,
		},
		{
			method: "GET", path: "/evidence/{evidence}/file", id: "getEvidence", summary: "Get the file of a report",
			permission: access.Read, status: 200,
			in: new(reportIn), produces: fiber.MIMEOctetStream, handle: (*API).evidenceFile,
		},
		{
			method: "GET", path: "/versions/{ref}/attachments/{attachment}", id: "getAttachment",
			summary: "Get an attachment of a version", permission: access.Read, status: 200,
			in: new(attachmentIn), produces: fiber.MIMEOctetStream, handle: (*API).attachment,
		},
		{
			method: "POST", path: "/uploads", id: "beginUpload",
			summary:    "Begin an upload that may come in pieces, with the first piece as the body if there is one",
			permission: access.Register, status: 201, streams: true, takes: "application/partial-upload",
			in: new(beginIn), out: new(wire.Uploading), handle: (*API).beginUpload,
		},
		{
			method: "GET", path: "/uploads/{upload}", id: "showUpload",
			summary: "How far an upload is; HEAD gives the same as headers", permission: access.Register, status: 200,
			in: new(uploadIn), out: new(wire.Uploading), handle: (*API).showUpload,
		},
		{
			method: "PATCH", path: "/uploads/{upload}", id: "appendUpload",
			summary: "Add a piece to an upload, as application/partial-upload", permission: access.Register,
			status: 200, streams: true, takes: "application/partial-upload",
			in: new(pieceIn), out: new(wire.Uploading), handle: (*API).appendUpload,
		},
		{
			method: "DELETE", path: "/uploads/{upload}", id: "dropUpload", summary: "Forget an upload",
			permission: access.Register, status: 204,
			in: new(uploadIn), handle: (*API).dropUpload,
		},
	}
}

// registerIn describes the parts of a registration for the document.
type registerIn struct {
	Spec         string           `formData:"spec" required:"true" description:"a Registration as JSON, as it can also be sent alone when the files come from uploads or addresses"`
	Artifact     []multipart.File `formData:"artifact" description:"the files of the version; or uploads and sources in the spec"`
	Sample       multipart.File   `formData:"sample" description:"example rows as CSV, Parquet, JSON or JSON lines; signature, sample request and reference profile are read from them"`
	Reference    multipart.File   `formData:"reference" description:"rows for the reference profile, when they are not the sample"`
	Card         multipart.File   `formData:"card" description:"the model card, Markdown"`
	Requirements multipart.File   `formData:"requirements" description:"a requirements file"`
	Attachment   []multipart.File `formData:"attachment" description:"documents, notebooks, pictures"`
	Report       []multipart.File `formData:"report" description:"reports, attached as evidence"`
}

// largestSpec bounds the JSON part of a registration.
const largestSpec = 2 << 20

// parts reads a multipart form part by part, so that files of any size pass through
// without being held in memory.
func parts(c fiber.Ctx, expected string, take func(*multipart.Part) error) (err error) {
	kind, params, err := mime.ParseMediaType(c.Get(fiber.HeaderContentType))
	if err != nil || kind != fiber.MIMEMultipartForm {
		return fault.New(fault.Invalid, "register.form", "the request is no multipart form").In("Content-Type").
			Do("send multipart/form-data with the parts %s", expected)
	}
	body := c.Request().BodyStream()
	if body == nil {
		return fault.New(fault.Invalid, "request.empty", "the request has no body").In("body").
			Do("send multipart/form-data with the parts %s", expected)
	}
	defer func() {
		if err != nil {
			hearOut(c, heardOut)
		}
	}()
	form := multipart.NewReader(body, params["boundary"])
	for {
		part, err := form.NextPart()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fault.New(fault.Invalid, "register.cut", "the form breaks off: %v", err).In("body").
				Do("send it again; nothing was kept")
		}
		if err := take(part); err != nil {
			var known *fault.Fault
			if errors.Is(err, io.ErrUnexpectedEOF) && !errors.As(err, &known) {
				return fault.New(fault.Invalid, "register.cut", "%s breaks off", part.FileName()).In(part.FormName()).
					Do("send it again; nothing was kept")
			}
			return err
		}
	}
}

func (a *API) register(c fiber.Ctx, by act.Actor) error {
	if strings.HasPrefix(c.Get(fiber.HeaderContentType), fiber.MIMEApplicationJSON) {
		return a.registerAlone(c, by)
	}
	var spec *wire.Registration
	var files []*appregistry.File
	defer func() {
		for _, f := range files {
			f.Upload.Discard()
		}
	}()
	err := parts(c, "spec, "+wire.PartNames(), func(part *multipart.Part) error {
		name := part.FormName()
		if name == "spec" {
			text, err := io.ReadAll(io.LimitReader(part, largestSpec+1))
			if err != nil {
				return err
			}
			if len(text) > largestSpec {
				return fault.New(fault.TooLarge, "register.spec", "the spec is larger than %d MiB", largestSpec>>20).
					In("spec").Do("send what is large as files")
			}
			spec = new(wire.Registration)
			return decode(text, spec)
		}
		as, err := wire.PartOf(name, name)
		if err != nil {
			return err
		}
		f, err := a.app.Registry.Receive(c.Context(), by, as, part.FileName(), part)
		if err == nil {
			files = append(files, f)
		}
		return err
	})
	if err != nil {
		return err
	}
	if spec == nil {
		return fault.New(fault.Invalid, "register.no_spec", "the form has no part spec").In("spec").
			Do("send a Registration as JSON")
	}
	return a.enter(c, by, *spec, files)
}

// registerAlone registers a version whose files were uploaded before or are at
// addresses.
func (a *API) registerAlone(c fiber.Ctx, by act.Actor) error {
	if err := bound(c, largestBody); err != nil {
		return err
	}
	var spec wire.Registration
	if err := read(c, &spec); err != nil {
		return err
	}
	return a.enter(c, by, spec, nil)
}

func (a *API) enter(c fiber.Ctx, by act.Actor, spec wire.Registration, files []*appregistry.File) error {
	out, err := a.app.Registry.Register(c.Context(), by, spec, files)
	if err != nil {
		return err
	}
	status := fiber.StatusCreated
	if !out.Created {
		status = fiber.StatusOK
	}
	c.Location(base + "/versions/" + out.Ref)
	return c.Status(status).JSON(out)
}

type artifactIn struct {
	refIn
	Artifact string `uri:"artifact" path:"artifact"`
}

func (a *API) artifact(c fiber.Ctx, by act.Actor) error {
	var in artifactIn
	if err := read(c, &in); err != nil {
		return err
	}
	meta, f, err := a.app.Registry.Artifact(c.Context(), by, in.Ref, in.Artifact)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, fiber.MIMEOctetStream)
	c.Set(fiber.HeaderContentDisposition, "attachment; filename*=UTF-8''"+url.PathEscape(meta.Name))
	return sendFile(c, f, meta.Size, meta.Digest)
}

// sendFile sends a file that never changes: whole, or the part that is asked for (RFC 9110, 14), or nothing where the
// caller has it. It closes the file, at the latest when all is sent.
func sendFile(c fiber.Ctx, f io.ReadSeekCloser, size int64, digest string) error {
	tag := strconv.Quote(digest)
	c.Set(fiber.HeaderETag, tag)
	c.Set(fiber.HeaderAcceptRanges, "bytes")
	if has(c.Get(fiber.HeaderIfNoneMatch), tag) {
		c.Response().Header.Del(fiber.HeaderContentType)
		c.Status(fiber.StatusNotModified)
		return f.Close()
	}
	since := c.Get(fiber.HeaderIfRange)
	if c.Method() != fiber.MethodGet || c.Get(fiber.HeaderRange) == "" || since != "" && since != tag {
		return c.SendStream(f, int(size))
	}
	wanted, err := c.Range(size)
	switch {
	case errors.Is(err, fiber.ErrRequestedRangeNotSatisfiable), errors.Is(err, fiber.ErrRangeUnsatisfiable):
		c.Set(fiber.HeaderContentRange, fmt.Sprintf("bytes */%d", size))
		return errors.Join(f.Close(), plain{fiber.StatusRequestedRangeNotSatisfiable, fault.New(fault.Invalid,
			"file.range", "the file has %d bytes", size).In("Range").Do("ask for bytes that it has")})
	case err != nil || wanted.Type != "bytes" || len(wanted.Ranges) != 1:
		c.Status(fiber.StatusOK)
		c.Response().Header.Del(fiber.HeaderContentRange)
		return c.SendStream(f, int(size)) // several parts, and what cannot be read, are answered with the whole
	}
	part := wanted.Ranges[0]
	if _, err := f.Seek(int64(part.Start), io.SeekStart); err != nil {
		return errors.Join(err, f.Close())
	}
	n := part.End - part.Start + 1
	c.Status(fiber.StatusPartialContent)
	c.Set(fiber.HeaderContentRange, fmt.Sprintf("bytes %d-%d/%d", part.Start, part.End, size))
	return c.SendStream(struct {
		io.Reader
		io.Closer
	}{io.LimitReader(f, int64(n)), f}, int(n))
}

type attachIn struct {
	refIn
	Attachment multipart.File `formData:"attachment" required:"true"`
}

func (a *API) attach(c fiber.Ctx, by act.Actor) error {
	var in refIn
	if err := c.Bind().URI(&in); err != nil {
		return err
	}
	return a.oneFile(c, by, "attachment",
		func(file *appregistry.File) (any, error) { return a.app.Registry.Attach(c.Context(), by, in.Ref, file) })
}

// oneFile receives a form with one file and answers with what is made of it.
func (a *API) oneFile(c fiber.Ctx, by act.Actor, name string, made func(*appregistry.File) (any, error)) error {
	var file *appregistry.File
	defer func() {
		if file != nil {
			file.Upload.Discard()
		}
	}()
	err := parts(c, string(wire.PartAttachment), func(part *multipart.Part) (err error) {
		if part.FormName() != name || file != nil {
			return fault.New(fault.Invalid, "attach.part", "the form has a part %q too many", part.FormName()).
				In(part.FormName()).Do("send one part %s", name)
		}
		file, err = a.app.Registry.Receive(c.Context(), by, wire.PartAttachment, part.FileName(), part)
		return err
	})
	if err != nil {
		return err
	}
	if file == nil {
		return fault.New(fault.Invalid, "attach.none", "the form has no part %s", name).In(name).
			Do("send the file as the part %s", name)
	}
	out, err := made(file)
	if err != nil {
		return err
	}
	return c.Status(fiber.StatusCreated).JSON(out)
}

// evidenceKind is the name of a kind of evidence.
type evidenceKind string

// Enum lists them for the document of the API.
func (evidenceKind) Enum() (out []any) {
	for _, k := range evidence.Kinds() {
		out = append(out, k)
	}
	return out
}

type evidenceIn struct {
	refIn
	Kind    evidenceKind   `query:"kind" json:"-" required:"true"`
	Verdict string         `query:"verdict" json:"-" enum:"passed,failed" description:"where the report says none itself"`
	File    multipart.File `formData:"file" required:"true"`
}

func (a *API) attachEvidence(c fiber.Ctx, by act.Actor) error {
	var in struct {
		Ref     string `uri:"ref"`
		Kind    string `query:"kind"`
		Verdict string `query:"verdict"`
	}
	if err := errors.Join(c.Bind().URI(&in), c.Bind().Query(&in)); err != nil {
		return err
	}
	return a.oneFile(c, by, "file", func(file *appregistry.File) (any, error) {
		return a.app.Registry.AttachEvidence(c.Context(), by, in.Ref, in.Kind, in.Verdict, file)
	})
}

type reportIn struct {
	Evidence string `uri:"evidence" path:"evidence" json:"-" description:"E-NUMBER"`
}

func (a *API) evidenceFile(c fiber.Ctx, by act.Actor) error {
	var in reportIn
	if err := read(c, &in); err != nil {
		return err
	}
	e, f, err := a.app.Registry.ReportFile(c.Context(), by, in.Evidence)
	if err != nil {
		return err
	}
	return sendLoose(c, e.Name, e.Media, e.Digest, f, e.Size)
}

type attachmentIn struct {
	refIn
	Attachment string `uri:"attachment" path:"attachment" json:"-"`
}

// attachment gives an attachment so that a browser can show it but never run it: text
// and pictures of formats without scripts are shown, everything else is saved.
func (a *API) attachment(c fiber.Ctx, by act.Actor) error {
	var in attachmentIn
	if err := read(c, &in); err != nil {
		return err
	}
	meta, f, err := a.app.Registry.Attachment(c.Context(), by, in.Ref, in.Attachment)
	if err != nil {
		return err
	}
	return sendLoose(c, meta.Name, meta.Media, meta.Digest, f, meta.Size)
}

// sendLoose sends a file that somebody uploaded, so that a browser never runs it.
func sendLoose(c fiber.Ctx, name, media, digest string, f *os.File, size int64) error {
	how := "attachment"
	kind, _, _ := strings.Cut(media, ";")
	if slices.Contains([]string{
		"image/png", "image/jpeg", "image/gif", "image/webp", "text/plain", "text/markdown",
		"text/csv",
	}, kind) {
		how = "inline"
	}
	c.Set(fiber.HeaderContentType, media)
	c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
	c.Set(fiber.HeaderContentSecurityPolicy, "default-src 'none'; sandbox")
	c.Set(fiber.HeaderContentDisposition, how+"; filename*=UTF-8''"+url.PathEscape(name))
	return sendFile(c, f, size, digest)
}

// Uploads in pieces follow the IETF's work on resumable uploads for HTTP
// (draft-ietf-httpbis-resumable-upload): Upload-Offset, Upload-Complete, Upload-Length.

type uploadIn struct {
	Upload string `uri:"upload" path:"upload" json:"-"`
}

type beginIn struct {
	Name     string `query:"name" json:"-" required:"true" description:"of the file"`
	Length   string `header:"Upload-Length" json:"-" description:"bytes of the whole file, when known"`
	Complete string `header:"Upload-Complete" json:"-" description:"?1 when the body is the whole file, ?0 when more follows"`
}

type pieceIn struct {
	uploadIn
	Offset   string `header:"Upload-Offset" json:"-" required:"true" description:"byte at which the piece begins"`
	Complete string `header:"Upload-Complete" json:"-" description:"?1 with the last piece"`
}

func (a *API) beginUpload(c fiber.Ctx, by act.Actor) error {
	var in beginIn
	if err := read(c, &in); err != nil {
		return err
	}
	size := int64(-1)
	if in.Length != "" {
		n, err := strconv.ParseInt(in.Length, 10, 64)
		if err != nil || n < 0 {
			return fault.New(fault.Invalid, "upload.length", "Upload-Length is %q", in.Length).In("Upload-Length").
				Do("give a number of bytes")
		}
		size = n
	}
	up, err := a.app.Registry.BeginUpload(c.Context(), by, in.Name, size)
	if err != nil {
		return err
	}
	c.Location(base + "/uploads/" + up.ID)
	if body := c.Request().BodyStream(); body != nil && c.Request().Header.ContentLength() != 0 {
		if up, err = a.app.Registry.AppendUpload(c.Context(), by, up.ID, 0, body, in.Complete == "?1"); err != nil {
			hearOut(c, heardOut)
			return err
		}
	}
	return uploadAnswer(c, fiber.StatusCreated, up)
}

func uploadAnswer(c fiber.Ctx, status int, up wire.Uploading) error {
	c.Set("Upload-Offset", strconv.FormatInt(up.Offset, 10))
	complete := "?0"
	if up.Complete {
		complete = "?1"
	}
	c.Set("Upload-Complete", complete)
	return c.Status(status).JSON(up)
}

func (a *API) showUpload(c fiber.Ctx, by act.Actor) error {
	up, err := a.app.Registry.Upload(c.Context(), by, c.Params("upload"))
	if err != nil {
		return err
	}
	return uploadAnswer(c, fiber.StatusOK, up)
}

func (a *API) appendUpload(c fiber.Ctx, by act.Actor) error {
	var in pieceIn
	if err := read(c, &in); err != nil {
		return err
	}
	offset, err := strconv.ParseInt(in.Offset, 10, 64)
	if err != nil || offset < 0 {
		return fault.New(fault.Invalid, "upload.offset_form", "Upload-Offset is %q", in.Offset).In("Upload-Offset").
			Do("give the byte at which the piece begins; HEAD tells how many have come")
	}
	var body io.Reader = strings.NewReader("")
	if stream := c.Request().BodyStream(); stream != nil {
		body = stream
	}
	up, err := a.app.Registry.AppendUpload(c.Context(), by, in.Upload, offset, body, in.Complete == "?1")
	if err != nil {
		c.Set("Upload-Offset", strconv.FormatInt(up.Offset, 10))
		hearOut(c, heardOut)
		return err
	}
	return uploadAnswer(c, fiber.StatusOK, up)
}

func (a *API) dropUpload(c fiber.Ctx, by act.Actor) error {
	if err := a.app.Registry.DropUpload(c.Context(), by, c.Params("upload")); err != nil {
		return err
	}
	return c.SendStatus(fiber.StatusNoContent)
}
