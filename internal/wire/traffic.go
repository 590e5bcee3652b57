package wire

import (
	"strconv"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/replica"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
)

// NewEnvironment is what is said about an environment when it is added.
type NewEnvironment struct {
	Name        string   `json:"name" required:"true"`
	Description string   `json:"description,omitempty"`
	Project     string   `json:"project,omitempty" description:"whose it is; may be left out where there is one choice"`
	SharedWith  []string `json:"shared_with,omitempty" description:"other projects whose versions may run there"`
	Allowed     []string `json:"allowed,omitempty" description:"hosts, *.HOST, ranges; with :PORT for one port"`
}

// EditEnvironment says what changes of an environment; what is absent stays.
type EditEnvironment struct {
	Name        *string   `json:"name,omitempty"`
	Description *string   `json:"description,omitempty"`
	Project     *string   `json:"project,omitempty" description:"whose it is from now on"`
	SharedWith  *[]string `json:"shared_with,omitempty" description:"all other projects whose versions may run there"`
	Allowed     *[]string `json:"allowed,omitempty" description:"all rules for addresses"`
	Reason      string    `json:"reason,omitempty"`
}

// NewPlacement says that a version runs in an environment: at addresses, or elsewhere.
type NewPlacement struct {
	Version     string     `json:"version" required:"true" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
	Environment string     `json:"environment" required:"true"`
	Addresses   []string   `json:"addresses,omitempty" description:"of model servers, such as http://127.0.0.1:9001"`
	ServedAs    string     `json:"served_as,omitempty" description:"the model's name there; the same when not given"`
	Elsewhere   bool       `json:"elsewhere,omitempty" description:"it answers where the gateway does not reach"`
	Runner      *NewRunner `json:"runner,omitempty" description:"run it on the service's machine from its file"`
}

// GatewayAddress is how callers reach the gateway.
type GatewayAddress struct {
	URL string `json:"url" description:"of the gateway, as callers reach it; empty when it is not known yet"`
}

// NewRunner says how a version is run on the service's machine.
type NewRunner struct {
	Template  string `json:"template,omitempty" description:"the built-in model server when empty"`
	Replicas  string `json:"replicas,omitempty" description:"such as 3, or 1..4 to follow the load; 1 when empty"`
	BatchRows int    `json:"batch_rows,omitempty" minimum:"0" maximum:"65536" description:"together; 0 is none"`
	BatchWait string `json:"batch_wait,omitempty" description:"how long a request waits for others, such as 2ms"`
}

// PutTemplate allows a command line to serve versions on the service's machine.
type PutTemplate struct {
	Name        string            `json:"-" uri:"name" path:"name"`
	Command     []string          `json:"command" required:"true" description:"a program by its path, then arguments"`
	Environment map[string]string `json:"environment,omitempty" description:"variables of its environment"`
	Description string            `json:"description,omitempty"`
	Reason      string            `json:"reason" required:"true"`
}

// Running is a version that runs on the service's machine.
type Running struct {
	Version     string            `json:"version"`
	Environment string            `json:"environment"`
	Runner      traffic.Runner    `json:"runner"`
	Replicas    []replica.Replica `json:"replicas"`
}

// RunningLog is what a replica wrote.
type RunningLog struct {
	Lines []string `json:"lines" description:"the last lines, the newest last"`
}

// EditAddresses says which addresses a placement gets and loses.
type EditAddresses struct {
	Add    []string `json:"add,omitempty" description:"addresses of model servers that answer from now on too"`
	Remove []string `json:"remove,omitempty" description:"asked no more; what they have begun they finish"`
	// Replicas changes how many processes there are of what runs on the service's machine.
	Replicas string `json:"replicas,omitempty" description:"how many processes, of what runs on the service's machine"`
	Reason   string `json:"reason,omitempty"`
}

// NewEndpoint is what is said about an endpoint when it is added.
type NewEndpoint struct {
	Name        string `json:"name"`
	Model       string `json:"model"`
	Environment string `json:"environment"`
	Rung        string `json:"rung,omitempty" description:"what versions must stand on to answer; the highest when not given"`
	Description string `json:"description,omitempty"`
	// Terms are what trial lanes are held to; the defaults when not given.
	Terms *guard.Terms `json:"terms,omitempty"`
	// Checked has requests held against the contract.
	Checked bool `json:"checked,omitempty" description:"requests that do not keep the contract are refused"`
	// Repeatable is for models that only compute.
	Repeatable bool `json:"repeatable,omitempty" description:"asking a model server twice does no harm, so that a request is sent again whenever it failed"`
}

// EditEndpoint says what changes of an endpoint; what is absent stays. Its name is what callers
// call, so that stays too.
type EditEndpoint struct {
	Description *string      `json:"description,omitempty"`
	Rung        *string      `json:"rung,omitempty" description:"what versions must stand on to answer"`
	Terms       *guard.Terms `json:"terms,omitempty" description:"what trial lanes are held to; not while there is one"`
	Repeatable  *bool        `json:"repeatable,omitempty"`
	Checked     *bool        `json:"checked,omitempty"`
	Sticky      *string      `json:"sticky,omitempty" description:"what keeps callers on their lane"`
	Owner       *string      `json:"owner,omitempty" description:"the person or team whose endpoint it is"`
	Runbook     *string      `json:"runbook,omitempty" description:"the address of a page that says what to do"`
	// Requests says what is kept of single requests from now on.
	Requests *request.Keeping `json:"requests,omitempty" description:"what is kept of single requests from now on"`
	Reason   string           `json:"reason,omitempty"`
}

// LaneNow is what one lane of the split in force does now.
type LaneNow struct {
	traffic.Lane
	Healthy bool `json:"healthy"`
	// Addresses are those of its placement, HealthyAddresses those of them that are healthy.
	Addresses        int `json:"addresses"`
	HealthyAddresses int `json:"healthy_addresses"`
	// Since are the counts since the split came into force.
	Requests uint64 `json:"requests" description:"since the split came into force"`
	Failed   uint64 `json:"failed" description:"since the split came into force"`
	// The rest is about the last seconds.
	Rate      float64 `json:"rate" description:"requests a second"`
	ErrorRate float64 `json:"error_rate" description:"share of requests that failed"`
	P50       float64 `json:"p50_ms"`
	P95       float64 `json:"p95_ms"`
	P99       float64 `json:"p99_ms"`
	// Copies are what the copies that a shadow gets have shown so far.
	Copies *evidence.ShadowReport `json:"copies_shown,omitempty" description:"what a shadow's copies have shown"`
}

// EndpointNow is what an endpoint does now.
type EndpointNow struct {
	Endpoint string    `json:"endpoint"`
	Project  string    `json:"project"`
	At       time.Time `json:"at"`
	Split    int       `json:"split" description:"0 when there is none yet"`
	Lanes    []LaneNow `json:"lanes"`
	// State is the worst that can be said of it, absent without a split.
	State watch.EndpointState `json:"state,omitempty" description:"the worst to be said of it; absent without a split"`
	// Diverted is set while the gateway answers by a way back that could not be recorded yet.
	Diverted string `json:"diverted,omitempty" description:"set while a way back is not written down yet"`
	// Refused is what the gateway turned away in the last seconds.
	Refused     []RefusedNow `json:"refused" description:"what the gateway turned away lately, most frequent first"`
	RefusedOver float64      `json:"refused_over" description:"in so many seconds"`
	// Trend is what it did in each of the last minutes, the oldest first; minutes before its first request are left
	// out.
	Trend []TrendMinute `json:"trend" description:"the last quarter of an hour, by the minute, the oldest first"`
	// Guards are what the guards of the trial lanes say; empty without a trial.
	Guards []GuardNow `json:"guards"`
}

// TrendMinute is what an endpoint did in a minute.
type TrendMinute struct {
	Rate      float64 `json:"rate" description:"requests a second"`
	ErrorRate float64 `json:"error_rate" description:"share of requests that failed"`
}

// Watches are those of an endpoint.
type Watches struct {
	Endpoint string        `json:"endpoint"`
	Every    string        `json:"every" description:"how long a look is"`
	Items    []watch.Stand `json:"items" description:"the worst first"`
	// Set is what people say about it, Text the same as a file.
	Set  watch.Set `json:"set" description:"what people say about it"`
	Text string    `json:"text" description:"the same as a YAML file, with what is usual in comments"`
	// Sentences are the watches that were set in words, by their names.
	Sentences map[string]string `json:"sentences" description:"the watches that were set in words, by name"`
	Mutes     []watch.Mute      `json:"mutes" description:"of which no alerts are raised now"`
	Subjects  []string          `json:"subjects" description:"what alerts can be about, and be muted"`
	// Watchable is what else can be watched.
	Watchable []watch.Watchable `json:"watchable" description:"the signals that a watch can be set for"`
}

// ETag is the revision of what people say about the watching.
func (w Watches) ETag() string { return strconv.Quote(strconv.Itoa(w.Set.Revision)) }

// RefusedNow is how many requests were turned away lately for one reason.
type RefusedNow struct {
	Reason string `json:"reason" description:"the code of the error that callers got"`
	What   string `json:"what" description:"what such requests did"`
	Count  uint64 `json:"count"`
}

// GuardNow is what one guard says of one trial lane.
type GuardNow struct {
	Version string `json:"version"`
	guard.Reading
}

// Point is what one lane did in one step of a series.
type Point struct {
	At        time.Time `json:"at" description:"the start of the step"`
	Requests  uint64    `json:"requests"`
	Rate      float64   `json:"rate"`
	ErrorRate float64   `json:"error_rate"`
	P50       float64   `json:"p50_ms"`
	P95       float64   `json:"p95_ms"`
	P99       float64   `json:"p99_ms"`
}

// LaneSeries is what one version did on one kind of lane over time.
type LaneSeries struct {
	Lane    string  `json:"lane" enum:"main,trial,shadow,pinned"`
	Version string  `json:"version"`
	Points  []Point `json:"points"`
}

// Series is what an endpoint did over time, with what happened to it.
type Series struct {
	Endpoint string       `json:"endpoint"`
	From     time.Time    `json:"from"`
	To       time.Time    `json:"to"`
	StepMS   int64        `json:"step_ms"`
	Lanes    []LaneSeries `json:"lanes"`
	// Refused is what the gateway turned away; steps without any are left out.
	Refused []RefusalPoint   `json:"refused" description:"what was turned away; steps without any are left out"`
	Splits  []traffic.Split  `json:"splits"`
	Alerts  []watch.Alert    `json:"alerts"`
	Guards  []guard.Progress `json:"guards"`
}

// Rotated says what a change of the sealing key did.
type Rotated struct {
	Secrets int `json:"secrets" description:"how many were sealed anew"`
}

// Header is a header that is sent to all model servers of an environment. Its value is
// never shown.
type Header struct {
	Name  string    `json:"name"`
	SetBy string    `json:"set_by"`
	SetAt time.Time `json:"set_at"`
}

// MadeCaller is a caller with the key that is shown once.
type MadeCaller struct {
	traffic.Caller
	Key string `json:"key" description:"shown once; only its digest is kept"`
}

// Explain is a request of which somebody wants to know where it would go.
type Explain struct {
	Version string            `json:"version,omitempty" description:"the version that its path names"`
	Headers map[string]string `json:"headers,omitempty"`
	Key     string            `json:"key,omitempty" description:"the name of the caller's key"`
	Inputs  map[string]string `json:"inputs,omitempty" description:"the first value of inputs"`
}

// AgentMet is what an agent met and does not know yet.
type AgentMet struct {
	Versions []string      `json:"versions,omitempty" description:"as lines name them: MODEL@NUMBER, or the number"`
	Columns  []AgentColumn `json:"columns,omitempty" description:"with bins for those that have none yet"`
}

// AgentColumn is a column with the bins that it is counted on.
type AgentColumn struct {
	Side string      `json:"side" required:"true" description:"input or output"`
	Name string      `json:"name" required:"true"`
	Bins sketch.Bins `json:"bins"`
}

// AgentKnown is what an agent needs to sum up what it observes.
type AgentKnown struct {
	Endpoint string `json:"endpoint"`
	Model    string `json:"model"`
	// Versions are those of the versions asked for that there are.
	Versions map[string]string `json:"versions" description:"by how they were named: MODEL@NUMBER; others do not exist"`
	Columns  []AgentColumn     `json:"columns" description:"all columns of the endpoint that are counted"`
}

// BatchTaken says what became of a batch.
type BatchTaken struct {
	Number int64 `json:"number"`
	Again  bool  `json:"again,omitempty" description:"it had been taken before, and changed nothing now"`
	// Left are columns that were counted on other bins than here, which could not be added.
	Left   []string `json:"left" description:"columns that were counted on other bins, and could not be added"`
	TooOld uint64   `json:"too_old,omitempty" description:"requests of before anything is kept"`
}
