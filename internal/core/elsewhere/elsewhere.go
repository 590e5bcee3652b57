// Package elsewhere is about versions that answer where the gateway does not reach: at the edge, in batches, in another
// cluster. An agent beside them sums up what they do, and reports it in numbered batches of windows, so that nothing is
// lost when the service is away and nothing counts twice when a batch is sent again.
package elsewhere

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/sketch"
)

// Lane is where a version is counted that answers elsewhere and is not what the split in force then says.
const Lane = "elsewhere"

const (
	// MostWindows bounds the windows of a batch, MostRows the rows of one.
	MostWindows = 500
	MostRows    = 5_000_000
	// Ahead is how far the clock of an agent may be before ours.
	Ahead = 2 * time.Minute
	// LongestName bounds names of columns and agents, MostColumns the columns of an endpoint, as those that the gateway
	// counts.
	LongestName = 128
	MostColumns = 512
)

// Agent is one that reports of an endpoint.
type Agent struct {
	ID   string `json:"id" description:"it chose it at random when its folder was made"`
	Name string `json:"name"`
	// Number is that of its last batch.
	Number  int64     `json:"number" description:"of its last batch that was taken"`
	HeardAt time.Time `json:"heard_at" description:"when it was heard last"`
	// Until is the last minute that it told of, Requests how many requests so far.
	Until    time.Time `json:"until" description:"the last minute that it told of"`
	Requests uint64    `json:"requests" description:"how many requests it told of so far"`
	Waiting  int64     `json:"waiting" description:"bytes that wait at the agent, when it was heard last"`
	Aside    int64     `json:"aside" description:"lines that it could not read, and has put aside"`
}

// Batch is what an agent reports at once. Its windows are added to what is known; a batch whose number was taken before
// changes nothing.
type Batch struct {
	Number  int64    `json:"number" required:"true" description:"1 for the first, each one more than the one before"`
	Name    string   `json:"name" required:"true" description:"of the agent, for people"`
	Windows []Window `json:"windows" required:"true" description:"at most 500"`
	Waiting int64    `json:"waiting,omitempty" description:"bytes that still wait at the agent"`
	Aside   int64    `json:"aside,omitempty" description:"lines that it put aside so far"`
}

// Window is what one version did in a minute, or in a part of it.
type Window struct {
	Version string    `json:"version" required:"true" description:"MODEL@NUMBER"`
	Minute  time.Time `json:"minute" required:"true" description:"when the minute begins"`
	Counts  Counts    `json:"counts"`
	// Latency are how many requests that were answered, or refused as the caller's fault, took about how long: any
	// value within one per cent serves.
	Latency []Took `json:"latency,omitempty" description:"how many requests took about how long"`
	// TookMS is how long those took together, exactly.
	TookMS float64 `json:"took_ms,omitempty" description:"how long they took together, in milliseconds"`
	// Bodies and Rows are of how many requests the inputs and outputs are in it, and how many rows those had.
	Bodies  uint64                    `json:"bodies,omitempty"`
	Rows    uint64                    `json:"rows,omitempty"`
	Unread  uint64                    `json:"unread,omitempty" description:"answered, and the bodies were not read"`
	Inputs  map[string]*sketch.Column `json:"inputs,omitempty"`
	Outputs map[string]*sketch.Column `json:"outputs,omitempty"`
	Forms   []Form                    `json:"forms,omitempty" description:"types of outputs, where answers say them"`
	// Different are 64-bit hashes of the rows' inputs, Callers of who called: eight bytes each, the lowest first. The
	// same inputs have the same hash; any good hash serves.
	Different Hashes `json:"different,omitempty" description:"64-bit hashes of the rows, little-endian, base64"`
	Callers   Hashes `json:"callers,omitempty" description:"64-bit hashes of callers, little-endian, base64"`
}

// Counts are how many requests there were, and how those ended that were not answered.
type Counts struct {
	Requests     uint64 `json:"requests"`
	CallerErrors uint64 `json:"caller_errors,omitempty"`
	ServerErrors uint64 `json:"server_errors,omitempty"`
	TimedOut     uint64 `json:"timed_out,omitempty"`
	NotReached   uint64 `json:"not_reached,omitempty"`
	Malformed    uint64 `json:"malformed,omitempty"`
	Abandoned    uint64 `json:"abandoned,omitempty"`
}

// Took is how many requests took about so many milliseconds.
type Took struct {
	MS float64 `json:"ms"`
	N  uint64  `json:"n"`
}

// Form is an output as answers have it, and how many have it so.
type Form struct {
	Name     string `json:"name"`
	Datatype string `json:"datatype"`
	N        uint64 `json:"n"`
}

// Hashes are 64-bit numbers, eight bytes each, the lowest first.
type Hashes []byte

// Add appends one.
func (h *Hashes) Add(x uint64) { *h = binary.LittleEndian.AppendUint64(*h, x) }

// Each gives every one.
func (h Hashes) Each(f func(x uint64)) {
	for i := 0; i+8 <= len(h); i += 8 {
		f(binary.LittleEndian.Uint64(h[i:]))
	}
}

// Check says whether a batch can be looked at.
func (b *Batch) Check(now time.Time) error {
	switch {
	case b.Number < 1:
		return fault.New(fault.Invalid, "elsewhere.number", "%d is no number of a batch", b.Number).In("number").
			Do("give 1 for the first, and one more for each after it")
	case b.Name == "" || len(b.Name) > LongestName || strings.ContainsFunc(b.Name, naming.Hidden):
		return fault.New(fault.Invalid, "elsewhere.name", "%.60q is no name of an agent", b.Name).In("name").
			Do("give up to %d letters that can be seen", LongestName)
	case len(b.Windows) > MostWindows:
		return fault.New(fault.Invalid, "elsewhere.windows", "there are %d windows in a batch", len(b.Windows)).
			In("windows").Do("give at most %d", MostWindows)
	case b.Waiting < 0 || b.Aside < 0:
		return fault.New(fault.Invalid, "elsewhere.waiting", "fewer than none wait, or are put aside").In("waiting").
			Do("give 0 or more")
	}
	for i := range b.Windows {
		if err := b.Windows[i].check(fmt.Sprintf("windows[%d]", i), now); err != nil {
			return err
		}
	}
	return nil
}

// mostOf bounds every count of a window: no minute has as many.
const mostOf = 1 << 40

// check says whether a window can be: what is in it adds up.
func (w *Window) check(field string, now time.Time) error {
	bad := func(at, what string, args ...any) *fault.Fault {
		return fault.New(fault.Invalid, "elsewhere.window", what, args...).In(field + at)
	}
	c := w.Counts
	var took uint64
	for _, t := range w.Latency {
		if !(t.MS >= 0 && t.MS <= float64(366*24*time.Hour/time.Millisecond)) || t.N > mostOf {
			return bad(".latency", "%d requests cannot have taken %v ms", t.N, t.MS).
				Do("give milliseconds of a year at most")
		}
		took += t.N
	}
	for _, n := range c.notWell() {
		if n > mostOf {
			return bad(".counts", "no minute has %d requests", n).Do("count again")
		}
	}
	failed := failedOf(c)
	switch {
	case !w.Minute.Equal(w.Minute.Truncate(time.Minute)) || w.Minute.Unix() < 0:
		return bad(".minute", "%s is not the beginning of a minute", w.Minute.Format(time.RFC3339Nano)).
			Do("give it as 2026-03-04T05:06:00Z")
	case w.Minute.After(now.Add(Ahead)):
		return fault.New(fault.Refused, "elsewhere.ahead", "%s is still to come; it is %s here",
			w.Minute.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339)).In(field + ".minute").
			Do("set the clock of the agent's machine; what it told of is taken when its time has come")
	case c.Requests > mostOf || failed > c.Requests:
		return bad(".counts", "%d requests cannot have %d that failed or were refused", c.Requests, failed).
			Do("count every request once in requests, and once more where it did not end well")
	case took > c.Requests:
		return bad(".latency", "%d requests cannot have taken %d times", c.Requests, took).Do("count each once")
	case !(w.TookMS >= 0 && w.TookMS <= 1e15):
		return bad(".took_ms", "requests cannot have taken %v ms together", w.TookMS).Do("give a sum of milliseconds")
	case w.Bodies > c.Requests || w.Unread > c.Requests || w.Rows > MostRows:
		return bad(".bodies", "%d bodies of %d rows are too many for %d requests", w.Bodies, w.Rows, c.Requests).
			Do("give the bodies of requests that are counted, of at most %d rows", MostRows)
	case len(w.Different)%8 != 0 || uint64(len(w.Different)/8) > w.Rows:
		return bad(".different", "%d bytes are no hashes of %d rows", len(w.Different), w.Rows).
			Do("give 8 bytes for each")
	case len(w.Callers)%8 != 0 || uint64(len(w.Callers)/8) > c.Requests:
		return bad(".callers", "%d bytes are no hashes of %d callers", len(w.Callers), c.Requests).
			Do("give 8 bytes for each")
	case len(w.Inputs)+len(w.Outputs) > MostColumns:
		return bad(".inputs", "there are %d columns", len(w.Inputs)+len(w.Outputs)).Do("give at most %d", MostColumns)
	}
	for _, f := range w.Forms {
		if len(f.Name) > LongestName || len(f.Datatype) > LongestName || f.N > w.Bodies {
			return bad(".forms", "%.60q of type %.60q cannot be in %d of %d answers", f.Name, f.Datatype, f.N,
				w.Bodies).Do("count each output once for an answer")
		}
	}
	for side, columns := range map[string]map[string]*sketch.Column{".inputs.": w.Inputs, ".outputs.": w.Outputs} {
		for name, column := range columns {
			if name == "" || len(name) > LongestName || column == nil {
				return bad(side+name, "%.60q is no column", name).
					Do("give a name of up to %d bytes, and its counts", LongestName)
			}
			if err := column.Check(); err != nil {
				return bad(side+name, "%v", err).Do("count again, on the bins that the service gave")
			}
			if column.Total() > w.Rows {
				return bad(side+name, "%d values of %d rows", column.Total(), w.Rows).Do("count each row once")
			}
		}
	}
	return nil
}

// Summary is a window that was checked, as all windows are kept.
func (w *Window) Summary() *sketch.Summary {
	s := &sketch.Summary{}
	c := w.Counts
	s.Counts = sketch.Counts{
		Requests: c.Requests, CallerErrors: c.CallerErrors, ServerErrors: c.ServerErrors, TimedOut: c.TimedOut,
		NotReached: c.NotReached, Malformed: c.Malformed, Abandoned: c.Abandoned,
	}
	for _, t := range w.Latency {
		s.Latency.AddMany(t.MS*float64(time.Millisecond), t.N)
	}
	s.Latency.Sums(time.Duration(w.TookMS * float64(time.Millisecond)))
	s.Backend.Merge(&s.Latency)
	w.Callers.Each(s.Callers.AddHash)
	s.Content = sketch.Content{Bodies: w.Bodies, Rows: w.Rows, Unread: w.Unread, Inputs: w.Inputs, Outputs: w.Outputs}
	w.Different.Each(s.Content.Distinct.AddHash)
	for _, f := range w.Forms {
		s.Content.Forms.AddMany(sketch.Form{Name: f.Name, Datatype: f.Datatype}, f.N)
	}
	if len(w.Forms) > 0 {
		s.Content.Forms.Answers = w.Bodies
	}
	s.Content.Ask(c.Requests-failedOf(c), 1)
	return s
}

// notWell are how many did not end well, by how.
func (c Counts) notWell() []uint64 {
	return []uint64{c.CallerErrors, c.ServerErrors, c.TimedOut, c.NotReached, c.Malformed, c.Abandoned}
}

func failedOf(c Counts) (n uint64) {
	for _, k := range c.notWell() {
		n += k
	}
	return n
}

// Add counts one request.
func (w *Window) Add(class sketch.Class) {
	var c sketch.Counts
	c.Add(class)
	w.Counts.Requests += c.Requests
	w.Counts.CallerErrors += c.CallerErrors
	w.Counts.ServerErrors += c.ServerErrors
	w.Counts.TimedOut += c.TimedOut
	w.Counts.NotReached += c.NotReached
	w.Counts.Malformed += c.Malformed
	w.Counts.Abandoned += c.Abandoned
}

// Took puts how long requests took into the window.
func (w *Window) Took(q *sketch.Quantiles) {
	w.Latency = nil
	q.ForEach(func(ns, n float64) {
		w.Latency = append(w.Latency, Took{MS: ns / float64(time.Millisecond), N: uint64(n)})
	})
	w.TookMS = float64(q.Sum()) / float64(time.Millisecond)
}
