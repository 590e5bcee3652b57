// Package replay is about requests that were answered once and are asked of another version: which of many are taken,
// and what came of holding both answers side by side.
package replay

import (
	"encoding/json"
	"slices"
	"time"

	"innerladder/internal/core/request"
)

const (
	// UsualMost is how many requests are taken where nothing is said, and Most at most.
	UsualMost = 10_000
	Most      = 200_000
	// mostBytes bounds the bodies that are held at once while they are chosen.
	mostBytes = 128 << 20
)

// Recorded is a request with what was answered then.
type Recorded struct {
	ID      string          `json:"id"`
	Ended   time.Time       `json:"ended"`
	Version string          `json:"version"`
	Status  int             `json:"status"`
	Outcome request.Outcome `json:"outcome"`
	// TookUS is the model server's part of the time that it took then, in microseconds.
	TookUS  int64           `json:"took_us"`
	Request json.RawMessage `json:"request"`
	Answer  json.RawMessage `json:"answer,omitempty"`
}

// Of is what is replayed of a request in the log; else it says why it is not.
func Of(k *request.Kept) (r Recorded, why string) {
	switch {
	case k.Lane == request.RefusedLane || k.Version == "":
		return r, "was refused before a version dealt with it"
	case len(k.Request) == 0 && k.RequestNote == "":
		return r, "its request is not kept"
	case len(k.Request) == 0 || k.RequestNote != "":
		return r, "its request is not kept as it was: " + k.RequestNote
	}
	r = Recorded{
		ID: k.ID, Ended: k.Ended, Version: k.Version, Status: k.Status, Outcome: k.Outcome, TookUS: k.Backend,
		Request: k.Request,
	}
	if k.AnswerNote == "" {
		r.Answer = k.Answer
	}
	return r, ""
}

func (r *Recorded) size() int { return len(r.Request) + len(r.Answer) + 200 }

// Sample takes some of many requests, each with the same chance whatever their order: those whose ids have the lowest
// hashes. The same requests give the same sample. Its zero value takes UsualMost.
type Sample struct {
	// Most is how many are taken at most.
	Most int
	// Found is how many were offered and could be replayed, LeftOut how many could not, by why.
	Found   int64
	LeftOut map[string]int64

	taken []hashed
	bytes int
	// below is the hash from which on nothing is taken any more.
	below uint64
}

type hashed struct {
	hash uint64
	Recorded
}

// hash mixes an id (FNV-1a, and the finalizer of MurmurHash3).
func hash(id string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(id) {
		h = (h ^ uint64(id[i])) * 1099511628211
	}
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	h *= 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}

// Offer offers one request of the log.
func (s *Sample) Offer(k *request.Kept) {
	r, why := Of(k)
	if why != "" {
		if s.LeftOut == nil {
			s.LeftOut = map[string]int64{}
		}
		s.LeftOut[why]++
		return
	}
	s.Found++
	h := hash(r.ID)
	if s.below != 0 && h >= s.below {
		return
	}
	r.Request, r.Answer = slices.Clone(r.Request), slices.Clone(r.Answer)
	s.taken = append(s.taken, hashed{h, r})
	s.bytes += r.size()
	if len(s.taken) > 2*s.most() || s.bytes > mostBytes {
		s.cut(len(s.taken) / 2)
	}
}

func (s *Sample) most() int {
	if s.Most == 0 {
		return UsualMost
	}
	return s.Most
}

// cut leaves those with the lowest hashes.
func (s *Sample) cut(to int) {
	if len(s.taken) <= to {
		return
	}
	slices.SortFunc(s.taken, func(a, b hashed) int {
		if a.hash < b.hash {
			return -1
		}
		return 1
	})
	s.below = s.taken[to].hash
	clear(s.taken[to:])
	s.taken, s.bytes = s.taken[:to], 0
	for i := range s.taken {
		s.bytes += s.taken[i].size()
	}
}

// Taken are the requests that were taken, in the order of time.
func (s *Sample) Taken() []Recorded {
	s.cut(s.most())
	out := make([]Recorded, len(s.taken))
	for i := range s.taken {
		out[i] = s.taken[i].Recorded
	}
	slices.SortStableFunc(out, func(a, b Recorded) int { return a.Ended.Compare(b.Ended) })
	return out
}
