package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"syscall"
	"testing"
)

type coded int

func (coded) Error() string { return "of the driver" }
func (c coded) Code() int   { return int(c) }

func TestWhy(t *testing.T) {
	for want, all := range map[string][]error{
		Full: {
			&fs.PathError{Op: "write", Path: "a", Err: syscall.ENOSPC}, coded(13), syscall.EDQUOT,
			fmt.Errorf("writing: %w", errors.Join(errors.New("first"), coded(13|1<<8))),
		},
		ReadOnly: {syscall.EROFS, coded(8), coded(8 | 6<<8)},
		Locked:   {coded(5), coded(6), coded(5 | 2<<8)},
		Broken:   {syscall.EIO, coded(10 | 3<<8), coded(14)},
		"":       {nil, errors.New("disk full"), coded(19), coded(1), syscall.ENOENT, fs.ErrPermission},
	} {
		for _, err := range all {
			if got := Why(err); got != want {
				t.Errorf("%v: %q, want %q", err, got, want)
			}
		}
	}
}
