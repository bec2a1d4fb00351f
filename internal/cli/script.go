package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
)

func (a *app) scriptCommand() *cobra.Command {
	var f inputFlags
	var database, out, rejects string
	var mode, missing string
	var copyBlock, yes, strict bool
	cmd := &cobra.Command{
		Use:   "script SOURCE|PLAN [FILE…] --for DATABASE",
		Short: "Write the whole load as one SQL script, to be run by someone else",
		Long: `Writes definition and rows as one SQL script: inserts of many rows with exact
literals for that database, in one transaction where it has one, and at the end
a check of the number of rows that undoes everything if it fails. The head says
what the script was made from, what it holds, and how to run it.

With --mode merge the rows go into a stage first, and from there into a table
that exists: rows with a known key and other values are changed, those with a
new key are inserted. A key that is in the file twice ends the script.

Records that do not fit are left out of it and listed with --rejects; the exit
status is 3 then.`,
		Example: `  ambertray script lock-passages.csv --for sqlserver -o passages.sql --rejects left-out.csv
  ambertray script passages.yaml --for postgres --copy-block -o passages.sql
  ambertray script boats-april.csv --for oracle --table boats --key permit --mode merge
  ambertray script boats.txt --for oracle`,
		Args: args(1, -1, "a file, or a plan"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if database == "" {
				return needed("script: say for which database\n  --for %s", connect.Names())
			}
			d, err := connect.ByName(database)
			if err != nil {
				return needed("--for: %w", err)
			}
			if copyBlock && d.Script.Copy == nil {
				return needed("--copy-block: only %s reads one\n  leave it out for %s",
					connect.Titles(func(d *db.Database) bool { return d.Script.Copy != nil }), d.Title)
			}
			if a.json && out == "" {
				return needed("script: with --json, name the script's file with -o")
			}
			if mode != string(db.Create) && mode != string(db.Merge) {
				return needed("--mode %q: a script can create a table, or merge into one", mode)
			}
			if missing != "" && mode != string(db.Merge) {
				return needed("--missing: it goes with --mode merge")
			}
			in, err := f.request(args)
			if err != nil {
				return err
			}
			return a.script(cmd.Context(), desk.ScriptRequest{Input: in, For: d,
				Out: desk.Output{File: out, To: a.raw, Over: yes}, Rejects: rejects, CopyBlock: copyBlock,
				Merge: mode == string(db.Merge), Missing: missing, Strict: strict})
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	p := cmd.Flags()
	p.StringVar(&database, "for", "", "the database: "+connect.Names())
	p.StringVar(&mode, "mode", "create",
		"create: a new table; merge: the rows of one that exists are changed by its key")
	p.StringVar(&missing, "missing", "",
		"with --mode merge: what becomes of rows that the file does not have: keep or delete (default keep)")
	p.StringVarP(&out, "output", "o", "", "file to write to, instead of standard output")
	p.StringVar(&rejects, "rejects", "", "file for the records that do not fit")
	p.BoolVar(&copyBlock, "copy-block", false, "PostgreSQL: rows as a block of COPY instead of inserts, for psql")
	addStrict(cmd, &strict)
	p.BoolVar(&yes, "yes", false, "write over existing files")
	return cmd
}

func (a *app) script(ctx context.Context, r desk.ScriptRequest) error {
	answer, err := a.desk.Script(ctx, r)
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(answer); err != nil {
			return err
		}
	} else if c := answer.Records; c.Rejected > 0 {
		st := a.style(a.err)
		fmt.Fprintf(a.err, "%s %s of %s left out of the script\n", st.warn("ambertray:"), grouped(c.Rejected),
			plural(c.Read, "record"))
		a.printReasonsTo(a.err, st, answer.Reasons)
		if r.Rejects == "" {
			fmt.Fprintln(a.err, "  --rejects FILE.csv lists them all")
		}
	}
	return ends(answer.Outcome())
}
