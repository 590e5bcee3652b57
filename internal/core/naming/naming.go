package naming

import (
	"regexp"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
)

// Service is the name of the service itself, where it does something that nobody asked for; nobody else has it.
const Service = "inner-ladder"

// Longest is the largest number of bytes in a name.
const Longest = 63

var nameForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)

// Hidden reports whether a character cannot be seen, or turns the text around.
func Hidden(c rune) bool { return !strconv.IsPrint(c) }

// Check says whether name can name a model, endpoint, environment or person; field
// is where it was given.
func Check(field, name string) error {
	if name == "" {
		return fault.New(fault.Invalid, "name.empty", "the name is empty").In(field).
			Do("give a name of small letters, digits and hyphens")
	}
	if len(name) > Longest || !nameForm.MatchString(name) {
		return fault.New(fault.Invalid, "name.form", "%q cannot be a name", name).In(field).
			Do("use small letters, digits and inner hyphens, at most %d of them", Longest)
	}
	return nil
}

// CheckTag says whether a tag can be put on something.
func CheckTag(field, tag string) error {
	if tag == "" || len(tag) > Longest ||
		strings.ContainsFunc(tag, func(r rune) bool { return r <= ' ' || r == 0x7f || r == ',' }) {
		return fault.New(fault.Invalid, "tag.form", "%q cannot be a tag", tag).In(field).
			Do("use one word without commas, at most %d bytes", Longest)
	}
	return nil
}

// Thing is what a ref is one of: heat-demand of heat-demand@7 and heat-demand@live, winters of
// winters#2. It is the ref itself when that names no revision; part says whether it does.
func Thing(ref string) (name string, part bool) {
	if i := strings.IndexAny(ref, "@#"); i >= 0 {
		return ref[:i], true
	}
	return ref, false
}

// CheckReason refuses an empty reason for something that others will ask about. Remedy says what
// to say.
func CheckReason(reason, remedy string, args ...any) error {
	if strings.TrimSpace(reason) == "" {
		return fault.New(fault.Invalid, "reason.missing", "no reason is given").In("reason").Do(remedy, args...)
	}
	return nil
}

var Word = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,39}$`)
