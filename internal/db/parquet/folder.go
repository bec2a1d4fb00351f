package parquet

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"ambertray/internal/db"
)

// A folder has tables, and what loads leave beside them.
type folder struct{ path string }

const (
	ending = ".parquet"
	// own begins the names of what is no table: the stages of loads, locks and marks.
	own = ".ambertray-"
	// rowsOf is the folder of a stage with its files, and oldOf that with what was replaced.
	rowsOf, oldOf = "rows", "old"
	listName      = "commit.json"
	markName      = own + "done-"
	// markKept is how long a mark stays that nobody has settled.
	markKept = 7 * 24 * time.Hour
)

// A commit is what a load has decided: by its being there, it is done.
type commit struct {
	Table string   `json:"table"`
	Mode  db.Mode  `json:"mode"`
	Files []string `json:"files"`
}

// A stage is where a load puts its files until it commits.
type stage struct {
	path  string
	table string
	token string
	begun time.Time
}

// newStage makes one.
func (f folder) newStage(table string) (*stage, error) {
	var r [8]byte
	rand.Read(r[:])
	s := &stage{table: table, token: hex.EncodeToString(r[:]), begun: time.Now()}
	s.path = filepath.Join(f.path, own+table+"-"+s.token)
	return s, os.MkdirAll(filepath.Join(s.path, rowsOf), 0o777)
}

// stages are those of a table that are there.
func (f folder) stages(table string) (out []*stage, err error) {
	entries, err := os.ReadDir(f.path)
	for _, e := range entries {
		token, is := strings.CutPrefix(e.Name(), own+table+"-")
		if is && e.IsDir() && len(token) == 16 && !strings.Contains(token, "-") {
			out = append(out, &stage{path: filepath.Join(f.path, e.Name()), table: table, token: token})
		}
	}
	return out, err
}

// list is what the stage's load has decided, or nil.
func (s *stage) list() (*commit, error) {
	b, err := os.ReadFile(filepath.Join(s.path, listName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var c commit
	if err == nil {
		err = json.Unmarshal(b, &c)
	}
	return &c, err
}

// decide writes what the load has decided. When it has its name, the load is done.
func (s *stage) decide(mode db.Mode, files []string) error {
	b, err := json.MarshalIndent(commit{s.table, mode, files}, "", "  ")
	if err != nil {
		return err
	}
	part := filepath.Join(s.path, listName+".part")
	f, err := os.Create(part)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err2 := f.Sync(); err == nil {
		err = err2
	}
	if err2 := f.Close(); err == nil {
		err = err2
	}
	if err == nil {
		err = syncFolder(filepath.Join(s.path, rowsOf))
	}
	if err == nil {
		err = os.Rename(part, filepath.Join(s.path, listName))
	}
	return err
}

// syncFolder makes the names in a folder outlast a power failure, where the system can.
func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Sync(); err != nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, fs.ErrPermission) &&
		!errors.Is(err, fs.ErrInvalid) {
		return err
	}
	return nil
}

// settle does what a load has decided, or takes away what one has left that has not. It is
// for whoever holds the table, and may be done again after it was cut off.
func (f folder) settle(s *stage) error {
	c, err := s.list()
	if err != nil {
		return err
	}
	if c == nil {
		return os.RemoveAll(s.path)
	}
	rows, table := filepath.Join(s.path, rowsOf), filepath.Join(f.path, s.table)
	if c.Mode != db.Append {
		old := filepath.Join(s.path, oldOf)
		if exists(rows) && exists(table) && !exists(old) {
			if err := os.Rename(table, old); err != nil {
				return err
			}
		}
	}
	if exists(rows) && !exists(table) {
		if err := os.Rename(rows, table); err != nil {
			return err
		}
	}
	for _, name := range c.Files {
		if from := filepath.Join(rows, name); exists(from) {
			if err := os.Rename(from, filepath.Join(table, name)); err != nil {
				return err
			}
		}
	}
	if definition := filepath.Join(s.path, s.table+".sql"); exists(definition) {
		if err := os.Rename(definition, table+".sql"); err != nil {
			return err
		}
	}
	if err := errors.Join(syncFolder(table), os.WriteFile(filepath.Join(f.path, markName+s.token), nil, 0o666),
		syncFolder(f.path)); err != nil {
		return err
	}
	return os.RemoveAll(s.path)
}

func exists(path string) bool { _, err := os.Lstat(path); return err == nil }

// files are those that a table consists of, or nil if there is no such table; alone tells
// that it is one file beside the folders of others.
func (f folder) files(table string) (files []string, alone bool, err error) {
	path := filepath.Join(f.path, table)
	if files, err = dataFiles(path); err != nil {
		return nil, false, err
	}
	if single := path + ending; files == nil && exists(single) {
		files, alone = []string{single}, true
	}
	// What has been decided counts, although it may not have been moved yet.
	stages, err := f.stages(table)
	if err != nil {
		return nil, false, err
	}
	for _, s := range stages {
		c, err := s.list()
		rows := filepath.Join(s.path, rowsOf)
		if err != nil || c == nil || !exists(rows) {
			continue
		}
		if c.Mode != db.Append && !exists(filepath.Join(s.path, oldOf)) {
			files = nil
		}
		for _, name := range c.Files {
			if from := filepath.Join(rows, name); exists(from) {
				files = append(files, from)
			}
		}
	}
	return files, alone, nil
}

// dataFiles are those in a folder that have rows; nil if there is no such folder. Names
// that begin with a point or a line below are no data, as is usual for such folders.
func dataFiles(path string) ([]string, error) {
	entries, err := os.ReadDir(path)
	if errors.Is(err, fs.ErrNotExist) || err != nil && !isFolder(path) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	files := []string{}
	for _, e := range entries {
		name := e.Name()
		switch {
		case hidden(name):
		case e.IsDir():
			return nil, fmt.Errorf("the folder %s has folders of its own (%s): rows that lie in parts by value are "+
				"not read", path, name)
		case strings.HasSuffix(name, ending):
			files = append(files, filepath.Join(path, name))
		}
	}
	slices.Sort(files)
	return files, nil
}

func isFolder(path string) bool { info, err := os.Stat(path); return err == nil && info.IsDir() }

func hidden(name string) bool { return strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_") }

// strangers are files in a table's folder that are no rows of it, which would go with it.
func strangers(path string) (names []string, err error) {
	entries, err := os.ReadDir(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if hidden(e.Name()) || e.IsDir() || !strings.HasSuffix(e.Name(), ending) {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// tables are the names of all tables.
func (f folder) tables() (names []string, err error) {
	entries, err := os.ReadDir(f.path)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		name := e.Name()
		if pending, is := strings.CutPrefix(name, own); is && e.IsDir() && len(pending) > 17 {
			name = pending[:len(pending)-17] // a stage: it counts if it is decided
		} else if hidden(name) {
			continue
		} else if !e.IsDir() {
			var is bool
			if name, is = strings.CutSuffix(name, ending); !is {
				continue
			}
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}

// sweep takes away marks that nobody has settled for long.
func (f folder) sweep() {
	marks, _ := filepath.Glob(filepath.Join(f.path, markName+"*"))
	for _, m := range marks {
		if info, err := os.Stat(m); err == nil && time.Since(info.ModTime()) > markKept {
			os.Remove(m)
		}
	}
}

// A hold keeps other loads from a table.
type hold struct{ lock *flock.Flock }

// hold tries to keep others from a table; nil: another has it.
func (f folder) hold(table string) (*hold, error) {
	l := flock.New(filepath.Join(f.path, own+table+".lock"))
	got, err := l.TryLock()
	if err != nil || !got {
		l.Close()
		return nil, err
	}
	return &hold{lock: l}, nil
}

// release lets others at the table. The file of the lock stays: who takes it away may take
// it from under another.
func (h *hold) release() { h.lock.Unlock() }
