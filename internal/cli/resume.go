package cli

import (
	"context"

	"ambertray/internal/desk"

	"github.com/spf13/cobra"
)

type resumeFlags struct {
	entryFlags
	maxRejects string
}

func (a *app) resumeCommand() *cobra.Command {
	var f resumeFlags
	cmd := &cobra.Command{
		Use:   "resume ENTRY [FILE…]",
		Short: "Go on with a load that was stopped between its commits",
		Long: `Goes on with a load with --commit-every that failed or was stopped. The
database tells how far it was, since that is noted with every commit. The files
are read from their beginnings again, and have to be the same; the records that
are in the table are counted, and those behind them loaded. So none is lost, and
none is loaded twice. Then all is verified as in any load.

FILE names the sources again where they are not where they were, and - where it
was standard input.`,
		Example: `  ambertray resume latest
  ambertray resume huge-20251204-101500
  zcat huge.gz | ambertray resume huge-20251204-101500 -`,
		Args: args(1, -1, "an entry"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.resume(cmd.Context(), args[0], args[1:], &f) },
	}
	f.add(cmd, true)
	cmd.Flags().StringVar(&f.maxRejects, "max-rejects", "",
		"another limit of rejected records than the load had, as a number or share")
	return cmd
}

func (a *app) resume(ctx context.Context, name string, files []string, f *resumeFlags) error {
	r := desk.ResumeRequest{Entry: name, Files: files, At: f.at(f.into)}
	if f.maxRejects != "" {
		limit, err := limitOf(f.maxRejects)
		if err != nil {
			return err
		}
		r.Limit = &limit
	}
	a.desk.Tray = trayDir(f.tray)
	answer, err := a.desk.Resume(ctx, r)
	return a.answered(answer, err)
}
