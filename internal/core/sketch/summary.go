package sketch

import "time"

// Class is how one request ended.
type Class uint8

const (
	// Answered is any answer that is not an error.
	Answered Class = iota
	// CallerError is an answer 4xx: the caller's fault.
	CallerError
	// ServerError is an answer 5xx, or one that could not be read.
	ServerError
	// TimedOut is no answer in time.
	TimedOut
	// NotReached is a connection that was refused or broke before an answer.
	NotReached
)

// Counts are complete: every request is in them, whatever else was dropped.
type Counts struct {
	Requests     uint64 `json:"requests"`
	CallerErrors uint64 `json:"caller_errors"`
	ServerErrors uint64 `json:"server_errors"`
	TimedOut     uint64 `json:"timed_out"`
	NotReached   uint64 `json:"not_reached"`
	// Fallback are requests answered here although another lane was picked.
	Fallback uint64 `json:"fallback"`
	// Drawn are requests for which this lane was picked at random, whoever answered;
	// requests with a sticky key are not in it.
	Drawn uint64 `json:"drawn"`
}

// Failed is the number of requests that failed through no fault of the caller.
func (c Counts) Failed() uint64 { return c.ServerErrors + c.TimedOut + c.NotReached }

// Add counts one request that ended as class says.
func (c *Counts) Add(class Class) {
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
	}
}

// Plus returns the sum of two counts.
func (c Counts) Plus(o Counts) Counts {
	c.Requests += o.Requests
	c.CallerErrors += o.CallerErrors
	c.ServerErrors += o.ServerErrors
	c.TimedOut += o.TimedOut
	c.NotReached += o.NotReached
	c.Fallback += o.Fallback
	c.Drawn += o.Drawn
	return c
}

// Traffic is what is known of every request: counts and latency.
type Traffic struct {
	Counts Counts `json:"counts"`
	// Latency runs from the request read to the answer written; Backend is the model
	// server's part of it. Requests that failed are in Counts, not in here.
	Latency Quantiles `json:"latency"`
	Backend Quantiles `json:"backend"`
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
}

// Content is what is known of the requests whose bodies were read: a random sample
// under a budget.
type Content struct {
	// Bodies is how many request bodies were read, Rows how many rows they held.
	Bodies   uint64             `json:"bodies"`
	Rows     uint64             `json:"rows"`
	Inputs   map[string]*Column `json:"inputs,omitempty"`
	Outputs  map[string]*Column `json:"outputs,omitempty"`
	Distinct Distinct           `json:"distinct"`
	// Unread are sampled bodies that were dropped because the reader was behind, or
	// that could not be understood.
	Unread uint64 `json:"unread,omitempty"`
}

// Merge adds everything recorded in o. Columns counted on bins other than ours are
// left out and returned by name: they cannot be merged.
func (c *Content) Merge(o *Content) (left []string) {
	c.Bodies += o.Bodies
	c.Rows += o.Rows
	c.Unread += o.Unread
	c.Distinct.Merge(&o.Distinct)
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
	Content Content `json:"content"`
}

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
