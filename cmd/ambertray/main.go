// Command ambertray loads delimited text files into database tables, and
// proves that it did.
package main

import (
	"os"

	"ambertray/internal/cli"
)

// Set by the linker; see the Makefile.
var version, commit = "development", "unknown"

func main() {
	os.Exit(cli.Main(version, commit, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
