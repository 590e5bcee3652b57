package wire

// Listed is a part of a list.
type Listed[T any] struct {
	Items []T `json:"items"`
	// Next is the cursor for the rest; empty at the end.
	Next string `json:"next_cursor,omitempty"`
}

// NextPart is the cursor for the rest, for the header that says where it is.
func (l Listed[T]) NextPart() string { return l.Next }
