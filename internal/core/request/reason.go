package request

// Reason is why the gateway turned a request away by itself. The order is that in which they are counted in memory;
// it is kept nowhere.
type Reason uint8

// The reasons.
const (
	UnknownEndpoint Reason = iota
	NoKey
	NoSplit
	NoSuchLane
	NoHealthyLane
	TooLarge
	Crowded
	SlowHead
	SlowBody
	BadRequest
	NoSuchPath
	Full
	Elsewhere
	Misfit
	// Reasons is how many there are.
	Reasons
)

var reasons = [Reasons]struct{ code, what string }{
	UnknownEndpoint: {"endpoint.unknown", "named an endpoint that does not exist"},
	NoKey:           {"endpoint.key", "had no key that the endpoint knows"},
	NoSplit:         {"endpoint.no_split", "came before the endpoint had a split"},
	NoSuchLane:      {"endpoint.no_such_lane", "named a version that has no lane"},
	NoHealthyLane:   {"endpoint.no_healthy_lane", "found no healthy model server"},
	TooLarge:        {"gateway.too_large", "were larger than may be"},
	Crowded:         {"gateway.crowded", "came while too many large ones were under way"},
	SlowHead:        {"gateway.slow_head", "sent their head too slowly"},
	SlowBody:        {"gateway.slow_body", "sent their body too slowly"},
	BadRequest:      {"gateway.bad_request", "were no good HTTP, or broke off"},
	NoSuchPath:      {"gateway.no_such_path", "asked for a path or a method that does not exist"},
	Full:            {"gateway.full", "came when the gateway had all the connections it can have"},
	Elsewhere:       {"endpoint.elsewhere", "asked for what is answered elsewhere"},
	Misfit:          {"endpoint.contract", "did not keep the contract"},
}

// ReasonOf finds the reason that an error's code stands for; others are no refusals.
func ReasonOf(code string) (Reason, bool) {
	for r := range Reasons {
		if reasons[r].code == code {
			return r, true
		}
	}
	return 0, false
}

// Code is the code of the error that callers get.
func (r Reason) Code() string { return reasons[r].code }

// What says what such requests did, to be read after their number.
func (r Reason) What() string { return reasons[r].what }

// Refusals are how many requests were turned away, by reason.
type Refusals [Reasons]uint64

// Plus adds two up.
func (r Refusals) Plus(o Refusals) Refusals {
	for i := range r {
		r[i] += o[i]
	}
	return r
}

// Total is how many there are.
func (r Refusals) Total() (n uint64) {
	for _, c := range r {
		n += c
	}
	return n
}
