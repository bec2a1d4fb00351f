package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"golang.org/x/term"

	"ambertray/internal/desk"
	"ambertray/internal/fault"
)

// sure is an output that remembers that it could not be written.
type sure struct {
	io.Writer
	err error
}

// Write implements io.Writer.
func (s *sure) Write(p []byte) (int, error) {
	n, err := s.Writer.Write(p)
	s.err = errors.Join(s.err, err)
	return n, err
}

// fileOf is the file behind an input or output, or nil.
func fileOf(w any) *os.File {
	if v, is := w.(*visible); is {
		w = v.Writer
	}
	if s, is := w.(*sure); is {
		w = s.Writer
	}
	f, _ := w.(*os.File)
	return f
}

// isTerminal reports whether w is a terminal.
func isTerminal(w any) bool {
	f := fileOf(w)
	return f != nil && term.IsTerminal(int(f.Fd()))
}

// printJSON prints the document of a command.
func (a *app) printJSON(v any) error {
	a.shown = true
	out := bufio.NewWriterSize(a.raw, 64<<10)
	e := json.NewEncoder(&indenter{w: out})
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	return out.Flush()
}

// failed says that the program ends with an error, in words, and as a document where
// one is wanted and none was printed.
func (a *app) failed(err error, code int, args []string) {
	text := err.Error()
	if text == "" {
		return
	}
	if (a.json || slices.Contains(args, "--json")) && !a.shown {
		a.printJSON(desk.Failure(err, code))
	}
	var own *fault.Panic
	if errors.As(err, &own) {
		text += "\n  " + kept(own, args)
	}
	fmt.Fprintf(a.err, "%s %s\n", a.style(a.err).bad("ambertray:"), text)
}

// kept writes the details of a fault into a file, and says where.
func kept(p *fault.Panic, args []string) string {
	f, err := os.CreateTemp("", "ambertray-fault-*.txt")
	if err != nil {
		return "its details cannot be written: " + err.Error()
	}
	defer f.Close()
	// No argument but the command: the others may have a password.
	command := ""
	if len(args) > 0 {
		command = args[0]
	}
	fmt.Fprintf(f, "ambertray %s: %v\n\n%s", command, p.What, p.Stack)
	return "what was begun is rolled back; the details, to be sent to whoever keeps the program, are in " + f.Name()
}
