//go:build !windows

package cli

import "os"

// colours reports whether a terminal takes the sequences of colours: all do.
func colours(*os.File) bool { return true }
