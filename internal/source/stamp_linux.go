package source

import (
	"fmt"
	"os"
	"syscall"
)

// inode is a file's number and when it or its content was last changed (stat(2)).
func inode(_ string, info os.FileInfo) string {
	if s, is := info.Sys().(*syscall.Stat_t); is {
		return fmt.Sprintf(" %d %d.%09d", s.Ino, s.Ctim.Sec, s.Ctim.Nsec)
	}
	return ""
}
