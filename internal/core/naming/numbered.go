package naming

import (
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
)

// Numbered are things that are known by a number, such as P-12: all of them have one prefix.
type Numbered struct {
	// Prefix stands before the number; in what people write, case does not count.
	Prefix string
	// What is one of them, for errors and their codes.
	What string
}

// ID writes the number of one as people do.
func (k Numbered) ID(number int64) string { return k.Prefix + strconv.FormatInt(number, 10) }

// Parse reads what ID writes; field is where it was given.
func (k Numbered) Parse(field, s string) (int64, error) {
	if len(s) > len(k.Prefix) && strings.EqualFold(s[:len(k.Prefix)], k.Prefix) {
		if n, err := strconv.ParseInt(s[len(k.Prefix):], 10, 64); err == nil && n > 0 && s[len(k.Prefix)] != '+' {
			return n, nil
		}
	}
	return 0, fault.New(fault.Invalid, k.What+".id", "%q names no %s", s, k.What).In(field).
		Do("write %sNUMBER, such as %s", k.Prefix, k.ID(1))
}
