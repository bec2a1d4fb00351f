package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/script"
	"ambertray/internal/tray"
)

// A ScriptRequest writes a load as one SQL script.
type ScriptRequest struct {
	Input
	For *db.Database
	// Out is where it goes.
	Out Output
	// Rejects is a file for the records that do not fit, or empty.
	Rejects string
	// Mode is what the script does with the table. Of a merge, Missing is what becomes of rows
	// that the file does not have, as in a MergeRequest.
	Mode    db.Mode
	Missing string
	// Like is a table whose structure the new one takes, by name or schema and name.
	Like string
	// FromFile is the path of the file on the server's host, which the server is to read by
	// itself; empty: the rows are in the script.
	FromFile string
	// CopyBlock writes the rows as a block for the database's own client.
	CopyBlock bool
	// Strict writes nothing when there are cautions.
	Strict bool
}

// A ScriptAnswer is what was written.
type ScriptAnswer struct {
	Document
	File     string        `json:"file"`
	Database string        `json:"database"`
	Table    string        `json:"table"`
	Records  tray.Records  `json:"records"`
	Reasons  []tray.Reason `json:"reasons"`
	// Decided and Cautions are as in a receipt.
	Decided  []string          `json:"decided"`
	Cautions []profile.Finding `json:"cautions"`
}

// Outcome is what it comes to: records that were left out wait.
func (a *ScriptAnswer) Outcome() Outcome {
	if a.Records.Rejected > 0 {
		return Waiting
	}
	return Done
}

// Script writes a load as one SQL script.
func (d *Desk) Script(ctx context.Context, r ScriptRequest) (*ScriptAnswer, error) {
	o, err := d.settled(ctx, r.Input, opening{})
	if err != nil {
		return nil, err
	}
	if err := o.decided(); err != nil {
		return nil, err
	}
	decided, cautions := d.found(o, intoNew)
	if err := strictly(r.Strict, cautions); err != nil {
		return nil, err
	}
	t := o.Plan.Definition()
	if err := checkTable(r.For.Dialect, t); err != nil {
		return nil, err
	}
	if r.Rejects != "" && FileExists(r.Rejects) && !r.Out.Over {
		return nil, need("--rejects %s: the file exists\n  choose another name, or say --yes to write over it",
			r.Rejects)
	}
	// The head tells how many rows there are, so they are counted first.
	m := d.meter(ctx, "counting", o.Size())
	check, err := rows.DryRun(ctx, o.job(m))
	m.End()
	if err != nil {
		return nil, err
	}
	opt := script.Options{Database: r.For, Table: t, Rows: check.Records.Loaded, CopyBlock: r.CopyBlock,
		Head: d.scriptHead(o, r.For, t, check)}
	if r.FromFile != "" {
		if opt.File, err = r.fromFile(o, check); err != nil {
			return nil, err
		}
		opt.Head = append(opt.Head, r.For.Script.File.Remarks...)
		opt.Head[2] = fmt.Sprintf("%s in the file, which has %s and the SHA-256 %s",
			phrase.Count(check.Records.Read, "record"), phrase.Count(o.First().FileSize, "byte"), check.Sums[0])
	}
	switch r.Mode {
	case db.Merge:
		err = r.mergeInto(o, t, &opt)
	case db.Append, db.Refill:
		r.addTo(t, &opt)
	case db.Create, db.Replace:
		err = r.like(&opt)
	}
	if err != nil {
		return nil, err
	}
	if err := d.writeScript(ctx, o, r, opt, check); err != nil {
		return nil, err
	}
	return &ScriptAnswer{document("script"), r.Out.File, r.For.Name, t.Name, check.Records, list(check.Reasons),
		list(decided), list(cautions)}, nil
}

func (d *Desk) writeScript(ctx context.Context, o *Opened, r ScriptRequest, opt script.Options,
	check *rows.Check) error {
	out, err := r.Out.begin()
	if err != nil {
		return err
	}
	m := d.meter(ctx, "writing", o.Size())
	job := o.job(m)
	if r.Rejects != "" {
		job.Rejects = tray.NewRejects(o.Plan.Headers(o.Sources), r.Rejects)
	}
	w, err := script.New(out, opt)
	if err == nil && opt.File != nil {
		err = w.Close()
	} else if err == nil {
		var again *rows.Check
		if again, err = rows.Into(ctx, job, w); err == nil {
			err = w.Close()
		}
		if err == nil && again.Records != check.Records {
			err = rows.ErrChanged
		}
	}
	m.End()
	return out.finish(err)
}

func (d *Desk) scriptHead(o *Opened, base *db.Database, t dialect.Table, c *rows.Check) []string {
	var from []string
	for _, s := range o.Sources {
		from = append(from, s.Name+" ("+phrase.Size(s.Size)+")")
	}
	n := c.Records
	head := []string{fmt.Sprintf("%s, from %s", db.Qualified(t.Schema, t.Name), strings.Join(from, ", ")),
		fmt.Sprintf("for %s, written by Amber Tray %s on %s", base.Title, d.Version,
			time.Now().UTC().Format("2006-01-02 15:04 UTC")),
		fmt.Sprintf("%s read = %s in this script + %s left out + %s skipped", phrase.Count(n.Read, "record"),
			phrase.Grouped(n.Loaded), phrase.Grouped(n.Rejected), phrase.Grouped(n.Skipped))}
	return append(head, base.Script.Remarks(t)...)
}

// like makes the table of a script one like another.
func (r *ScriptRequest) like(opt *script.Options) error {
	if r.Like == "" {
		return nil
	}
	if r.For.Script.Like == nil {
		return need("--like: %s has no statement that makes a table like another, keys and all\n  "+
			"'ambertray ddl URL TABLE' writes the definition of one that is there; then use --mode append", r.For.Title)
	}
	schema, table, is := strings.Cut(r.Like, ".")
	if !is {
		schema, table = "", r.Like
	}
	opt.Like = r.For.Qualified(schema, table)
	return nil
}

// addTo makes a script one that adds rows to a table that exists, or fills it anew.
func (r *ScriptRequest) addTo(t dialect.Table, opt *script.Options) {
	for _, c := range t.Columns {
		if c.Identity {
			opt.Numbered = c.Name
		}
	}
	opt.Target, opt.Emptied = r.For.Qualified(t.Schema, t.Name), r.Mode == db.Refill
	opt.Table, _ = r.For.StageOf(t, nil)
	say := "added to " + db.Qualified(t.Schema, t.Name) + ", which is there"
	if opt.Emptied {
		say = db.Qualified(t.Schema, t.Name) + ", which is there, is emptied first"
	}
	r.stageHead(opt, say)
}

// stageHead says in the head of a script what becomes of the rows behind the stage.
func (r *ScriptRequest) stageHead(opt *script.Options, say string) {
	head := append(slices.Clone(opt.Head[:3]), say)
	for _, l := range opt.Head[3:] {
		if strings.HasPrefix(l, db.CommittedAtOnce) {
			if r.For.Temporary != "" || r.For.TemporaryName != "" {
				continue // the stage is of the session
			}
			l = "the stage is committed at once; if the script fails, drop " + r.For.Qualified(opt.Table.Schema,
				opt.Table.Name) + " before the next attempt"
		}
		head = append(head, l)
	}
	opt.Head = head
}

// mergeInto makes a script one that merges.
func (r *ScriptRequest) mergeInto(o *Opened, t dialect.Table, opt *script.Options) error {
	missing := r.Missing
	if m := o.Plan.Missing; m != nil && missing == "" {
		if len(m.Set) > 0 {
			return need("missing in the plan: a script does not mark rows\n  say --missing keep or delete")
		}
		missing = m.Rule
	}
	if missing != "" && missing != plan.KeepMissing && missing != plan.DeleteMissing {
		return need("--missing %q: use keep or delete", missing)
	}
	if len(t.Key) == 0 {
		return need("--mode merge: the plan has no key, so that rows cannot be known\n  name the columns that tell " +
			"them " +
			"apart: --key")
	}
	into := &dialect.Merge{Dialect: r.For.Dialect, Table: r.For.Qualified(t.Schema, t.Name), Key: t.Key,
		Columns: t.Columns}
	opt.Into, opt.Missing = into, missing == plan.DeleteMissing
	opt.Table, _ = r.For.StageOf(t, t.Key)
	into.Stage = r.For.Qualified(opt.Table.Schema, opt.Table.Name)
	gone := "rows that it does not have stay"
	if opt.Missing {
		gone = "rows that it does not have are deleted"
	}
	r.stageHead(opt, "merged into "+db.Qualified(t.Schema, t.Name)+", which is there, by "+strings.Join(t.Key, ", ")+
		"; "+gone)
	return nil
}
