package source

import "golang.org/x/sys/windows"

// freeSpace is how many bytes may be written into a folder.
func freeSpace(dir string) (int64, bool) {
	p, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return 0, false
	}
	var free uint64
	if windows.GetDiskFreeSpaceEx(p, &free, nil, nil) != nil || free > 1<<62 {
		return 0, false
	}
	return int64(free), true
}
