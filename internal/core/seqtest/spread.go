package seqtest

const (
	// warmUp is how many blocks set the first rate, and as many again the first spread.
	warmUp = 30
	// memory is over how many blocks the rate is remembered that a block is held against: slow
	// changes, as between day and night, are none.
	memory = 600
	// usual is up to which spread failures count as independent: chance alone reaches it.
	usual = 1.5
)

// Spread is how much wider than independent requests the failures of one lane spread from block to
// block: the mean square of their standardised residuals against the rate of the last minutes
// (Pearson's X² over its degrees). A lane that is wholly out for some seconds now and then has a large
// one. It is looked at before a block and never after, so what is divided by it stays an e-process.
// The zero value is ready.
type Spread struct {
	Blocks   float64 `json:"blocks"`
	Failed   float64 `json:"failed"`
	Requests float64 `json:"requests"`
	Squares  float64 `json:"squares"`
}

// Observe takes a block of a lane into account.
func (s *Spread) Observe(failed, requests uint64) {
	if requests == 0 {
		return
	}
	k, n := float64(failed), float64(requests)
	if s.Blocks >= warmUp {
		p := (s.Failed + 0.1) / (s.Requests + 10)
		s.Squares += (k - n*p) * (k - n*p) / (n * p * (1 - p))
	}
	s.Blocks++
	if s.Blocks > memory {
		s.Failed -= s.Failed / memory
		s.Requests -= s.Requests / memory
	}
	s.Failed, s.Requests = s.Failed+k, s.Requests+n
}

// Of is the spread so far, 1 where failures seem independent.
func (s *Spread) Of() float64 {
	if s.Blocks < 2*warmUp {
		return 1
	}
	if of := s.Squares / (s.Blocks - warmUp); of > usual {
		return of
	}
	return 1
}
