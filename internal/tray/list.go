package tray

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ambertray/internal/phrase"
)

// A State is how an entry lies on the tray: a verdict, or what a load that is
// running or was cut off shows.
type State string

// The states.
const (
	IsClear   State = State(Clear)
	IsWaiting State = State(Waiting)
	IsFailed  State = State(Failed)
	IsUndone  State = State(Undone)
	// Unsure: the program ended at the commit; the table knows.
	Unsure State = "unsure"
	// Stopped: the program ended between commits of the load, which can go on.
	Stopped State = "stopped"
	// CutOff: the program ended before the commit. Nothing was changed.
	CutOff State = "cut off"
	// Running: a program is working on it.
	Running State = "running"
)

// A Summary is an entry in a list.
type Summary struct {
	Entry   *Entry
	State   State
	Receipt *Receipt // the pending one if that is unsure; nil if cut off
	Error   error    // the entry cannot be read
	Stops   *Stops   // of a load that commits on its way
	Pending bool     // there is a receipt from before the commit
	Started time.Time
}

// Look says how an entry lies on the tray.
func (e *Entry) Look() Summary {
	s := Summary{Entry: e, State: CutOff}
	if info, err := os.Stat(e.Dir); err == nil {
		s.Started = info.ModTime()
	}
	r, err := e.again(ReceiptFile, e.Receipt)
	if err != nil {
		s.Error = err
		return s
	}
	pending, err := e.again(pendingFile, e.Pending)
	if err == nil {
		if s.Stops, err = e.Stops(); s.Stops != nil {
			s.Started = s.Stops.Started
		}
	}
	s.Pending = pending != nil
	switch {
	case err != nil:
		s.Error = err
	case (r == nil || pending != nil) && e.running():
		s.State = Running
	case pending != nil:
		s.State, s.Receipt = Unsure, pending
	case r != nil:
		s.State, s.Receipt = State(r.Verdict), r
	case s.Stops != nil:
		s.State = Stopped
	}
	if s.Receipt != nil {
		s.Started = s.Receipt.Started
	}
	return s
}

// listed are the receipts that lists have read: a set of a thousand loads lists the tray before each of them, and a
// receipt of many sources is long.
var listed struct {
	sync.Mutex
	by map[string]listing
}

// A listing is a receipt and the file that it was in.
type listing struct {
	file    os.FileInfo
	receipt *Receipt
}

// again is a receipt that is read once as long as its file is the same. Of what is returned, the lists are shared.
func (e *Entry) again(file string, read func() (*Receipt, error)) (*Receipt, error) {
	path := e.Path(file)
	info, err := os.Stat(path)
	if err != nil {
		return read()
	}
	listed.Lock()
	defer listed.Unlock()
	l, is := listed.by[path]
	if !is || !os.SameFile(l.file, info) || l.file.Size() != info.Size() || !l.file.ModTime().Equal(info.ModTime()) {
		r, err := read()
		if err != nil || r == nil {
			return r, err
		}
		if listed.by == nil {
			listed.by = map[string]listing{}
		}
		l = listing{info, r}
		listed.by[path] = l
	}
	r := *l.receipt
	return &r, nil
}

// rank is the order in which states need a hand.
func (s State) rank() int {
	return slices.Index([]State{Unsure, Stopped, IsWaiting, Running, CutOff, IsFailed, IsUndone, IsClear}, s)
}

// List lists the entries of a tray: those that need a hand first, the newest
// first among them. A tray that does not exist is empty.
func List(dir string) ([]Summary, error) {
	names, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the tray %s cannot be read: %w", dir, err)
	}
	var list []Summary
	for _, n := range names {
		e := &Entry{filepath.Join(dir, n.Name()), n.Name()}
		if n.IsDir() && e.is() {
			list = append(list, e.Look())
		}
	}
	slices.SortStableFunc(list, func(a, b Summary) int {
		return cmp.Or(cmp.Compare(a.State.rank(), b.State.rank()), b.Started.Compare(a.Started),
			cmp.Compare(b.Entry.Name, a.Entry.Name))
	})
	return list, nil
}

// is reports whether the folder is an entry: it has the log, which is the
// first that a load writes, or a receipt.
func (e *Entry) is() bool {
	for _, f := range []string{LogFile, ReceiptFile} {
		if _, err := os.Stat(e.Path(f)); err == nil {
			return true
		}
	}
	return false
}

// A NotFound error says that a tray has no such entry.
type NotFound struct {
	// Meant asks whether another was.
	Meant      string
	Tray, Name string
	Some       []string // names that there are
}

func (e *NotFound) Error() string {
	s := fmt.Sprintf("the tray %s has no entry %q", e.Tray, e.Name)
	if len(e.Some) == 0 {
		return s + "\n  it is empty; another tray is named with --tray or AMBERTRAY_TRAY"
	}
	if e.Meant != "" {
		s += "\n  " + e.Meant
	}
	return s + "\n  say latest, waiting, a table's name, a path, or one of: " + strings.Join(e.Some, ", ")
}

// wordsFor are the words by which an entry is found.
func wordsFor(list []Summary) []string {
	words := []string{"latest", "waiting"}
	for _, s := range list {
		words = append(words, s.Entry.Name)
		if s.Receipt != nil && !slices.Contains(words, s.Receipt.Table.Name) {
			words = append(words, s.Receipt.Table.Name)
		}
	}
	return words
}

// Find finds an entry: by its name or path, as latest, or as a table's name,
// which stands for its newest entry. Failed and unfinished loads are found by
// their own names only.
func Find(dir, name string) (*Entry, error) {
	if strings.ContainsRune(name, filepath.Separator) {
		e := &Entry{filepath.Clean(name), filepath.Base(filepath.Clean(name))}
		if e.is() {
			return e, nil
		}
	} else if e := (&Entry{filepath.Join(dir, name), name}); name != "" && e.is() {
		return e, nil
	}
	list, err := List(dir)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(list, func(a, b Summary) int {
		return cmp.Or(b.Started.Compare(a.Started), cmp.Compare(b.Entry.Name, a.Entry.Name))
	})
	nf := &NotFound{Tray: dir, Name: name, Meant: phrase.Meant(name, wordsFor(list))}
	for _, s := range list {
		if len(nf.Some) < 5 {
			nf.Some = append(nf.Some, s.Entry.Name)
		}
		var t Table
		switch {
		case s.State == IsFailed, s.State == IsUndone:
			continue
		case s.Receipt != nil:
			t = s.Receipt.Table
		case s.State == Stopped:
			t = s.Stops.Table
		default:
			continue
		}
		if name == "waiting" && s.State != IsWaiting {
			continue // the newest whose rejects wait
		}
		if name == "latest" || name == "waiting" || strings.EqualFold(t.Name, name) || t.Schema != "" &&
			strings.EqualFold(t.Schema+"."+t.Name, name) {
			return s.Entry, nil
		}
	}
	return nil, nf
}

// Loaded finds an entry by which a file with this sum is in a table already:
// the newest one that is not undone by a later load that emptied or replaced
// the table. The list is of one database; schemas are the names under which
// the table's schema may stand.
func Loaded(list []Summary, schemas []string, table, sha256, part string) *Summary {
	into := func(s *Summary) bool {
		r := s.Receipt
		return r != nil && s.State != IsFailed && s.State != IsUndone && r.Table.Name == table &&
			slices.Contains(schemas, r.Table.Schema)
	}
	var found *Summary
	for i := range list {
		s := &list[i]
		if !into(s) || !slices.ContainsFunc(s.Receipt.Sources,
			func(x Source) bool { return x.SHA256 == sha256 && x.Part == part }) {
			continue
		}
		if found == nil || s.Started.After(found.Started) {
			found = s
		}
	}
	if found == nil {
		return nil
	}
	for i := range list {
		if s := &list[i]; into(s) && s.Receipt.Table.Mode != "append" && s.Receipt.Table.Mode != "merge" &&
			s.Started.After(found.Started) {
			return nil // its rows are gone
		}
	}
	return found
}
