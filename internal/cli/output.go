package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"golang.org/x/term"

	"ambertray/internal/desk"
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
	e := json.NewEncoder(a.raw)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
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
	fmt.Fprintf(a.err, "%s %s\n", a.style(a.err).bad("ambertray:"), text)
}
