// Command tests reads what go test -json says, and says it as go test would: what
// failed, with its output, and a line for each package. At the end it tells how
// many tests ran and how many were skipped, and why.
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
	ran, failed int
	skipped     map[string]int // by reason
	output      map[string][]string
}

func main() {
	a := &account{skipped: map[string]int{}, output: map[string][]string{}}
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
	if a.failed > 0 {
		os.Exit(1)
	}
}

func (a *account) take(e event) {
	key := e.Package + " " + e.Test
	switch e.Action {
	case "output", "build-output":
		if e.Action == "build-output" || e.Test == "" && !strings.HasPrefix(e.Output, "ok ") && e.Output != "PASS\n" {
			fmt.Print(e.Output)
			return
		}
		a.output[key] = append(a.output[key], e.Output)
	case "pass":
		if e.Test == "" {
			fmt.Printf("ok    %s  %.1f s\n", e.Package, e.Elapsed)
		} else {
			a.ran++
		}
		delete(a.output, key)
	case "fail":
		a.failed++
		if e.Test != "" {
			a.ran++
		}
		fmt.Print(strings.Join(a.output[key], ""))
		fmt.Printf("FAIL  %s\n", key)
	case "skip":
		if e.Test != "" {
			a.skipped[reason(a.output[key])]++
		}
		delete(a.output, key)
	}
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
	fmt.Printf("tests: %d ran, %d failed, %d skipped (%.1f %%)\n", a.ran, a.failed, n,
		100*float64(n)/float64(max(a.ran+n, 1)))
	for _, w := range why {
		fmt.Println("  skipped", w)
	}
}
