package score

import "fmt"

// Answer is what came back for one row.
type Answer struct {
	// Status is 0 where nothing came back. Why says what was said, or seen.
	Status int
	Why    string
	// Values are the prediction: numbers, or classes. There are none where the answer has not got them.
	Values []any
}

// Fine reports whether a prediction came back.
func (a *Answer) Fine() bool { return a.Status == 200 && len(a.Values) > 0 }

// Refused reports whether the row was turned away as the caller's error.
func (a *Answer) Refused() bool { return a.Status >= 400 && a.Status < 500 }

// At is one of its values, nil where there is none.
func (a *Answer) At(place int) any {
	if place >= len(a.Values) {
		return nil
	}
	return a.Values[place]
}

// Reason is why there is no prediction.
func (a *Answer) Reason() string {
	switch {
	case a.Status == 0:
		return a.Why
	case a.Status != 200:
		return fmt.Sprintf("status %d%s", a.Status, a.Why)
	case a.Why != "":
		return a.Why
	}
	return "the answer has no prediction"
}
