package http1

import (
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// peek looks at what was received without taking it. It is called for every request, so it
// does without the address of the sender, which would be allocated.
func peek(fd uintptr, b *[1]byte) (int, error) {
	n, _, err := unix.Syscall6(
		unix.SYS_RECVFROM,
		fd,
		uintptr(unsafe.Pointer(b)),
		1,
		unix.MSG_PEEK|unix.MSG_DONTWAIT,
		0,
		0,
	)
	if err != 0 {
		return 0, err
	}
	return int(n), nil
}

func acknowledged(fd uintptr) (int64, bool) {
	info, err := unix.GetsockoptTCPInfo(int(fd), syscall.IPPROTO_TCP, unix.TCP_INFO)
	if err != nil {
		return 0, false
	}
	return int64(info.Bytes_acked), true
}
