package people

import (
	"net/mail"
	"strings"

	"innerladder/internal/core/fault"
)

// CheckEmail refuses what is no plain e-mail address.
func CheckEmail(email string) error {
	if email == "" {
		return nil
	}
	a, err := mail.ParseAddress(email)
	if err != nil || a.Address != email || len(email) > 254 || strings.ContainsAny(email, "\r\n") {
		return fault.New(fault.Invalid, "person.email", "%q is no e-mail address", email).In("email").
			Do("write NAME@HOST")
	}
	return nil
}
