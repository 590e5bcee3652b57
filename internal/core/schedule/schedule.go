// Package schedule decides when what is done again and again is due: never two at once, what was missed once or not at
// all, what failed tried again.
package schedule

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
)

// What becomes of a turn that was missed: because nothing ran then, or because the one before still went on.
const (
	Once = "once"
	Skip = "skip"
)

const (
	// late is how long after its time a turn counts as missed.
	late = 2 * time.Minute
	// mostTurns is how many turns are remembered, mostRetries how often one may be tried again.
	mostTurns   = 50
	mostRetries = 5
)

// Scored is what is scored at each turn.
type Scored struct {
	Asked       string `json:"asked" required:"true" description:"a version, or an endpoint: whoever answers for it then"`
	Environment string `json:"environment,omitempty"`
	// From is an address that is fetched at each turn; Data is a data set, which is the same each time.
	From     string `json:"from,omitempty" description:"an address that is fetched at each turn"`
	Data     string `json:"data,omitempty" description:"a data set, in place of an address"`
	Keep     string `json:"keep,omitempty" description:"columns that stand beside the answers; all, none"`
	Batch    int    `json:"batch,omitempty" description:"rows of one request"`
	Parallel int    `json:"parallel,omitempty" description:"requests under way at a time"`
}

// Turn is one time that it was due.
type Turn struct {
	Due   time.Time `json:"due"`
	State string    `json:"state" enum:"trying,begun,done,failed,stopped,skipped"`
	Job   string    `json:"job,omitempty"`
	Why   string    `json:"why,omitempty" description:"why it failed or was skipped"`
	// Tries is how often it was begun or taken up, AgainAt when it is tried again.
	Tries   int        `json:"tries"`
	AgainAt *time.Time `json:"again_at,omitempty"`
}

// Schedule is something that is done again and again.
type Schedule struct {
	Name    string `json:"name"`
	Project string `json:"project"`
	Cron    string `json:"cron" description:"minute, hour, day of the month, month, day of the week"`
	Zone    string `json:"zone" description:"the time zone that it is meant in, such as Europe/Oslo"`
	Missed  string `json:"missed" enum:"once,skip" description:"whether a turn that was missed is caught up once"`
	Retries int    `json:"retries" description:"how often a turn that failed is tried again"`
	Score   Scored `json:"score"`
	Paused  bool   `json:"paused"`
	By      string `json:"by"`
	// SetAt is when it was set, Next when it is due next; nil while it is paused.
	SetAt time.Time  `json:"set_at"`
	Next  *time.Time `json:"next,omitempty"`
	// Turns are the last ones, newest first.
	Turns []Turn `json:"turns" description:"the last ones, newest first"`
}

var named = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// words are commands of their own.
var words = []string{"remove", "pause", "resume", "now"}

// Check refuses a schedule that cannot be; next finds a turn, and says what is wrong with the times.
func (s *Schedule) Check(now time.Time, next func(time.Time) (time.Time, error)) error {
	if !named.MatchString(s.Name) || slices.Contains(words, s.Name) {
		return fault.New(fault.Invalid, "schedule.name", "%q cannot be the name of a schedule", s.Name).In("name").
			Do("use small letters, digits, dots, dashes, and none of %s", strings.Join(words, ", "))
	}
	if len(strings.Fields(s.Cron)) != 5 {
		return fault.New(fault.Invalid, "schedule.cron", "%q has %d fields", s.Cron, len(strings.Fields(s.Cron))).
			In("cron").Do(`give five: minute, hour, day of the month, month, day of the week, such as "15 2 * * *"`)
	}
	if _, err := next(now); err != nil {
		return fault.New(fault.Invalid, "schedule.cron", "%q is never: %v", s.Cron, err).In("cron").
			Do(`give minute, hour, day of the month, month, day of the week, such as "15 2 * * *"`)
	}
	if s.Missed != Once && s.Missed != Skip {
		return fault.New(fault.Invalid, "schedule.missed", "%q is not what becomes of a turn that was missed",
			s.Missed).In("missed").Do("use once or skip")
	}
	if s.Retries < 0 || s.Retries > mostRetries {
		return fault.New(fault.Invalid, "schedule.retries", "a turn cannot be tried again %d times", s.Retries).
			In("retries").Do("use 0 to %d", mostRetries)
	}
	if (s.Score.From == "") == (s.Score.Data == "") {
		return fault.New(fault.Invalid, "schedule.rows", "the rows are to come from an address or a data set").
			In("from").Do("name one of them")
	}
	if s.Score.From == "" {
		return nil
	}
	return job.CheckAddress("schedule", s.Score.From)
}

// Act is what is to be done now. Begin asks for a job, Resume for one to be taken up; Failed says that a turn has
// failed for good.
type Act struct {
	Begin  bool
	Resume string
	Failed bool
}

// pause is how long it is waited before a turn is tried for the nth time again.
func pause(tries int) time.Duration {
	return []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}[min(tries-1, 3)]
}

// going reports whether the last turn has not ended.
func (s *Schedule) going() bool {
	return len(s.Turns) > 0 && (s.Turns[0].State == "begun" || s.Turns[0].State == "trying")
}

// Step says what is to be done at a moment, and whether anything has changed. last is the job of the last turn, nil
// where there is none; next finds the turn after a moment.
func (s *Schedule) Step(now time.Time, last *job.Job, next func(time.Time) (time.Time, error)) (act Act, changed bool) {
	if s.going() {
		act, changed = s.follow(now, last)
	}
	if s.Paused {
		changed = changed || s.Next != nil
		s.Next = nil
		return act, changed
	}
	if s.Next == nil {
		s.after(now, next)
		return act, true
	}
	if now.Before(*s.Next) {
		return act, changed
	}
	due, turns := *s.Next, 1
	for turns < 10_000 { // several may have been missed
		then, err := next(due)
		if err != nil || then.After(now) {
			break
		}
		due, turns = then, turns+1
	}
	switch {
	case s.going() && s.Missed == Once:
		return act, changed // as soon as that has ended
	case s.going():
		why := fmt.Sprintf("the one before it, %s, still went on", s.Turns[0].Job)
		s.add(Turn{Due: due, State: "skipped", Why: why})
		s.Turns[0], s.Turns[1] = s.Turns[1], s.Turns[0] // the one that goes on stays first
	case s.Missed == Skip && now.Sub(due) > late:
		s.add(Turn{Due: due, State: "skipped", Why: "the service did not run then"})
	default:
		s.add(trying(due, now))
		act.Begin = true
	}
	s.after(now, next)
	return act, true
}

// trying is a turn that begins now. Where nothing more is heard of it, because the service ended in the middle, it is
// tried again.
func trying(due, now time.Time) Turn {
	again := now.Add(pause(1))
	return Turn{Due: due, State: "trying", Tries: 1, AgainAt: &again}
}

// Rest has the schedule rest, or go on from a moment: what was missed until then is not caught up. A turn that goes on
// is not touched.
func (s *Schedule) Rest(paused bool, now time.Time, next func(time.Time) (time.Time, error)) {
	s.Paused, s.Next = paused, nil
	if !paused {
		s.after(now, next)
	}
}

// after settles the next turn.
func (s *Schedule) after(now time.Time, next func(time.Time) (time.Time, error)) {
	s.Next = nil
	if then, err := next(now); err == nil {
		s.Next = &then
	}
}

func (s *Schedule) add(t Turn) {
	s.Turns = slices.Insert(s.Turns, 0, t)
	if len(s.Turns) > mostTurns {
		s.Turns = s.Turns[:mostTurns]
	}
}

// Now has a turn be taken at once, out of turn.
func (s *Schedule) Now(now time.Time) error {
	if s.going() {
		return fault.New(fault.Refused, "schedule.going", "%s of %s still goes on", s.Turns[0].Job, s.Name).In("name").
			Do("wait for it, or stop it with: innerladder job stop %s", s.Turns[0].Job)
	}
	s.add(trying(now, now))
	return nil
}

// Seen is the schedule as it is with its last job by now, for who looks at it before the next step is taken.
func (s *Schedule) Seen(last *job.Job) {
	if t := &s.Turns[0]; t.State == "begun" && (last.State == job.Done || last.State == job.Stopped) {
		t.State, t.Why = string(last.State), last.Reason
	}
}

// follow looks at the turn that goes on.
func (s *Schedule) follow(now time.Time, last *job.Job) (act Act, changed bool) {
	t := &s.Turns[0]
	switch {
	case t.AgainAt != nil && now.Before(*t.AgainAt):
		return act, false
	case t.AgainAt != nil:
		t.AgainAt = nil
		t.Tries++
		if t.Job != "" {
			t.State = "begun"
			return Act{Resume: t.Job}, true
		}
		again := now.Add(pause(t.Tries))
		t.AgainAt = &again
		return Act{Begin: true}, true
	case last == nil:
		t.State, t.Why = "failed", "its job is not there any more"
		return Act{Failed: true}, true
	case last.State == job.Done, last.State == job.Stopped:
		t.State, t.Why = string(last.State), last.Reason
		return act, true
	case last.State == job.Failed:
		return s.Fail(now, last.Reason), true
	}
	return act, false
}

// Began notes the job that the last turn has begun.
func (s *Schedule) Began(id string) {
	t := &s.Turns[0]
	t.Job, t.State, t.Why, t.AgainAt = id, "begun", "", nil
}

// Fail notes that the last turn failed: it is tried again, or has failed for good.
func (s *Schedule) Fail(now time.Time, why string) Act {
	t := &s.Turns[0]
	t.Why = why
	if t.Tries > s.Retries {
		t.State, t.AgainAt = "failed", nil
		return Act{Failed: true}
	}
	again := now.Add(pause(t.Tries))
	t.State, t.AgainAt = "trying", &again
	return Act{}
}
