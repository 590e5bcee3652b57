// Package fault is how Inner Ladder says no: one error type that names what was
// wrong, where, and what to do about it. Every layer returns it, the API prints
// it as an RFC 9457 problem, and the command line turns it into an exit code.
package fault

import (
	"errors"
	"fmt"
)

// Kind is the class of a fault; a caller decides by it what to do next.
type Kind string

const (
	// Invalid is input that cannot be right whatever the state of the service.
	Invalid Kind = "invalid"
	// Unknown is a name that resolves to nothing.
	Unknown Kind = "unknown"
	// Refused is input that a gate, a rule or the present state forbids.
	Refused Kind = "refused"
	// Stale is a change based on something that has changed meanwhile.
	Stale Kind = "stale"
	// Unsigned is a call without valid credentials.
	Unsigned Kind = "unsigned"
	// Forbidden is a call by someone who may not make it.
	Forbidden Kind = "forbidden"
	// TooOften is a call that was made too often.
	TooOften Kind = "too_often"
	// TooLarge is input over a stated size.
	TooLarge Kind = "too_large"
	// Unavailable is something outside that does not answer.
	Unavailable Kind = "unavailable"
)

// Fault is an error for the person who caused it.
type Fault struct {
	Kind Kind
	// Code is stable and made for programs: "split.shares_do_not_add_up".
	Code string
	// Field names the part of the input that is wrong; empty when it is no one field.
	Field string
	// Detail is a sentence: what was wrong, with the value that was given.
	Detail string
	// Remedy is a sentence: what to do now.
	Remedy string
}

// Error gives detail and remedy as one text.
func (f *Fault) Error() string {
	if f.Remedy == "" {
		return f.Detail
	}
	return f.Detail + "; " + f.Remedy
}

// New makes a fault of the given kind; detail is a format for args.
func New(kind Kind, code, detail string, args ...any) *Fault {
	return &Fault{Kind: kind, Code: code, Detail: fmt.Sprintf(detail, args...)}
}

// In names the field at fault.
func (f *Fault) In(field string) *Fault { f.Field = field; return f }

// Do says what to do about it.
func (f *Fault) Do(remedy string, args ...any) *Fault {
	f.Remedy = fmt.Sprintf(remedy, args...)
	return f
}

// Is reports whether err is, or wraps, a fault of the given kind.
func Is(err error, kind Kind) bool {
	var f *Fault
	return errors.As(err, &f) && f.Kind == kind
}

// Code returns the code of the fault in err, or "" when there is none.
func Code(err error) string {
	var f *Fault
	if errors.As(err, &f) {
		return f.Code
	}
	return ""
}
