package cli

import (
	"bufio"
	"fmt"
	"io"
	"os"
)

// output is where a result goes that may be large: a file, which gets its name
// when it is whole, or standard output.
type output struct {
	*bufio.Writer
	name string
	f    *os.File
}

// newOutput begins a result; an empty name is standard output.
func (a *app) newOutput(name string, over bool) (*output, error) {
	if name == "" {
		return &output{Writer: bufio.NewWriterSize(a.out, 64<<10)}, nil
	}
	if fileExists(name) && !over {
		return nil, asked("-o %s: the file exists\n  choose another name, or say --yes to write over it", name)
	}
	f, err := os.Create(name + ".part")
	if err != nil {
		return nil, fmt.Errorf("-o %s: cannot be written: %w", name, err)
	}
	return &output{bufio.NewWriterSize(f, 1<<20), name, f}, nil
}

// finish ends the result; on an error the file is not left behind.
func (o *output) finish(err error) error {
	if err == nil {
		if err = o.Flush(); err != nil {
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

// counting counts the bytes that go through.
type counting struct {
	io.Writer
	n int64
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.n += int64(n)
	return n, err
}
