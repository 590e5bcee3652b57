// Package job is about work that takes long: what it is, how far it is, and what may be done with it.
package job

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// State is what becomes of a job.
type State string

// The states of a job. Those that have ended but not well can be taken up again where they were.
const (
	Waiting State = "waiting"
	Running State = "running"
	Done    State = "done"
	Stopped State = "stopped"
	Failed  State = "failed"
)

// ScoreKind is the kind of job that asks a version for predictions of the rows of a table.
const ScoreKind = "score"

// EvaluateKind is the kind of job that does the same and holds the answers against the truth.
const EvaluateKind = "evaluate"

// ReplayKind is the kind of job that asks a version what callers asked another before.
const ReplayKind = "replay"

// CheckKind is the kind of job that asks a version what must come back.
const CheckKind = "check"

// RobustnessKind is the kind of job that asks a version when things are not as they should be.
const RobustnessKind = "robustness"

// ImportanceKind is the kind of job that finds out on which inputs a version relies.
const ImportanceKind = "importance"

// Progress is how far a job is; all are rows, but for Share and the two that say so.
type Progress struct {
	// Rows were read and have ended: Answered well, or PutAside with a reason.
	Rows     int64 `json:"rows" description:"rows that have ended"`
	Answered int64 `json:"answered" description:"rows that were answered"`
	PutAside int64 `json:"put_aside" description:"rows that were put aside, each with its reason"`
	// Share is how much of the table that is, from 0 to 1.
	Share float64 `json:"share" minimum:"0" maximum:"1" description:"of the table"`
	// Rate is how many rows end in a second, over the last seconds; Left is how long the rest will take at that.
	Rate float64 `json:"rate,omitempty" description:"rows a second, lately"`
	Left float64 `json:"left_s,omitempty" description:"seconds that the rest will take at that rate"`
	// Trouble is why it does not get on just now, and tries again.
	Trouble string `json:"trouble,omitempty" description:"why it does not get on just now"`
	// Remarks are what was found out on the way.
	Remarks []string `json:"remarks,omitempty"`
}

// Scoring is what a job of kind score does.
type Scoring struct {
	// Asked is how it was named: a version's ref, or an endpoint. Version is who answers, from the first row to the
	// last.
	Asked       string `json:"asked" description:"the version or endpoint as it was named"`
	Version     string `json:"version" description:"who answers, from the first row to the last"`
	Environment string `json:"environment,omitempty" description:"where it is placed; absent when it was started for the job"`
	// Table is the name of the file, Digest its SHA-256, Data the data set that it is, if it is one.
	Table  string `json:"table" description:"the name of the file with the rows"`
	Digest string `json:"digest" description:"SHA-256 of the file"`
	Size   int64  `json:"size" description:"bytes of the file"`
	Data   string `json:"data,omitempty" description:"the data set that it is"`
	// From is the address that it is fetched from when the job begins. KeepAsked is how Keep was put before the table
	// was there.
	From      string `json:"from,omitempty" description:"the address that it is fetched from when the job begins"`
	KeepAsked string `json:"keep_asked,omitempty"`
	// Batch is how many rows are asked at once, Parallel how many requests are under way.
	Batch    int `json:"batch" description:"rows of one request"`
	Parallel int `json:"parallel" description:"requests under way at a time"`
	// Keep are the columns of the table that stand beside the answers.
	Keep []string `json:"keep" description:"columns of the table that stand beside the answers"`
}

// Judging says by what answers are judged.
type Judging struct {
	// Target is the column of the table with the truth of Output; Weight one with how much each row counts.
	Target string `json:"target" description:"the column with the truth"`
	Output string `json:"output,omitempty" description:"whose truth it is; found by its name when not given"`
	Weight string `json:"weight,omitempty" description:"a column with how much each row counts"`
	// Segments are the columns whose levels and quarters are looked at.
	Segments []string                  `json:"segments" description:"columns whose levels and quarters are looked at"`
	Limits   map[string]evidence.Limit `json:"limits,omitempty"`
	// Against is another version that is asked about the same rows.
	Against string `json:"against,omitempty" description:"another version that is asked about the same rows"`
}

// Evaluating is what answers are held against.
type Evaluating struct {
	Judging
	// AgainstEnvironment is where the other version is asked; empty where it has a process of its own.
	AgainstEnvironment string `json:"against_environment,omitempty" description:"where that one is placed"`
	// Sensitive are the inputs by whose groups quality and predictions are looked at.
	Sensitive []string `json:"sensitive,omitempty" description:"by whose groups quality and predictions are looked at"`
	// Standing is the standing evaluation that it is done for.
	Standing string `json:"standing,omitempty" description:"the standing evaluation that it is done for, MODEL#NUMBER"`
	// Evidence is the report, once it is made.
	Evidence string `json:"evidence,omitempty" description:"the report, once it is made"`
}

// Job is work that takes long.
type Job struct {
	ID      string     `json:"id" description:"J-NUMBER"`
	Kind    string     `json:"kind" enum:"score,evaluate,replay,check,robustness,importance"`
	Project string     `json:"project"`
	State   State      `json:"state" enum:"waiting,running,done,stopped,failed"`
	Reason  string     `json:"reason,omitempty" description:"why it failed or was stopped"`
	By      string     `json:"by"`
	BegunAt time.Time  `json:"begun_at"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
	// Forgotten says that its files are not kept any more.
	Forgotten bool     `json:"forgotten,omitempty" description:"its answers are not kept any more"`
	Progress  Progress `json:"progress"`
	// Schedule is the one whose turn it is.
	Schedule string   `json:"schedule,omitempty" description:"the schedule whose turn it is"`
	Scoring  *Scoring `json:"scoring,omitempty"`
	// Evaluating is what a job of kind evaluate does besides.
	Evaluating *Evaluating `json:"evaluating,omitempty"`
	// Replaying is what a job of kind replay does; its rows are requests.
	Replaying *Replaying `json:"replaying,omitempty"`
	// Checking is what a job of kind check does; its rows are cases.
	Checking *Checking `json:"checking,omitempty"`
	// Robustness is what a job of kind robustness does; its rows are disturbances.
	Robustness *Robustness `json:"robustness,omitempty"`
	// Importance is what a job of kind importance does; its rows are those that are asked, also changed.
	Importance *Importance `json:"importance,omitempty"`
}

// Importance is how it is found out on which inputs a version relies.
type Importance struct {
	// Target is the column with the truth; without one it is found by how much predictions move alone.
	Target string `json:"target,omitempty" description:"the column with the truth"`
	// Output is the one that is explained; the first when empty. Class is the one that is looked at as an input moves.
	Output string `json:"output,omitempty" description:"the output that is explained; the first when not given"`
	Class  string `json:"class,omitempty" description:"looked at as an input moves; the most frequent when not given"`
	// Rows are drawn of the table, Rounds is how often each input is shuffled.
	Rows   int `json:"rows" description:"how many rows are drawn of the table"`
	Rounds int `json:"rounds" description:"how often each input is shuffled"`
	// Evidence is the report, once it is made.
	Evidence string `json:"evidence,omitempty" description:"the report, once it is made"`
}

// Robustness is what a version is asked when things are not as they should be.
type Robustness struct {
	evidence.Likeness
	Rows int `json:"rows" description:"how many are drawn, and asked in every disturbance"`
	// Output is the one that is looked at; the first when empty.
	Output string `json:"output,omitempty" description:"the output that is looked at; the first when not given"`

	Limits map[string]evidence.Limit `json:"limits,omitempty"`
	// Evidence is the report, once it is made.
	Evidence string `json:"evidence,omitempty" description:"the report, once it is made"`
}

// Checking is what must come back.
type Checking struct {
	// Cases are those of the model, MODEL#NUMBER, or a file.
	Cases string `json:"cases" description:"the cases of the model, MODEL#NUMBER, or the name of a file"`
	// Evidence is the report, once it is made.
	Evidence string `json:"evidence,omitempty" description:"the report, once it is made"`
}

// CheckTarget refuses a table without the column that has the truth.
func (i *Importance) CheckTarget(columns []string) error {
	if i.Target == "" || slices.Contains(columns, i.Target) {
		return nil
	}
	return fault.New(fault.Invalid, "importance.target", "the table has no column %s", i.Target).In("target").
		Do("its columns are %s; leave it out where the truth is not known", strings.Join(columns, ", "))
}

// Report is the evidence that it has made; empty for none.
func (j *Job) Report() string {
	if at := j.report(); at != nil {
		return *at
	}
	return ""
}

// SetReport notes the evidence that it has made.
func (j *Job) SetReport(id string) {
	if at := j.report(); at != nil {
		*at = id
	}
}

// report is where its evidence is noted; nil for a job that makes none.
func (j *Job) report() *string {
	switch {
	case j.Evaluating != nil:
		return &j.Evaluating.Evidence
	case j.Replaying != nil:
		return &j.Replaying.Evidence
	case j.Checking != nil:
		return &j.Checking.Evidence
	case j.Robustness != nil:
		return &j.Robustness.Evidence
	case j.Importance != nil:
		return &j.Importance.Evidence
	}
	return nil
}

// FindsRows reports whether what it finds are rows of a table, and not a report alone.
func (j *Job) FindsRows() bool {
	return j.Checking == nil && j.Robustness == nil && j.Importance == nil
}

// Replaying is what is asked again.
type Replaying struct {
	Endpoint string `json:"endpoint" description:"whose log it is"`
	// From and Until bound when the requests ended, AnsweredBy is who answered them then.
	From       time.Time `json:"from"`
	Until      time.Time `json:"until"`
	AnsweredBy string    `json:"answered_by" description:"the version that dealt with them then"`
	// Where are conditions on their inputs and outputs.
	Where []string `json:"where,omitempty" description:"conditions on inputs and outputs"`
	// Most is how many are asked again, Rate how many a second.
	Most int     `json:"most" description:"how many are asked again at most"`
	Rate float64 `json:"rate" description:"how many a second at most"`
	// Tolerance is how far apart numbers may be that agree, as a share of the larger.
	Tolerance float64                   `json:"tolerance" description:"how far apart numbers may be that agree"`
	Limits    map[string]evidence.Limit `json:"limits,omitempty"`
	// Found were in the log and could be asked again, Taken of them are; LeftOut could not, by why.
	Found   int64            `json:"found" description:"in the log, and could be asked again"`
	Taken   int64            `json:"taken" description:"of them, asked again"`
	LeftOut map[string]int64 `json:"left_out,omitempty" description:"in the log, and could not be asked again, by why"`
	// Evidence is the report, once it is made.
	Evidence string `json:"evidence,omitempty" description:"the report, once it is made"`
}

var ids = naming.Numbered{Prefix: "J-", What: "job"}

// ID writes the number of a job as people do.
func ID(n int64) string { return ids.ID(n) }

// ParseID reads J-12.
func ParseID(field, s string) (int64, error) { return ids.Parse(field, s) }

// CheckAddress refuses what is no address from which the service could fetch rows; code begins that of the fault.
func CheckAddress(code, address string) error {
	scheme, _, _ := strings.Cut(address, "://")
	if slices.Contains([]string{"http", "https", "file"}, scheme) {
		return nil
	}
	return fault.New(fault.Invalid, code+".rows", "%.200q is no address to fetch rows from", address).In("from").
		Do("give an https:// or file:// address, which the service can reach")
}

// Ended reports whether nothing is done for it any more.
func (j *Job) Ended() bool { return j.State != Waiting && j.State != Running }

// Stop ends a job that has not ended.
func (j *Job) Stop(reason string, now time.Time) error {
	if j.Ended() {
		return fault.New(fault.Refused, "job.ended", "%s is %s already", j.ID, j.State).In("job")
	}
	j.end(Stopped, reason, now)
	return nil
}

// Resume takes a job up again that was stopped or failed.
func (j *Job) Resume() error {
	switch {
	case j.State == Done && j.FindsRows():
		return fault.New(fault.Refused, "job.done", "%s is done", j.ID).In("job").Do("get what it found with: "+
			"innerladder job answers %s", j.ID)
	case j.State == Done:
		return fault.New(fault.Refused, "job.done", "%s is done", j.ID).In("job").Do("see its report with: "+
			"innerladder evidence %s", j.Report())
	case !j.Ended():
		return fault.New(fault.Refused, "job.going", "%s is %s", j.ID, j.State).In("job")
	case j.Forgotten:
		return fault.New(fault.Refused, "job.forgotten", "the files of %s are not kept any more", j.ID).In("job").
			Do("begin another")
	}
	j.State, j.Reason, j.EndedAt = Waiting, "", nil
	return nil
}

// End notes how a job ended by itself.
func (j *Job) End(err error, now time.Time) {
	if err != nil {
		j.end(Failed, err.Error(), now)
		return
	}
	j.end(Done, "", now)
}

func (j *Job) end(s State, reason string, now time.Time) {
	j.State, j.Reason, j.EndedAt = s, reason, &now
	j.Progress.Rate, j.Progress.Left, j.Progress.Trouble = 0, 0, ""
}

// Says is how a job stands, in a sentence.
func (j *Job) Says() string {
	p := j.Progress
	var what string
	if s := j.Scoring; s != nil {
		what = fmt.Sprintf("%s asks %s about %s", j.ID, s.Version, cmp.Or(s.Data, s.Table))
		if e := j.Evaluating; e != nil {
			beside := ""
			if e.Against != "" {
				beside = " against " + e.Against
			}
			what = fmt.Sprintf("%s evaluates %s%s on %s", j.ID, s.Version, beside, cmp.Or(s.Data, s.Table))
		}
	}
	unit := "rows"
	if r := j.Replaying; r != nil {
		what = fmt.Sprintf("%s asks %s again what %s answered for %s", j.ID, j.Scoring.Version, r.AnsweredBy,
			r.Endpoint)
		unit = "requests"
	}
	if c := j.Checking; c != nil {
		what = fmt.Sprintf("%s checks %s by %s", j.ID, j.Scoring.Version, c.Cases)
		unit = "cases"
	}
	if j.Importance != nil {
		what = fmt.Sprintf("%s finds out on which inputs %s relies, on %s", j.ID, j.Scoring.Version,
			cmp.Or(j.Scoring.Data, j.Scoring.Table))
	}
	if r := j.Robustness; r != nil {
		what = fmt.Sprintf("%s tests the robustness of %s with %d rows like those of %s", j.ID, j.Scoring.Version,
			r.Rows, r.Like)
		unit = "disturbances"
	}
	rows := fmt.Sprintf("%d %s answered", p.Answered, unit)
	if p.PutAside > 0 {
		rows += fmt.Sprintf(", %d put aside", p.PutAside)
	}
	switch j.State {
	case Running:
		rows = fmt.Sprintf("%.0f %%, %s", 100*p.Share, rows)
	case Stopped, Failed:
		return strings.TrimSuffix(fmt.Sprintf("%s: %s after %.0f %%, %s: %s", what, j.State, 100*p.Share, rows,
			j.Reason), ": ")
	}
	return fmt.Sprintf("%s: %s, %s", what, j.State, rows)
}
