package desk

import (
	"bufio"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
)

// An Output is where a result goes: a file, which gets its name when it is whole,
// or a writer.
type Output struct {
	File string // empty: To
	To   io.Writer
	// Over writes over a file that exists.
	Over bool
}

// Write writes a whole result.
func (o Output) Write(write func(io.Writer) error) error {
	w, err := o.begin()
	if err != nil {
		return err
	}
	return w.finish(write(w))
}

// isBook reports whether the file is to be a workbook.
func (o Output) isBook() bool { return strings.HasSuffix(strings.ToLower(o.File), ".xlsx") }

// isColumnar reports whether the file is to be one of columns.
func (o Output) isColumnar() bool { return strings.HasSuffix(strings.ToLower(o.File), ".parquet") }

// Free makes sure that nothing is written over, before there is something to be written.
func (o Output) Free() error { return o.free("-o") }

// free makes sure that nothing is written over.
func (o Output) free(option string) error {
	if info, err := os.Stat(o.File); o.File != "" && err == nil && info.Mode().IsRegular() && !o.Over {
		return need("%s %s: the file exists\n  choose another name, or say --yes to write over it", option, o.File)
	}
	return nil
}

// output is a result that is being written.
type output struct {
	w    *bufio.Writer
	f    *os.File
	part string // its name until it is whole; empty: it keeps the one it has
	name string
	over bool
	n    int64 // bytes
}

func (o Output) begin() (*output, error) {
	if o.File == "" {
		return &output{w: bufio.NewWriterSize(o.To, 64<<10)}, nil
	}
	if err := o.free("-o"); err != nil {
		return nil, err
	}
	if info, err := os.Stat(o.File); err == nil && !info.Mode().IsRegular() {
		// What is no file, a pipe or a device, is written to and not replaced.
		f, err := os.OpenFile(o.File, os.O_WRONLY, 0)
		if err != nil {
			return nil, fmt.Errorf("-o %s: cannot be written: %w", o.File, err)
		}
		return &output{w: bufio.NewWriterSize(f, 1<<20), f: f}, nil
	}
	// A file of its own, under a name that nobody has laid a link at.
	var r [6]byte
	rand.Read(r[:])
	part := fmt.Sprintf("%s.%s.part", o.File, hex.EncodeToString(r[:]))
	f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return nil, fmt.Errorf("-o %s: cannot be written: %w", o.File, err)
	}
	return &output{w: bufio.NewWriterSize(f, 1<<20), part: part, name: o.File, over: o.Over, f: f}, nil
}

// Write implements io.Writer, and counts.
func (o *output) Write(p []byte) (int, error) {
	n, err := o.w.Write(p)
	o.n += int64(n)
	return n, err
}

// finish ends the result; on an error the file is not left behind.
func (o *output) finish(err error) error {
	if err == nil {
		if err = o.w.Flush(); err != nil {
			err = fmt.Errorf("the result cannot be written: %w", err)
		}
	}
	if o.f == nil {
		return err
	}
	if err == nil && o.part != "" {
		err = o.f.Sync()
	}
	if err2 := o.f.Close(); err == nil {
		err = err2
	}
	if o.part == "" {
		return err
	}
	if err == nil && !o.over {
		// Nothing that has come there meanwhile is written over, where the system can tell.
		if err = os.Link(o.part, o.name); err == nil || errors.Is(err, fs.ErrExist) {
			os.Remove(o.part)
			return err
		}
		err = nil
	}
	if err == nil {
		err = os.Rename(o.part, o.name)
	}
	if err != nil {
		os.Remove(o.part)
	}
	return err
}

// FolderExists reports whether there is a folder of a name.
func FolderExists(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}
