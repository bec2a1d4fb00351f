package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ambertray/internal/desk"
	"ambertray/internal/reading"
)

// addStrict is the option of those who do not want to be asked.
func addStrict(cmd *cobra.Command, strict *bool) {
	cmd.Flags().BoolVar(strict, "strict", false, "end with status 2, and nothing done, where there are cautions")
}

// mostFound is how many cautions are shown before something is done; look shows all.
const mostFound = 8

// printFound says what was decided from the evidence, and what to look at.
func (a *app) printFound(e desk.FoundEvent) {
	st := a.style(a.err)
	const margin = 11
	fmt.Fprintln(a.err, st.title("Found in "+e.Source))
	for i, l := range fold(strings.Join(e.Decided, "; "), st.width-margin-1) {
		if len(e.Decided) == 0 {
			break
		}
		what := ""
		if i == 0 {
			what = "decided"
		}
		fmt.Fprintf(a.err, "  %-*s%s\n", margin-2, what, st.dim(l))
	}
	n := min(len(e.Cautions), mostFound)
	printFindings(a.err, st, e.Cautions[:n])
	if more := len(e.Cautions) - n; more > 0 {
		fmt.Fprintf(a.err, "  and %s more: ambertray look %s\n", grouped(int64(more)), reading.Shorten(e.Source, 60))
	}
	fmt.Fprintln(a.err)
}

// errUnanswered is that a prompt was left: by Ctrl-C or Ctrl-D.
var errUnanswered = needed("not answered; nothing was changed")

// ask puts a question to the person at the terminal.
func (a *app) ask(ctx context.Context, in *os.File, q desk.Question) (string, error) {
	text := q.Ask
	if q.Column != "" {
		text = q.Column + ": " + text
	}
	if !strings.HasSuffix(text, "?") {
		text += "."
	}
	fmt.Fprintf(a.err, "\n%s\n", text)
	st := a.style(a.err)
	for _, e := range q.Evidence {
		fmt.Fprintf(a.err, "    %s\n", st.dim(e))
	}
	if len(q.Choices) == 0 {
		fmt.Fprint(a.err, "Type yes to go on: ")
		return a.line(ctx, in)
	}
	for i, c := range q.Choices {
		option := ""
		if c.Option != "" {
			option = "  " + st.dim(c.Option)
		}
		fmt.Fprintf(a.err, "  %d  %s%s\n", i+1, c.Text, option)
	}
	for {
		fmt.Fprintf(a.err, "1 to %d: ", len(q.Choices))
		s, err := a.line(ctx, in)
		if err != nil {
			return "", err
		}
		if i := slices.IndexFunc(q.Choices,
			func(c desk.Choice) bool { return strings.EqualFold(c.Answer, s) }); i >= 0 {
			return q.Choices[i].Answer, nil
		}
		if n, err := strconv.Atoi(s); err == nil && n >= 1 && n <= len(q.Choices) {
			return q.Choices[n-1].Answer, nil
		}
	}
}

// line reads what is typed, in lower case.
func (a *app) line(ctx context.Context, in *os.File) (string, error) {
	s, err := a.prompted(ctx, in, func() (string, error) {
		s, err := bufio.NewReader(in).ReadString('\n')
		if errors.Is(err, io.EOF) {
			fmt.Fprintln(a.err)
			err = errUnanswered
		}
		return s, err
	})
	return strings.ToLower(strings.TrimSpace(s)), err
}

func (a *app) password(ctx context.Context, in *os.File, url string) (string, error) {
	fmt.Fprintf(a.err, "Password for %s: ", url)
	s, err := a.prompted(ctx, in, func() (string, error) {
		b, err := term.ReadPassword(int(in.Fd()))
		if errors.Is(err, io.EOF) {
			err = errUnanswered
		}
		return string(b), err
	})
	fmt.Fprintln(a.err)
	return s, err
}

// prompted reads from the terminal, and lets go of it at Ctrl-C or a request to
// end. The reading goes on in vain then; the program is about to end.
func (a *app) prompted(ctx context.Context, in *os.File, read func() (string, error)) (string, error) {
	before, err := term.GetState(int(in.Fd()))
	if err != nil {
		return "", err
	}
	type result struct {
		text string
		err  error
	}
	done := make(chan result, 1)
	go func() {
		s, err := read()
		done <- result{s, err}
	}()
	select {
	case r := <-done:
		return r.text, r.err
	case <-ctx.Done():
		term.Restore(int(in.Fd()), before)
		fmt.Fprintln(a.err)
		return "", errUnanswered
	}
}
