package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/load"
	"ambertray/internal/plan"
	"ambertray/internal/report"
	"ambertray/internal/tray"
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
			o, err := a.entry(args[0], &f)
			if err != nil {
				return err
			}
			l, err := a.account(cmd.Context(), o, limit, !noPictures)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(a.out, l)
			}
			w, err := a.newOutput(out, yes)
			if err != nil {
				return err
			}
			if err := w.finish(l.HTML(w)); err != nil || out == "" {
				return err
			}
			seen := "with pictures of " + plural(int64(len(l.Columns)), "column")
			if l.Unseen != "" {
				seen = "without pictures: " + l.Unseen
			}
			fmt.Fprintf(a.err, "%s: the page about %s, %s\n", out, o.Name, seen)
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

// account puts together what a page tells about an entry.
func (a *app) account(ctx context.Context, o *opened, limit int, pictures bool) (*report.Load, error) {
	r := o.receipt
	if r == nil {
		return nil, o.unsettled()
	}
	remarks, err := plan.RemarksIn(o.Path(tray.PlanFile))
	if err != nil {
		return nil, err
	}
	l := report.NewLoad(r, o.plan, remarks)
	if sql, err := os.ReadFile(o.Path(tray.TableFile)); err == nil {
		l.Definition = strings.TrimSpace(string(sql))
	} else if !os.IsNotExist(err) {
		return nil, err
	}
	_, err = o.Outcomes(ctx, r, func(x *tray.Outcome) error {
		if limit > 0 && len(l.Rejects) == limit {
			l.More++
			return nil
		}
		l.Rejects = append(l.Rejects, report.Reject{Number: x.Number, Place: standsAt(x.Source, x.Line, x.Cell, len(r.Sources) > 1), Column: x.Column, Reason: x.Reason, Value: x.Value, State: x.State, Because: x.Because})
		return nil
	})
	if err != nil {
		return nil, err
	}
	switch {
	case !pictures:
		l.Unseen = "they were not asked for"
	case r.Verdict == tray.Failed:
		l.Unseen = "nothing was loaded"
	default:
		size := int64(0)
		for _, s := range r.Sources {
			size += s.Size
		}
		m := a.newMeter(ctx, "reading", size)
		spreads, err := load.Spreads(ctx, o.Entry, r, o.plan, m.set)
		m.end()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			l.Unseen, _, _ = strings.Cut(err.Error(), "\n")
		} else {
			l.Lie(spreads)
		}
	}
	return l, nil
}
