package cli

import (
	"fmt"

	"ambertray/internal/desk"

	"github.com/spf13/cobra"
)

func (a *app) reportCommand() *cobra.Command {
	var f entryFlags
	var out string
	var limit int
	var yes, noPictures bool
	cmd := &cobra.Command{
		Use:   "report ENTRY",
		Short: "Write the page about a load that goes with a ticket",
		Long: `Writes one page of HTML about a load, which needs no other file: what came in,
what was decided and on what evidence, what was loaded, and what was not, with
pictures of how the values of each column lie.

For the pictures the source is read again, which must still be the file that
was loaded. If it is not, or with --no-pictures, the page goes without and says
why. No database is asked.`,
		Example: `  ambertray report latest -o ticket-4711.html
  ambertray report lock_passages -o passages.html --limit 500 --yes
  ambertray report lock_passages-20261123-061708 --json`,
		Args: args(1, 1, "an entry"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.desk.Tray = trayDir(f.tray)
			l, err := a.desk.Report(cmd.Context(),
				desk.ReportRequest{Entry: args[0], Limit: limit, NoPictures: noPictures})
			if err != nil {
				return err
			}
			if err := a.written(desk.Output{File: out, To: a.raw, Over: yes}, l, l.HTML); err != nil || out == "" ||
				a.json {
				return err
			}
			seen := "with pictures of " + plural(int64(len(l.Columns)), "column")
			if l.Unseen != "" {
				seen = "without pictures: " + l.Unseen
			}
			fmt.Fprintf(a.err, "%s: the page about %s, %s\n", out, l.Receipt.Entry, seen)
			return nil
		},
	}
	f.add(cmd, false)
	cmd.Flags().StringVarP(&out, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many rejects to show record by record; 0 for all")
	cmd.Flags().BoolVar(&noPictures, "no-pictures", false, "do not read the source again")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}
