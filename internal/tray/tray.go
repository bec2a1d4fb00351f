// Package tray keeps the papers of loads.
//
// The model: the tray is a folder with one folder, an [Entry], for each load:
// the plan and the definition as they were run, the rejects, the receipt and
// the log. A file that is being written has the suffix .part and gets its
// name when it is whole and on the disk. The receipt comes last: an entry
// without one is of a load that did not end.
package tray

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"
)

// The files of an entry.
const (
	PlanFile    = "plan.yaml"
	TableFile   = "table.sql"
	RejectsFile = "rejects.csv"
	ReceiptFile = "receipt.json"
	LogFile     = "load.log"
)

// An Entry is the folder of one load.
type Entry struct {
	Dir  string
	Name string
}

// Create makes the folder of a new entry, named after the table and the time.
func Create(tray, table string, at time.Time) (*Entry, error) {
	if err := os.MkdirAll(tray, 0o777); err != nil {
		return nil, fmt.Errorf("the tray %s cannot be made: %w\n  name another folder with --tray", tray, err)
	}
	base := fileName(table) + "-" + at.UTC().Format("20060102-150405")
	for n := 1; ; n++ {
		name := base
		if n > 1 {
			name += "-" + strconv.Itoa(n)
		}
		dir := filepath.Join(tray, name)
		err := os.Mkdir(dir, 0o777)
		if err == nil {
			return &Entry{dir, name}, nil
		}
		if !os.IsExist(err) || n > 1000 {
			return nil, fmt.Errorf("the tray %s cannot take an entry: %w\n  name another folder with --tray", tray, err)
		}
	}
}

// fileName keeps of a table's name what every file system takes.
func fileName(s string) string {
	b := []byte(s)
	for i, c := range b {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-' {
			continue
		}
		b[i] = '_'
	}
	if len(b) > 80 {
		b = b[:80]
	}
	return string(b)
}

// Path is where a file of the entry is.
func (e *Entry) Path(file string) string { return filepath.Join(e.Dir, file) }

// Write writes a file whole: under another name first, and renamed once it is
// on the disk.
func (e *Entry) Write(file string, content []byte) error {
	path := e.Path(file)
	f, err := os.Create(path + ".part")
	if err != nil {
		return err
	}
	if _, err = f.Write(content); err == nil {
		err = f.Sync()
	}
	if err2 := f.Close(); err == nil {
		err = err2
	}
	if err == nil {
		err = os.Rename(path+".part", path)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	return nil
}

// Rejects writes the rejects file of an entry: made with the first reject,
// whole when Finish returns.
type Rejects struct {
	entry   *Entry
	headers []string
	f       *os.File
	w       *csv.Writer
	Count   int64
}

// Rejects returns a writer of rejects under the source's headers. A nil entry
// only counts.
func (e *Entry) Rejects(headers []string) *Rejects { return &Rejects{entry: e, headers: headers} }

// A Reject is a record that could not be loaded.
type Reject struct {
	Source string
	Line   int64
	Column string
	Reason string
	Value  string
	Fields []string // as they stand in the source
	// Kind is the reason without the record's own values, for grouping; if
	// empty, it is the reason.
	Kind string
}

// rejectColumns stand before the source's own headers.
var rejectColumns = []string{"reject", "source", "line", "column", "reason", "value"}

// Add appends one reject.
func (r *Rejects) Add(x Reject) error {
	r.Count++
	if r.entry == nil {
		return nil
	}
	if r.f == nil {
		f, err := os.Create(r.entry.Path(RejectsFile) + ".part")
		if err != nil {
			return fmt.Errorf("the rejects file cannot be written: %w", err)
		}
		r.f, r.w = f, csv.NewWriter(f)
		if err := r.w.Write(append(append([]string{}, rejectColumns...), r.headers...)); err != nil {
			return err
		}
	}
	row := append([]string{strconv.FormatInt(r.Count, 10), x.Source, strconv.FormatInt(x.Line, 10), x.Column, x.Reason, x.Value}, x.Fields...)
	for len(row) < len(rejectColumns)+len(r.headers) {
		row = append(row, "")
	}
	if err := r.w.Write(row); err != nil {
		return fmt.Errorf("the rejects file cannot be written: %w", err)
	}
	return nil
}

// Finish puts the file on the disk under its name.
func (r *Rejects) Finish() error {
	if r.f == nil {
		return nil
	}
	r.w.Flush()
	err := r.w.Error()
	if err == nil {
		err = r.f.Sync()
	}
	if err2 := r.f.Close(); err == nil {
		err = err2
	}
	r.f = nil
	if err == nil {
		path := r.entry.Path(RejectsFile)
		err = os.Rename(path+".part", path)
	}
	if err != nil {
		return fmt.Errorf("the rejects file cannot be written: %w", err)
	}
	return nil
}
