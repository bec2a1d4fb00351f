package main

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"ambertray/internal/demo"
)

// merges lists merges into a table of as many rows as the file has records, a tenth of which
// are other than the table's, against a refill of the same table with the same file.
func merges(bin, dir string) (out []measure) {
	plain := generate(dir, "register.csv", func(w io.Writer) error { return demo.Passages(w, *records/2, false) })
	other := generate(dir, "register-2.csv", func(w io.Writer) error { return tenthChanged(w, plain) })
	plan := filepath.Join(dir, "register.yaml")
	check(exec.Command(bin, "plan", plain, "-o", plan, "--table", "register").Run())
	urls := [][2]string{{"SQLite", "sqlite:" + filepath.Join(dir, "register.db")},
		{"PostgreSQL", os.Getenv("AMBERTRAY_TEST_POSTGRES")}, {"MariaDB", os.Getenv("AMBERTRAY_TEST_MYSQL")}}
	for _, u := range urls {
		if u[1] == "" {
			continue
		}
		load := func(mode, file string) func() run {
			return process(bin, "load", plan, file, "--into", u[1], "--mode", mode, "--yes", "--tray",
				filepath.Join(dir, "tray"))
		}
		made := false
		turn := func(mode string) func() run {
			files, next := [2]string{plain, other}, 1
			return func() run {
				if !made {
					made = true
					load("replace", plain)()
				}
				next = 1 - next
				if mode == "merge" {
					// What was there before is the other of the two.
					load("refill", files[1-next])()
				}
				return load(mode, files[next])()
			}
		}
		out = append(out, measure{u[0] + ": merge, a tenth of the rows changed", "a refill with the same file",
			turn("merge"), turn("refill"), 2.0, 1.4, 1})
	}
	return out
}

// tenthChanged writes a file of passages with another toll in each tenth record.
func tenthChanged(w io.Writer, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	s := bufio.NewScanner(f)
	for n := 0; s.Scan(); n++ {
		line := s.Text()
		if at := strings.LastIndexByte(line, ','); n%10 == 3 {
			line = fmt.Sprintf("%s,seen again %d", line[:at], n)
		}
		if _, err := fmt.Fprintln(w, line); err != nil {
			return err
		}
	}
	return s.Err()
}
