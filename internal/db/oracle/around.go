package oracle

import (
	"context"
	"slices"

	"ambertray/internal/db"
)

// isCheck is which constraints k are checks, and not what the catalog has of a column that is
// required.
const isCheck = "k.constraint_type = 'C' AND NOT EXISTS (SELECT 1 FROM all_cons_columns x WHERE x.owner = k.owner " +
	"AND x.constraint_name = k.constraint_name AND k.search_condition_vc = '\"' || x.column_name || '\" IS NOT NULL')"

// Around implements db.Surveyor. Views stay, as names of what they are made of.
func (d *DB) Around(ctx context.Context, t *db.Table) (*db.Around, error) {
	q, owner, name := d.questions(), d.owner(t.Schema), catalogued(t.Name)
	rows, err := q.Rows(ctx, "cannot see what hangs on the table", `SELECT k.owner, k.table_name, k.constraint_name,
		a.column_name, b.column_name, k.delete_rule FROM all_constraints k
		JOIN all_constraints p ON p.owner = k.r_owner AND p.constraint_name = k.r_constraint_name
		JOIN all_cons_columns a ON a.owner = k.owner AND a.constraint_name = k.constraint_name
		JOIN all_cons_columns b ON b.owner = p.owner AND b.constraint_name = p.constraint_name AND b.position = a.position
		WHERE k.constraint_type = 'R' AND k.status = 'ENABLED' AND p.owner = :1 AND p.table_name = :2
		AND NOT (k.owner = p.owner AND k.table_name = p.table_name)
		ORDER BY k.owner, k.table_name, k.constraint_name, a.position`, owner, name)
	if err != nil {
		return nil, err
	}
	var a db.Around
	for _, r := range rows {
		in := shown(*r[0])
		if *r[0] == d.schema {
			in = "" // as people write it
		}
		key := shown(*r[2])
		i := slices.IndexFunc(a.Referrers, func(x db.Reference) bool { return x.Name == key && x.Schema == in })
		if i < 0 {
			i = len(a.Referrers)
			a.Referrers = append(a.Referrers, db.Reference{Schema: in, Table: shown(*r[1]), Name: key,
				OnDelete: *r[5], OnUpdate: "NO ACTION"})
		}
		a.Referrers[i].Columns = append(a.Referrers[i].Columns, shown(*r[3]))
		a.Referrers[i].To = append(a.Referrers[i].To, shown(*r[4]))
	}
	a.Goes, err = q.Hanging(ctx, []string{
		"SELECT 'index ' || LOWER(i.index_name) FROM all_indexes i WHERE i.table_owner = :1 AND i.table_name " +
			"= :2 AND NOT EXISTS (SELECT 1 FROM all_constraints k WHERE k.owner = i.table_owner AND " +
			"k.index_name = i.index_name AND k.constraint_type = 'P') ORDER BY 1",
		"SELECT 'trigger ' || LOWER(trigger_name) FROM all_triggers WHERE table_owner = :1 AND table_name = :2 " +
			"ORDER BY 1",
		"SELECT 'constraint ' || LOWER(k.constraint_name) FROM all_constraints k WHERE k.owner = :1 AND " +
			"k.table_name = :2 AND (k.constraint_type = 'R' OR " + isCheck + ") ORDER BY 1",
		"SELECT DISTINCT 'grant of ' || privilege FROM all_tab_privs WHERE table_schema = :1 AND table_name = :2",
		"SELECT 'comment of the table' FROM all_tab_comments WHERE owner = :1 AND table_name = :2 AND comments " +
			"IS NOT NULL",
		"SELECT DISTINCT 'comments of columns' FROM all_col_comments WHERE owner = :1 AND table_name = :2 AND " +
			"comments IS NOT NULL",
	}, owner, name)
	return &a, err
}

// Blockers implements db.Blocker, over a connection of its own. Not everybody may see the
// sessions of others.
func (d *DB) Blockers(ctx context.Context) (who string) {
	if !d.waiting.Load() {
		return ""
	}
	who = "whom this user may not see"
	c, err := d.session(ctx)
	if err != nil {
		return who
	}
	defer c.Close()
	var user, host, id string
	if c.QueryRowContext(ctx, `SELECT b.username, b.machine, TO_CHAR(b.sid) FROM v$session w JOIN v$session b
		ON b.sid = w.blocking_session WHERE w.sid = :1`, d.id).Scan(&user, &host, &id) == nil {
		who = shown(user) + " from " + host + ", session " + id
	}
	return who
}

// Refuses implements [db.Refuser].
func (d *DB) Refuses(ctx context.Context, t *db.Table) (what, do string, err error) {
	if t.View {
		return "is a view, into which arrays of rows do not go safely", "name the table behind it", nil
	}
	return "", "", nil
}

// Tell implements db.Teller.
func (d *DB) Tell(ctx context.Context) ([]string, error) {
	q := d.questions()
	rows, err := q.Rows(ctx, "cannot be asked what it is", "SELECT product, version, USER FROM "+
		"product_component_version WHERE product LIKE 'Oracle%'")
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range rows {
		out = append(out, *r[0]+" "+*r[1], "as "+shown(*r[2]), "character set "+d.charset)
	}
	if !d.inUTF8() {
		out = append(out, "characters that it does not have would be lost: text is read back and compared")
	}
	rights, err := q.Hanging(ctx, []string{"SELECT privilege FROM session_privs WHERE privilege IN ('CREATE TABLE', " +
		"'UNLIMITED TABLESPACE', 'CREATE ANY TABLE', 'INSERT ANY TABLE', 'SELECT ANY TABLE') ORDER BY 1"})
	for _, r := range rights {
		out = append(out, "granted "+r)
	}
	return out, err
}
