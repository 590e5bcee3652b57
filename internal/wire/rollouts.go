package wire

import (
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
)

// NewRollout is what is said when an endpoint is to be moved to another version.
type NewRollout struct {
	To       string     `json:"to" required:"true" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
	Plan     string     `json:"plan,omitempty" description:"NAME or NAME#REVISION; careful when not given"`
	Reason   string     `json:"reason,omitempty"`
	StartsAt *time.Time `json:"starts_at,omitempty" description:"it waits until then"`
}

// ChangeRollout is what a person does with a rollout.
type ChangeRollout struct {
	Do     rollout.Verb `json:"do" required:"true" enum:"hold,resume,speed,finish,end"`
	Reason string       `json:"reason" required:"true"`
	// StepDown is for an end that gives main back.
	StepDown bool `json:"step_down,omitempty" description:"when it ends, it must be signed anew"`
}

// Outlook is what a rollout would do, before it is started.
type Outlook struct {
	Endpoint string       `json:"endpoint"`
	From     string       `json:"from"`
	To       string       `json:"to"`
	Plan     rollout.Plan `json:"plan"`
	// Lacking is all that the version lacks; while there is something it is not begun.
	Lacking  []string         `json:"lacking"`
	Forecast rollout.Forecast `json:"forecast"`
	Sentence string           `json:"sentence"`
}

// ShownRollout is a rollout as it looks now, with its decision log.
type ShownRollout struct {
	rollout.Rollout
	// Incident is the page about its rollback, if it was rolled back.
	Incident  string             `json:"incident,omitempty" description:"I-NUMBER, when it was rolled back"`
	Standing  rollout.Standing   `json:"standing"`
	Guards    []guard.Reading    `json:"guards" description:"what its guards say now"`
	Decisions []rollout.Decision `json:"decisions"`
	// Copies are what its copies have shown: so far, or in the report that became of them.
	Copies *evidence.ShadowReport `json:"copies_shown,omitempty" description:"what its copies have shown"`
	// Verdict is what a comparison says, so far or when it ended.
	Verdict *guard.Judgement `json:"verdict,omitempty" description:"what a comparison says"`
	// Curve is what the guards said over its time.
	Curve []guard.Progress `json:"curve" description:"what the guards said over its time, in steps"`
}

// KeptPlan is a plan of rollouts, one that is built in or a revision of a project's own.
type KeptPlan struct {
	rollout.Plan
	Project string    `json:"project,omitempty" description:"empty for one that is built in"`
	Text    string    `json:"text" description:"as it was written, YAML"`
	Reason  string    `json:"reason,omitempty"`
	Author  string    `json:"author,omitempty"`
	MadeAt  time.Time `json:"made_at,omitzero"`
}

// Served is a split with what it served and how it ended.
type Served struct {
	Split    traffic.Split `json:"split"`
	Until    *time.Time    `json:"until,omitempty" description:"absent while it is in force"`
	LastedMS int64         `json:"lasted_ms"`
	Ended    string        `json:"ended"`
	Versions []ServedBy    `json:"versions" description:"what each version answered, as far as it is still known"`
	Incident string        `json:"incident,omitempty" description:"I-NUMBER, when it is the way back of one"`
}

// ServedBy is what a version answered under a split.
type ServedBy struct {
	Version  string `json:"version"`
	Requests uint64 `json:"requests"`
	Failed   uint64 `json:"failed"`
}
