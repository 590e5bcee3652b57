package wire

import (
	"innerladder/internal/core/schedule"
	"innerladder/internal/core/standing"
)

// NewEvaluation says who is evaluated on a table with the truth, and how. The table is the body of the call.
type NewEvaluation struct {
	NewScoring
	Target   string `query:"target" json:"-" required:"true" description:"the column with the truth"`
	Output   string `query:"output" json:"-" description:"whose truth it is; that of the same name, or the only one, when not given"`
	Weight   string `query:"weight" json:"-" description:"a column with how much each row counts"`
	Segments string `query:"segments" json:"-" description:"columns whose levels and quarters are looked at, with commas between them; all inputs when not given, none"`
	Against  string `query:"against" json:"-" description:"another version that is asked about the same rows: a ref, @REF of the same model, an endpoint, or incumbent"`
	AtMost   string `query:"at_most" json:"-" description:"what measures may be at most, such as rmse=0.2, with commas between them"`
	AtLeast  string `query:"at_least" json:"-" description:"what measures must be at least, such as accuracy=0.9, with commas between them"`
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
	Model    string `json:"-" uri:"model" path:"model" query:"-"`
	Data     string `query:"data" json:"-" description:"a data set whose address is known, in place of a body"`
	From     string `query:"from" json:"-" description:"an address that the service fetches for each version, in place of a body"`
	Name     string `query:"name" json:"-" description:"of the file, which tells what it is where its bytes do not"`
	Target   string `query:"target" json:"-" required:"true" description:"the column with the truth"`
	Output   string `query:"output" json:"-" description:"whose truth it is"`
	Weight   string `query:"weight" json:"-" description:"a column with how much each row counts"`
	Segments string `query:"segments" json:"-" description:"columns whose levels and quarters are looked at, with commas between them"`
	Against  string `query:"against" json:"-" description:"who each version is held against on the same rows: a ref, @REF of the same model, such as @live, or incumbent"`
	AtMost   string `query:"at_most" json:"-" description:"what measures may be at most, such as rmse=0.2"`
	AtLeast  string `query:"at_least" json:"-" description:"what measures must be at least, such as accuracy=0.9"`
	Reason   string `query:"reason" json:"-"`
}

// StandingShown is what every new version of a model is evaluated on, with how far each is.
type StandingShown struct {
	standing.Standing
	Runs []standing.Candidate `json:"runs" description:"how far each version is, those that wait first, then the newest job first"`
}
