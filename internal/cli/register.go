package cli

import (
	"archive/tar"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

// registerFlags are the options of register.
type registerFlags struct {
	files, attachments, reports                    list
	sample, reference, card, requirements, answers *string
	tolerance                                      *float64
	metric, param, importance, unit, property      pairs
	metricUnit, better                             pairs
	targets, tags, labels, from, sensitive         list
	trainedOn, validatedOn, evaluatedOn, parents   list
	relation, note, task, description, run         *string
	project, owner, signature, ask                 *string
	referenceOnly, noCode                          *bool
}

func register(c *call) func(context.Context) error {
	c.connect()
	f := registrationOptions(c)
	return func(ctx context.Context) error {
		reg, err := f.registration(ctx, c.args[0])
		if err != nil {
			return err
		}
		if len(f.files)+len(f.from) == 0 {
			return wrongUse("no file is given; use -file or -from")
		}
		local, cleanUp, err := f.localFiles()
		defer cleanUp()
		if err != nil {
			return err
		}
		v, err := c.api.Register(ctx, reg, local)
		if err := c.show(v, err, func() {
			if !v.Created {
				c.say("the same content was registered before, by %s, %s", v.CreatedBy, moment(v.CreatedAt))
			}
			for _, r := range v.Remarks {
				c.say("%s", r)
			}
			for _, a := range v.Artifacts {
				if a.Contents.Unsafe != "" {
					c.say("note: %s is %s", a.Name, strings.TrimPrefix(a.Contents.Unsafe, "is "))
				}
			}
			fmt.Fprintln(c.Out, v.Ref)
		}); err != nil {
			return err
		}
		return f.askFor(ctx, c, v)
	}
}

// askFor asks for the rung that was named with a registration; a pipeline that registers the same
// again goes on with what it asked for then.
func (f *registerFlags) askFor(ctx context.Context, c *call, v wire.Registered) error {
	if *f.ask == "" {
		return nil
	}
	p, err := c.api.Ask(ctx, wire.NewPromotion{Version: v.Ref, To: *f.ask, Note: *f.note})
	switch client.Code(err) {
	case "":
		c.say("%s asks for %s to %s: %s", p.ID, p.Version, p.To, p.State)
	case "promotion.open_already", "promotion.there_already", "promotion.downwards":
		c.say("%s", strings.TrimSuffix(err.Error(), "."))
		err = nil
	}
	return err
}

// registrationOptions defines the options of a registration.
func registrationOptions(c *call) *registerFlags {
	f := &registerFlags{
		metric: pairs{}, param: pairs{}, importance: pairs{}, unit: pairs{}, property: pairs{}, metricUnit: pairs{},
		better: pairs{},
	}
	c.flags.Var(&f.files, "file", "`FILE` or folder of the version; may be given several times, a folder is "+
		"packed as tar")
	c.flags.Func("ensemble", "`FILE` that says in YAML of which versions it is made and how: ensemble: mean, "+
		"weighted-mean, vote, first or chain, and members: with a version each", func(path string) error {
		text, err := os.ReadFile(path)
		if err == nil {
			_, err = intake.Ensemble(text)
		}
		f.files = append(f.files, path)
		return err
	})
	c.flags.Var(&f.from, "from", "`ADDRESS`, https:// or file://, that the service takes a file from; may be given "+
		"several times")
	f.referenceOnly = c.flags.Bool("reference-only", false,
		"with -from: write down digest and size, do not keep the bytes")
	f.sample = c.flags.String("sample", "",
		"`FILE` with example rows, CSV, Parquet or JSON; signature, sample request and reference profile are "+
			"read from it")
	f.reference = c.flags.String("reference", "",
		"`FILE` with the rows of the reference profile, when they are not the sample")
	c.flags.Var(&f.targets, "target", "`COLUMN` of the sample that is an output; may be given several times")
	c.flags.Var(&f.sensitive, "sensitive", "`INPUT` by whose groups quality and predictions are looked at; may be "+
		"given several times")
	c.flags.Var(f.unit, "unit", "`COLUMN=UNIT` of the sample; may be given several times")
	f.signature = c.flags.String("signature", "", "`FILE` with a signature written by hand, JSON")
	f.card = c.flags.String("card", "", "`FILE` with the model card, Markdown")
	f.requirements = c.flags.String("requirements", "", "`FILE` with the packages it needs, one a line")
	c.flags.Var(&f.attachments, "attach",
		"`FILE` to attach: a document, a notebook, a picture; may be given several times")
	c.flags.Var(&f.reports, "report", "`FILE` of evidence: the report of an evaluation, a test run, a load test; "+
		"may be given several times. Metrics that it measured count in place of those given with -metric")
	c.flags.Var(f.metric, "metric", "`NAME=VALUE` that is claimed; may be given several times")
	c.flags.Var(f.metricUnit, "metric-unit", "`NAME=UNIT` of a metric, for all versions of the model; may be given "+
		"several times")
	c.flags.Var(f.better, "better", "`NAME=lower` or NAME=higher: which way a metric is better whose name does not "+
		"say it; may be given several times")
	c.flags.Var(f.param, "param", "`NAME=VALUE` it was made with; may be given several times")
	c.flags.Var(f.importance, "importance", "`INPUT=VALUE`: how much an input counts; may be given several times")
	f.run = c.flags.String("run", "", "`RUN` it came out of; gives its metrics, parameters, code and data")
	c.flags.Var(&f.trainedOn, "data", "`DATA` set it was trained on, NAME or NAME#NUMBER; may be given several times")
	c.flags.Var(&f.validatedOn, "validated-on", "`DATA` set; may be given several times")
	c.flags.Var(&f.evaluatedOn, "evaluated-on", "`DATA` set; may be given several times")
	c.flags.Var(&f.parents, "parent", "`REF` of a version it was made from; may be given several times")
	f.relation = c.flags.String("relation", "derived",
		"`WORD` that says how it was made from its parents, such as fine-tuned")
	c.flags.Var(&f.tags, "tag", "`TAG`; may be given several times")
	c.flags.Var(f.property, "property", "`NAME=VALUE`; may be given several times")
	c.flags.Var(&f.labels, "label", "`LABEL` to put on the version; may be given several times")
	f.note = c.flags.String("note", "", "`TEXT` for people")
	f.project = c.flags.String("project", "", "`PROJECT` of a new model")
	f.owner = c.flags.String("owner", "", "`NAME` of the owner of a new model")
	f.task = c.flags.String("task", "",
		"`TASK` of a new model: regression, classification or other; read off the target")
	f.description = c.flags.String("description", "", "`TEXT` about a new model")
	f.answers = c.flags.String("answers", "",
		"`FILE` of rows with the outputs that they must give (a table, or requests with answers, one a line): every "+
			"address proves by them that it runs this version")
	f.tolerance = c.flags.Float64("tolerance", 0,
		"`AMOUNT` that a number of a known answer may be off, in its own unit")
	f.ask = c.flags.String("ask", "",
		"`RUNG` that it is asked for at once, as by promote; with -note for those who sign")
	f.noCode = c.flags.Bool("no-code", false, "do not record the git checkout")
	return f
}

// localFiles lists the files to send, the small ones first: what is wrong with them shows before
// large ones are sent. cleanUp removes what was packed for it.
func (f *registerFlags) localFiles() (local []client.LocalFile, cleanUp func(), err error) {
	var packs []func()
	cleanUp = func() {
		for _, remove := range packs {
			remove()
		}
	}
	for _, one := range []struct {
		part wire.Part
		path string
	}{
		{wire.PartSample, *f.sample},
		{wire.PartReference, *f.reference},
		{wire.PartCard, *f.card},
		{wire.PartRequirements, *f.requirements},
		{wire.PartAnswers, *f.answers},
	} {
		if one.path != "" {
			local = append(local, client.LocalFile{Part: one.part, Path: one.path})
		}
	}
	for _, path := range f.attachments {
		local = append(local, client.LocalFile{Part: wire.PartAttachment, Path: path})
	}
	for _, path := range f.reports {
		local = append(local, client.LocalFile{Part: wire.PartReport, Path: path})
	}
	for _, path := range f.files {
		packed, remove, err := artifact(path)
		if err != nil {
			return nil, cleanUp, err
		}
		packs = append(packs, remove)
		local = append(local, packed)
	}
	return local, cleanUp, nil
}

// registration turns the options into what is sent.
func (f *registerFlags) registration(ctx context.Context, model string) (wire.Registration, error) {
	reg := wire.Registration{
		Model: model, Project: *f.project, Task: *f.task, Description: *f.description,
		Owner: *f.owner, Note: *f.note, Params: f.param, Run: *f.run,
		Tolerance: *f.tolerance, Targets: f.targets, Units: f.unit, Sensitive: f.sensitive, Tags: f.tags,
		Properties: f.property,
		Labels:     f.labels,
	}
	var err error
	if reg.Metrics, err = finite("metric", f.metric); err != nil {
		return reg, err
	}
	for name, unit := range f.metricUnit {
		reg.Meanings = mean(reg.Meanings, name, metric.Meaning{Unit: unit})
	}
	for name, way := range f.better {
		reg.Meanings = mean(reg.Meanings, name, metric.Meaning{Better: metric.Way(way)})
	}
	if reg.Importance, err = finite("importance", f.importance); err != nil {
		return reg, err
	}
	for role, refs := range map[string]list{
		lineage.TrainedOn: f.trainedOn, lineage.ValidatedOn: f.validatedOn,
		lineage.EvaluatedOn: f.evaluatedOn,
	} {
		for _, ref := range refs {
			reg.Data = append(reg.Data, lineage.DataUse{Data: ref, Role: role})
		}
	}
	for _, ref := range f.parents {
		reg.Parents = append(reg.Parents, lineage.Parent{Version: ref, Relation: *f.relation})
	}
	for _, address := range f.from {
		reg.Sources = append(reg.Sources, wire.Source{Address: address, ReferenceOnly: *f.referenceOnly})
	}
	if *f.referenceOnly && len(f.from) == 0 {
		return reg, wrongUse("-reference-only is about files at addresses; give one with -from")
	}
	if *f.signature != "" {
		b, err := os.ReadFile(*f.signature)
		if err != nil {
			return reg, fmt.Errorf("reading the signature: %w", err)
		}
		if err := json.Unmarshal(b, &reg.Signature); err != nil {
			return reg, wrongUse("the signature in %s is no JSON that can be read: %v", *f.signature, err)
		}
	}
	if !*f.noCode && *f.run == "" {
		reg.Code = checkout(ctx)
	}
	return reg, nil
}

// mean adds what an option says about a metric.
func mean(m metric.Meanings, name string, said metric.Meaning) metric.Meanings {
	if m == nil {
		m = metric.Meanings{}
	}
	is := m[name]
	m[name] = metric.Meaning{Unit: cmp.Or(said.Unit, is.Unit), Better: cmp.Or(said.Better, is.Better)}
	return m
}

// finite reads numbers that were given as NAME=VALUE.
func finite(option string, given pairs) (map[string]float64, error) {
	out := map[string]float64{}
	for name, value := range given {
		x, err := strconv.ParseFloat(value, 64)
		if err != nil {
			return nil, wrongUse("%s %s is %q, which is no number", option, name, value)
		}
		if x != x || x-x != 0 {
			return nil, wrongUse("%s %s is %s; give a finite number", option, name, value)
		}
		out[name] = x
	}
	return out, nil
}

// artifact makes a local file of a path; a folder is packed first.
func artifact(path string) (file client.LocalFile, cleanUp func(), err error) {
	nothing := func() {}
	info, err := os.Stat(path)
	if err != nil {
		return file, nothing, fmt.Errorf("reading the artifact: %w", err)
	}
	if !info.IsDir() {
		return client.Artifacts(path)[0], nothing, nil
	}
	absolute, err := filepath.Abs(path)
	if err != nil {
		return file, nothing, err
	}
	temporary, err := os.CreateTemp("", "innerladder-*.tar")
	if err != nil {
		return file, nothing, fmt.Errorf("packing %s: %w", path, err)
	}
	cleanUp = func() { _ = os.Remove(temporary.Name()) }
	err = errors.Join(pack(temporary, path), temporary.Close())
	return client.LocalFile{Part: wire.PartArtifact, Path: temporary.Name(), Name: filepath.Base(absolute) + ".tar"},
		cleanUp, err
}

// pack writes a folder as tar. Equal folders give equal bytes: names are in order, and
// times, owners and modes are left out.
func pack(w io.Writer, folder string) error {
	out := tar.NewWriter(w)
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			return wrongUse("%s is no plain file; a folder to register may hold nothing else", path)
		}
		name, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		if err := out.WriteHeader(&tar.Header{
			Name: filepath.ToSlash(name), Size: info.Size(), Mode: 0o644,
			ModTime: time.Unix(0, 0), Format: tar.FormatPAX,
		}); err != nil {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(out, f)
		return err
	})
	if err != nil {
		return fmt.Errorf("packing %s: %w", folder, err)
	}
	return out.Close()
}

// checkout asks git where the code stands; nil outside of a checkout.
func checkout(ctx context.Context) *lineage.Code {
	git := func(args ...string) (string, bool) {
		out, err := exec.CommandContext(ctx, "git", args...).Output()
		return strings.TrimSpace(string(out)), err == nil
	}
	commit, ok := git("rev-parse", "HEAD")
	if !ok {
		return nil
	}
	code := &lineage.Code{Commit: commit}
	code.Branch, _ = git("symbolic-ref", "--short", "-q", "HEAD")
	status, ok := git("status", "--porcelain")
	code.Dirty = !ok || status != ""
	if origin, ok := git("remote", "get-url", "origin"); ok {
		code.Repository = withoutCredentials(origin)
	}
	return code
}

func withoutCredentials(address string) string {
	if u, err := url.Parse(address); err == nil && u.User != nil {
		u.User = nil
		return u.String()
	}
	return address
}

// look reads a file as the service would, without one.
func look(c *call) func(context.Context) error {
	c.json = c.flags.Bool("json", false, "print JSON")
	as := c.flags.String("as", "", "`PART` it would be, such as sample or report; told by its name when not given")
	var targets list
	c.flags.Var(&targets, "target", "`COLUMN` of a sample that is an output; may be given several times")
	return func(context.Context) error {
		path := c.args[0]
		f, err := os.Open(path)
		if err != nil {
			return fmt.Errorf("reading the file: %w", err)
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return err
		}
		if info.IsDir() {
			return wrongUse("%s is a folder; look at one of its files", path)
		}
		part := partOf(path)
		if *as != "" {
			if part, err = wire.PartOf("as", *as); err != nil {
				return usageError{err.Error()}
			}
		}
		out, err := intake.Look(part, filepath.Base(path), f, info.Size(), targets)
		if err != nil {
			return usageError{err.Error()}
		}
		return c.show(out, nil, func() { printLook(c.Out, out) })
	}
}

// partOf guesses from its name what a file would be registered as.
func partOf(path string) wire.Part {
	name := strings.ToLower(filepath.Base(path))
	switch ext := filepath.Ext(name); {
	case ext == ".csv", ext == ".parquet", ext == ".jsonl", ext == ".ndjson":
		return wire.PartSample
	case ext == ".md", ext == ".markdown":
		return wire.PartCard
	case ext == ".txt" && strings.Contains(name, "requirements"):
		return wire.PartRequirements
	case ext == ".xml" && strings.Contains(name, "test"), ext == ".json" && strings.Contains(name, "evaluation"):
		return wire.PartReport
	}
	return wire.PartArtifact
}

func printLook(w io.Writer, l wire.LookedAt) {
	format := ""
	if l.Contents != nil {
		format = l.Contents.Format
	}
	rows := ""
	if l.Rows > 0 {
		rows = count(uint64(l.Rows))
	}
	facts(w, "file", l.Name, "size", size(l.Size), "format", format, "rows", rows, "evidence of kind", l.Report,
		"says", l.Says)
	if l.Contents != nil {
		if l.Contents.Unsafe != "" {
			fmt.Fprintf(w, "UNSAFE to load: %s\n", l.Contents.Unsafe)
		}
		for _, f := range l.Contents.Facts {
			fmt.Fprintf(w, "  %s: %s\n", f.Name, short(f.Value, 140))
		}
		printContents(w, "  ", registry.Contents{
			TensorCount: l.Contents.TensorCount, Values: l.Contents.Values,
			FileCount: l.Contents.FileCount, Expanded: l.Contents.Expanded, Remarks: l.Contents.Remarks,
		})
	}
	if l.Signature != nil {
		fmt.Fprintln(w)
		printSignature(w, l.Signature)
	}
	if l.Card != nil {
		printCard(w, registry.Version{Card: l.Card})
	}
	if len(l.Dependencies) > 0 {
		t := newTable(w, "PACKAGE", "WANTED", "")
		for _, d := range l.Dependencies {
			t.row(d.Name, d.Want, d.Extra)
		}
		t.done()
	}
	for _, r := range l.Remarks {
		fmt.Fprintln(w, r)
	}
}

// get saves the files of a version.
func get(c *call) func(context.Context) error {
	c.connect()
	to := c.flags.String("to", ".", "`DIR` to save them in; made when it is not there")
	return func(ctx context.Context) error {
		v, err := c.api.Version(ctx, c.args[0])
		if err != nil {
			return err
		}
		wanted := c.args[1:]
		if len(wanted) == 0 {
			for _, a := range v.Artifacts {
				wanted = append(wanted, a.Name)
			}
		}
		if err := os.MkdirAll(*to, 0o755); err != nil {
			return err
		}
		saved := []string{}
		for _, name := range wanted {
			i := slices.IndexFunc(v.Artifacts, func(a registry.Artifact) bool { return a.Name == name })
			if i < 0 {
				return fmt.Errorf("%s has no artifact %q; see them with: innerladder show %s", v.Ref, name, v.Ref)
			}
			path := filepath.Join(*to, name)
			if err := c.save(ctx, v.Ref, v.Artifacts[i], path); err != nil {
				return err
			}
			saved = append(saved, path)
		}
		return c.show(saved, nil, func() {
			for _, path := range saved {
				fmt.Fprintln(c.Out, path)
			}
		})
	}
}

// save writes an artifact beside its place, checks its digest and moves it there, so
// that a file that is there is whole.
func (c *call) save(ctx context.Context, ref string, a registry.Artifact, path string) error {
	f, err := os.CreateTemp(filepath.Dir(path), "."+a.Name+"-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	h := sha256.New()
	if err := errors.Join(c.api.Download(ctx, ref, a.Name, io.MultiWriter(f, h)), f.Close()); err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != a.Digest {
		return fmt.Errorf("%s came with the SHA-256 %s, not %s; nothing was saved", a.Name, got, a.Digest)
	}
	if err := os.Chmod(f.Name(), 0o644); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
