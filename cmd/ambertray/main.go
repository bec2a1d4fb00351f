// Command ambertray loads delimited text files into database tables, and
// proves that it did.
package main

import (
	"os"
	"runtime"
	"runtime/debug"
	_ "time/tzdata" // for systems that have no zones of their own

	"ambertray/internal/cli"
)

// Set by the linker; see the Makefile. A plain go build leaves them to the build
// information.
var version, commit string

func main() {
	// A goroutine that sends what is ready to a server would wait until one that
	// works on a chunk pauses; with a thread more than there are processors it is
	// the system that shares them out, and lets it go first. That makes a load into
	// PostgreSQL 5 % faster.
	runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + 1)
	v, c := built(version, commit, debug.ReadBuildInfo)
	os.Exit(cli.Main(v, c, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// built is the version and the commit that the program was built from.
func built(version, commit string, read func() (*debug.BuildInfo, bool)) (string, string) {
	info, ok := read()
	if !ok {
		info = &debug.BuildInfo{}
	}
	if version == "" {
		version = "development"
		if v := info.Main.Version; v != "" && v != "(devel)" {
			version = v
		}
	}
	if commit == "" {
		commit = "unknown"
		changed := false
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				commit = s.Value[:min(len(s.Value), 12)]
			case "vcs.modified":
				changed = s.Value == "true"
			}
		}
		if changed {
			commit += ", with changes"
		}
	}
	return version, commit
}
