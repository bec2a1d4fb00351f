package tray

import (
	"os"

	"golang.org/x/sys/windows"
)

// lockFile locks one byte far behind the end of the file: a lock keeps others there from what
// it covers, and the file itself is read and written meanwhile.
func lockFile(f *os.File) error {
	at := &windows.Overlapped{Offset: 1, OffsetHigh: 0x7fffffff}
	return windows.LockFileEx(windows.Handle(f.Fd()),
		windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, at)
}
