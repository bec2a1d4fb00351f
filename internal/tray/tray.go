// Package tray keeps the papers of loads.
//
// The model: the tray is a folder with one folder, an [Entry], for each load:
// the plan and the definition as they were run, the rejects, the receipt and
// the log. A file that is being written has the suffix .part and gets its
// name when it is whole and on the disk.
//
// The receipt brackets the commit. It is written under its .part name, whole,
// just before the database is told to commit, and gets its name right after.
// So an entry with neither is of a load that changed nothing, and one with a
// .part receipt was cut off at the commit itself: the table tells whether it
// came to be, see [Entry.Pending]. A mend writes the new receipt the same way.
package tray

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"time"
)

// The files of an entry.
const (
	PlanFile    = "plan.yaml"
	TableFile   = "table.sql"
	RejectsFile = "rejects.csv" // to be corrected
	// OriginalFile is the rejects as they were, which nobody edits.
	OriginalFile = "rejects.original.csv"
	ReceiptFile  = "receipt.json"
	// pendingFile is a receipt before the commit.
	pendingFile = ReceiptFile + ".part"
	// BeforeFile has the rows that a merge changed or deleted, as they were, and the keys of
	// those that it inserted; BeforePlanFile is the plan that reads it.
	BeforeFile     = "before.csv"
	BeforePlanFile = "before.yaml"
	LogFile        = "load.log"
	// StopsFile is of a load that commits on its way: what it takes to go on
	// with it.
	StopsFile = "stops.json"
)

// An Entry is the folder of one load.
type Entry struct {
	Dir  string
	Name string
}

// Create makes the folder of a new entry, named after the table and the time.
func Create(tray, table string, at time.Time) (*Entry, error) {
	if err := os.MkdirAll(tray, 0o700); err != nil {
		return nil, fmt.Errorf("the tray %s cannot be made: %w\n  name another folder with --tray", tray, err)
	}
	base := NameOf(table, at)
	for n := 1; ; n++ {
		name := base
		if n > 1 {
			name += "-" + strconv.Itoa(n)
		}
		dir := filepath.Join(tray, name)
		err := makeFolder(dir)
		if err == nil {
			return &Entry{dir, name}, nil
		}
		if !os.IsExist(err) || n > 1000 {
			return nil, fmt.Errorf("the tray %s cannot take an entry: %w\n  name another folder with --tray", tray, err)
		}
	}
}

// NameOf is the name of the first entry of a table at a time.
func NameOf(table string, at time.Time) string {
	return fileName(table) + "-" + at.UTC().Format("20060102-150405")
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

// Prepare writes a file whole and onto the disk, under its name with .part.
func (e *Entry) Prepare(file string, content []byte) error {
	path := e.Path(file) + ".part"
	f, err := CreateFile(path)
	if err != nil {
		return err
	}
	if _, err = f.Write(content); err == nil {
		err = f.Sync()
	}
	if err2 := f.Close(); err == nil {
		err = err2
	}
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	return e.sync()
}

// Settle gives a file that was prepared its name. With a receipt, all papers are
// sealed before: whatever ends the program between leaves the prepared receipt as it was
// sealed, and a later Settle to do.
func (e *Entry) Settle(file string) error {
	path := e.Path(file)
	if file == ReceiptFile {
		if err := e.seal(); err != nil {
			return err
		}
	}
	if err := os.Rename(path+".part", path); err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	return e.sync()
}

// sync makes the names in the folder safe. Where the system cannot, it is left
// to it.
func (e *Entry) sync() error {
	if d, err := os.Open(e.Dir); err == nil {
		d.Sync()
		d.Close()
	}
	return nil
}

// Write writes a file whole: under another name first, and renamed once it is
// on the disk.
func (e *Entry) Write(file string, content []byte) error {
	if err := e.Prepare(file, content); err != nil {
		return err
	}
	return e.Settle(file)
}

// PrepareReceipt and WriteReceipt are Prepare and Write for the receipt.
func (e *Entry) PrepareReceipt(r *Receipt) error {
	b, err := r.Encode()
	if err != nil {
		return err
	}
	return e.Prepare(ReceiptFile, b)
}

func (e *Entry) WriteReceipt(r *Receipt) error {
	if err := e.PrepareReceipt(r); err != nil {
		return err
	}
	return e.Settle(ReceiptFile)
}

// Receipt reads the receipt; nil if there is none.
func (e *Entry) Receipt() (*Receipt, error) { return e.receipt(ReceiptFile) }

// Pending reads a receipt that was prepared and never settled: the program
// ended at the commit, and whether that came to be, only the table can tell.
// It is nil if there is none. Half a file means that the commit was not
// reached.
func (e *Entry) Pending() (*Receipt, error) {
	r, err := e.receipt(pendingFile)
	var bad *json.SyntaxError
	if errors.As(err, &bad) {
		return nil, nil
	}
	return r, err
}

func (e *Entry) receipt(file string) (*Receipt, error) {
	b, err := os.ReadFile(e.Path(file))
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(b) == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the receipt cannot be read: %w", err)
	}
	r := &Receipt{}
	if err := json.Unmarshal(b, r); err != nil {
		return nil, fmt.Errorf("%s is not a receipt: %w", e.Path(file), err)
	}
	return r, nil
}

// Drop removes a pending receipt, whose commit did not come to be.
func (e *Entry) Drop() error { return os.Remove(e.Path(pendingFile)) }

// Log opens the log to be appended to, and keeps others from working on the
// entry until it is closed, or the program ends in whatever way.
func (e *Entry) Log() (*os.File, error) {
	f, err := OpenFile(e.Path(LogFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND)
	if err != nil {
		return nil, fmt.Errorf("the log cannot be written: %w", err)
	}
	if err := lockFile(f); err != nil {
		f.Close()
		return nil, fmt.Errorf("the entry %s is being worked on by another program\n  wait until that is done", e.Name)
	}
	return f, nil
}

// running reports whether a program is working on the entry.
func (e *Entry) running() bool {
	f, err := os.OpenFile(e.Path(LogFile), os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return lockFile(f) != nil
}

// DropBefore removes what was kept for a load that then changed nothing.
func (e *Entry) DropBefore() {
	for _, n := range []string{BeforeFile, BeforePlanFile} {
		_ = os.Remove(e.Path(n)) // there may be none
	}
}
