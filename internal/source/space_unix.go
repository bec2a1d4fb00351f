//go:build linux || darwin || freebsd

package source

import "syscall"

// freeSpace is how many bytes a user may still write into a folder.
func freeSpace(dir string) (int64, bool) {
	var s syscall.Statfs_t
	if syscall.Statfs(dir, &s) != nil {
		return 0, false
	}
	return int64(s.Bavail) * int64(s.Bsize), true
}
