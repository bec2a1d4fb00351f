package sqlserver

import (
	"context"

	"ambertray/internal/db"
)

// together are loads in one transaction.
type together struct {
	open  bool
	mark  string // of all, begun before the transaction
	loads []*load
}

// BeginTogether implements db.Grouper. The first load begins the transaction.
func (d *DB) BeginTogether(context.Context) error {
	d.together = &together{}
	return nil
}

// CommitTogether implements db.Grouper.
func (d *DB) CommitTogether(ctx context.Context) error {
	t := d.together
	if len(t.loads) == 0 {
		return nil
	}
	if err := t.loads[0].commit(ctx); err != nil {
		if db.IsUnsure(err) {
			d.together = nil // what became of it is to be asked for
		}
		return err
	}
	d.together = nil
	return nil
}

// RollbackTogether implements db.Grouper.
func (d *DB) RollbackTogether() error {
	t := d.together
	if t == nil {
		return nil
	}
	d.together = nil
	ctx := context.Background()
	err := d.do(ctx, "cannot roll back", "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION")
	for _, l := range t.loads {
		l.unbegin(ctx)
	}
	return err
}
