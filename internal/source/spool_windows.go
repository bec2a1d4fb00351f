package source

import (
	"crypto/rand"
	"encoding/hex"
	"os"
	"path/filepath"

	"golang.org/x/sys/windows"
)

// temporary makes a file that Windows deletes when it is closed, however the program ends.
func temporary() (f *os.File, gone bool, err error) {
	var r [8]byte
	rand.Read(r[:])
	name := filepath.Join(os.TempDir(), "ambertray-"+hex.EncodeToString(r[:]))
	p, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return nil, false, err
	}
	h, err := windows.CreateFile(p, windows.GENERIC_READ|windows.GENERIC_WRITE, windows.FILE_SHARE_READ|
		windows.FILE_SHARE_DELETE, nil, windows.CREATE_NEW,
		windows.FILE_ATTRIBUTE_TEMPORARY|windows.FILE_FLAG_DELETE_ON_CLOSE, 0)
	if err != nil {
		return nil, false, &os.PathError{Op: "create", Path: name, Err: err}
	}
	return os.NewFile(uintptr(h), name), true, nil
}
