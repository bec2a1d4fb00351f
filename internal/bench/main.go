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
	name, baselineName string
	subject, baseline  func() run
	// atMost is the bound of the ratio, and aim what would be better; 0 for
	// none.
	atMost, aim float64
	// often multiplies the number of runs, for what takes no time.
	often int
}

// A result is a measure taken.
type result struct {
	measure
	took, base float64 // seconds, medians
	ratio      float64
	low, high  float64 // the ratios' quartiles
	memory     float64 // MB, the largest
	counted    int     // pairs
	taken      float64 // the largest share of processor time that was taken away during one
}

// memoryAtMost bounds the memory of every subject, in MB.
const memoryAtMost = 160

var (
	runs     = flag.Int("runs", 5, "counted runs of each; of quick ones three times as many")
	records  = flag.Int("records", 2_000_000, "records of the large file")
	program  = flag.String("program", "bin/ambertray", "the built program")
	only     = flag.String("only", "", "measure only rows whose name contains this, and write nothing")
	document = flag.String("write", "", "the document whose table of figures is written anew")
	large    = flag.Float64("large", 0, "instead of all else, send so many GB through a pipe, not stored")
	toInsert = flag.String("insert", "", "insert this file into SQLite row by row and end")
	intoPath = flag.String("insert-into", "", "the database for -insert")
	walked   = flag.String("walk", "", "walk through this workbook with excelize and end")
	served   = flag.Bool("serve", false, "be the stand-in for SQL Server, print its address, and end with the input")
	copied   = flag.String("copy-in", "", "send this file to -copy-into by the driver's own rows in bulk, and end")
	copyInto = flag.String("copy-into", "", "the database for -copy-in")
	copyPlan = flag.String("copy-plan", "", "the plan for -copy-in, which says what the table is")
	sheet    = flag.String("largest-sheet", "", "write the largest sheet into this file and end")
	readCSV  = flag.String("read-csv", "", "read this file with encoding/csv and end")
)

func main() {
	flag.Parse()
	switch {
	case *readCSV != "":
		read(*readCSV)
		return
	case *sheet != "":
		largestSheet(*sheet)
		return
	case *served:
		serve()
		return
	case *copied != "":
		copyIn(*copied, *copyInto, *copyPlan)
		return
	case *walked != "":
		walk(*walked)
		return
	case *toInsert != "":
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
	if *large > 0 {
		veryLarge(bin, dir, *large)
		return
	}
	file := generate(dir, "passages.csv", func(w io.Writer) error { return demo.Passages(w, *records, false) })
	tenth := generate(dir, "tenth.csv", func(w io.Writer) error { return demo.Passages(w, *records/10, false) })
	wide := generate(dir, "wide.csv", wideFile)
	texts := generate(dir, "texts.csv", textFile)

	look := func(name, file string, atMost, aim float64) measure {
		return measure{"`look`, whole file with all evidence: " + name, "`encoding/csv` of Go merely reading it",
			process(bin, "look", file, "--json"), process(self, "-read-csv", file), atMost, aim, 3}
	}
	measures := []measure{
		look("passages", file, 0.45, 0.30),
		look("200 columns", wide, 0.70, 0.45),
		look("long texts in quotes", texts, 0.60, 0.35),
		columns(bin, dir),
		workbook(bin, self, dir),
	}
	measures = append(append(measures, databases(bin, self, dir, file, tenth)...), onStandin(bin, self, dir, tenth))
	measures = append(append(append(measures, merges(bin, dir)...), readBack(bin, dir)...), lanesOf(bin, dir)...)
	fmt.Println(about(file, wide, texts))
	fmt.Printf("\n%-62s %8s %8s %7s %13s %8s %10s %7s\n", "what", "took s", "base s", "ratio", "quartiles", "at most",
		"memory MB", "taken")
	var results []result
	for _, m := range measures {
		if strings.Contains(m.name, *only) {
			r := m.take()
			fmt.Printf("%-62s %8.2f %8.2f %7.2f %6.2f %6.2f %8.2f %10.0f %5.0f %%\n", plainText(r.name), r.took, r.base,
				r.ratio, r.low, r.high, r.atMost, r.memory, 100*r.taken)
			results = append(results, r)
		}
	}
	serving.Close()
	if *document != "" && *only == "" {
		check(write(*document, about(file, wide, texts), results))
	}
}

// take alternates subject and baseline, after one run of each that does not
// count.
func (m measure) take() result {
	m.subject()
	m.baseline()
	var a, b []run
	var ratios []float64
	r := result{measure: m, counted: *runs * max(m.often, 1)}
	for _, p := range m.pairs(r.counted) {
		a, b = append(a, p.subject), append(b, p.baseline)
		ratios = append(ratios, p.subject.took.Seconds()/p.baseline.took.Seconds())
		r.memory = max(r.memory, float64(p.subject.rss)/1e6)
		r.taken = max(r.taken, p.taken)
	}
	slices.Sort(ratios)
	n := len(ratios)
	r.took, r.base, r.ratio, r.low, r.high = median(a), median(b), ratios[n/2], ratios[n/4], ratios[n-1-n/4]
	return r
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
		return run{time.Since(start), peak(cmd.ProcessState)}
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

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}
