package main

import (
	"bufio"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// throughPipe makes records as they are read, sends them through look and into
// SQLite, and tells speed and memory. Nothing of the text is stored.
func throughPipe(bin, dir string, gb float64) {
	planFile, db := filepath.Join(dir, "passages.yaml"), filepath.Join(dir, "large.db")
	for _, step := range []struct {
		name string
		gb   float64
		args []string
	}{
		{"plan", 0.1, []string{"plan", "-", "--table", "passages", "-o", planFile, "--type", "Passage ID=bigint"}},
		{"look", gb, []string{"look", "-", "--json"}},
		{"load into SQLite, a commit every 5,000,000 records", gb,
			[]string{"load", planFile, "-", "--into", "sqlite:" + db, "--commit-every", "5000000", "--tray",
				filepath.Join(dir, "tray")}},
	} {
		cmd := exec.Command(bin, step.args...)
		in, err := cmd.StdinPipe()
		check(err)
		var out strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &out
		start := time.Now()
		check(cmd.Start())
		w := bufio.NewWriterSize(in, 1<<20)
		err = passagesFor(w, step.gb*1e9)
		if err == nil {
			err = w.Flush()
		}
		in.Close()
		if err2 := cmd.Wait(); err2 != nil || err != nil {
			check(fmt.Errorf("%s: %v, %v\n%s", step.name, err, err2, out.String()))
		}
		took := time.Since(start)
		rss := peak(cmd.ProcessState)
		fmt.Printf("%-52s %6.1f GB in %8s, %5.0f MB/s, %4.0f MB of memory\n", step.name, step.gb,
			took.Round(time.Second), step.gb*1e3/took.Seconds(), float64(rss)/1e6)
	}
}
