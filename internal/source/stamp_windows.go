package source

import (
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

// basicInfo is FILE_BASIC_INFO (Windows API, minwinbase.h).
type basicInfo struct {
	Creation, Access, Write, Change int64
	Attributes                      uint32
	_                               uint32
}

// inode is a file's number and when it or its content was last changed.
func inode(path string, _ os.FileInfo) string {
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	h := windows.Handle(f.Fd())
	var id windows.ByHandleFileInformation
	var basic basicInfo
	if windows.GetFileInformationByHandle(h, &id) != nil || windows.GetFileInformationByHandleEx(h,
		windows.FileBasicInfo,
		(*byte)(unsafe.Pointer(&basic)), uint32(unsafe.Sizeof(basic))) != nil {
		return ""
	}
	return fmt.Sprintf(" %d %d %d", id.FileIndexHigh, id.FileIndexLow, basic.Change)
}
