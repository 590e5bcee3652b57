package wire

// Listed is a part of a list.
type Listed[T any] struct {
	Items []T `json:"items"`
	// Next is the cursor for the rest; empty at the end.
	Next string `json:"next_cursor,omitempty"`
}
