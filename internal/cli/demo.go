package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/demo"
	"ambertray/internal/desk"
)

func (a *app) demoCommand() *cobra.Command {
	filesOnly := false
	cmd := &cobra.Command{
		Use:   "demo [FOLDER]",
		Short: "Write the sample data and run the full example on it",
		Long: `Writes the sample files of the Harrowmere Canal Trust into a folder (default:
a new temporary one) and runs the full example on them, each command shown
before its output. With --files-only it stops before the first command, for you to try.`,
		Example: `  ambertray demo
  ambertray demo ./harrowmere
  ambertray demo ./harrowmere --files-only`,
		Args: args(0, 1, "at most one folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder := ""
			if len(args) > 0 {
				folder = args[0]
			}
			return a.demo(cmd.Context(), folder, filesOnly)
		},
	}
	cmd.Flags().BoolVar(&filesOnly, "files-only", false, "write the sample files, and run nothing")
	return cmd
}

func (a *app) demo(ctx context.Context, folder string, filesOnly bool) error {
	if folder == "" {
		dir, err := os.MkdirTemp("", "harrowmere-")
		if err != nil {
			return fmt.Errorf("no temporary folder: %w", err)
		}
		folder = dir
	}
	folder, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	if desk.FileExists(filepath.Join(folder, "harrowmere.db")) {
		return needed("%s: a demo has run here already\n  name another folder, or remove this one", folder)
	}
	if err := demo.Write(folder); err != nil {
		return err
	}
	if filesOnly {
		fmt.Fprintf(a.out, "the sample data of the Harrowmere Canal Trust is in %s\n", folder)
		return nil
	}
	back, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(folder); err != nil {
		return err
	}
	defer os.Chdir(back)
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s\n", st.dim("# the sample data of the Harrowmere Canal Trust is in "+folder))
	for _, step := range demo.Steps {
		if step.Say != "" {
			fmt.Fprintf(a.out, "\n%s", st.dim("# "+step.Say))
		}
		fmt.Fprintf(a.out, "\n%s\n", st.title("$ ambertray "+commandLine(step.Args)))
		// Nobody is asked: the input is no terminal.
		sub := &app{version: a.version, commit: a.commit, in: strings.NewReader(""), out: a.out, err: a.err,
			raw: a.raw, rawErr: a.rawErr}
		args := step.Args
		if a.noColor {
			args = append([]string{"--no-color"}, args...)
		}
		code := sub.run(ctx, args)
		if code != exitDone {
			fmt.Fprintf(a.out, "%s\n", st.dim(fmt.Sprintf("# exit status %d", code)))
		}
		if code != step.Status {
			return fmt.Errorf("demo: 'ambertray %s' ended with status %d, not %d", commandLine(step.Args), code,
				step.Status)
		}
	}
	fmt.Fprintf(a.out, "\n%s\n  database  %s\n  papers    %s\n", st.title("The demo is done."),
		filepath.Join(folder, "harrowmere.db"), filepath.Join(folder, "tray"))
	return nil
}
