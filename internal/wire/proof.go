package wire

import (
	"time"

	"innerladder/internal/core/schedule"
	"innerladder/internal/core/standing"
)

// Judging says by what answers are judged.
type Judging struct {
	Target   string `query:"target" json:"-" required:"true" description:"the column with the truth"`
	Output   string `query:"output" json:"-" description:"whose truth it is; found by its name when not given"`
	Weight   string `query:"weight" json:"-" description:"a column with how much each row counts"`
	Segments string `query:"segments" json:"-" description:"by which columns it is judged too: all inputs, A,B or none"`
	Against  string `query:"against" json:"-" description:"who is asked too: a ref, @REF, an endpoint, or incumbent"`
	AtMost   string `query:"at_most" json:"-" description:"what measures may be at most, such as rmse=0.2,mae=0.1"`
	AtLeast  string `query:"at_least" json:"-" description:"what measures must be at least, such as accuracy=0.9"`
}

// NewEvaluation says who is evaluated on a table with the truth, and how. The table is the body of the call.
type NewEvaluation struct {
	NewScoring
	Judging
}

// NewReplay says which requests of the log of an endpoint are asked again, and whom.
type NewReplay struct {
	Endpoint string `json:"endpoint" required:"true" description:"whose log it is"`
	To       string `json:"to" required:"true" description:"the version that is asked, such as heat-demand@7"`
	// Environment is where that is placed; a version that is placed nowhere is started for the job.
	Environment string `json:"environment,omitempty" description:"where it is placed; the only place when not given"`
	// Since is how far back, where From is not given.
	Since string    `json:"since,omitempty" description:"how far back: 24h when not given; or yesterday, in UTC"`
	From  time.Time `json:"from,omitempty" description:"when the first may have ended, in place of since"`
	Until time.Time `json:"until,omitempty" description:"before when they ended; now when not given"`
	// AnsweredBy is who dealt with them then.
	AnsweredBy string   `json:"answered_by,omitempty" description:"who answered then; who answers main when not given"`
	Where      []string `json:"where,omitempty" description:"conditions on inputs and outputs, such as wind_ms<3"`
	// Most are drawn evenly of those that there are.
	Most     int     `json:"most,omitempty" minimum:"1" maximum:"200000" description:"10000 when not given"`
	Rate     float64 `json:"rate,omitempty" description:"how many a second at most; 50 when not given"`
	Parallel int     `json:"parallel,omitempty" minimum:"1" maximum:"64" description:"at a time; 4 when not given"`
	// Tolerance is how far apart numbers may be that agree, as a share of the larger.
	Tolerance float64 `json:"tolerance,omitempty" minimum:"0" maximum:"1" description:"0.05 when not given"`
	// AtMost and AtLeast are limits of disagreement, error_rate, slower, and of measures of the truth.
	AtMost  string `json:"at_most,omitempty" description:"limits, such as disagreement=0.02,error_rate=0.001"`
	AtLeast string `json:"at_least,omitempty" description:"limits of measures of the truth, such as accuracy=0.9"`
}

// NewCheck says which version is asked what must come back. The cases are the body of the call, a YAML file; without
// one they are those of the model.
type NewCheck struct {
	Asked string `query:"asked" json:"-" required:"true" description:"a version such as heat-demand@7, or an endpoint"`
	// Environment is where it is placed; a version that is placed nowhere is started for it.
	Environment string `query:"environment" json:"-" description:"where it is placed; the only place when not given"`
	Name        string `query:"name" json:"-" description:"of the file"`
}

// NewRobustness says which version is tested for robustness, and as whose callers.
type NewRobustness struct {
	Asked string `json:"asked" required:"true" description:"a version such as heat-demand@7, or an endpoint"`
	// Environment is where it is placed; a version that is placed nowhere is started for it.
	Environment string `json:"environment,omitempty" description:"where it is placed; the only place when not given"`
	// Like is the version from whose reference profile rows are drawn.
	Like string `json:"like,omitempty" description:"as whose callers; as those of who answers now when not given"`
	// Rows are drawn, and asked in every disturbance.
	Rows   int    `json:"rows,omitempty" minimum:"20" maximum:"1000" description:"60 when not given"`
	Output string `json:"output,omitempty" description:"the output that is looked at; the first when not given"`
	// AtMost are limits beside those that hold anyway, or in their place.
	AtMost string `json:"at_most,omitempty" description:"limits, such as noise=0.2,beyond=3"`
	// Answering has a version tested for robustness although callers are answered by it where it is.
	Answering bool `json:"answering,omitempty" description:"also where callers are answered by it"`
}

// NewImportance says of which version it is found out on which inputs it relies, and on which rows: a table, the body
// of the call.
type NewImportance struct {
	NewScoring
	// Target is the column with the truth; without it importance is how far predictions move.
	Target string `query:"target" json:"-" description:"the column with the truth, if it is known"`
	Output string `query:"output" json:"-" description:"the output that is explained; the first when not given"`
	// Class is the one that is looked at as an input moves.
	Class string `query:"class" json:"-" description:"looked at as an input moves; the most frequent when not given"`
	// Rows are drawn of the table, and each input is shuffled so many times.
	Rows   int `query:"rows" json:"-" minimum:"20" maximum:"5000" description:"drawn of the table; 500 when not given"`
	Rounds int `query:"rounds" json:"-" minimum:"1" maximum:"50" description:"for each input; 5 when not given"`
}

// NewSchedule says what is scored again and again, and when.
type NewSchedule struct {
	Name    string          `json:"-" uri:"schedule" path:"schedule"`
	Cron    string          `json:"cron" required:"true" description:"minute, hour, day of the month, month, day of the week, such as 15 2 * * *"`
	Zone    string          `json:"zone,omitempty" description:"the time zone that it is meant in, such as Europe/Oslo; UTC when not given"`
	Missed  string          `json:"missed,omitempty" enum:"once,skip" description:"whether a turn that was missed is caught up once; once when not given"`
	Retries *int            `json:"retries,omitempty" minimum:"0" maximum:"5" description:"how often a turn that failed is tried again; 2 when not given"`
	Score   schedule.Scored `json:"score" required:"true"`
	Reason  string          `json:"reason,omitempty"`
}

// NewScoring says who is asked for predictions of all rows of a table, and how. The table is the body of the call.
type NewScoring struct {
	Asked       string `query:"asked" json:"-" required:"true" description:"a version, such as heat-demand@7, or an endpoint: whoever answers for it now"`
	Environment string `query:"environment" json:"-" description:"where the version is placed; the only place when not given; one that is placed nowhere is started for the job"`
	Name        string `query:"name" json:"-" description:"of the file, which tells what it is where its bytes do not: CSV, JSON lines, Parquet"`
	Data        string `query:"data" json:"-" description:"a data set whose address is known, in place of a body"`
	From        string `query:"from" json:"-" description:"an address that the service fetches, in place of a body"`
	Keep        string `query:"keep" json:"-" description:"columns that stand beside the answers, with commas between them; all, none; those that are no inputs when not given"`
	Batch       int    `query:"batch" json:"-" minimum:"1" maximum:"4096" description:"rows of one request; 256 when not given"`
	Parallel    int    `query:"parallel" json:"-" minimum:"1" maximum:"64" description:"requests under way at a time; 4 when not given"`
}

// NewStanding says what every new version of a model is evaluated on. The table is the body of the call, where it is
// neither a data set nor fetched from an address.
type NewStanding struct {
	Model string `json:"-" uri:"model" path:"model" query:"-"`
	Data  string `query:"data" json:"-" description:"a data set whose address is known, in place of a body"`
	From  string `query:"from" json:"-" description:"an address that is fetched for each version, in place of a body"`
	Name  string `query:"name" json:"-" description:"of the file, which tells what it is where its bytes do not"`
	Judging
	Reason string `query:"reason" json:"-"`
}

// StandingShown is what every new version of a model is evaluated on, with how far each is.
type StandingShown struct {
	standing.Standing
	Runs []standing.Candidate `json:"runs" description:"how far each version is; those that wait come first"`
}
