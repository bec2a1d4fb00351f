package cli

import (
	"bytes"
	"io"
	"os"
	"os/exec"
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
	a.paging, a.out = out, &visible{&text, true}
	return func() {
		a.paging, a.out = nil, whole
		if bytes.Count(text.Bytes(), []byte("\n")) >= lines && pager(out, text.Bytes()) == nil {
			return
		}
		io.Copy(whole, &text)
	}
}

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
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(text), out, os.Stderr
	return cmd.Run()
}
