package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/wire"
)

// Models lists models; of narrows them down by query parameters, in pairs.
func (c *Client) Models(ctx context.Context, p Part, of ...string) (wire.Listed[registry.Model], error) {
	return call[wire.Listed[registry.Model]](ctx, c, "GET",
		query(path("models"), append(of, "limit", p.limit(), "cursor", p.Cursor)...), nil)
}

// Model shows a model.
func (c *Client) Model(ctx context.Context, name string) (registry.Model, error) {
	return call[registry.Model](ctx, c, "GET", path("models", name), nil)
}

// EditModel changes what may change of a model.
func (c *Client) EditModel(ctx context.Context, name string, e registry.Edit) (registry.Model, error) {
	return call[registry.Model](ctx, c, "PATCH", path("models", name), e)
}

// Vet marks a model as vetted, or takes the mark away.
func (c *Client) Vet(ctx context.Context, name, why string, on bool) (registry.Model, error) {
	return call[registry.Model](ctx, c, "POST", path("models", name, "vetting"),
		map[string]any{"reason": why, "vetted": on})
}

// Projects lists the projects.
func (c *Client) Projects(ctx context.Context) (wire.Listed[registry.Project], error) {
	return whole[registry.Project](ctx, c, path("projects"))
}

// AddProject adds a project.
func (c *Client) AddProject(ctx context.Context, name, description string) (registry.Project, error) {
	return call[registry.Project](ctx, c, "POST", path("projects"),
		map[string]string{"name": name, "description": description})
}

// EditProject changes what is said about a project.
func (c *Client) EditProject(ctx context.Context, name, description, why string) (registry.Project, error) {
	return call[registry.Project](ctx, c, "PATCH", path("projects", name),
		map[string]string{"description": description, "reason": why})
}

// RemoveProject takes away a project in which nothing is.
func (c *Client) RemoveProject(ctx context.Context, name, why string) (registry.Project, error) {
	return call[registry.Project](ctx, c, "DELETE", query(path("projects", name), "reason", why), nil)
}

// RemoveModel takes away a model that has no versions.
func (c *Client) RemoveModel(ctx context.Context, name, why string) (registry.Model, error) {
	return call[registry.Model](ctx, c, "DELETE", query(path("models", name), "reason", why), nil)
}

// Labels lists the labels of a model.
func (c *Client) Labels(ctx context.Context, model string) (wire.Listed[registry.Label], error) {
	return whole[registry.Label](ctx, c, path("models", model, "labels"))
}

// PutLabel puts a label on a version.
func (c *Client) PutLabel(ctx context.Context, model string, number int, label, environment,
	reason string,
) (registry.Label, error) {
	return call[registry.Label](ctx, c, "PUT", path("models", model, "labels", label),
		map[string]any{"number": number, "environment": environment, "reason": reason})
}

// RemoveLabel takes a label away.
func (c *Client) RemoveLabel(ctx context.Context, model, label, reason string) (registry.Label, error) {
	return call[registry.Label](ctx, c, "DELETE", query(path("models", model, "labels", label), "reason", reason), nil)
}

// Versions lists the versions of a model, newest first.
func (c *Client) Versions(ctx context.Context, model string, p Part) (wire.Listed[registry.Version], error) {
	return call[wire.Listed[registry.Version]](ctx, c, "GET",
		query(path("models", model, "versions"), "limit", p.limit(), "cursor", p.Cursor), nil)
}

// Version shows a version.
func (c *Client) Version(ctx context.Context, ref string) (registry.Version, error) {
	return call[registry.Version](ctx, c, "GET", path("versions", ref), nil)
}

// EditVersion changes what may change of a version.
func (c *Client) EditVersion(ctx context.Context, ref string, e registry.Edit) (registry.Version, error) {
	return call[registry.Version](ctx, c, "PATCH", path("versions", ref), e)
}

// Retire takes a version off the ladder.
func (c *Client) Retire(ctx context.Context, ref, why string) (registry.Version, error) {
	return call[registry.Version](ctx, c, "POST", path("versions", ref, "retire"), map[string]string{"reason": why})
}

// Reinstate puts a retired version on the lowest rung again.
func (c *Client) Reinstate(ctx context.Context, ref, why string) (registry.Version, error) {
	return call[registry.Version](ctx, c, "POST", path("versions", ref, "reinstate"), map[string]string{"reason": why})
}

// Delete removes a version for good.
func (c *Client) Delete(ctx context.Context, ref, why string) (wire.Deleted, error) {
	return call[wire.Deleted](ctx, c, "DELETE", query(path("versions", ref), "reason", why), nil)
}

// EvaluatedOn notes that a version was evaluated on a data set.
func (c *Client) EvaluatedOn(ctx context.Context, ref, data string) (registry.Version, error) {
	return call[registry.Version](ctx, c, "POST", path("versions", ref, "evaluations"), map[string]string{"data": data})
}

// Profile shows the reference profile of a version.
func (c *Client) Profile(ctx context.Context, ref string) (profile.Profile, error) {
	return call[profile.Profile](ctx, c, "GET", path("versions", ref, "profile"), nil)
}

// CompareProfiles compares the rows behind two versions.
func (c *Client) CompareProfiles(ctx context.Context, from, to string) (compare.Profiles, error) {
	return call[compare.Profiles](ctx, c, "GET", path("versions", from, "profile", "against", to), nil)
}

// Diff compares two versions.
func (c *Client) Diff(ctx context.Context, from, to string) (registry.Diff, error) {
	return call[registry.Diff](ctx, c, "GET", path("versions", from, "diff", to), nil)
}

// Find searches the catalogue; q holds the query parameters of the API.
func (c *Client) Find(ctx context.Context, q url.Values, p Part) (wire.Listed[registry.Found], error) {
	if p.Limit > 0 {
		q.Set("limit", p.limit())
	}
	if p.Cursor != "" {
		q.Set("cursor", p.Cursor)
	}
	return call[wire.Listed[registry.Found]](ctx, c, "GET", path("catalogue")+"?"+q.Encode(), nil)
}

// LineUp puts versions in one table.
func (c *Client) LineUp(ctx context.Context, refs ...string) (registry.Lineup, error) {
	return call[registry.Lineup](ctx, c, "GET", query(path("lineup"), "versions", strings.Join(refs, ",")), nil)
}

// Trace follows the lineage.
func (c *Client) Trace(ctx context.Context, from wire.TraceFrom) (lineage.Trace, error) {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	artifacts := ""
	if from.Artifacts {
		artifacts = "true"
	}
	return call[lineage.Trace](ctx, c, "GET",
		query(path("trace"), "from", from.From, "direction", from.Direction, "depth", number(from.Depth), "limit",
			number(from.Most), "artifacts", artifacts), nil)
}

// AddDataSet adds a revision of a data set.
func (c *Client) AddDataSet(ctx context.Context, d wire.NewDataSet) (wire.AddedDataSet, error) {
	return call[wire.AddedDataSet](ctx, c, "POST", path("data-sets"), d)
}

// DataSets lists the newest revision of every data set, or all revisions of one.
func (c *Client) DataSets(ctx context.Context, name string, p Part) (wire.Listed[lineage.DataSet], error) {
	return call[wire.Listed[lineage.DataSet]](ctx, c, "GET",
		query(path("data-sets"), "name", name, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// DataSet shows a revision of a data set.
func (c *Client) DataSet(ctx context.Context, ref string) (lineage.DataSet, error) {
	return call[lineage.DataSet](ctx, c, "GET", path("data-sets", ref), nil)
}

// StartRun opens a run.
func (c *Client) StartRun(ctx context.Context, r wire.NewRun) (lineage.Run, error) {
	return call[lineage.Run](ctx, c, "POST", path("runs"), r)
}

// LogRun adds parameters and points to a run.
func (c *Client) LogRun(ctx context.Context, run string, params map[string]string,
	points []lineage.Point,
) (wire.Logged, error) {
	return call[wire.Logged](ctx, c, "POST", path("runs", run, "log"),
		map[string]any{"params": params, "points": points})
}

// EndRun closes a run.
func (c *Client) EndRun(ctx context.Context, run string, failed bool, note string) (lineage.Run, error) {
	return call[lineage.Run](ctx, c, "POST", path("runs", run, "end"), map[string]any{"failed": failed, "note": note})
}

// Run shows a run.
func (c *Client) Run(ctx context.Context, run string) (lineage.Run, error) {
	return call[lineage.Run](ctx, c, "GET", path("runs", run), nil)
}

// Runs lists runs, newest first.
func (c *Client) Runs(ctx context.Context, model string, p Part) (wire.Listed[lineage.Run], error) {
	return call[wire.Listed[lineage.Run]](ctx, c, "GET",
		query(path("runs"), "model", model, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// Curves shows the curves of a run.
func (c *Client) Curves(ctx context.Context, run string) ([]lineage.Curve, error) {
	return call[[]lineage.Curve](ctx, c, "GET", path("runs", run, "curves"), nil)
}

// Collect removes the files that no version needs.
func (c *Client) Collect(ctx context.Context, dry bool) (wire.Collected, error) {
	return call[wire.Collected](ctx, c, "POST", path("collect"), map[string]bool{"dry_run": dry})
}

// LocalFile is a file of this machine that belongs to a registration.
type LocalFile struct {
	Part wire.Part
	Path string
	// Name is what it is to be called; the last part of the path when empty.
	Name string
}

func (f LocalFile) name() string {
	if f.Name != "" {
		return f.Name
	}
	return filepath.Base(f.Path)
}

// Artifacts makes local files of paths.
func Artifacts(paths ...string) []LocalFile {
	out := make([]LocalFile, len(paths))
	for i, p := range paths {
		out[i] = LocalFile{Part: wire.PartArtifact, Path: p}
	}
	return out
}

// inPieces is from which size on a file is sent on its own, so that a connection that
// breaks costs only what was under way.
const inPieces = 64 << 20

// Register registers a version with files. Small ones are streamed in one form, large
// ones are uploaded in pieces before.
func (c *Client) Register(ctx context.Context, reg wire.Registration, files []LocalFile) (wire.Registered, error) {
	var small []LocalFile
	for _, f := range files {
		info, err := os.Stat(f.Path)
		if err != nil {
			return wire.Registered{}, fmt.Errorf("reading the %s: %w", f.Part, err)
		}
		if info.Size() < inPieces {
			small = append(small, f)
			continue
		}
		up, err := c.Upload(ctx, f.Path, f.name())
		if err != nil {
			return wire.Registered{}, err
		}
		reg.Uploads = append(reg.Uploads, wire.UploadUse{ID: up.ID, Part: f.Part, Name: f.name()})
	}
	spec, err := json.Marshal(reg)
	if err != nil {
		return wire.Registered{}, err
	}
	var out wire.Registered
	return out, c.sendForm(ctx, path("versions"), spec, small, &out)
}

// Foresee says what a registration would make, and what the gates would say of it; files come from
// uploads.
func (c *Client) Foresee(ctx context.Context, reg wire.Registration) (wire.Foreseen, error) {
	return call[wire.Foreseen](ctx, c, "POST", path("registrations", "preview"), reg)
}

// Attach attaches a file to a version.
func (c *Client) Attach(ctx context.Context, ref, file string) (registry.Version, error) {
	var out registry.Version
	return out, c.sendForm(ctx, path("versions", ref, "attachments"), nil,
		[]LocalFile{{Part: wire.PartAttachment, Path: file}}, &out)
}

// Detach takes an attachment off a version.
func (c *Client) Detach(ctx context.Context, ref, name, why string) (registry.Version, error) {
	return call[registry.Version](ctx, c, "DELETE", query(path("versions", ref, "attachments", name), "reason", why),
		nil)
}

// sendForm streams a form of files.
func (c *Client) sendForm(ctx context.Context, to string, spec []byte, files []LocalFile, out any) error {
	read, write := io.Pipe()
	form := multipart.NewWriter(write)
	written := make(chan error, 1)
	go func() {
		err := writeForm(form, spec, files)
		written <- err
		write.CloseWithError(err)
	}()
	defer read.Close()
	req, err := http.NewRequestWithContext(ctx, "POST", c.server+to, read)
	if err != nil {
		return fmt.Errorf("calling %s: %w", c.server, err)
	}
	req.Header.Set("Content-Type", form.FormDataContentType())
	err = c.do(req, out)
	_ = read.Close()
	if local := <-written; local != nil && !errors.Is(local, io.ErrClosedPipe) {
		return local // a file that cannot be read is not the service's fault
	}
	return err
}

func writeForm(form *multipart.Writer, spec []byte, files []LocalFile) error {
	if spec != nil {
		w, err := form.CreateFormField("spec")
		if err != nil {
			return err
		}
		if _, err := w.Write(spec); err != nil {
			return err
		}
	}
	for _, f := range files {
		if err := writeFile(form, f); err != nil {
			return err
		}
	}
	return form.Close()
}

func writeFile(form *multipart.Writer, file LocalFile) error {
	f, err := os.Open(file.Path)
	if err != nil {
		return fmt.Errorf("reading the %s: %w", file.Part, err)
	}
	defer f.Close()
	w, err := form.CreateFormFile(string(file.Part), file.name())
	if err != nil {
		return err
	}
	buffer := make([]byte, 1<<20)
	for {
		n, err := f.Read(buffer)
		if n > 0 {
			if _, err := w.Write(buffer[:n]); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading the %s: %w", file.Part, err)
		}
	}
}

// uploadAttempts is how often in a row an upload may fail to get on before it is given
// up.
const uploadAttempts = 6

// Upload sends a file in pieces and goes on where it was when the connection breaks.
func (c *Client) Upload(ctx context.Context, file, name string) (wire.Uploading, error) {
	var up wire.Uploading
	f, err := os.Open(file)
	if err != nil {
		return up, fmt.Errorf("reading %s: %w", file, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return up, fmt.Errorf("reading %s: %w", file, err)
	}
	up, err = call[wire.Uploading](ctx, c, "POST", query(path("uploads"), "name", name), nil, "Upload-Length",
		strconv.FormatInt(info.Size(), 10), "Upload-Complete", "?0")
	if err != nil {
		return up, err
	}
	for failed := 0; !up.Complete; {
		after, err := c.sendPiece(ctx, up, f, info.Size())
		if err == nil {
			up, failed = after, 0
			continue
		}
		// Whatever broke, the service knows how far the upload is.
		if ctx.Err() != nil {
			return up, ctx.Err()
		}
		if failed++; failed == uploadAttempts {
			return up, err
		}
		select {
		case <-time.After(time.Duration(failed*failed) * 200 * time.Millisecond):
		case <-ctx.Done():
			return up, ctx.Err()
		}
		now, askErr := call[wire.Uploading](ctx, c, "GET", path("uploads", up.ID), nil)
		switch {
		case askErr == nil && now.Offset > up.Offset:
			up, failed = now, 0
		case askErr == nil:
			up = now
		case Code(askErr) != "":
			return up, askErr // it is there no more
		}
	}
	return up, nil
}

func (c *Client) sendPiece(ctx context.Context, up wire.Uploading, f *os.File, size int64) (wire.Uploading, error) {
	var out wire.Uploading
	req, err := http.NewRequestWithContext(ctx, "PATCH", c.server+path("uploads", up.ID),
		io.NewSectionReader(f, up.Offset, size-up.Offset))
	if err != nil {
		return out, fmt.Errorf("calling %s: %w", c.server, err)
	}
	req.ContentLength = size - up.Offset
	if req.ContentLength == 0 {
		req.Body = http.NoBody
	}
	req.Header.Set("Content-Type", "application/partial-upload")
	req.Header.Set("Upload-Offset", strconv.FormatInt(up.Offset, 10))
	req.Header.Set("Upload-Complete", "?1")
	return out, c.do(req, &out)
}

// Download writes an artifact of a version to w.
func (c *Client) Download(ctx context.Context, ref, artifact string, w io.Writer) error {
	return c.stream(ctx, path("versions", ref, "artifacts", artifact), func(r io.Reader) error {
		_, err := io.Copy(w, r)
		return err
	})
}
