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
	var database, out, rejects, mode, missing, like, fromFile string
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

With --mode append or refill they go from there into the table as they are; refill
deletes its rows first. Nothing is committed unless all rows are there.

With --from-file the script has no rows. The server reads the file by itself (COPY,
LOAD DATA, BULK INSERT, an external table) into a stage of texts, and SQL makes of them
what the plan makes: dates, numbers with marks, words for null and truth. What SQL
cannot make is said, and no script is written; nor is one for a file with records that
do not fit.

Records that do not fit are left out of it and listed with --rejects; the exit
status is 3 then.`,
		Example: `  ambertray script lock-passages.csv --for sqlserver -o passages.sql --rejects left-out.csv
  ambertray script passages.yaml --for postgres --copy-block -o passages.sql
  ambertray script boats-april.csv --for oracle --table boats --key permit --mode merge
  ambertray script boats.txt --for oracle
  ambertray script gauges.yaml --for postgres --from-file /srv/in/gauge-readings.tsv -o gauges.sql`,
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
			in, err := f.request(args)
			if err != nil {
				return err
			}
			r := desk.ScriptRequest{Input: in, For: d, Out: desk.Output{File: out, To: a.raw, Over: yes},
				Rejects: rejects, CopyBlock: copyBlock, Mode: db.Mode(mode), Missing: missing, Like: like,
				FromFile: fromFile, Strict: strict}
			if err := scriptGoes(&r); err != nil {
				return err
			}
			return a.script(cmd.Context(), r)
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	p := cmd.Flags()
	p.StringVar(&database, "for", "", "the database: "+connect.Names())
	p.StringVar(&mode, "mode", "create",
		"create: a new table; append: rows into one that exists, without a definition; refill: it is emptied first; "+
			"merge: its rows are changed by its key")
	p.StringVar(&like, "like", "", "`TABLE` whose structure the new one takes, in PostgreSQL and MySQL")
	p.StringVar(&fromFile, "from-file", "", "no rows in the script: the server "+
		"reads the file, which it has at this `PATH`")
	p.StringVar(&missing, "missing", "",
		"with --mode merge: what becomes of rows that the file does not have: keep or delete (default keep)")
	p.StringVarP(&out, "output", "o", "", "file to write to, instead of standard output")
	p.StringVar(&rejects, "rejects", "", "file for the records that do not fit")
	p.BoolVar(&copyBlock, "copy-block", false, "PostgreSQL: rows as a block of COPY instead of inserts, for psql")
	addStrict(cmd, &strict)
	p.BoolVar(&yes, "yes", false, "write over existing files")
	return cmd
}

// scriptGoes refuses what does not go together.
func scriptGoes(r *desk.ScriptRequest) error {
	switch r.Mode {
	case db.Create, db.Append, db.Refill, db.Merge:
	case db.Replace:
		return needed("--mode replace: a script does not drop a table\n  drop it by hand, or use --mode refill")
	default:
		return needed("--mode %q: use create, append, refill or merge", string(r.Mode))
	}
	if r.Like != "" && r.Mode != db.Create {
		return needed("--like: only a new table can take the structure of another\n  it goes with --mode create")
	}
	if r.FromFile != "" && (r.CopyBlock || r.Rejects != "") {
		return needed("--from-file: the script has no rows\n  leave out --copy-block and --rejects")
	}
	if r.Missing != "" && r.Mode != db.Merge {
		return needed("--missing: it goes with --mode merge")
	}
	return nil
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
