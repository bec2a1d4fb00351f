//go:build !windows

package source

import "os"

// temporary makes a file that has no name any more, where the system allows that.
func temporary() (f *os.File, gone bool, err error) {
	if f, err = os.CreateTemp("", "ambertray-"); err != nil {
		return nil, false, err
	}
	return f, os.Remove(f.Name()) == nil, nil
}
