package main

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
)

// The table of figures stands between these lines of the document.
const (
	begins = "<!-- figures: written by make bench -->\n"
	ends   = "<!-- end of figures -->\n"
)

// about says what the figures are of.
func about(files ...string) string {
	var sizes []string
	for _, f := range files {
		info, err := os.Stat(f)
		check(err)
		sizes = append(sizes, fmt.Sprintf("%.0f MB", float64(info.Size())/1e6))
	}
	s := fmt.Sprintf("%d records of nine mixed columns (%s), 60,000 of 200 columns (%s), 250,000 of long texts in "+
		"quotes (%s), a workbook of %d rows.\n",
		*records, sizes[0], sizes[1], sizes[2], bookRows)
	s += fmt.Sprintf("%d processors, %s", runtime.NumCPU(), runtime.Version())
	for _, v := range [][]string{{"postgres", "--version"}, {"mariadbd", "--version"}} {
		if out, err := exec.Command(v[0], v[1:]...).Output(); err == nil {
			if f := strings.Fields(string(out)); len(f) > 2 {
				s += ", " + map[string]string{"postgres": "PostgreSQL ", "mariadbd": "MariaDB "}[v[0]] + f[2]
			}
		}
	}
	return s + "; servers and program on the same machine."
}

func plainText(s string) string { return strings.ReplaceAll(s, "`", "") }

// write puts the table of figures into the document.
func write(path, about string, results []result) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	before, rest, ok := strings.Cut(string(text), begins)
	_, after, ok2 := strings.Cut(rest, ends)
	if !ok || !ok2 {
		return fmt.Errorf("%s has no place for the figures: the lines %q and %q", path, begins, ends)
	}
	return os.WriteFile(path, []byte(before+begins+"\n"+table(about, results)+"\n"+ends+after), 0o666)
}

// table is the results as Markdown.
func table(about string, results []result) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\n| what | against | took | baseline | ratio (quartiles) "+
		"| at most | aim | | memory | taken |\n"+
		"|---|---|---|---|---|---|---|---|---|---|\n", about)
	for _, r := range results {
		bound := func(x float64) string {
			if x == 0 {
				return ""
			}
			return fmt.Sprintf("%.2f", x)
		}
		met := ""
		switch {
		case r.atMost == 0:
		case r.ratio > r.atMost:
			met = "**missed**"
		case r.aim > 0 && r.ratio <= r.aim:
			met = "met, and the aim"
		default:
			met = "met"
		}
		memory := fmt.Sprintf("%.0f MB", r.memory)
		if r.memory > memoryAtMost {
			memory += fmt.Sprintf(" (**more than %d**)", memoryAtMost)
		}
		fmt.Fprintf(&b, "| %s | %s | %.2f s | %.2f s | %.2f (%.2f to %.2f of %d pairs) "+
			"| %s | %s | %s | %s | %.0f %% |\n", r.name, r.baselineName, r.took, r.base, r.ratio, r.low, r.high,
			r.counted, bound(r.atMost), bound(r.aim), met,
			memory, 100*r.taken)
	}
	return b.String()
}
