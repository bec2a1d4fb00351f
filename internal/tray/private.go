package tray

import (
	"os"
	"path/filepath"
)

// Papers hold what files hold, rejects whole records. So they are for their owner alone;
// for a group too, if the folder that they lie in is for the group and for nobody else.

// access is what a folder gives to its group beside its owner: 07 or nothing.
func access(folder string) os.FileMode {
	info, err := os.Stat(folder)
	if err != nil || info.Mode().Perm()&0o007 != 0 || info.Mode().Perm()&0o070 != 0o070 {
		return 0
	}
	return 0o070
}

// makeFolder makes a folder in another.
func makeFolder(path string) error {
	group := access(filepath.Dir(path))
	if err := os.Mkdir(path, 0o700|group); err != nil {
		return err
	}
	if group != 0 {
		return os.Chmod(path, 0o700|group) // whatever the mask takes away
	}
	return nil
}

// OpenFile opens a file of papers as os.OpenFile does.
func OpenFile(path string, flag int) (*os.File, error) {
	mode := 0o600 | access(filepath.Dir(path))&0o060
	f, err := os.OpenFile(path, flag, mode)
	if err == nil && mode != 0o600 && flag&os.O_CREATE != 0 {
		_ = f.Chmod(mode) // of another's file it stays as it is
	}
	return f, err
}

// CreateFile creates a file of papers, or empties it.
func CreateFile(path string) (*os.File, error) {
	return OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC)
}
