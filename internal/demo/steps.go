package demo

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// A Step is one command of the full example.
type Step struct {
	Say    string // what it shows
	Args   []string
	Status int // how it ends
}

// Steps are the full example, run in the folder of the sample data.
var Steps = []Step{
	{"Look at the file before trusting it.", []string{"look", "lock-passages.csv", "--rows", "5"}, 0},
	{"A list with titles, a ruler, padded fields, leading zeros, pounds and a total.",
		[]string{"look", "boat-register.txt", "--rows", "3"}, 0},
	{"Decimal commas, points between thousands, a minus behind; two columns identify a reading.",
		[]string{"look", "gauge-readings.tsv", "--rows", "3"}, 0},
	{"Every decision, with its evidence, in a plan to read and edit.",
		[]string{"plan", "gauge-readings.tsv", "--key", "gauge,read_at", "-o", "gauges.yaml"}, 0},
	{"What the plan does to the file.", []string{"look", "gauges.yaml", "--rows", "0"}, 0},
	{"Two values keep two columns from their types; take those records as rejects. The definition is then:",
		[]string{"ddl", "lock-passages.csv", "--for", "sqlite", "--tolerate", "0.1%"}, 0},
	{"A plan for the register of boats, too.",
		[]string{"plan", "boat-register.txt", "--table", "boats", "-o", "boats.yaml"}, 0},
	{"Load readings and boats by their plans: all or none.",
		[]string{"load", "gauges.yaml", "boats.yaml", "--into", "sqlite:harrowmere.db"}, 0},
	{"Load the passages, verify, and keep the papers.",
		[]string{"load", "lock-passages.csv", "--into", "sqlite:harrowmere.db", "--tolerate", "0.1%"}, 3},
	{"What was refused, and why. It lies in rejects.csv, to be corrected.", []string{"rejects", "latest"}, 0},
	{"The lock keepers have corrected three of the four; load just those.",
		[]string{"mend", "lock_passages", "corrected-rejects.csv"}, 3},
	{"The fourth cannot be corrected; settle it, with the reason.",
		[]string{"mend", "lock_passages", "--waive", "3", "--because", "the page is torn, the remarks are lost"}, 0},
	{"Every record is accounted for. Compare every value of the table with the file, and with what was mended.",
		[]string{"verify", "lock_passages", "--deep"}, 0},
	{"The page that goes with the ticket, with pictures of the columns.",
		[]string{"report", "lock_passages", "-o", "lock-passages.html", "--yes"}, 0},
	{"A workbook with a sheet a month: which one?", []string{"look", "toll-book-2025.xlsx"}, 2},
	{"All of them, as one table. Two months are missing, and August has another name for the toll.",
		[]string{"look", "toll-book-2025.xlsx", "--sheet", "all", "--rows", "4"}, 2},
	{"A plan settles it: the date comes from day, sheet and file name, the permits get their zeros back.",
		[]string{"look", "tolls.yaml", "--rows", "6"}, 0},
	{"Ten sheets into one table, and every value compared.",
		[]string{"load", "tolls.yaml", "--into", "sqlite:harrowmere.db"}, 0},
	{"", []string{"verify", "tolls", "--deep"}, 0},
	{"A month later the register of boats comes again. What would change?", []string{"load", "boat-register-april.txt",
		"--into", "sqlite:harrowmere.db", "--table", "boats", "--mode", "merge", "--missing", "delete", "--dry-run"},
		0},
	{"That is right.", []string{"load", "boat-register-april.txt", "--into", "sqlite:harrowmere.db", "--table", "boats",
		"--mode", "merge", "--missing", "delete"}, 0},
	{"It should not have been done yet: take it back.", []string{"undo", "boats", "--yes"}, 0},
	{"Nothing waits any more.", []string{"tray"}, 0},
}

// files are the sample files.
var files = []struct {
	name  string
	write func(io.Writer) error
}{
	{"lock-passages.csv", func(w io.Writer) error { return Passages(w, 5000, true) }},
	{"boat-register.txt", func(w io.Writer) error { return Register(w, 412) }},
	{"corrected-rejects.csv", Corrected},
	{"toll-book-2025.xlsx", TollBook},
	{"tolls.yaml", func(w io.Writer) error { _, err := io.WriteString(w, TollPlan); return err }},
	{"boat-register-april.txt", func(w io.Writer) error { return RegisterAgain(w, 412) }},
	{"gauge-readings.tsv", func(w io.Writer) error { return Gauges(w, 800) }},
}

// Write writes the sample files into a folder, which is made if need be.
func Write(folder string) error {
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return fmt.Errorf("the sample data cannot be written: %w", err)
	}
	for _, f := range files {
		out, err := os.Create(filepath.Join(folder, f.name))
		if err != nil {
			return fmt.Errorf("the sample data cannot be written: %w", err)
		}
		err = f.write(out)
		if err2 := out.Close(); err == nil {
			err = err2
		}
		if err != nil {
			return fmt.Errorf("%s cannot be written: %w", f.name, err)
		}
	}
	return nil
}
