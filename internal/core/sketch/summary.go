package sketch

import "time"

// Class is how one request ended.
type Class uint8

const (
	// Answered is any answer that is not an error.
	Answered Class = iota
	// CallerError is an answer 4xx: the caller's fault.
	CallerError
	// ServerError is an answer 5xx.
	ServerError
	// TimedOut is no answer in time.
	TimedOut
	// NotReached is a connection that was refused or broke before an answer.
	NotReached
	// Malformed is an answer that breaks the protocol or is cut short.
	Malformed
	// Abandoned is a caller who left before the answer came. It counts as a failure: a
	// version that is slower than its callers' patience fails them.
	Abandoned
	// Unavailable is a request that was meant for a version none of whose addresses was
	// healthy, and that was not sent there. It says nothing of the version, so it is not
	// among its requests.
	Unavailable
)

// Failed reports whether a request that ended so failed through no fault of the caller.
func (c Class) Failed() bool { return c != Answered && c != CallerError && c != Unavailable }

// Counts are complete: every request is in them, whatever else was dropped.
type Counts struct {
	Requests     uint64
	CallerErrors uint64
	ServerErrors uint64
	TimedOut     uint64
	NotReached   uint64
	Malformed    uint64
	Abandoned    uint64
	// Unavailable were meant for this lane when it had no healthy address. They are not
	// among Requests.
	Unavailable uint64
	// Fallback are requests answered here although another lane was picked.
	Fallback uint64
	// Drawn are requests for which this lane was picked at random, whoever answered;
	// requests with a sticky key are not in it.
	Drawn uint64
	// Lost are requests among Drawn that another lane answered.
	Lost uint64
	// Repeated are failures of a caller who keeps their version that had failed in the same second
	// already: they are not independent of it.
	Repeated uint64
}

// Failed is the number of requests that failed through no fault of the caller.
func (c Counts) Failed() uint64 {
	return c.ServerErrors + c.TimedOut + c.NotReached + c.Malformed + c.Abandoned
}

// Kept is the number of requests of callers who keep their version by their name, or who named it.
func (c Counts) Kept() uint64 {
	return c.Requests + c.Unavailable - min(c.Requests+c.Unavailable, c.Drawn+c.Fallback)
}

// Add counts one request that ended as class says.
func (c *Counts) Add(class Class) {
	if class == Unavailable {
		c.Unavailable++
		return
	}
	c.Requests++
	switch class {
	case CallerError:
		c.CallerErrors++
	case ServerError:
		c.ServerErrors++
	case TimedOut:
		c.TimedOut++
	case NotReached:
		c.NotReached++
	case Malformed:
		c.Malformed++
	case Abandoned:
		c.Abandoned++
	}
}

// Plus returns the sum of two counts.
func (c Counts) Plus(o Counts) Counts {
	c.Requests += o.Requests
	c.CallerErrors += o.CallerErrors
	c.ServerErrors += o.ServerErrors
	c.TimedOut += o.TimedOut
	c.NotReached += o.NotReached
	c.Malformed += o.Malformed
	c.Abandoned += o.Abandoned
	c.Unavailable += o.Unavailable
	c.Fallback += o.Fallback
	c.Drawn += o.Drawn
	c.Lost += o.Lost
	c.Repeated += o.Repeated
	return c
}

// Traffic is what is known of every request: counts and latency.
type Traffic struct {
	Counts Counts
	// Latency runs from the request read to the answer written; Backend is the model
	// server's part of it. Requests that failed are in Counts, not in here.
	Latency Quantiles
	Backend Quantiles
	// Callers are those who gave their name, or a key, however they were answered.
	Callers Distinct
}

// Add records one request.
func (t *Traffic) Add(class Class, total, backend time.Duration) {
	t.Counts.Add(class)
	if class == Answered || class == CallerError {
		t.Latency.Add(total)
		t.Backend.Add(backend)
	}
}

// Merge adds everything recorded in o.
func (t *Traffic) Merge(o *Traffic) {
	t.Counts = t.Counts.Plus(o.Counts)
	t.Latency.Merge(&o.Latency)
	t.Backend.Merge(&o.Backend)
	t.Callers.Merge(&o.Callers)
}

// Content is what is known of the requests whose bodies were read: a random sample
// under a budget.
type Content struct {
	// Bodies is how many request bodies were read, Rows how many rows they held.
	Bodies   uint64
	Rows     uint64
	Inputs   map[string]*Column
	Outputs  map[string]*Column
	Distinct Distinct
	// Forms are the outputs that answers had, with their types.
	Forms Forms
	// Paired is how answers to copies compare with main's; empty for lanes that answer callers.
	Paired Paired
	// Unread are sampled bodies that were dropped because the reader was behind, or
	// that could not be understood.
	Unread uint64
	// wanted is the sum over all answered requests of the probability with which the bodies
	// were to be read, over those requests.
	wanted, asked float64
}

// Ask takes note that the bodies of so many requests were to be read with a probability.
func (c *Content) Ask(requests uint64, probability float64) {
	c.wanted += probability * float64(requests)
	c.asked += float64(requests)
}

// Probability is that with which a body was read, on average over the requests.
func (c *Content) Probability() float64 {
	if c.asked == 0 {
		return 1
	}
	return c.wanted / c.asked
}

// Merge adds everything recorded in o. Columns counted on bins other than ours are
// left out and returned by name: they cannot be merged.
func (c *Content) Merge(o *Content) (left []string) {
	c.Bodies += o.Bodies
	c.Rows += o.Rows
	c.Unread += o.Unread
	c.wanted += o.wanted
	c.asked += o.asked
	c.Distinct.Merge(&o.Distinct)
	c.Forms.Merge(&o.Forms)
	c.Paired.Merge(&o.Paired)
	merge := func(into *map[string]*Column, from map[string]*Column) {
		for name, col := range from {
			if *into == nil {
				*into = map[string]*Column{}
			}
			mine, ok := (*into)[name]
			if !ok {
				(*into)[name] = col.Clone()
			} else if mine.Merge(col) != nil {
				left = append(left, name)
			}
		}
	}
	merge(&c.Inputs, o.Inputs)
	merge(&c.Outputs, o.Outputs)
	return left
}

// Summary is everything kept of one lane over one span.
type Summary struct {
	Traffic
	Content Content
}

// Probability is that with which a body was read, on average over the requests.
func (s *Summary) Probability() float64 { return s.Content.Probability() }

// SetProbability says so of a summary that was stored.
func (s *Summary) SetProbability(p float64) { s.Content.Ask(s.Counts.Requests, p) }

// Merge adds everything recorded in o and returns the columns that could not be.
func (s *Summary) Merge(o *Summary) (left []string) {
	s.Traffic.Merge(&o.Traffic)
	return s.Content.Merge(&o.Content)
}

// Clone returns an independent copy.
func (s *Summary) Clone() *Summary {
	c := &Summary{}
	c.Merge(s)
	return c
}
