package api

import (
	"bufio"
	"bytes"
	"context"
	"io"
	"net/url"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/job"
	"innerladder/internal/jobs"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

type jobIn struct {
	Job string `uri:"job" path:"job" json:"-" description:"J-NUMBER"`
}

// foundIn asks for what a job found.
type foundIn struct {
	jobIn
	Format string `query:"format" enum:"csv,jsonl,parquet" description:"csv when not given"`
}

// What is read as it comes: a table in one of several forms, or a text.
const (
	takesTable = fiber.MIMEOctetStream
	takesText  = "application/yaml"
)

// jobOperations are the routes that begin work that takes long.
func jobOperations() []operation {
	return []operation{
		{
			method: "POST", path: "/jobs/score", id: "score",
			summary: "Ask a version, or whoever answers for an endpoint, for predictions of all rows of a table: " +
				"the body; the job goes on by itself",
			permission: access.Inspect, status: 201, streams: true, takes: takesTable,
			in: new(wire.NewScoring), out: new(job.Job), handle: (*API).score,
		},
		{
			method: "POST", path: "/jobs/evaluate", id: "evaluate",
			summary: "Ask a version about all rows of a table, the body, and hold the answers against a column with " +
				"the truth; the report becomes evidence of the version",
			permission: access.Register, status: 201, streams: true, takes: takesTable,
			in: new(wire.NewEvaluation), out: new(job.Job), handle: (*API).evaluate,
		},
		{
			method: "POST", path: "/jobs/check", id: "check",
			summary: "Ask a version where it is deployed what must come back: its known answers, and the cases in " +
				"the body, or those of its model; the report becomes evidence of the version",
			permission: access.Register, status: 201, streams: true, takes: takesText,
			in: new(wire.NewCheck), out: new(job.Job), handle: (*API).check,
		},
		{
			method: "POST", path: "/jobs/importance", id: "importance",
			summary: "Find out on which inputs a version relies, over the rows of a table, the body: permutation " +
				"importance, partial dependence and individual curves; the report becomes evidence of the version",
			permission: access.Register, status: 201, streams: true, takes: takesTable,
			in: new(wire.NewImportance), out: new(job.Job), handle: (*API).importance,
		},
		op("POST", "/jobs/robustness", "robustness", "Ask a version when things are not as they should be: missing, "+
			"extreme and unknown values, noise, other units, many rows and many requests at once; the report becomes "+
			"evidence of the version", access.Register, 201,
			func(c call, in *wire.NewRobustness) (*job.Job, error) { return c.app.Proof.Robustness(c, c.by, *in) }),
		op("POST", "/jobs/replay", "replay", "Ask a version again what callers asked another before, from the log of "+
			"requests of an endpoint; the report becomes evidence of the version", access.Register, 201,
			func(c call, in *wire.NewReplay) (*job.Job, error) { return c.app.Proof.Replay(c, c.by, *in) }),
	}
}

// keptJobOperations are the routes about jobs that there are.
func keptJobOperations() []operation {
	return []operation{
		op("GET", "/jobs", "listJobs", "List jobs, newest first", access.Read, 200, func(c call, in *struct {
			pageIn
			Version string `query:"version" description:"only about this version"`
		},
		) (wire.Listed[job.Job], error) {
			p, err := in.page()
			if err != nil {
				return wire.Listed[job.Job]{}, err
			}
			return c.app.Proof.Jobs(c, c.by, in.Version, p)
		}),
		op("GET", "/jobs/{job}", "showJob", "Show a job, and how far it is", access.Read, 200,
			func(c call, in *jobIn) (*job.Job, error) { return c.app.Proof.Job(c, c.by, in.Job) }),
		op("GET", "/jobs/{job}/log", "jobLog", "Show what a job did and met, line by line", access.Inspect, 200,
			func(c call, in *jobIn) (wire.Listed[job.Line], error) { return c.app.Proof.JobLog(c, c.by, in.Job) }),
		op("POST", "/jobs/{job}/stop", "stopJob", "Stop a job; it can be taken up again", access.Inspect, 200,
			func(c call, in *struct {
				jobIn
				Reason string `json:"reason,omitempty"`
			},
			) (*job.Job, error) {
				return c.app.Proof.Stop(c, c.by, in.Job, in.Reason)
			}),
		op("POST", "/jobs/{job}/resume", "resumeJob", "Take a job up again that was stopped or failed, where it was",
			access.Inspect, 200, func(c call, in *struct {
				jobIn
				Reason string `json:"reason,omitempty"`
			},
			) (*job.Job, error) {
				return c.app.Proof.Resume(c, c.by, in.Job, in.Reason)
			}),
		{
			method: "GET", path: "/jobs/{job}/answers", id: "jobAnswers",
			summary: "Get what a job has found so far, one row for each that was answered", permission: access.Inspect,
			status: 200, in: new(foundIn), produces: fiber.MIMEOctetStream,
			handle: func(a *API, c fiber.Ctx, by act.Actor) error { return a.found(c, by, false) },
		},
		{
			method: "GET", path: "/jobs/{job}/put-aside", id: "jobPutAside",
			summary: "Get the rows that a job has put aside so far, each with its reason", permission: access.Inspect,
			status: 200, in: new(foundIn), produces: fiber.MIMEOctetStream,
			handle: func(a *API, c fiber.Ctx, by act.Actor) error { return a.found(c, by, true) },
		},
	}
}

func (a *API) score(c fiber.Ctx, by act.Actor) error {
	var in wire.NewScoring
	if err := read(c, &in); err != nil {
		return err
	}
	return begun(c, func() (*job.Job, error) {
		return a.app.Proof.Score(c.Context(), by, in, bodyOf(c))
	})
}

func (a *API) evaluate(c fiber.Ctx, by act.Actor) error {
	var in wire.NewEvaluation
	if err := read(c, &in); err != nil {
		return err
	}
	return begun(c, func() (*job.Job, error) {
		return a.app.Proof.Evaluate(c.Context(), by, in, bodyOf(c))
	})
}

func (a *API) check(c fiber.Ctx, by act.Actor) error {
	var in wire.NewCheck
	if err := read(c, &in); err != nil {
		return err
	}
	return begun(c, func() (*job.Job, error) {
		return a.app.Proof.Check(c.Context(), by, in, bodyOf(c))
	})
}

func (a *API) importance(c fiber.Ctx, by act.Actor) error {
	var in wire.NewImportance
	if err := read(c, &in); err != nil {
		return err
	}
	return begun(c, func() (*job.Job, error) {
		return a.app.Proof.Importance(c.Context(), by, in, bodyOf(c))
	})
}

// bodyOf is the body of a request, whether it is streamed or not.
func bodyOf(c fiber.Ctx) io.Reader {
	if body := c.Request().BodyStream(); body != nil {
		return body
	}
	return bytes.NewReader(c.Body())
}

// begun answers with a job that was begun.
func begun(c fiber.Ctx, begin func() (*job.Job, error)) error {
	j, err := begin()
	if err != nil {
		hearOut(c, heardOut)
		return err
	}
	c.Location(base + "/jobs/" + j.ID)
	return c.Status(fiber.StatusCreated).JSON(j)
}

// found pours out what a job found.
func (a *API) found(c fiber.Ctx, by act.Actor, aside bool) error {
	var in foundIn
	if err := read(c, &in); err != nil {
		return err
	}
	t, err := a.app.Proof.Found(c.Context(), by, in.Job, aside, in.Format)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, t.Media)
	c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
	c.Set(fiber.HeaderContentDisposition, "attachment; filename*=UTF-8''"+url.PathEscape(t.FileName))
	return a.pour(c, func(_ context.Context, w *bufio.Writer) error {
		return jobs.Safely(func() error { return t.Write(w) })
	})
}
