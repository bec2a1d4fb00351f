package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/load"
	"ambertray/internal/script"
	"ambertray/internal/tray"
)

func (a *app) scriptCommand() *cobra.Command {
	var f inputFlags
	var database, out, rejects string
	var copyBlock, yes bool
	cmd := &cobra.Command{
		Use:   "script SOURCE|PLAN [FILE…] --for DATABASE",
		Short: "Write the whole load as one SQL script, to be run by someone else",
		Long: `Writes definition and rows as one SQL script: inserts of many rows with exact
literals for that database, in one transaction where it has one, and at the end
a check of the number of rows that undoes everything if it fails. The head says
what the script was made from, what it holds, and how to run it.

Records that do not fit are left out of it and listed with --rejects; the exit
status is 3 then.`,
		Example: `  ambertray script lock-passages.csv --for sqlserver -o passages.sql --rejects left-out.csv
  ambertray script passages.yaml --for postgres --copy-block -o passages.sql
  ambertray script boats.txt --for oracle`,
		Args: args(1, -1, "a file, or a plan"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if database == "" {
				return asked("script: say for which database\n  --for %s", connect.Names())
			}
			d, err := connect.ByName(database)
			if err != nil {
				return asked("--for: %w", err)
			}
			if copyBlock && d.Script.Copy == nil {
				return asked("--copy-block: only %s reads one\n  leave it out for %s", connect.Titles(func(d *db.Database) bool { return d.Script.Copy != nil }), d.Title)
			}
			if a.json && out == "" {
				return asked("script: with --json, name the script's file with -o")
			}
			return a.script(cmd.Context(), args, &f, d, out, rejects, copyBlock, yes)
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	p := cmd.Flags()
	p.StringVar(&database, "for", "", "the database: "+connect.Names())
	p.StringVarP(&out, "output", "o", "", "file to write to, instead of standard output")
	p.StringVar(&rejects, "rejects", "", "file for the records that do not fit")
	p.BoolVar(&copyBlock, "copy-block", false, "PostgreSQL: rows as a block of COPY instead of inserts, for psql")
	p.BoolVar(&yes, "yes", false, "write over existing files")
	return cmd
}

func (a *app) script(ctx context.Context, names []string, f *inputFlags, d *db.Database, out, rejects string, copyBlock, yes bool) error {
	in, err := a.openAll(ctx, names, f, false)
	if err != nil {
		return err
	}
	if err := in.blocked(); err != nil {
		return err
	}
	t := in.plan.Definition()
	if err := checkNames(d.Dialect, t); err != nil {
		return err
	}
	if rejects != "" && fileExists(rejects) && !yes {
		return asked("--rejects %s: the file exists\n  choose another name, or say --yes to write over it", rejects)
	}
	// The head tells how many rows there are, so they are counted first.
	job := load.Job{Sources: in.sources, Plan: in.plan, MaxRejects: -1}
	m := a.newMeter(ctx, "counting", in.size())
	job.Progress = m.set
	check, err := load.DryRun(ctx, job)
	m.end()
	if err != nil {
		return err
	}
	opt := script.Options{Database: d, Table: t, Rows: check.Records.Loaded, CopyBlock: copyBlock, Head: a.scriptHead(in, d, t, check)}
	o, err := a.newOutput(out, yes)
	if err != nil {
		return err
	}
	if rejects != "" {
		job.Rejects = tray.NewRejects(load.Headers(in.sources, in.plan), rejects)
	}
	m = a.newMeter(ctx, "writing", in.size())
	job.Progress = m.set
	w, err := script.New(o, opt)
	var again *load.Check
	if err == nil {
		if again, err = load.Feed(ctx, job, w); err == nil {
			err = w.Close()
		}
		if err == nil && again.Records != check.Records {
			err = load.ErrChanged
		}
	}
	m.end()
	if err = o.finish(err); err != nil {
		return err
	}
	if a.json {
		if err := printJSON(a.out, map[string]any{"file": out, "database": d.Name, "table": t.Name, "records": check.Records, "reasons": reasonList(check.Reasons)}); err != nil {
			return err
		}
	}
	if n := check.Records.Rejected; n > 0 {
		if !a.json {
			st := a.style(a.err)
			fmt.Fprintf(a.err, "%s %s of %s left out of the script\n", st.warn("ambertray:"), grouped(n), plural(check.Records.Read, "record"))
			a.printReasonsTo(a.err, st, check.Reasons)
			if rejects == "" {
				fmt.Fprintln(a.err, "  --rejects FILE.csv lists them all")
			}
		}
		return &status{code: exitWaiting}
	}
	return nil
}

func (a *app) scriptHead(in *input, d *db.Database, t dialect.Table, c *load.Check) []string {
	var from []string
	for _, s := range in.sources {
		from = append(from, s.Name+" ("+size(s.Size)+")")
	}
	head := []string{fmt.Sprintf("%s, from %s", db.Qualified(t.Schema, t.Name), strings.Join(from, ", ")),
		fmt.Sprintf("for %s, written by Amber Tray %s on %s", d.Title, a.version, time.Now().UTC().Format("2006-01-02 15:04 UTC")),
		fmt.Sprintf("%s read = %s in this script + %s left out + %s skipped", plural(c.Records.Read, "record"), grouped(c.Records.Loaded), grouped(c.Records.Rejected), grouped(c.Records.Skipped))}
	return append(head, d.Script.Remarks(t)...)
}

// reasonList keeps an empty list from being null in JSON.
func reasonList(r []tray.Reason) []tray.Reason {
	if r == nil {
		return []tray.Reason{}
	}
	return r
}
