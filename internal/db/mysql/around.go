package mysql

import (
	"context"

	"ambertray/internal/db"
)

// Around implements db.Surveyor. Grants and views are of the name here, and stay.
func (d *DB) Around(ctx context.Context, t *db.Table) (*db.Around, error) {
	q, in := d.questions(), d.schemaOf(t.Schema)
	refers, err := q.Referrers(ctx, `SELECT k.table_schema, k.table_name, k.constraint_name, group_concat(k.column_name ORDER BY k.ordinal_position SEPARATOR '\x1f'),
		group_concat(k.referenced_column_name ORDER BY k.ordinal_position SEPARATOR '\x1f'), min(r.delete_rule), min(r.update_rule)
		FROM information_schema.key_column_usage k JOIN information_schema.referential_constraints r
			ON r.constraint_schema = k.constraint_schema AND r.constraint_name = k.constraint_name AND r.table_name = k.table_name
		WHERE k.referenced_table_schema = ? AND k.referenced_table_name = ? AND NOT (k.table_schema = k.referenced_table_schema AND k.table_name = k.referenced_table_name)
		GROUP BY k.table_schema, k.table_name, k.constraint_name ORDER BY 1, 2, 3`,
		in, t.Name)
	if err != nil {
		return nil, err
	}
	goes, err := q.Hanging(ctx, []string{
		"SELECT DISTINCT concat('index ', index_name) FROM information_schema.statistics WHERE table_schema = ? AND " +
			"table_name = ? AND index_name <> 'PRIMARY' ORDER BY 1",
		"SELECT concat('trigger ', trigger_name) FROM information_schema.triggers WHERE event_object_schema = ? AND " +
			"event_object_table = ? ORDER BY 1",
		"SELECT concat('partition ', partition_name) FROM information_schema.partitions WHERE table_schema = ? AND " +
			"table_name = ? AND partition_name IS NOT NULL ORDER BY 1",
		"SELECT concat('constraint ', constraint_name) FROM information_schema.table_constraints WHERE table_schema " +
			"= ? AND table_name = ? AND constraint_type IN ('FOREIGN KEY', 'CHECK') ORDER BY 1",
		"SELECT 'comment of the table' FROM information_schema.tables WHERE table_schema = ? AND table_name = ? AND " +
			"table_comment <> ''",
		"SELECT DISTINCT 'comments of columns' FROM information_schema.columns WHERE table_schema = ? AND " +
			"table_name = ? AND column_comment <> ''",
	}, in, t.Name)
	return &db.Around{Referrers: refers, Goes: goes}, err
}

// empty takes all rows out of the table; TRUNCATE would commit. Where others refer
// to it, what they refer to is asked for when the new rows are in, see KeepsKeys:
// until then no rule of theirs may act.
func (l *load) empty(ctx context.Context) error {
	steps := []string{"DELETE FROM " + l.table}
	if len(l.spec.Referrers) > 0 {
		steps = []string{"SET SESSION foreign_key_checks = 0", steps[0], "SET SESSION foreign_key_checks = 1"}
	}
	for _, s := range steps {
		if _, err := l.d.c.ExecContext(ctx, s); err != nil {
			return l.d.fail("cannot empty the table", err)
		}
	}
	return nil
}

// KeepsKeys implements db.Keeper.
func (l *load) KeepsKeys(ctx context.Context) error {
	return l.d.questions().Orphans(ctx, l.spec.Referrers, l.table, "LOCK IN SHARE MODE")
}

// Definition implements db.Definer.
func (d *DB) Definition(ctx context.Context, t *db.Table) (out []string, err error) {
	q := d.questions()
	const cannot = "cannot write the definition"
	kind := "TABLE"
	if t.View {
		kind = "VIEW"
	}
	rows, err := q.Rows(ctx, cannot, "SHOW CREATE "+kind+" "+Dialect.Qualified(t.Schema, t.Name))
	if err != nil {
		return nil, err
	}
	out = append(out, *rows[0][1])
	triggers, err := q.Hanging(ctx, []string{"SELECT trigger_name FROM information_schema.triggers WHERE " +
		"event_object_schema = ? AND event_object_table = ? ORDER BY 1"}, d.schemaOf(t.Schema), t.Name)
	for _, name := range triggers {
		made, err := q.Rows(ctx, cannot, "SHOW CREATE TRIGGER "+Dialect.Qualified(t.Schema, name))
		if err != nil {
			return nil, err
		}
		if made[0][2] != nil {
			out = append(out, *made[0][2])
		}
	}
	return out, err
}
