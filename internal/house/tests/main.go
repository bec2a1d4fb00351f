// Command tests reads what go test -json says, and says it as go test would: what
// failed, with its output, and a line for each package that has tests. At the end
// it tells which tests were skipped and why, and last of all how many passed,
// failed and were skipped, in the plain form "N passed, N failed, N skipped". A
// run in which no test passed or failed is a failure.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
)

// An event is one line of go test -json (cmd/test2json).
type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

// account is what became of the tests.
type account struct {
	passed, failed int
	skipped        map[string]int  // by reason
	blamed         map[string]bool // packages with a failure
	output         map[string][]string
}

func main() {
	a := &account{skipped: map[string]int{}, blamed: map[string]bool{}, output: map[string][]string{}}
	d := json.NewDecoder(os.Stdin)
	for {
		var e event
		err := d.Decode(&e)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "tests: what go test says cannot be read:", err)
			os.Exit(1)
		}
		a.take(e)
	}
	a.tell()
	if a.failed > 0 || a.passed == 0 {
		os.Exit(1)
	}
}

func (a *account) take(e event) {
	key := e.Package + " " + e.Test
	switch e.Action {
	case "output", "build-output":
		if e.Action == "build-output" || e.Test == "" && !ordinary(e.Output) {
			fmt.Print(e.Output)
			return
		}
		a.output[key] = append(a.output[key], e.Output)
	case "pass":
		if e.Test == "" {
			fmt.Printf("ok    %s  %.1f s\n", e.Package, e.Elapsed)
		} else {
			a.passed++
		}
		delete(a.output, key)
	case "fail":
		if e.Test != "" || !a.blamed[e.Package] { // else its failed test is counted already
			a.failed++
		}
		a.blamed[e.Package] = true
		fmt.Print(strings.Join(a.output[key], ""))
		fmt.Printf("FAIL  %s\n", key)
	case "skip":
		if e.Test != "" {
			a.skipped[reason(a.output[key])]++
		}
		delete(a.output, key)
	}
}

// ordinary tells whether go test itself wrote a line about a package in which
// nothing went wrong; this program says the same in its own words.
func ordinary(line string) bool {
	return line == "PASS\n" || strings.HasPrefix(line, "ok ") || strings.HasSuffix(line, "[no test files]\n")
}

// reason is what a test said when it was skipped.
func reason(output []string) string {
	for _, l := range output {
		if _, text, ok := strings.Cut(l, ".go:"); ok {
			_, why, _ := strings.Cut(text, ": ")
			return strings.TrimSpace(why)
		}
	}
	return "no reason given"
}

func (a *account) tell() {
	n := 0
	var why []string
	for r, k := range a.skipped {
		n += k
		why = append(why, fmt.Sprintf("%d: %s", k, r))
	}
	slices.Sort(why)
	for _, w := range why {
		fmt.Println("skipped", w)
	}
	fmt.Printf("%d passed, %d failed, %d skipped\n", a.passed, a.failed, n)
}
