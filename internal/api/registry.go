package api

import (
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/compare"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

type (
	labelIn struct {
		modelIn
		Label string `uri:"label" path:"label" json:"-"`
	}
	runIn struct {
		Run string `uri:"run" path:"run" json:"-" description:"run-NUMBER"`
	}
	otherIn struct {
		Other string `uri:"other" path:"other" json:"-" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
	}
	reasonIn struct {
		Reason string `query:"reason" json:"-" required:"true"`
	}
	whyIn struct {
		Reason string `json:"reason" required:"true"`
	}
)

// findIn is a search of the catalogue.
type findIn struct {
	pageIn
	Text      string   `query:"text" json:"-" description:"words that must all be in names, notes, cards, tags, parameters; the last may be a beginning if nothing has it whole"`
	Project   string   `query:"project" json:"-"`
	Model     string   `query:"model" json:"-"`
	Task      string   `query:"task" json:"-" enum:"regression,classification,other"`
	Owner     string   `query:"owner" json:"-" description:"of the model"`
	Rung      string   `query:"rung" json:"-"`
	Label     string   `query:"label" json:"-"`
	Tag       string   `query:"tag" json:"-" description:"of the version or its model"`
	Format    string   `query:"format" json:"-" description:"of an artifact"`
	Licence   string   `query:"licence" json:"-"`
	PlacedIn  string   `query:"placed_in" json:"-" description:"an environment"`
	Answering string   `query:"answering" json:"-" description:"an endpoint, or any"`
	Data      string   `query:"data" json:"-" description:"a data set that it used, NAME or NAME#NUMBER"`
	Metric    []string `query:"metric" json:"-" description:"such as rmse<0.4; may be given several times"`
	Vetted    bool     `query:"vetted" json:"-" description:"only of vetted models"`
	MaxAge    string   `query:"max_age" json:"-" description:"registered no longer ago, such as 720h"`
	MinAge    string   `query:"min_age" json:"-" description:"registered at least as long ago"`
	Sort      string   `query:"sort" json:"-" description:"newest (when not given), oldest, or a metric's name for the best first, -NAME for the worst first"`
}

func (in findIn) search(now time.Time) (records.Search, error) {
	s := records.Search{
		Text: in.Text, Project: in.Project, Model: in.Model, Task: in.Task, Owner: in.Owner,
		Rung: in.Rung, Label: in.Label, Tag: in.Tag, Format: in.Format,
		Licence: in.Licence, PlacedIn: in.PlacedIn, Answering: in.Answering, Vetted: in.Vetted,
	}
	if in.Task != "" {
		if _, err := registry.ParseTask("task", in.Task); err != nil {
			return s, err
		}
	}
	if in.Data != "" {
		ref, err := lineage.ParseDataRef("data", in.Data)
		if err != nil {
			return s, err
		}
		s.Data = ref
	}
	for _, m := range in.Metric {
		b, err := metric.ParseBound("metric", m)
		if err != nil {
			return s, err
		}
		s.Metrics = append(s.Metrics, b)
	}
	for _, age := range []struct {
		field, value string
		into         *time.Time
	}{{"max_age", in.MaxAge, &s.After}, {"min_age", in.MinAge, &s.Before}} {
		if age.value == "" {
			continue
		}
		d, err := time.ParseDuration(age.value)
		if err != nil || d < 0 {
			return s, fault.New(fault.Invalid, "age.form", "%q is no duration", age.value).In(age.field).
				Do("give one such as 36h or 720h")
		}
		*age.into = now.Add(-d)
	}
	switch name, worst := strings.CutPrefix(in.Sort, "-"); name {
	case "", "newest":
		s.Descending = worst
	case "oldest":
		s.Descending = !worst
	default:
		s.Sort, s.Worst = name, worst
	}
	return s, nil
}

// registryOperations lists the routes about models, versions, data, runs and lineage.
func registryOperations() []operation {
	return slices.Concat(projectOperations(), labelOperations(), modelOperations(), profileOperations(),
		versionOperations(), catalogueOperations(), dataOperations(), runOperations(), uploadOperations())
}

// projectOperations are the routes about projects.
func projectOperations() []operation {
	return []operation{
		op("GET", "/projects", "listProjects", "List the projects that models are in", access.Read, 200,
			func(c call, in *pageIn) (wire.Listed[registry.Project], error) {
				all, err := c.app.People.Projects(c, c.by)
				return partOf(*in, all, err, func(p registry.Project) string { return p.Name })
			}),
		op("POST", "/projects", "addProject", "Add a project", access.Administer, 201, func(c call, in *struct {
			Name        string `json:"name" required:"true"`
			Description string `json:"description,omitempty"`
		},
		) (registry.Project, error) {
			return c.app.People.AddProject(c, c.by, in.Name, in.Description)
		}),
		op("PATCH", "/projects/{project}", "editProject", "Change what is said about a project", access.Manage, 200,
			func(c call, in *struct {
				projectIn
				Description string `json:"description" required:"true"`
				Reason      string `json:"reason,omitempty"`
			},
			) (registry.Project, error) {
				return c.app.People.EditProject(c, c.by, in.Project, in.Description, in.Reason)
			}),
		op("DELETE", "/projects/{project}", "removeProject", "Take away a project in which nothing is",
			access.Administer, 200, func(c call, in *struct {
				projectIn
				becauseIn
			},
			) (registry.Project, error) {
				return c.app.People.RemoveProject(c, c.by, in.Project, in.Reason)
			}),
	}
}

// labelOperations are the routes about labels.
func labelOperations() []operation {
	return []operation{
		op("GET", "/models/{model}/labels", "listLabels", "List the labels of a model", access.Read, 200,
			func(c call, in *struct {
				modelIn
				pageIn
			},
			) (wire.Listed[registry.Label], error) {
				all, err := c.app.Registry.Labels(c, c.by, in.Model)
				return partOf(in.pageIn, all, err, func(l registry.Label) string { return l.Name })
			}),
		op("PUT", "/models/{model}/labels/{label}", "putLabel", "Put a label on a version, from wherever it was",
			access.Register, 200, func(c call, in *struct {
				labelIn
				Number      int    `json:"number" required:"true" description:"of the version"`
				Environment string `json:"environment,omitempty" description:"where the version must be placed and healthy, and stay so"`
				Reason      string `json:"reason,omitempty"`
			},
			) (registry.Label, error) {
				ref := registry.Ref{Model: in.Model, Number: in.Number}
				return c.app.Registry.PutLabel(c, c.by, ref.String(), in.Label, in.Environment, in.Reason)
			}),
		op("DELETE", "/models/{model}/labels/{label}", "removeLabel", "Take a label away", access.Register, 200,
			func(c call, in *struct {
				labelIn
				Reason string `query:"reason" json:"-"`
			},
			) (registry.Label, error) {
				return c.app.Registry.RemoveLabel(c, c.by, in.Model, in.Label, in.Reason)
			}),
	}
}

// modelOperations are the routes about models.
func modelOperations() []operation {
	return []operation{
		op("GET", "/models", "listModels", "List models by name", access.Read, 200, func(c call, in *struct {
			pageIn
			Project string `query:"project" json:"-"`
			Task    string `query:"task" json:"-" enum:"regression,classification,other"`
			Owner   string `query:"owner" json:"-"`
			Tag     string `query:"tag" json:"-"`
			Text    string `query:"text" json:"-" description:"in name or description"`
			Vetted  bool   `query:"vetted" json:"-" description:"only vetted ones"`
		},
		) (wire.Listed[registry.Model], error) {
			return listed(in.pageIn, func(p records.Page) (wire.Listed[registry.Model], error) {
				return c.app.Registry.Models(c, c.by, records.ModelFilter{
					Project: in.Project, Task: in.Task, Owner: in.Owner, Tag: in.Tag,
					Text: in.Text, Vetted: in.Vetted,
				}, p)
			})
		}),
		op("GET", "/models/{model}", "showModel", "Show a model", access.Read, 200,
			func(c call, in *modelIn) (registry.Model, error) {
				return c.app.Registry.Model(c, c.by, in.Model)
			}),
		op("PATCH", "/models/{model}", "editModel",
			"Change what may change of a model: description, owner, tags, properties, its name, its project",
			access.Register, 200,
			func(c call, in *struct {
				modelIn
				registry.Edit
			},
			) (registry.Model, error) {
				return c.app.Registry.EditModel(c, c.by, in.Model, in.Edit)
			}),
		op("DELETE", "/models/{model}", "removeModel", "Take away a model that has no versions; its name is free again",
			access.Manage, 200, func(c call, in *struct {
				modelIn
				becauseIn
			},
			) (registry.Model, error) {
				return c.app.Registry.RemoveModel(c, c.by, in.Model, in.Reason)
			}),
		op("POST", "/models/{model}/vetting", "vetModel",
			"Mark a model as vetted, a place to start from, or take the mark away", access.Sign, 200,
			func(c call, in *struct {
				modelIn
				whyIn
				Vetted bool `json:"vetted"`
			},
			) (registry.Model, error) {
				return c.app.Registry.Vet(c, c.by, in.Model, in.Reason, in.Vetted)
			}),
		op("GET", "/models/{model}/versions", "listVersions",
			"List the versions of a model, newest first, without cards and signatures", access.Read, 200,
			func(c call, in *struct {
				modelIn
				pageIn
			},
			) (wire.Listed[registry.Version], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[registry.Version], error) {
					return c.app.Registry.Versions(c, c.by, in.Model, p)
				})
			}),
	}
}

// profileOperations are the routes about what is behind versions, and between two of them.
func profileOperations() []operation {
	return []operation{
		op("POST", "/versions/{ref}/evaluations", "evaluatedOn", "Note that a version was evaluated on a data set",
			access.Register, 200, func(c call, in *struct {
				refIn
				Data string `json:"data" required:"true" description:"NAME#NUMBER, or NAME when there is one revision"`
			},
			) (*registry.Version, error) {
				return c.app.Registry.EvaluatedOn(c, c.by, in.Ref, in.Data)
			}),
		op("GET", "/versions/{ref}/profile", "showProfile", "Show the reference profile of a version", access.Read, 200,
			func(c call, in *refIn) (*profile.Profile, error) {
				return c.app.Registry.Profile(c, c.by, in.Ref)
			}),
		op("GET", "/versions/{ref}/profile/against/{other}", "compareProfiles",
			"How the rows behind another version differ from those behind this one", access.Read, 200,
			func(c call, in *struct {
				refIn
				otherIn
			},
			) (compare.Profiles, error) {
				return c.app.Registry.CompareProfiles(c, c.by, in.Ref, in.Other)
			}),
		op("GET", "/versions/{ref}/diff/{other}", "diffVersions", "How another version differs from this one",
			access.Read, 200, func(c call, in *struct {
				refIn
				otherIn
			},
			) (registry.Diff, error) {
				return c.app.Registry.Diff(c, c.by, in.Ref, in.Other)
			}),
		op("DELETE", "/versions/{ref}/attachments/{attachment}", "detach", "Take an attachment off a version",
			access.Register, 200, func(c call, in *struct {
				attachmentIn
				Reason string `query:"reason" json:"-"`
			},
			) (*registry.Version, error) {
				return c.app.Registry.Detach(c, c.by, in.Ref, in.Attachment, in.Reason)
			}),
	}
}

// versionOperations are the routes about versions.
func versionOperations() []operation {
	return []operation{
		op("GET", "/versions/{ref}", "showVersion", "Show the version that a ref names", access.Read, 200,
			func(c call, in *refIn) (*registry.Version, error) {
				return c.app.Registry.Version(c, c.by, in.Ref)
			}),
		op("POST", "/registrations/preview", "foresee",
			"What a registration would make, and what the project's gates would say of it; nothing is changed",
			access.Register, 200, func(c call, in *wire.Registration) (wire.Foreseen, error) {
				return c.app.Ladder.Foresee(c, c.by, *in)
			}),
		op("PATCH", "/versions/{ref}", "editVersion", "Change what may change of a version: note, tags, properties",
			access.Register, 200, func(c call, in *struct {
				refIn
				registry.Edit
			},
			) (*registry.Version, error) {
				return c.app.Registry.EditVersion(c, c.by, in.Ref, in.Edit)
			}),
		op("POST", "/versions/{ref}/retire", "retire", "Take a version off the ladder; it must not be in use",
			access.Prune, 200, func(c call, in *struct {
				refIn
				whyIn
			},
			) (*registry.Version, error) {
				return c.app.Registry.Retire(c, c.by, in.Ref, in.Reason)
			}),
		op("POST", "/versions/{ref}/reinstate", "reinstate", "Put a retired version on the lowest rung again",
			access.Prune, 200, func(c call, in *struct {
				refIn
				whyIn
			},
			) (*registry.Version, error) {
				return c.app.Registry.Reinstate(c, c.by, in.Ref, in.Reason)
			}),
		op("DELETE", "/versions/{ref}", "deleteVersion",
			"Delete a version for good; it must not be in use, and its number stays taken", access.Prune, 200,
			func(c call, in *struct {
				refIn
				reasonIn
			},
			) (wire.Deleted, error) {
				return c.app.Registry.Delete(c, c.by, in.Ref, in.Reason)
			}),
	}
}

// catalogueOperations are the routes that look across models.
func catalogueOperations() []operation {
	return []operation{
		op("GET", "/catalogue", "find", "Search the versions of all models", access.Read, 200,
			func(c call, in *findIn) (wire.Listed[registry.Found], error) {
				search, err := in.search(time.Now())
				if err != nil {
					return wire.Listed[registry.Found]{}, err
				}
				return listed(in.pageIn, func(p records.Page) (wire.Listed[registry.Found], error) {
					return c.app.Registry.Find(c, c.by, search, p)
				})
			}),
		op("GET", "/catalogue/vocabulary", "vocabulary", "What a search of the catalogue can name", access.Read, 200,
			func(c call, _ *none) (wire.Vocabulary, error) {
				return c.app.Registry.Vocabulary(c, c.by)
			}),
		op("GET", "/lineup", "lineUp", "Any number of versions in one table", access.Read, 200,
			func(c call, in *struct {
				Versions string `query:"versions" json:"-" required:"true" description:"refs separated by commas; a model's name stands for its newest versions"`
			},
			) (registry.Lineup, error) {
				apart := func(r rune) bool { return r == ',' || r == ' ' }
				return c.app.Registry.LineUp(c, c.by, strings.FieldsFunc(in.Versions, apart))
			}),
		op("GET", "/trace", "trace", "Follow the lineage from a version, a data set, a run, a commit, or the id of "+
			"a request", access.Read, 200, func(c call, in *struct {
			From      string `query:"from" json:"-" required:"true" description:"MODEL@NUMBER, NAME or NAME#NUMBER of a data set, run-NUMBER, a commit, or a request's id"`
			Direction string `query:"direction" json:"-" enum:"up,down,both" description:"up to what it was made from, down to what was made from it; both when not given"`
			Depth     int    `query:"depth" json:"-" description:"links to follow, 10 when not given"`
			Limit     int    `query:"limit" json:"-" description:"most nodes, 200 when not given"`
			Artifacts bool   `query:"artifacts" json:"-" description:"with the files of the versions"`
		},
		) (lineage.Trace, error) {
			return c.app.Registry.Trace(c, c.by, wire.TraceFrom{
				From: in.From, Direction: in.Direction, Depth: in.Depth, Most: in.Limit,
				Artifacts: in.Artifacts,
			})
		}),
	}
}

// dataOperations are the routes about data sets.
func dataOperations() []operation {
	return []operation{
		op("GET", "/data-sets", "listDataSets", "List the newest revision of every data set, or all revisions of one",
			access.Read, 200, func(c call, in *struct {
				pageIn
				Name string `query:"name" json:"-"`
			},
			) (wire.Listed[lineage.DataSet], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[lineage.DataSet], error) {
					return c.app.Registry.DataSets(c, c.by, in.Name, p)
				})
			}),
		op("POST", "/data-sets", "addDataSet",
			"Add a revision of a data set; the same content gives the revision that is there", access.Register, 201,
			func(c call, in *wire.NewDataSet) (wire.AddedDataSet, error) {
				return c.app.Registry.AddDataSet(c, c.by, *in)
			}),
		op("GET", "/data-sets/{data}", "showDataSet", "Show a revision of a data set", access.Read, 200,
			func(c call, in *struct {
				Data string `uri:"data" path:"data" json:"-" description:"NAME#NUMBER, or NAME when there is one revision"`
			},
			) (*lineage.DataSet, error) {
				return c.app.Registry.DataSet(c, c.by, in.Data)
			}),
	}
}

// runOperations are the routes about runs.
func runOperations() []operation {
	return []operation{
		op("GET", "/runs", "listRuns", "List runs, newest first", access.Read, 200, func(c call, in *struct {
			pageIn
			Model string `query:"model" json:"-"`
		},
		) (wire.Listed[lineage.Run], error) {
			return listed(in.pageIn, func(p records.Page) (wire.Listed[lineage.Run], error) {
				return c.app.Registry.Runs(c, c.by, in.Model, p)
			})
		}),
		op("POST", "/runs", "startRun", "Open a run", access.Register, 201,
			func(c call, in *wire.NewRun) (*lineage.Run, error) {
				return c.app.Registry.StartRun(c, c.by, *in)
			}),
		op("GET", "/runs/{run}", "showRun", "Show a run", access.Read, 200,
			func(c call, in *runIn) (*lineage.Run, error) {
				return c.app.Registry.Run(c, c.by, in.Run)
			}),
		op("GET", "/runs/{run}/curves", "showCurves", "Show the curves of a run, each of about 400 points", access.Read,
			200, func(c call, in *runIn) ([]lineage.Curve, error) {
				return c.app.Registry.Curves(c, c.by, in.Run)
			}),
		op("POST", "/runs/{run}/log", "logRun", "Add parameters and points to a run", access.Register, 200,
			func(c call, in *struct {
				runIn
				Params map[string]string `json:"params,omitempty"`
				Points []lineage.Point   `json:"points,omitempty"`
			},
			) (wire.Logged, error) {
				return c.app.Registry.LogRun(c, c.by, in.Run, in.Params, in.Points)
			}),
		op("POST", "/runs/{run}/end", "endRun", "Close a run", access.Register, 200, func(c call, in *struct {
			runIn
			Failed bool   `json:"failed,omitempty"`
			Note   string `json:"note,omitempty"`
		},
		) (*lineage.Run, error) {
			return c.app.Registry.EndRun(c, c.by, in.Run, in.Failed, in.Note)
		}),
	}
}

// uploadOperations are the routes about files that were uploaded.
func uploadOperations() []operation {
	return []operation{
		op("GET", "/uploads/{upload}/look", "lookAtUpload",
			"What can be read off an upload before anything is registered", access.Register, 200,
			func(c call, in *struct {
				uploadIn
				Part    wire.Part `query:"part" json:"-" required:"true"`
				Targets []string  `query:"target" json:"-" description:"columns that are outputs"`
			},
			) (wire.LookedAt, error) {
				return c.app.Registry.LookAtUpload(c, c.by, in.Upload, in.Part, in.Targets)
			}),
		op("POST", "/collect", "collect", "Remove the files that no version needs", access.Administer, 200,
			func(c call, in *struct {
				DryRun bool `json:"dry_run" description:"only say which"`
			},
			) (wire.Collected, error) {
				return c.app.Keep.Collect(c, c.by, in.DryRun)
			}),
	}
}
