package account

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/load"
	"ambertray/internal/phrase"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// giveBack puts the rows back that a load has taken out of its table, from the table that
// keeps them.
func (u *undo) giveBack(ctx context.Context) error {
	k := u.Receipt.Kept
	if k == nil {
		return &NotDone{Why: "a load that emptied or replaced its table can only be taken back where it kept the old " +
			"rows (load --keep-old)"}
	}
	if k.Dropped != nil {
		return &NotDone{Why: "the old rows were kept in " + k.Table + ", which was dropped since"}
	}
	merger, is := u.Session.(db.Merger)
	if !is {
		return &NotDone{Why: u.Session.Dialect().Title + ": old rows are not kept there"}
	}
	same := slices.EqualFunc(u.found.Columns, k.Columns, func(c db.Column, x tray.KeptColumn) bool {
		return c.Name == x.Name && c.Type == x.Type
	})
	if !same {
		return &NotDone{Why: "the table had other columns before it was replaced; its old rows are in " + k.Table}
	}
	differences, err := meanwhile(ctx, *u.Receipt, u.Plan, u.Session)
	if err != nil {
		return err
	}
	if len(differences) > 0 {
		return &NotDone{"the table is not what the load left", differences}
	}
	kept, err := u.Session.Find(ctx, u.found.Schema, k.Table)
	if err != nil {
		return err
	}
	if kept == nil {
		return &NotDone{Why: "the old rows were kept in " + k.Table + ", which does not exist any more"}
	}
	if err := u.exchange(ctx, merger); err != nil || u.DryRun {
		return err
	}
	r, err := u.Entry.Receipt()
	if err != nil {
		return err
	}
	if err := DropKept(ctx, u.Session, r); err != nil {
		u.Log.Warn("the table with the old rows is left", "table", k.Table, "error", err)
		u.out.Left = k.Table
		return nil
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	r.Kept.Dropped = &now
	return u.Entry.WriteReceipt(r)
}

// exchange puts the rows that were kept in the place of those of the load.
func (u *undo) exchange(ctx context.Context, merger db.Merger) error {
	k := u.Receipt.Kept
	if err := u.lean(ctx, merger); err != nil {
		return err
	}
	work, err := u.begin(ctx)
	if err != nil {
		return err
	}
	defer work.Rollback()
	d, w := u.Session.Dialect(), merger.Within()
	table := d.Qualified(u.found.Schema, u.found.Name)
	if u.out.Deleted, err = merger.Affect(ctx, "DELETE FROM "+table); err != nil {
		return w.Fail("cannot take the rows of the load out", err)
	}
	columns, loose := load.ColumnsOf(u.found)
	if u.out.PutBack, err = merger.Affect(ctx, fmt.Sprintf("INSERT INTO %s (%s) %sSELECT %[2]s FROM %[4]s", table,
		d.List(u.found.Given()),
		d.GiveIdentity, d.Qualified(u.found.Schema, k.Table))); err != nil {
		return w.Fail("cannot put the old rows back", err)
	}
	if err := u.unmoved(ctx, merger); err != nil {
		return err
	}
	count, is, err := merger.TallyFrom(ctx, table+" t", columns, loose)
	if err != nil {
		return err
	}
	u.out.Rows = count
	if err := sameAs(k, count, is); err != nil || u.DryRun {
		return err
	}
	return u.commit(ctx, work)
}

// sameAs makes sure that a table has the rows that were kept.
func sameAs(k *tray.Kept, count int64, is []tally.Tally) error {
	var differences []string
	if count != k.Rows {
		differences = append(differences, fmt.Sprintf("%s before the load, and %s without it",
			phrase.Count(k.Rows, "row"), phrase.Grouped(count)))
	}
	at := 0
	for _, c := range k.Columns {
		if c.As == "" {
			continue
		}
		if t, err := sqltype.Parse(c.As); err != nil || t != is[at].Type {
			return fmt.Errorf("the receipt's column %s of the old rows has another type than the table: %w", c.Name,
				err)
		}
		differences = append(differences, unlike(c.Name, c.Facts, &is[at])...)
		at++
	}
	if len(differences) > 0 {
		return &NotDone{"the table would not be what it was before the load: the rows that were kept are others now",
			differences}
	}
	return nil
}

// DropKept drops the table that keeps old rows, if it has just those.
func DropKept(ctx context.Context, conn db.Session, r *tray.Receipt) error {
	k := r.Kept
	found, err := conn.Find(ctx, r.Table.Schema, k.Table)
	if err != nil || found == nil {
		return err
	}
	d, is := conn.(db.Dropper)
	if !is {
		return fmt.Errorf("%s cannot drop %s safely; do it by hand", conn.Dialect().Title, k.Table)
	}
	dropped, err := d.DropExactly(ctx, found, k.Rows)
	if err == nil && !dropped {
		err = fmt.Errorf("%s has other rows than the load put there; look, and drop it by hand", k.Table)
	}
	return err
}
