package postgres

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// A table can have partitions on other servers (postgres_fdw). Rows for them go straight to
// their servers, where the account may: over connections of our own, as it is known there to
// the first server. That one says which row is whose (way.go), and all servers commit
// together (branch.go).
//
// Everything else goes through the first server, as do rows for which one thing is not as it
// has to be: what would come of them has to be the same.

// shards are the partitions of a table that are on other servers.
type shards struct {
	branches []*branch
	parts    []partition // all of them
	parent   string      // the table, quoted
	way      way
	gid      string // begins the names of our transactions on the other servers
}

// A branch is another server of a load, and its part of the transaction.
type branch struct {
	*DB
	tx     pgx.Tx
	server uint32 // its number in the catalog of the first
	name   string
	parts  []*shard
}

// A shard is a partition on another server.
type shard struct {
	*copier
	part    uint32 // its number on the first server
	table   string // its quoted name on its own, and those of the columns
	names   []string
	columns []dialect.Column
	rows    []byte // of the batch at hand, and their numbers in it
	numbers []int
}

// A detour is why rows go through the first server.
type detour string

func (d detour) Error() string { return string(d) }

// goesStraight finds the partitions on other servers to which rows can go straight; nil: to
// none. Where there are such partitions all the same, it notes why.
func (l *load) goesStraight(ctx context.Context) (*shards, error) {
	found, err := l.d.shardsOf(ctx, &l.spec)
	var why detour
	if errors.As(err, &why) {
		l.remarks = append(l.remarks, "rows for partitions on other servers go through this one: "+string(why))
		return nil, nil
	}
	if err != nil || found == nil {
		return nil, err
	}
	var names []string
	for _, b := range found.branches {
		names = append(names, b.name)
	}
	l.remarks = append(l.remarks, "rows for partitions on other servers go straight to "+strings.Join(names, ", ")+
		", and are committed there in two phases")
	return found, nil
}

// shardsOf is goesStraight; the reason why not is the error. What ended programs left prepared on
// servers that can be reached is ended in any case: it would be in the way of other loads as well.
func (d *DB) shardsOf(ctx context.Context, spec *db.Spec) (*shards, error) {
	t := spec.Table
	if spec.Mode.New() && !spec.Going || spec.Stage != nil || d.together != nil || d.refitting != nil ||
		d.version() < 14 {
		return nil, nil // there are none, nothing of them is known, or a transaction is open
	}
	s := &shards{parent: Dialect.Qualified(t.Schema, t.Name)}
	var err error
	if s.parts, err = d.partitionsOf(ctx, s.parent); err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(s.parts, func(p partition) bool { return p.foreign }) {
		return nil, nil
	}
	reached, err := s.reach(ctx, d)
	if err == nil {
		err = cmp.Or(d.suits(ctx, s, spec), reached)
	}
	if err == nil {
		err = s.find(ctx, d, spec)
	}
	if err != nil {
		s.end()
		return nil, err
	}
	return s, nil
}

// reach connects with the servers of the partitions, and ends what is left there; not is why one
// cannot be reached.
func (s *shards) reach(ctx context.Context, d *DB) (not, err error) {
	var why detour
	if s.gid, err = d.gid(ctx); errors.As(err, &why) {
		return why, nil
	}
	for _, p := range s.parts {
		switch {
		case p.nested:
			return detour("partitions of " + p.name + " are on other servers"), nil
		case !p.foreign:
			continue
		}
		if _, err := s.branchOf(ctx, d, p); errors.As(err, &why) {
			not = cmp.Or[error](not, why)
		} else if err != nil {
			return nil, err
		}
	}
	for _, b := range s.branches {
		if err := b.sweep(ctx, d, s.gid); err != nil {
			return nil, err
		}
	}
	return not, nil
}

// suits makes sure that it is a load whose rows can go straight, into such a table.
func (d *DB) suits(ctx context.Context, s *shards, spec *db.Spec) error {
	switch {
	case spec.Within:
		return detour("every value is compared within the transaction")
	case spec.Mode != db.Append && spec.Mode != db.Refill || spec.Deletes || len(spec.Alter) > 0:
		return detour("only rows that are added, and those of a refill, go straight")
	case spec.Mode == db.Refill && len(spec.Referrers) > 0:
		return detour("other tables refer to the table that is refilled")
	}
	if err := d.mayTouch(ctx, spec, s.parts); err != nil {
		return err
	}
	if err := d.plainTable(ctx, s.parent, spec, s.parts); err != nil {
		return err
	}
	var err error
	s.way, err = d.wayOf(ctx, s.parent, spec, s.parts)
	return err
}

// mayTouch makes sure that the account may do with partitions on the first server what is done with them by
// themselves: their rows are added up, and taken out by a refill.
func (d *DB) mayTouch(ctx context.Context, spec *db.Spec, parts []partition) error {
	for _, p := range parts {
		if p.foreign {
			continue
		}
		is, err := d.may(ctx, p.name, spec.Mode)
		if err != nil {
			return err
		}
		if !is {
			return detour("the account may not touch " + p.name + " by itself")
		}
	}
	return nil
}

// may reports whether the account may read rows of a table, and, for a refill, take all out.
func (d *DB) may(ctx context.Context, table string, mode db.Mode) (is bool, err error) {
	if err = d.c.QueryRow(ctx, `SELECT has_table_privilege($1, 'SELECT') AND
		($2 OR has_table_privilege($1, 'DELETE, TRUNCATE'))`, table, mode != db.Refill).Scan(&is); err != nil {
		err = d.fail("cannot say what the account may do with "+table, err)
	}
	return
}

// find finds the tables of the partitions on their servers.
func (s *shards) find(ctx context.Context, d *DB, spec *db.Spec) error {
	found, err := d.Find(ctx, spec.Table.Schema, spec.Table.Name)
	if err != nil {
		return err
	}
	for _, p := range s.parts {
		if !p.foreign {
			continue
		}
		b, err := s.branchOf(ctx, d, p)
		if err == nil {
			err = b.add(ctx, d, p, found, spec)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// A partition is one of a table, as the first server knows it.
type partition struct {
	id, server      uint32
	name            string // quoted
	bound           string
	foreign, nested bool
	options         map[string]string // of the foreign table
	of, account     map[string]string // of its server, and how the account is known there
	serverName      string
	wrapper         string
}

// What a catalog says of the server s of a foreign table.
const (
	ofServer = `coalesce(s.oid, 0), coalesce(s.srvname, ''), s.srvoptions, coalesce(w.fdwname, ''), u.umoptions`
	withIt   = ` LEFT JOIN pg_foreign_data_wrapper w ON w.oid = s.srvfdw
		LEFT JOIN LATERAL (SELECT umoptions FROM pg_user_mappings m WHERE m.srvid = s.oid AND m.umuser IN (0, (SELECT oid FROM pg_roles
			WHERE rolname = current_user)) ORDER BY m.umuser DESC LIMIT 1) u ON true `
)

// serverOf is what is known of a server, without a partition of it.
func (d *DB) serverOf(ctx context.Context, id uint32) (*partition, error) {
	p := &partition{options: map[string]string{}}
	var of, account []string
	err := d.c.QueryRow(ctx, "SELECT "+ofServer+" FROM pg_foreign_server s"+withIt+"WHERE s.oid = $1", id).Scan(
		&p.server, &p.serverName, &of, &p.wrapper, &account)
	if err != nil {
		return nil, d.fail("does not know a server that rows have gone to", err)
	}
	p.name, p.of, p.account = p.serverName, optionsOf(of), optionsOf(account)
	return p, nil
}

// partitionsOf are those of a table; none if it has none.
func (d *DB) partitionsOf(ctx context.Context, table string) ([]partition, error) {
	rows, err := d.c.Query(ctx, `SELECT c.oid, c.oid::regclass::text, pg_get_expr(c.relpartbound, c.oid), c.relkind = 'f',
		c.relkind = 'p' AND EXISTS (SELECT FROM pg_partition_tree(c.oid) x JOIN pg_class y ON y.oid = x.relid WHERE y.relkind = 'f'),
		f.ftoptions, `+ofServer+` FROM pg_inherits i JOIN pg_class p ON p.oid = i.inhparent AND p.relkind = 'p' JOIN pg_class c ON c.oid = i.inhrelid
		LEFT JOIN pg_foreign_table f ON f.ftrelid = c.oid LEFT JOIN pg_foreign_server s ON s.oid = f.ftserver`+withIt+`
		WHERE i.inhparent = to_regclass($1) AND NOT i.inhdetachpending ORDER BY c.oid`, table)
	if err != nil {
		return nil, d.fail("cannot say which partitions the table has", err)
	}
	list, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (p partition, err error) {
		var options, of, account []string
		err = r.Scan(&p.id, &p.name, &p.bound, &p.foreign, &p.nested, &options, &p.server, &p.serverName, &of,
			&p.wrapper, &account)
		p.options, p.of, p.account = optionsOf(options), optionsOf(of), optionsOf(account)
		p.foreign = p.foreign || p.nested
		return
	})
	if err != nil {
		return nil, d.fail("cannot say which partitions the table has", err)
	}
	return list, nil
}

// unchanged makes sure that the partitions are those that were found before the table was held.
func (s *shards) unchanged(ctx context.Context, d *DB) error {
	now, err := d.partitionsOf(ctx, s.parent)
	if err == nil && !slices.EqualFunc(now, s.parts, func(a, b partition) bool {
		return a.id == b.id && a.bound == b.bound && a.server == b.server && maps.Equal(a.options, b.options)
	}) {
		err = d.fail("has other partitions of the table than a moment ago; load again", nil)
	}
	return err
}

// optionsOf reads options of a catalog, each of which is name=value.
func optionsOf(list []string) map[string]string {
	options := map[string]string{}
	for _, o := range list {
		name, value, _ := strings.Cut(o, "=")
		options[name] = value
	}
	return options
}

// plainTable makes sure that the table does nothing with rows but to hand them to its partitions.
func (d *DB) plainTable(ctx context.Context, parent string, spec *db.Spec, parts []partition) error {
	ids := []uint32{}
	for _, p := range parts {
		if p.foreign {
			ids = append(ids, p.id)
		}
	}
	var names []string
	for _, c := range spec.Table.Columns {
		names = append(names, c.Name)
	}
	var triggers, filled, numbered, session bool
	err := d.c.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_trigger WHERE (tgrelid = $1::text::regclass OR tgrelid = ANY ($2::oid[])) AND NOT tgisinternal AND tgenabled <> 'D'),
		EXISTS (SELECT FROM pg_attribute WHERE attrelid = $1::text::regclass AND attnum > 0 AND NOT attisdropped AND (atthasdef OR attidentity <> '')
			AND attname::text <> ALL ($3::text[])),
		EXISTS (SELECT FROM pg_attribute WHERE attrelid = $1::text::regclass AND attnum > 0 AND NOT attisdropped AND pg_get_serial_sequence($1, attname) IS NOT NULL),
		has_database_privilege(current_database(), 'TEMP')`,
		parent, ids, names).Scan(&triggers, &filled, &numbered, &session)
	switch {
	case err != nil:
		return d.fail("cannot say what the table does with rows", err)
	case triggers:
		return detour("the table has triggers")
	case filled, numbered:
		return detour("the table fills columns by itself")
	case !session:
		return detour("the account may have no tables of a session (TEMP)")
	}
	return nil
}

// add adds a partition of a server, if its table there takes rows as the first server would give them.
func (b *branch) add(ctx context.Context, d *DB, p partition, found *db.Table, spec *db.Spec) error {
	rows, err := d.c.Query(ctx, `SELECT a.attname::text, a.attfdwoptions, n.nspname::text, c.relname::text FROM pg_attribute a
		JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped`, p.id)
	if err != nil {
		return d.fail("cannot describe "+p.name, err)
	}
	there := map[string]string{}
	var name, column string
	schema, table := "", ""
	var options []string
	if _, err = pgx.ForEachRow(rows, []any{&column, &options, &schema, &table}, func() error {
		there[column] = column
		if name = optionsOf(options)["column_name"]; name != "" {
			there[column] = name
		}
		return nil
	}); err != nil {
		return d.fail("cannot describe "+p.name, err)
	}
	if s := p.options["schema_name"]; s != "" {
		schema = s
	}
	if t := p.options["table_name"]; t != "" {
		table = t
	}
	x := &shard{part: p.id, table: Dialect.Qualified(schema, table)}
	other := detour("the table of " + p.name + " on " + b.name + " is not as it is here")
	var plain bool
	err = b.c.QueryRow(ctx, `SELECT coalesce((SELECT relkind IN ('r', 'p') AND NOT relhasrules AND NOT relrowsecurity AND has_table_privilege(oid, 'SELECT')
		AND has_table_privilege(oid, 'INSERT') AND NOT EXISTS (SELECT FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT tgisinternal AND tgenabled <> 'D')
		FROM pg_class c WHERE oid = to_regclass($1)), false)`, x.table).Scan(&plain)
	if err != nil {
		return b.fail("cannot describe "+x.table, err)
	}
	if plain {
		if plain, err = b.may(ctx, x.table, spec.Mode); err != nil {
			return err
		}
	}
	if !plain {
		return detour("the table of " + p.name + " on " + b.name + " has triggers, rules or policies, or this " +
			"account may not do there what the load has to")
	}
	has, err := b.Find(ctx, schema, table)
	if err != nil {
		return err
	}
	of := func(columns []db.Column, name string) *db.Column {
		if i := slices.IndexFunc(columns, func(c db.Column) bool { return c.Name == name }); i >= 0 {
			return &columns[i]
		}
		return nil
	}
	for _, c := range spec.Table.Columns {
		here, far := of(found.Columns, c.Name), of(has.Columns, there[c.Name])
		if here == nil || far == nil || here.Type != far.Type {
			return other
		}
		c.Name = far.Name
		x.columns = append(x.columns, c)
		x.names = append(x.names, quote(c.Name))
	}
	// Columns that get nothing are nulls, as the first server would have them.
	for _, c := range found.Columns {
		if far := of(has.Columns, there[c.Name]); !slices.Contains(x.names, quote(there[c.Name])) &&
			(far == nil || far.Default || far.Identity || far.Generated) {
			return other
		}
	}
	b.parts = append(b.parts, x)
	return nil
}

// end closes the connections; what is not prepared is rolled back.
func (s *shards) end() {
	if s == nil {
		return
	}
	for _, b := range s.branches {
		b.Close()
	}
	s.branches = nil
}
