package desk

import (
	"context"
	"fmt"

	"ambertray/internal/db"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/tray"
)

// deleteLimit is the one of the request, else that of the plan.
func (l *loading) deleteLimit() (plan.DeleteLimit, error) {
	limit := l.req.Deletes
	if e := l.in.Plan.Expect; !limit.Given && e != nil {
		return plan.ParseDeletes(e.Deletes)
	}
	return limit, nil
}

// countBefore counts the rows of a table that is replaced. Those of one that takes the records as it is
// were counted when its columns were compared.
func (l *loading) countBefore(ctx context.Context) (err error) {
	if l.found != nil && l.req.Mode == db.Replace {
		l.rowsBefore, err = l.conn.Count(ctx, l.found)
	}
	return err
}

// deletes is how many rows the load takes from the table, net of those that it puts in, and how
// many there were; what says what becomes of them.
func (l *loading) deletes() (deleted, before int64, what string) {
	r := l.job.Receipt
	switch {
	case l.found == nil:
	case l.req.Mode == db.Refill, l.req.Mode == db.Replace:
		return l.rowsBefore - r.Table.Rows, l.rowsBefore, "deletes"
	case r.Merge != nil && r.Merge.Rule == tray.MissingDeleted:
		return r.Merge.Missing, r.Table.Before, "deletes"
	case r.Merge != nil && r.Merge.Rule == tray.MissingMarked:
		return r.Merge.Missing, r.Table.Before, "marks"
	}
	return 0, 0, ""
}

// mindDeletes stops a load before its commit, or asks, where it takes more rows from the table
// than it may, or than is likely to be meant: all of them for a source without records, or more
// than half. Such a source is most often a file that was cut, or is not the right one.
func (l *loading) mindDeletes(ctx context.Context) error {
	deleted, before, what := l.deletes()
	if deleted <= 0 {
		return nil
	}
	limit, err := l.deleteLimit()
	if err != nil {
		return err
	}
	none := l.job.Receipt.Records.Loaded == 0
	if limit.Given && limit.Allows(deleted, before) || !limit.Given && !none && 2*deleted <= before {
		return nil
	}
	q := Question{Code: DeletesRows, Ask: fmt.Sprintf("%s: this load %s %s of %s", l.where(), what,
		phrase.Grouped(deleted), phrase.Count(before, "row")),
		Answer: fmt.Sprintf("say --max-deletes %d if that is meant, or write deletes: under expect: in the plan",
			deleted)}
	if none {
		q.Ask += ", and its source has no records"
	}
	if limit.Given {
		q.Ask += ", which is more than may be"
		return need("%s\n  %s; nothing was changed", q.Ask, q.Answer)
	}
	if err := l.confirm(ctx, q); err != nil {
		return err
	}
	l.tell(NoteEvent{fmt.Sprintf("taken: --max-deletes %d", deleted)})
	return nil
}

// noRecords is the caution of a load by a plan whose sources hold nothing.
func noRecords() profile.Finding {
	return profile.Finding{Weight: profile.Caution, Code: profile.CodeNoRecords,
		Text: "the sources have no records", Do: "look whether the file is what it should be"}
}
