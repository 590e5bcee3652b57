package blob

import (
	"os"

	"golang.org/x/sys/unix"
)

// beginFlush asks the system to begin writing a part of a file to disk; it need not.
func beginFlush(f *os.File, from, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), from, n, unix.SYNC_FILE_RANGE_WRITE)
}
