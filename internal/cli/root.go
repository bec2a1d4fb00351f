// Package cli is the program as its user meets it: commands, their help, what
// they print and how they end. One file is one command; what several need is
// in root.go, input.go, style.go and progress.go.
//
// Results go to standard output, progress and messages to standard error. Whatever
// is decided or computed is the business of package desk, which this one asks.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"ambertray/internal/config"
	"ambertray/internal/desk"
	"ambertray/internal/fault"
	"ambertray/internal/load"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// Exit statuses.
const (
	exitDone       = 0 // all is loaded and verified
	exitFailed     = 1 // failed; nothing was changed
	exitNeeded     = 2 // called wrongly, or a decision is needed
	exitWaiting    = 3 // loaded and verified; rejects are waiting
	exitUnbalanced = 4 // did not add up; nothing was committed
)

// status is an error that ends the program with a status of its own. A nil
// err has been reported already.
type status struct {
	code int
	err  error
}

func (s *status) Error() string {
	if s.err == nil {
		return ""
	}
	return s.err.Error()
}

func (s *status) Unwrap() error { return s.err }

// asked is an error of calling: the person has to decide or correct.
func needed(format string, args ...any) error {
	return &status{exitNeeded, fmt.Errorf(format, args...)}
}

// app is what all commands share.
type app struct {
	version, commit string
	in              io.Reader
	out, err        io.Writer // for people
	raw, rawErr     io.Writer // for programs, and for what moves about on a terminal

	noColor  bool
	quiet    bool
	oneLine  bool // a load says what it came to in one line, and all else in its log
	json     bool
	shown    bool // a document was printed
	logLevel string
	// logFormat is how messages and logs are written.
	logFormat string

	desk   *desk.Desk
	paging *os.File // the terminal, while output is collected for a pager
}

// Main runs the program and returns its exit status.
func Main(version, commit string, args []string, in io.Reader, out, errw io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	last := &sure{Writer: out}
	a := &app{version: version, commit: commit, in: in, raw: last, rawErr: errw}
	plain := asciiOnly()
	a.out = &visible{Writer: last, plain: plain && isTerminal(out)}
	a.err = &visible{Writer: errw, plain: plain && isTerminal(errw)}
	if isTerminal(out) {
		a.raw = a.out
	}
	code := a.run(ctx, args)
	if last.err != nil {
		fmt.Fprintf(errw, "ambertray: standard output cannot be written: %v\n  what was done is not undone by that; "+
			"'ambertray tray' lists the loads\n", last.err)
		return max(code, exitFailed)
	}
	return code
}

// Tree is the tree of commands, for what is made of it: manual pages and completions.
func Tree(version, commit string) *cobra.Command {
	return (&app{version: version, commit: commit}).root()
}

func (a *app) run(ctx context.Context, args []string) int {
	root := a.root()
	root.SetArgs(args)
	root.SetIn(a.in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := func() (err error) {
		defer fault.Recovered(&err)
		return root.ExecuteContext(ctx)
	}()
	if a.desk != nil {
		a.desk.Close()
	}
	if err == nil {
		return exitDone
	}
	if ctx.Err() != nil && !tells(err) {
		err = errors.New("stopped")
	}
	code := exitCode(err)
	a.failed(err, code, args)
	return code
}

// tells reports whether an error says what was left when the program was told to
// stop.
func tells(err error) bool {
	var left *desk.Stopped
	var need *desk.Need
	return errors.As(err, &left) || errors.As(err, &need) || errors.Is(err, errUnanswered)
}

func exitCode(err error) int {
	var s *status
	var p *source.Problem
	var pe *plan.Error
	var un *load.Unbalanced
	var nf *tray.NotFound
	var choice *source.Choice
	var need *desk.Need
	var totals *rows.UndecidedTotals
	switch {
	case errors.As(err, &s):
		return s.code
	case errors.As(err, &un):
		return exitUnbalanced
	case errors.As(err, &need), errors.As(err, &pe), errors.As(err, &p) && p.Decision, errors.As(err, &nf),
		errors.As(err, &choice), errors.As(err, &totals):
		return exitNeeded
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ambertray",
		Short: "Load delimited text and workbooks into database tables, and prove that it was done",
		Long: `Amber Tray loads delimited text and workbooks into database tables. It reads a file
whole before it decides anything, shows the evidence, loads in one transaction,
verifies before it commits, and keeps the papers of every load on the tray.

Exit status: 0 all loaded and verified; 1 failed, nothing changed; 2 called
wrongly, or a decision is needed; 3 loaded and verified, rejects are waiting;
4 did not add up, nothing committed.`,
		Example: `  ambertray look lock-passages.csv
  ambertray plan lock-passages.csv -o passages.yaml
  ambertray ddl passages.yaml --for postgres
  ambertray load passages.yaml --into sqlite:harrowmere.db
  ambertray load march.csv --into postgres://keeper@localhost/canal --table passages --mode append
  ambertray peek sqlite:harrowmere.db
  ambertray demo`,
		Version:       fmt.Sprintf("%s (commit %s)", a.version, a.commit),
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return nil
			}
			hint := "see 'ambertray --help'"
			var known []string
			for _, c := range cmd.Commands() {
				known = append(known, c.Name())
			}
			if s := phrase.Meant(args[0], known); s != "" {
				hint = s
			}
			return needed("unknown command %q\n  %s", args[0], hint)
		},
		RunE:              func(cmd *cobra.Command, args []string) error { return cmd.Help() },
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return a.prepare(cmd) },
	}
	root.SetVersionTemplate("ambertray {{.Version}}\n")
	root.SetFlagErrorFunc(optionError)
	root.SetHelpFunc(a.help)
	root.CompletionOptions.HiddenDefaultCmd = true
	f := root.PersistentFlags()
	f.BoolVar(&a.json, "json", false, "print one JSON document instead of text")
	f.BoolVar(&a.noColor, "no-color", false, "no colours (NO_COLOR does the same)")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "no progress, and one line of result of a load; the rest is in its log")
	f.StringVar(&a.logLevel, "log-level", "none",
		"messages to show besides results and errors: debug, info, warn, error or none")
	f.StringVar(&a.logFormat, "log-format", "text",
		"how messages, and the logs of entries, are written: text, or json, "+
			"an object a line")
	root.AddCommand(a.lookCommand(), a.planCommand(), a.ddlCommand(), a.loadCommand(), a.resumeCommand(),
		a.undoCommand(),
		a.refitCommand(),
		a.trayCommand(), a.rejectsCommand(), a.mendCommand(), a.verifyCommand(), a.scriptCommand(),
		a.dictionaryCommand(), a.reportCommand(), a.exportCommand(), a.peekCommand(), a.connectionsCommand(),
		a.schemaCommand(),
		a.demoCommand())
	a.complete(root)
	return root
}

// prepare reads what is settled in files, and makes the desk.
func (a *app) prepare(cmd *cobra.Command) error {
	known, err := config.Load()
	if err != nil {
		return needed("%w", err)
	}
	if err := defaults(cmd, known); err != nil {
		return err
	}
	cmd.SetContext(context.WithValue(cmd.Context(), configKey{}, known))
	var level slog.Level
	if a.logLevel == "none" {
		level = slog.LevelError + 1
	} else if err := level.UnmarshalText([]byte(a.logLevel)); err != nil {
		return needed("--log-level %q is not known\n  use debug, info, warn, error or none", a.logLevel)
	}
	handler := func(w io.Writer, opt *slog.HandlerOptions) slog.Handler { return slog.NewTextHandler(w, opt) }
	switch a.logFormat {
	case "text":
	case "json":
		handler = func(w io.Writer, opt *slog.HandlerOptions) slog.Handler {
			return slog.NewJSONHandler(w,
				opt)
		}
	default:
		return needed("--log-format %q is not known\n  use text or json", a.logFormat)
	}
	a.desk = a.newDesk(slog.New(handler(a.err, &slog.HandlerOptions{Level: level})))
	a.desk.NewLog = func(w io.Writer) slog.Handler { return handler(w, nil) }
	return nil
}

// ends is how the program ends with an outcome.
func ends(o desk.Outcome) error {
	switch o {
	case desk.Done:
		return nil
	case desk.Waiting:
		return &status{code: exitWaiting}
	case desk.Undecided:
		return &status{code: exitNeeded}
	case desk.Differs:
		return &status{code: exitUnbalanced}
	case desk.Unknown:
	}
	return &status{code: exitFailed}
}

// args is cobra's check of the number of arguments, with our status.
func args(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return needed("%s: name %s\n  see '%s --help'", cmd.Name(), what, cmd.CommandPath())
		case most >= 0 && len(args) > most:
			return needed("%s: %d arguments, but it takes %s\n  see '%s --help'; a name with spaces needs quotes",
				cmd.Name(), len(args), what, cmd.CommandPath())
		}
		return nil
	}
}

// commandLine shows arguments as a shell would take them.
func commandLine(args []string) string {
	var out []string
	for _, a := range args {
		out = append(out, phrase.ShellWord(a))
	}
	return strings.Join(out, " ")
}
