// Command bench measures the built program against baselines in the same run:
// it alternates the two, takes medians, and prints ratios, since the machines
// that it runs on are noisy. It is run by 'make bench' and is no part of the
// program.
package main

import (
	"cmp"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"ambertray/internal/demo"
)

// A run is how long one process took, and the most memory it had.
type run struct {
	took time.Duration
	rss  int64 // bytes
}

// A measure is one row of the result: a subject against a baseline.
type measure struct {
	name     string
	subject  func() run
	baseline func() run
	atMost   float64
}

var (
	runs     = flag.Int("runs", 5, "counted runs of each")
	records  = flag.Int("records", 2_000_000, "records of the large file")
	program  = flag.String("program", "bin/ambertray", "the built program")
	only     = flag.String("only", "", "measure only rows whose name contains this")
	toInsert = flag.String("insert", "", "insert this file into SQLite row by row and end")
	intoPath = flag.String("insert-into", "", "the database for -insert")
	walked   = flag.String("walk", "", "walk through this workbook with excelize and end")
	readCSV  = flag.String("read-csv", "", "read this file with encoding/csv and end")
)

func main() {
	flag.Parse()
	if *readCSV != "" {
		read(*readCSV)
		return
	}
	if *walked != "" {
		walk(*walked)
		return
	}
	if *toInsert != "" {
		insert(*toInsert, *intoPath)
		return
	}
	dir, err := os.MkdirTemp("", "ambertray-bench-")
	check(err)
	defer os.RemoveAll(dir)
	self, err := os.Executable()
	check(err)
	bin, err := filepath.Abs(*program)
	check(err)
	file := filepath.Join(dir, "passages.csv")
	generate(file, func(w io.Writer) error { return demo.Passages(w, *records, false) })
	info, err := os.Stat(file)
	check(err)
	fmt.Printf("%d records, %.0f MB, nine mixed columns; medians of %d alternating runs\n\n", *records, float64(info.Size())/1e6, *runs)

	measures := []measure{
		{"look, whole file / encoding-csv reading it", process(bin, "look", file, "--json"), process(self, "-read-csv", file), 0.6},
	}
	measures = append(measures, workbook(bin, self, dir))
	measures = append(measures, databases(bin, dir, file)...)
	fmt.Printf("%-46s %8s %8s %7s %8s %10s\n", "what", "took s", "base s", "ratio", "at most", "memory MB")
	for _, m := range measures {
		if strings.Contains(m.name, *only) {
			m.report()
		}
	}
}

// report alternates subject and baseline, after one run of each that does not
// count.
func (m measure) report() {
	m.subject()
	m.baseline()
	var a, b []run
	var ratios []float64
	for range *runs {
		x, y := m.subject(), m.baseline()
		a, b = append(a, x), append(b, y)
		ratios = append(ratios, x.took.Seconds()/y.took.Seconds())
	}
	slices.Sort(ratios)
	rss := int64(0)
	for _, x := range a {
		rss = max(rss, x.rss)
	}
	fmt.Printf("%-46s %8.2f %8.2f %7.2f %8.2f %10.0f\n", m.name, median(a), median(b), ratios[len(ratios)/2], m.atMost, float64(rss)/1e6)
}

func median(r []run) float64 {
	slices.SortFunc(r, func(a, b run) int { return cmp.Compare(a.took, b.took) })
	return r[len(r)/2].took.Seconds()
}

// process runs a command that must succeed.
func process(args ...string) func() run {
	return func() run {
		cmd := exec.Command(args[0], args[1:]...)
		var errs strings.Builder
		cmd.Stderr = &errs
		start := time.Now()
		if err := cmd.Run(); err != nil {
			check(fmt.Errorf("%s: %w\n%s", strings.Join(args, " "), err, errs.String()))
		}
		return run{time.Since(start), cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss * 1024}
	}
}

func read(file string) {
	f, err := os.Open(file)
	check(err)
	r := csv.NewReader(f)
	r.ReuseRecord = true
	for {
		if _, err := r.Read(); errors.Is(err, io.EOF) {
			return
		} else if err != nil {
			check(err)
		}
	}
}

func generate(file string, write func(io.Writer) error) {
	f, err := os.Create(file)
	check(err)
	check(write(f))
	check(f.Close())
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}
