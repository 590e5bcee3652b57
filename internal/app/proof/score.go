package proof

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"
	"unicode"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/schedule"
	"innerladder/internal/core/score"
	"innerladder/internal/core/signature"
	"innerladder/internal/intake"
	"innerladder/internal/records"
	"innerladder/internal/scoring"
	"innerladder/internal/wire"
)

// longestName is how long the name of a table may be.
const longestName = 255

// coming is how the folder of a table is called that has no number yet, and comingFor how long it may come.
const (
	coming    = "coming-"
	comingFor = 24 * time.Hour
)

// Score begins a job that asks a version for predictions of all rows of a table, which comes as a file, or is a data
// set at its address.
func (s *Service) Score(ctx context.Context, by act.Actor, in wire.NewScoring, table io.Reader) (*job.Job, error) {
	return s.begin(ctx, by, access.Inspect, in, table, &job.Job{Kind: job.ScoreKind}, nil)
}

// begin begins a job that scores, as it says so far, for who has a permission beside that to inspect. Without a table
// it is fetched when the job begins, or is the file that the service keeps, whose digest the job says. Where it is a
// turn of a schedule, that is noted with it, in one transaction.
func (s *Service) begin(ctx context.Context, by act.Actor, need access.Permission, in wire.NewScoring, table io.Reader,
	j *job.Job, of *schedule.Schedule,
) (*job.Job, error) {
	if err := by.May(access.Inspect); err != nil {
		return nil, err
	}
	if s.dir == "" {
		return nil, fault.New(fault.Refused, "job.none", "this service carries out no jobs")
	}
	batch, parallel := cmp.Or(in.Batch, score.UsualBatch), cmp.Or(in.Parallel, score.UsualParallel)
	in.Name = cmp.Or(in.Name, "table")
	if err := checkTable(in.Name, batch, parallel); err != nil {
		return nil, err
	}
	v, environment, err := s.traffic.Named(ctx, by, in.Asked, in.Environment)
	if err != nil {
		return nil, err
	}
	if err := by.Need(need, v.Project); err != nil {
		return nil, err
	}
	if err := answeredByAnother(j, v); err != nil {
		return nil, err
	}
	j.Project, j.State, j.By, j.BegunAt = v.Project, job.Waiting, by.Name, s.Now()
	if j.Scoring == nil {
		j.Scoring = &job.Scoring{}
	}
	j.Scoring = &job.Scoring{
		Digest: j.Scoring.Digest, Asked: in.Asked, Version: v.Ref, Environment: environment, Table: in.Name,
		Batch: batch, Parallel: parallel,
	}
	if err := s.beside(ctx, by, j, v); err != nil {
		return nil, err
	}
	if of != nil {
		j.Schedule, j.By = of.Name, of.By
	}
	dir, err := s.takeTable(ctx, by, in, table, j, v)
	defer func() { _ = os.RemoveAll(dir) }() // it has another name when all is well
	if err != nil {
		return nil, err
	}
	defer s.hurry()
	return act.Change(ctx, s.Base, by, access.Inspect, func(t *act.Tx) (*job.Job, error) {
		if err := t.AddJob(ctx, j, v.Ref); err != nil {
			return nil, err
		}
		if of != nil {
			if err := unchanged(ctx, t, of); err != nil {
				return nil, err
			}
			of.Began(j.ID)
			if err := t.PutSchedule(ctx, of); err != nil {
				return nil, err
			}
		}
		// The folder has its name before the job is confirmed; where it never is, the next of that number takes its
		// place.
		if err := os.RemoveAll(s.folder(j.ID)); err != nil {
			return nil, err
		}
		if err := os.Rename(dir, s.folder(j.ID)); err != nil {
			return nil, err
		}
		return j, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "job.begun", Subject: j.ID, Also: []string{v.Ref},
			Sentence: fmt.Sprintf("%s was begun: %s is asked about %s.", j.ID, v.Ref,
				cmp.Or(j.Scoring.Data, j.Scoring.Table)),
			After: j,
		})
	})
}

// takeTable takes the table of a job in, into a folder that has no number yet; without one, it notes from where it is
// fetched when the job begins.
func (s *Service) takeTable(ctx context.Context, by act.Actor, in wire.NewScoring, table io.Reader, j *job.Job,
	v *registry.Version,
) (dir string, err error) {
	if table == nil {
		j.Scoring.Data, j.Scoring.From, j.Scoring.Keep, j.Scoring.KeepAsked = in.Data, in.From, []string{}, in.Keep
		return s.newFolder()
	}
	j.Scoring.Keep = []string{}
	dir, err = s.receive(ctx, s.Read(by), in.Data, in.From, table, j.Scoring)
	if err == nil && j.Checking == nil {
		err = s.fits(ctx, v, in.Keep, dir, j)
	}
	return dir, err
}

// checkTable says whether a table may be called so, and asked about at such a pace.
func checkTable(name string, batch, parallel int) error {
	if len(name) > longestName || strings.ContainsFunc(name, unicode.IsControl) {
		return fault.New(fault.Invalid, "score.name", "the table cannot be called %.40q", name).In("name").
			Do("give the name of a file, of at most %d bytes", longestName)
	}
	return score.CheckPace(batch, parallel)
}

// dataAt finds a data set whose address is known.
func (s *Service) dataAt(ctx context.Context, r records.View, ref string) (*lineage.DataSet, error) {
	d, err := s.registry.FindDataSet(ctx, r, "data", ref)
	if err == nil && d.Address == "" {
		err = fault.New(fault.Refused, "data.no_address", "it is not known where %s is", d.Ref).In("data").
			Do("send the file itself")
	}
	return d, err
}

// newFolder makes a folder that has no number yet.
func (s *Service) newFolder() (string, error) {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return "", err
	}
	return os.MkdirTemp(s.dir, coming)
}

// receive takes a table in, into a folder that has no number yet.
func (s *Service) receive(ctx context.Context, r records.View, data, address string, table io.Reader, of *job.Scoring,
) (dir string, err error) {
	wanted := ""
	if data != "" {
		d, err := s.dataAt(ctx, r, data)
		if err != nil {
			return "", err
		}
		address, of.Data, wanted = d.Address, d.Ref, d.Digest
	}
	if address != "" {
		from, name, err := s.fetch.Open(ctx, address)
		if err != nil {
			return "", err
		}
		defer from.Close()
		table, of.Table = from, name
	}
	if dir, err = s.newFolder(); err != nil {
		return "", err
	}
	defer func() {
		if err != nil {
			_ = os.RemoveAll(dir)
		}
	}()
	f, err := os.Create(scoring.TableIn(dir))
	if err != nil {
		return dir, err
	}
	sum := sha256.New()
	of.Size, err = io.Copy(io.MultiWriter(f, sum), table)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = fault.New(fault.Invalid, "score.cut", "the table breaks off after byte %d", of.Size).In("body")
	}
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return dir, err
	}
	of.Digest = hex.EncodeToString(sum.Sum(nil))
	if wanted != "" && wanted != of.Digest {
		return dir, fault.New(fault.Refused, "data.changed", "what is at the address of %s is another file by now: "+
			"its digest is %.12s, and was %.12s", of.Data, of.Digest, wanted).In("data").Do("add it as a new revision")
	}
	return dir, nil
}

// fits refuses a table that does not fit the version before anything is asked.
func (s *Service) fits(ctx context.Context, v *registry.Version, keeps, dir string, j *job.Job) error {
	of := j.Scoring
	t, err := intake.OpenTable(of.Table, scoring.TableIn(dir))
	if err != nil {
		return err
	}
	defer t.Close()
	var keep []string
	switch keeps {
	case "":
	case none:
		keep = []string{}
	case "all":
		keep = t.Columns()
	default:
		keep = strings.Split(keeps, ",")
	}
	if j.Evaluating != nil {
		if keep, err = needed(j.Evaluating, v, t.Columns()); err != nil {
			return err
		}
	}
	if i := j.Importance; i != nil {
		keep = []string{}
		if err := i.CheckTarget(t.Columns()); err != nil {
			return err
		}
	}
	f, err := score.NewForm(v.Signature, t.Columns(), keep)
	if err != nil {
		return err
	}
	of.Keep = f.Kept
	if e := j.Evaluating; e != nil && e.Against != "" {
		other, err := s.registry.Version(ctx, act.BySelf(), e.Against)
		if err == nil {
			_, err = score.NewForm(other.Signature, t.Columns(), []string{})
		}
		if err != nil {
			return fmt.Errorf("%s: %w", e.Against, err)
		}
	}
	return nil
}

// errTableGone is said of a job whose table was there once.
var errTableGone = errors.New("its table is not in the data directory; backups do not contain what jobs work with")

// bring puts the table of a job into its folder, unless it is there: one that was to be fetched is fetched now.
func (s *Service) bring(ctx context.Context, j *job.Job, v *registry.Version) error {
	there, of := scoring.TableIn(s.folder(j.ID)), j.Scoring
	_, err := os.Stat(there)
	noted := of.Size > 0 // else what stands there was not noted, and nothing was asked yet
	if noted && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var table io.Reader
	switch {
	case noted && of.From != "":
		return errTableGone // what is at the address by now may be something else
	case noted, of.From == "" && of.Data == "":
		kept, err := s.blobs.Open(of.Digest)
		if err != nil {
			return errTableGone
		}
		defer kept.Close()
		table = kept
	}
	data := of.Data
	if table != nil {
		data = "" // it need not be fetched
	}
	dir, err := s.receive(ctx, s.DB.Read(records.Everything), data, of.From, table, of)
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := s.fits(ctx, v, of.KeepAsked, dir, j); err != nil {
		return err
	}
	// It stands there before that is noted: a kill between the two has it fetched again.
	if err := os.MkdirAll(s.folder(j.ID), 0o700); err != nil {
		return err
	}
	if err := os.Rename(scoring.TableIn(dir), there); err != nil {
		return err
	}
	return s.enter(ctx, j.ID, func(_ *act.Tx, kept *job.Job) error {
		kept.Scoring, kept.Evaluating = j.Scoring, j.Evaluating
		return nil
	})
}

// score carries a job of its kind out.
func (s *Service) score(ctx context.Context, j *job.Job, g *going) (p job.Progress, err error) {
	p = j.Progress
	v, err := s.registry.Version(ctx, act.BySelf(), j.Scoring.Version)
	if err != nil {
		return p, err
	}
	if err := s.bring(ctx, j, v); err != nil {
		return p, err
	}
	told := s.tells(j.ID, g)
	e := j.Evaluating
	if e == nil || e.Against == "" {
		return s.pass(ctx, j, v, j.Scoring.Environment, s.folder(j.ID), j.Scoring.Keep, told)
	}
	half := func(p job.Progress) job.Progress {
		p.Share /= 2
		return p
	}
	p, err = s.pass(ctx, j, v, j.Scoring.Environment, s.folder(j.ID), j.Scoring.Keep, func(p job.Progress) {
		told(half(p))
	})
	if err != nil {
		return half(p), err
	}
	return s.passOther(ctx, j, p, told)
}

// pass asks a version about all rows of the table of a job; what it says is kept in a folder that has the table.
func (s *Service) pass(ctx context.Context, j *job.Job, v *registry.Version, environment, dir string, keep []string,
	told func(job.Progress),
) (p job.Progress, err error) {
	b, done, err := s.borrow(ctx, j, v, environment, j.Scoring.Parallel)
	if err != nil {
		return j.Progress, err
	}
	defer done()
	return scoring.Run(ctx, scoring.Options{
		Dir: dir, Name: j.Scoring.Table, Signature: b.Signature, Keep: keep, Batch: j.Scoring.Batch,
		Parallel: j.Scoring.Parallel, Ask: b.Ask, Patience: patience, Told: told,
	})
}

// Table is what a job found, as a file of rows.
type Table struct {
	scoring.Export
	// FileName is what the file is called, Media what it is.
	FileName, Media string
}

var media = map[string]string{
	"csv": "text/csv; charset=utf-8", "jsonl": "application/jsonl", "parquet": "application/vnd.apache.parquet",
}

// Found is what a job has found so far: answers, or the rows that were put aside.
func (s *Service) Found(ctx context.Context, by act.Actor, id string, aside bool, format string) (Table, error) {
	if err := by.May(access.Inspect); err != nil {
		return Table{}, err
	}
	j, _, err := find(ctx, s.Read(by), id)
	if err != nil {
		return Table{}, err
	}
	if err := by.Need(access.Inspect, j.Project); err != nil {
		return Table{}, err
	}
	if !j.FindsRows() {
		return Table{}, fault.New(fault.Refused, "job.no_rows", "%s finds no rows, but makes a report", j.ID).
			In("job").Do("see its report with: innerladder evidence %s", cmp.Or(j.Report(), "E-NUMBER"))
	}
	format = cmp.Or(format, "csv")
	if !slices.Contains(scoring.Formats, format) {
		return Table{}, fault.New(fault.Invalid, "job.format", "answers cannot be written as %q", format).In("format").
			Do("use one of %s", strings.Join(scoring.Formats, ", "))
	}
	if _, err := os.Stat(s.folder(j.ID)); j.Forgotten || err != nil {
		return Table{}, fault.New(fault.Unknown, "job.forgotten", "what %s found is not kept any more", j.ID).In("job").
			Do("begin another")
	}
	v, err := s.registry.Resolve(ctx, s.DB.Read(records.Everything), "version", j.Scoring.Version)
	whole := map[string]bool{}
	if err == nil && v.Signature != nil {
		for _, c := range v.Signature.Outputs {
			whole[c.Name] = c.Type == signature.Integer
		}
	}
	what := "answers"
	if aside {
		what = "put-aside"
	}
	export := scoring.Export{
		Dir: s.folder(j.ID), Name: j.Scoring.Table, Aside: aside, Format: format, Version: j.Scoring.Version,
		Job: j.ID, Whole: whole,
	}
	if e := j.Evaluating; e != nil && e.Against != "" {
		export.OtherDir, export.OtherVersion = otherIn(export.Dir), e.Against
	}
	return Table{
		Export:   export,
		FileName: fmt.Sprintf("%s-%s.%s", j.ID, what, format), Media: media[format],
	}, nil
}
