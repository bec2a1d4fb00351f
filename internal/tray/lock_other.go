//go:build !unix

package tray

import "os"

// Where files cannot be locked, nobody is kept from working on the same entry.
func lockFile(*os.File) error { return nil }
