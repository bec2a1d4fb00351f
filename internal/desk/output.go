package desk

import (
	"bufio"
	"fmt"
	"io"
	"os"
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

// free makes sure that nothing is written over.
func (o Output) free(option string) error {
	if o.File != "" && FileExists(o.File) && !o.Over {
		return need("%s %s: the file exists\n  choose another name, or say --yes to write over it", option, o.File)
	}
	return nil
}

// output is a result that is being written.
type output struct {
	w    *bufio.Writer
	name string
	f    *os.File
	n    int64 // bytes
}

func (o Output) begin() (*output, error) {
	if o.File == "" {
		return &output{w: bufio.NewWriterSize(o.To, 64<<10)}, nil
	}
	if err := o.free("-o"); err != nil {
		return nil, err
	}
	f, err := os.Create(o.File + ".part")
	if err != nil {
		return nil, fmt.Errorf("-o %s: cannot be written: %w", o.File, err)
	}
	return &output{w: bufio.NewWriterSize(f, 1<<20), name: o.File, f: f}, nil
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
	if err == nil {
		err = o.f.Sync()
	}
	if err2 := o.f.Close(); err == nil {
		err = err2
	}
	if err != nil {
		os.Remove(o.name + ".part")
		return err
	}
	return os.Rename(o.name+".part", o.name)
}
