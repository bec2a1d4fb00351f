package source

import (
	"fmt"
	"os"
)

// stampOf tells the states of a file apart: by its size, the time of its last change,
// and where the system has them, its number and the time of the last change of either,
// which a program cannot set.
func stampOf(path string, info os.FileInfo) string {
	return fmt.Sprintf("%d %d%s", info.Size(), info.ModTime().UnixNano(), inode(path, info))
}

// Stamp is the state in which the file was opened; empty for what is no file here, or is
// kept in a temporary one.
func (s *Source) Stamp() string { return s.stamp }

// Changed reports whether the file is another, or has been written to, since it was
// opened.
func (s *Source) Changed() bool {
	if s.stamp == "" {
		return false
	}
	info, err := os.Stat(s.Path)
	return err != nil || stampOf(s.Path, info) != s.stamp
}
