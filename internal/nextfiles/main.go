// Command nextfiles tries plans on the files that come after the one they were made from:
//
//	go run ./internal/nextfiles FOLDER
//
// FOLDER is what scripts/corpus/fetch has filled. Of each table in it, a file with titles above and
// a total below is made, and a plan of that file. Then the file is changed in sixteen ways, and
// loaded by the plan with the built program. After each, the table holds what the file does, or the
// load stops, or a caution tells of the change: it ends with status 1 if a table is another and
// nothing was said.
package main

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: go run ./internal/nextfiles FOLDER")
		os.Exit(2)
	}
	wrong, err := tryAll(filepath.Join(os.Args[1], "files"))
	if err != nil {
		fmt.Fprintln(os.Stderr, "nextfiles:", err)
		os.Exit(2)
	}
	if wrong > 0 {
		os.Exit(1)
	}
}

// The outcomes of a load.
const (
	right   = "right table"
	stopped = "stopped"
	said    = "another table, said"
	silent  = "ANOTHER TABLE, IN SILENCE"
)

// results counts outcomes by change.
type results map[string]map[string]int

func (r results) add(change, outcome string) {
	if r[change] == nil {
		r[change] = map[string]int{}
	}
	r[change][outcome]++
}

// tryAll tries every table of the corpus, and returns how many loads went wrong in silence.
func tryAll(folder string) (wrong int, err error) {
	program, err := filepath.Abs("bin/ambertray")
	if err != nil {
		return 0, err
	}
	files, err := tables(folder)
	if err != nil {
		return 0, err
	}
	all, tried, unplanned := results{}, 0, 0
	var order []string
	for _, t := range files {
		for _, form := range []string{"text", "book"} {
			w := &workplace{program: program, table: t, form: form}
			if w.folder, err = os.MkdirTemp("", "nextfiles"); err != nil {
				return 0, err
			}
			ok, err := w.begin()
			if err != nil {
				return 0, fmt.Errorf("%s: %w", t.name, err)
			}
			if ok {
				tried++
				for _, c := range changes {
					outcome, is := w.try(c)
					if !is {
						continue
					}
					if !slices.Contains(order, c.name) {
						order = append(order, c.name)
					}
					if all.add(c.name, outcome); outcome == silent {
						wrong++
						fmt.Printf("%s: %s, %s: %s\n", silent, t.name, form, c.name)
					}
				}
			} else {
				unplanned++
			}
			os.RemoveAll(w.folder)
		}
	}
	fmt.Printf("%d files with a plan of their own; %d where a plan asks first\n\n", tried, unplanned)
	fmt.Printf("%-28s %12s %12s %22s %12s\n", "change", right, stopped, said, "silent")
	for _, c := range changes {
		if slices.Contains(order, c.name) {
			x := all[c.name]
			fmt.Printf("%-28s %12d %12d %22d %12d\n", c.name, x[right], x[stopped], x[said], x[silent])
		}
	}
	return wrong, nil
}

// tables are the delimited tables of the corpus that a person has described, of a size that can be
// tried many times.
func tables(folder string) (out []table, err error) {
	f, err := os.Open("scripts/corpus/truth.tsv")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		x := strings.Split(lines.Text(), "\t")
		if len(x) != 7 || x[2] != "table" || strings.Contains(x[1], "!") || x[4] == "0" {
			continue
		}
		comma := map[string]rune{",": ',', ";": ';', "|": '|', "tab": '\t'}[x[3]]
		b, err := os.ReadFile(filepath.Join(folder, x[1]))
		if err != nil || comma == 0 || len(b) > 400_000 {
			continue
		}
		if t, is := tableOf(b, comma, x[4]); is {
			t.name = x[1]
			out = append(out, t)
		}
	}
	return out, nil
}

// tableOf reads a table with the standard library's reader; is tells that it takes it.
func tableOf(b []byte, comma rune, header string) (t table, is bool) {
	b = bytes.TrimPrefix(b, []byte("\ufeff"))
	if header != "1" || bytes.IndexByte(b, 0) >= 0 {
		return t, false
	}
	r := csv.NewReader(bytes.NewReader(b))
	r.Comma = comma
	t.comma = comma
	for {
		rec, err := r.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return t, false
		}
		if t.header == nil {
			t.header = rec
		} else if strings.TrimSpace(strings.Join(rec, "")) != "" {
			t.records = append(t.records, rec)
		}
	}
	return t, len(t.records) >= 10 && len(t.records) <= 5000 && len(t.header) >= 2 && len(t.header) <= 60
}

// A workplace is a folder with a file, its plan, and a database that the file has been loaded into.
type workplace struct {
	program, folder, form string
	table                 table
	plan                  string // its text
	held                  string // what the table held then
	changed               bool   // it holds something else
}

// run runs the program in the folder.
func (w *workplace) run(args ...string) (out string, code int, err error) {
	cmd := exec.Command(w.program, args...)
	cmd.Dir = w.folder
	var text bytes.Buffer
	cmd.Stdout = &text
	err = cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return text.String(), exit.ExitCode(), nil
	}
	return text.String(), 0, err
}

// begin makes the file and its plan, and loads it. It reports whether that can be done without a
// decision.
func (w *workplace) begin() (ok bool, err error) {
	base := w.table.drawn()
	if err := w.write(base, "first"); err != nil {
		return false, err
	}
	args := []string{"plan", w.file("first"), "--table", "t", "-o", "p.yaml", "--totals", "skip", "--quiet"}
	if w.form == "book" {
		args = append(args, "--sheet", "all")
	}
	if _, code, err := w.run(args...); err != nil || code != 0 {
		return false, err
	}
	b, err := os.ReadFile(filepath.Join(w.folder, "p.yaml"))
	if err != nil {
		return false, err
	}
	w.plan = string(b)
	if _, code, err := w.run("load", "p.yaml", "--into", "sqlite:c.db", "--quiet"); err != nil || code != 0 {
		return false, err
	}
	// As the next ones are loaded: a table that is there keeps some values otherwise than a new one.
	if _, code, err := w.run("load", "p.yaml", "--into", "sqlite:c.db", "--mode", "refill", "--yes",
		"--quiet"); err != nil || code != 0 {
		return false, err
	}
	w.held, err = w.holds()
	// A plan that is wrong about its own file is not what is tried here.
	sheets := 1
	if w.form == "book" {
		sheets = len(base.sheets)
	}
	return strings.Count(w.held, "\n") > sheets*len(w.table.records)*9/10, err
}

// holds is what the table holds, its rows in order.
func (w *workplace) holds() (string, error) {
	out, _, err := w.run("export", "sqlite:c.db", "t", "--quiet")
	rows := strings.SplitAfter(out, "\n")
	slices.Sort(rows)
	return strings.Join(rows, ""), err
}

// try changes the file and loads it by the plan. is tells that there is something to change.
func (w *workplace) try(c change) (outcome string, is bool) {
	d := w.table.drawn()
	if !c.do(w, d) || w.write(d, "next") != nil {
		return "", false
	}
	refill := []string{"--into", "sqlite:c.db", "--mode", "refill", "--yes"}
	if w.changed { // the table is to be as the first file has left it
		w.run(append([]string{"load", "p.yaml", "--quiet", "--max-deletes", "100%"}, refill...)...)
	}
	out, code, err := w.run(append([]string{"load", "p.yaml", w.file("next"), "--json"}, refill...)...)
	if err != nil {
		return "", false
	}
	defer func() { w.changed = outcome == said || outcome == silent }()
	if code != 0 && code != 3 {
		return stopped, true
	}
	var receipt struct {
		Cautions []struct{ Text string }
		Records  struct{ Rejected int64 }
	}
	if json.Unmarshal([]byte(out), &receipt) != nil {
		return silent, true
	}
	if held, err := w.holds(); err == nil && held == w.held && !c.other {
		return right, true
	}
	if len(receipt.Cautions) > 0 || receipt.Records.Rejected > 0 {
		return said, true
	}
	return silent, true
}
