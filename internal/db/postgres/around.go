package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
)

// Around implements db.Surveyor.
func (d *DB) Around(ctx context.Context, t *db.Table) (*db.Around, error) {
	q := d.questions(d.c)
	name := Dialect.Qualified(t.Schema, t.Name)
	columns := func(of, keys string) string {
		return fmt.Sprintf(`(SELECT string_agg(a.attname, chr(31) ORDER BY k.i) FROM unnest(f.%s) WITH ORDINALITY k(n, i)
			JOIN pg_attribute a ON a.attrelid = f.%s AND a.attnum = k.n)`, keys, of)
	}
	rule := func(of string) string {
		return "CASE f." + of + " WHEN 'c' THEN 'CASCADE' WHEN 'n' THEN 'SET NULL' WHEN 'd' THEN 'SET DEFAULT' " +
			"WHEN 'r' THEN 'RESTRICT' ELSE 'NO ACTION' END"
	}
	var a db.Around
	var err error
	if a.Referrers, err = q.Referrers(ctx, `SELECT n.nspname, c.relname, f.conname, `+columns("conrelid", "conkey")+", "+
		columns("confrelid", "confkey")+`,
		`+rule("confdeltype")+", "+rule("confupdtype")+`
		FROM pg_constraint f JOIN pg_class c ON c.oid = f.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE f.contype = 'f' AND f.confrelid = $1::regclass AND f.conrelid <> f.confrelid AND f.conparentid = 0 ORDER BY 1, 2, 3`, name); err != nil {
		return nil, err
	}
	if a.Holds, err = q.Hanging(ctx, []string{`SELECT DISTINCT 'view ' || v.oid::regclass FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class v ON v.oid = r.ev_class
		WHERE d.classid = 'pg_rewrite'::regclass AND d.refobjid = $1::regclass AND v.oid <> $1::regclass ORDER BY 1`}, name); err != nil {
		return nil, err
	}
	if a.Goes, err = q.Hanging(ctx, []string{
		`SELECT 'index ' || indexrelid::regclass FROM pg_index WHERE indrelid = $1::regclass AND NOT indisprimary
		ORDER BY 1`,
		"SELECT 'trigger ' || tgname FROM pg_trigger WHERE tgrelid = $1::regclass AND NOT tgisinternal ORDER BY 1",
		"SELECT 'policy ' || polname FROM pg_policy WHERE polrelid = $1::regclass ORDER BY 1",
		"SELECT 'partition ' || inhrelid::regclass FROM pg_inherits WHERE inhparent = $1::regclass ORDER BY 1",
		`SELECT 'constraint ' || conname FROM pg_constraint WHERE conrelid = $1::regclass AND contype IN ('c', 'f', 'x')
		ORDER BY 1`,
		`SELECT 'grant of ' || string_agg(x.privilege_type, ', ' ORDER BY x.privilege_type) || ' to ' || coalesce(r.rolname, 'PUBLIC')
		FROM pg_class c, aclexplode(c.relacl) x LEFT JOIN pg_roles r ON r.oid = x.grantee WHERE c.oid = $1::regclass AND x.grantee <> c.relowner GROUP BY r.rolname ORDER BY 1`,
		`SELECT DISTINCT CASE WHEN objsubid = 0 THEN 'comment of the table' ELSE 'comments of columns' END FROM pg_description
		WHERE objoid = $1::regclass AND classoid = 'pg_class'::regclass ORDER BY 1`,
	}, name); err != nil {
		return nil, err
	}
	a.Again, err = q.Hanging(ctx, []string{
		// What a constraint has made comes with it; the primary key is the plan's.
		`SELECT 'ALTER TABLE ' || $1::regclass || ' ADD CONSTRAINT ' || quote_ident(conname) || ' ' || pg_get_constraintdef(oid)
		FROM pg_constraint WHERE conrelid = $1::regclass AND contype IN ('c', 'f', 'u', 'x') ORDER BY contype, conname`,
		`SELECT pg_get_indexdef(i.indexrelid) FROM pg_index i WHERE i.indrelid = $1::regclass AND NOT i.indisprimary
		AND NOT EXISTS (SELECT FROM pg_constraint c WHERE c.conindid = i.indexrelid AND c.conrelid = i.indrelid) ORDER BY 1`,
		"SELECT pg_get_triggerdef(oid) FROM pg_trigger WHERE tgrelid = $1::regclass AND NOT tgisinternal ORDER BY 1",
		`SELECT 'GRANT ' || x.privilege_type || ' ON TABLE ' || $1::regclass || ' TO ' || coalesce(quote_ident(r.rolname), 'PUBLIC') ||
		CASE WHEN x.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END
		FROM pg_class c, aclexplode(c.relacl) x LEFT JOIN pg_roles r ON r.oid = x.grantee WHERE c.oid = $1::regclass AND x.grantee <> c.relowner ORDER BY 1`,
		`SELECT 'COMMENT ON ' || CASE WHEN d.objsubid = 0 THEN 'TABLE ' || $1::regclass ELSE 'COLUMN ' || $1::regclass || '.' || quote_ident(a.attname) END ||
		' IS ' || quote_literal(d.description) FROM pg_description d LEFT JOIN pg_attribute a ON a.attrelid = d.objoid AND a.attnum = d.objsubid
		WHERE d.objoid = $1::regclass AND d.classoid = 'pg_class'::regclass ORDER BY 1`,
	}, name)
	return &a, err
}

// Attach implements db.Attacher.
func (l *load) Attach(ctx context.Context) error {
	return l.d.questions(l.tx).Attach(ctx, l.spec.Again)
}

// stageName is the table that a refill of a table that others refer to goes into
// first. It is of the session, and gone with the transaction.
const stageName = "ambertray_stage"

// inPlace prepares a refill of a table that others refer to: no row that they
// refer to may be deleted, and so the rows go into a table beside it, and from
// there into it; see settleIn.
func (l *load) inPlace(ctx context.Context) error {
	l.final, l.table = l.table, "pg_temp."+quote(stageName)
	var key []string
	for _, c := range l.spec.Referrers[0].To {
		key = append(key, quote(c))
	}
	l.stageKey = key
	for _, sql := range []string{
		// Nobody may refer to a row anew meanwhile.
		"LOCK TABLE " + l.final + " IN EXCLUSIVE MODE",
		fmt.Sprintf("CREATE TEMPORARY TABLE %s (LIKE %s INCLUDING DEFAULTS INCLUDING CONSTRAINTS "+
			"INCLUDING GENERATED INCLUDING INDEXES) ON COMMIT DROP", quote(stageName), l.final),
		fmt.Sprintf("CREATE UNIQUE INDEX ON %s (%s)", l.table, strings.Join(key, ", ")),
	} {
		if _, err := l.tx.Exec(ctx, sql); err != nil {
			return l.d.fail("refuses: "+firstLine(sql), err)
		}
	}
	return nil
}

// settleIn brings the rows of the stage into the table: those of a key that is
// there change it, others are added, and what the stage does not have goes. Before,
// it makes sure that nothing refers to what goes.
func (l *load) settleIn(ctx context.Context) error {
	q := l.d.questions(l.tx)
	if err := q.Orphans(ctx, l.spec.Referrers, l.table, ""); err != nil {
		return err
	}
	found, err := l.d.Find(ctx, l.spec.Table.Schema, l.spec.Table.Name)
	if err != nil {
		return err
	}
	var names, set, same []string
	for _, c := range found.Columns {
		loaded := slices.Contains(l.names, quote(c.Name))
		if c.Generated || c.Identity && !loaded {
			continue
		}
		n := quote(c.Name)
		names = append(names, n)
		if !slices.Contains(l.stageKey, n) {
			set = append(set, n+" = s."+n)
		}
	}
	for _, k := range l.stageKey {
		same = append(same, "t."+k+" = s."+k)
	}
	on := strings.Join(same, " AND ")
	list := strings.Join(names, ", ")
	steps := []string{
		fmt.Sprintf("DELETE FROM %s t WHERE NOT EXISTS (SELECT FROM %s s WHERE %s)", l.final, l.table, on),
		fmt.Sprintf("UPDATE %s t SET %s FROM %s s WHERE %s", l.final, strings.Join(set, ", "), l.table, on),
		fmt.Sprintf("INSERT INTO %[1]s (%[2]s) OVERRIDING SYSTEM VALUE SELECT %[2]s FROM %[3]s s WHERE NOT EXISTS "+
			"(SELECT FROM %[1]s t WHERE %[4]s)",
			l.final, list, l.table, on),
	}
	if len(set) == 0 {
		steps = slices.Delete(steps, 1, 2)
	}
	for _, sql := range steps {
		if _, err := l.tx.Exec(ctx, sql); err != nil {
			return l.d.fail("cannot take the rows as a whole, since other tables refer to it", err)
		}
	}
	return nil
}

// Definition implements db.Definer. A column whose default takes from a sequence of its own
// is written as one that is numbered.
func (d *DB) Definition(ctx context.Context, t *db.Table) ([]string, error) {
	q := d.questions(d.c)
	name := Dialect.Qualified(t.Schema, t.Name)
	if t.View {
		return q.Hanging(ctx, []string{"SELECT 'CREATE VIEW ' || $1::regclass || ' AS ' || " +
			"rtrim(pg_get_viewdef($1::regclass), ';')"},
			name)
	}
	lines, err := q.Hanging(ctx, []string{`SELECT quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod)
		|| CASE WHEN a.attcollation <> y.typcollation THEN ' COLLATE ' || (SELECT CASE WHEN pg_collation_is_visible(l.oid)
			THEN '' ELSE quote_ident(s.nspname) || '.' END || quote_ident(l.collname) FROM pg_collation l
			JOIN pg_namespace s ON s.oid = l.collnamespace WHERE l.oid = a.attcollation) ELSE '' END
		|| CASE WHEN a.attidentity = 'a' THEN ' GENERATED ALWAYS AS IDENTITY'
		WHEN a.attidentity = 'd' OR pg_get_expr(f.adbin, f.adrelid) LIKE 'nextval(%' THEN ' GENERATED BY DEFAULT AS IDENTITY'
		WHEN a.attgenerated = 's' THEN ' GENERATED ALWAYS AS (' || pg_get_expr(f.adbin, f.adrelid) || ') STORED'
		WHEN f.adbin IS NOT NULL THEN ' DEFAULT ' || pg_get_expr(f.adbin, f.adrelid) ELSE '' END
		|| CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END
		FROM pg_attribute a JOIN pg_type y ON y.oid = a.atttypid LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum
		WHERE a.attrelid = $1::regclass AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`,
		"SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = $1::regclass AND contype = 'p'"}, name)
	if err != nil {
		return nil, err
	}
	around, err := d.Around(ctx, t)
	if err != nil {
		return nil, err
	}
	return append([]string{"CREATE TABLE " + name + " (\n    " + strings.Join(lines, ",\n    ") + "\n)"},
		around.Again...), nil
}
