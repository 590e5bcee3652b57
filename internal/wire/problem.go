package wire

// Problem is what every error looks like (RFC 9457).
type Problem struct {
	Type   string `json:"type" description:"urn:innerladder:problem:CODE"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	// Code is stable and made for programs.
	Code   string `json:"code"`
	Detail string `json:"detail" description:"what was wrong"`
	Field  string `json:"field,omitempty" description:"where"`
	Remedy string `json:"remedy,omitempty" description:"what to do"`
	// RequestID finds the call in the log and in the record.
	RequestID string `json:"request_id,omitempty"`
}

// ProblemType is the media type of a problem.
const ProblemType = "application/problem+json"
