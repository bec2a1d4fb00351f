package cli

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"golang.org/x/term"
)

// page collects what is printed from now on, if it goes to a terminal, and
// sends it through a pager where it is longer than the screen. The function
// returned ends that.
func (a *app) page() (done func()) {
	out, whole := fileOf(a.out), a.out
	if !isTerminal(a.out) || !isTerminal(a.in) {
		return func() {}
	}
	_, lines, err := term.GetSize(int(out.Fd()))
	if err != nil {
		return func() {}
	}
	var text bytes.Buffer
	a.paging, a.out = out, &visible{Writer: &text, colours: true, plain: asciiOnly()}
	return func() {
		a.paging, a.out = nil, whole
		if bytes.Count(text.Bytes(), []byte("\n")) >= lines && pager(out, text.Bytes()) == nil {
			return
		}
		io.Copy(whole, &text)
	}
}

// colourAnywhere is a colour within a text.
var colourAnywhere = regexp.MustCompile(`\x1b\[[0-9;]*m`)

// pager runs the user's pager.
func pager(out *os.File, text []byte) error {
	args := strings.Fields(os.Getenv("PAGER"))
	if len(args) == 0 {
		args = []string{"less", "-R"}
	}
	path, err := exec.LookPath(args[0])
	if err != nil {
		return err
	}
	cmd := exec.Command(path, args[1:]...)
	cmd.Env = os.Environ()
	switch options, set := os.LookupEnv("LESS"); {
	case filepath.Base(args[0]) != "less":
		text = colourAnywhere.ReplaceAll(text, nil) // not every pager knows them
	case set && !strings.ContainsAny(options+strings.Join(args[1:], ""), "rR"):
		text = colourAnywhere.ReplaceAll(text, nil)
	case !set:
		cmd.Env = append(cmd.Env, "LESS=-R")
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(text), out, os.Stderr
	return cmd.Run()
}
