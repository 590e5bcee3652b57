// Package disk says why something could not be written, in words for those who can help.
package disk

import (
	"errors"
	"syscall"
)

// Reasons why nothing can be written.
const (
	Full     = "the disk is full"
	ReadOnly = "the disk can only be read"
	Locked   = "another program holds the file locked"
	Broken   = "the disk fails"
)

// Why is the reason when an error says that a file or a database could not be written, and empty when it says anything
// else.
func Why(err error) string {
	var errno syscall.Errno
	if errors.As(err, &errno) {
		switch errno {
		case syscall.ENOSPC, syscall.EDQUOT, syscall.EFBIG:
			return Full
		case syscall.EROFS:
			return ReadOnly
		case syscall.EIO:
			return Broken
		}
	}
	// The codes of SQLite, which its driver gives, with what is more exact in the higher bits.
	const busy, locked, readOnly, ioErr, full, cannotOpen = 5, 6, 8, 10, 13, 14
	var coded interface{ Code() int }
	if !errors.As(err, &coded) {
		return ""
	}
	switch coded.Code() & 0xff {
	case busy, locked:
		return Locked
	case readOnly:
		return ReadOnly
	case full:
		return Full
	case ioErr, cannotOpen:
		return Broken
	}
	return ""
}
