package engine

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"ambertray/internal/standin/tsql"
)

// A system view is one of the catalog's ("System catalog views", "System dynamic
// management views"): its columns as name:type, and its rows. It has the columns that
// the stand-in knows, and no others.
type systemView struct {
	cols string
	rows func(s *Session, db *Database, add func(...any))
}

// short names of types in the lists of columns.
var short = map[string]Type{"i": {Kind: Int}, "b": {Kind: Bit}, "t": {Kind: TinyInt}, "s": {Kind: SmallInt},
	"l": {Kind: BigInt}, "d": {Kind: DateTime, Scale: 3}, "v": {Kind: Variant, Name: "sql_variant"}}

func (s *Session) shortType(n string) Type {
	coll := s.db.Coll
	switch n {
	case "n": // sysname
		return Type{Kind: NVarChar, Len: 128, Coll: coll}
	case "m":
		return Type{Kind: NVarChar, Len: Max, Coll: coll}
	case "c":
		return Type{Kind: Char, Len: 2, Coll: coll}
	case "w":
		return Type{Kind: NVarChar, Len: 60, Coll: coll}
	case "v":
		return Type{Kind: NVarChar, Len: 4000, Coll: coll}
	}
	return short[n]
}

// goValue makes a value of one of Go's.
func goValue(x any) Value {
	switch x := x.(type) {
	case nil:
		return null
	case bool:
		return boolean(x)
	case int:
		return Value{N: int64(x)}
	case int64:
		return Value{N: x}
	case string:
		return Value{S: x}
	case time.Time:
		n, _, _ := toDateTime(ticksOf(x.UTC()))
		return Value{N: n}
	}
	return null
}

// systemView is a catalog view with its rows as they are now, or nil if the name is none.
func (s *Session) systemView(src *tsql.Table) (*Table, error) {
	schema := strings.ToLower(src.Name.Schema)
	if schema != "sys" && schema != "information_schema" {
		return nil, nil
	}
	v, is := systemViews[schema+"."+strings.ToLower(src.Name.Object)]
	if !is {
		return nil, fail(208, 16, "Invalid object name '%s.%s', or the stand-in does not know it.", src.Name.Schema,
			src.Name.Object)
	}
	if strings.HasPrefix(strings.ToLower(src.Name.Object), "dm_") && s.login.May != nil &&
		!slices.Contains(s.login.May, "VIEW SERVER STATE") && strings.ToLower(src.Name.Object) != "dm_exec_sessions" {
		return nil, fail(300, 14, "VIEW SERVER STATE permission was denied on object 'server', database 'master'.")
	}
	db := s.db
	if src.Name.Database != "" {
		if db = s.srv.databases[strings.ToLower(src.Name.Database)]; db == nil {
			return nil, fail(911, 16, "Database '%s' does not exist.", src.Name.Database)
		}
	}
	t := &Table{db: db, schema: schema, name: src.Name.Object}
	for i, c := range strings.Fields(v.cols) {
		name, short, _ := strings.Cut(c, ":")
		t.Columns = append(t.Columns, &Column{table: t, ID: i + 1, Name: name, Type: s.shortType(short), Null: true})
	}
	v.rows(s, db, func(list ...any) {
		r := &row{v: make([]Value, len(list))}
		for i, x := range list {
			r.v[i] = goValue(x)
		}
		t.rows = append(t.rows, r)
	})
	return t, nil
}

// visible are the objects that a session sees, by their numbers: not those that others
// are still making.
func (db *Database) visible(s *Session) (list []*Table) {
	for _, t := range db.objects {
		if t.born == nil || t.born == s.tx || t.born == s.statement {
			list = append(list, t)
		}
	}
	for _, t := range db.going {
		if t.writer != s.tx && t.writer != s.statement {
			list = append(list, t)
		}
	}
	if db.Name == "tempdb" {
		for _, t := range s.temps {
			list = append(list, t)
		}
	}
	slices.SortFunc(list, func(a, b *Table) int { return cmp.Compare(a.id, b.id) })
	return list
}

func (t *Table) kind() (code, desc string) {
	switch {
	case t.view != nil:
		return "V ", "VIEW"
	case t.seq != nil:
		return "SO", "SEQUENCE_OBJECT"
	}
	return "U ", "USER_TABLE"
}

const object = "name:n object_id:i schema_id:i parent_object_id:i type:c type_desc:w create_date:d modify_date:d "

func (db *Database) objectRow(t *Table) []any {
	code, desc := t.kind()
	return []any{t.name, t.id, db.schemas[t.schema], 0, code, desc, t.made, t.made}
}

func desc(is bool, yes, no string) string {
	if is {
		return yes
	}
	return no
}

// tables are the rows of a view of one kind of object.
func objectsOf(is func(*Table) bool, more func(*Table) []any) func(*Session, *Database, func(...any)) {
	return func(s *Session, db *Database, add func(...any)) {
		for _, t := range db.visible(s) {
			if is(t) {
				add(append(db.objectRow(t), more(t)...)...)
			}
		}
	}
}

func (t *Table) isTable() bool { return t.view == nil && t.seq == nil }

// each calls f for each table and view that a session sees.
func each(s *Session, db *Database, f func(*Table)) {
	for _, t := range db.visible(s) {
		if t.seq == nil {
			f(t)
		}
	}
}

func collationName(t Type) any {
	if t.IsText() && t.Kind != XML && t.Coll != nil {
		return t.Coll.Name
	}
	return nil
}

func userType(t Type) int {
	switch t.Name {
	case "hierarchyid":
		return 128
	case "geometry":
		return 129
	case "geography":
		return 130
	}
	return t.spec().id
}

const columns = "object_id:i name:n column_id:i system_type_id:t user_type_id:i max_length:s precision:t scale:t " +
	"collation_name:n is_nullable:b is_identity:b is_computed:b is_sparse:b default_object_id:i is_rowguidcol:b " +
	"generated_always_type:t is_hidden:b "

func columnRow(t *Table, c *Column) []any {
	length := c.Type.Bytes()
	def := 0
	if c.Default != nil {
		def = t.id*1000 + c.ID
	}
	return []any{t.id, c.Name, c.ID, c.Type.spec().id, userType(c.Type), length, c.Type.Precision(), c.Type.Digits(),
		collationName(c.Type), c.Null, c.Identity, c.Computed != nil, c.sparse, def, false,
		map[string]int{"START": 1, "END": 2}[c.period], false}
}

var systemViews map[string]systemView

// It is long because each view has its lines.
func init() {
	systemViews = map[string]systemView{
		"sys.objects": {object + "is_ms_shipped:b", func(s *Session, db *Database, add func(...any)) {
			objectsOf(func(*Table) bool { return true }, func(*Table) []any { return []any{false} })(s, db, add)
			each(s, db, func(t *Table) { constraintObjects(db, t, add) })
		}},
		"sys.tables": {object + "is_ms_shipped:b temporal_type:t is_external:b is_memory_optimized:b",
			objectsOf((*Table).isTable, func(t *Table) []any { return []any{false, 0, false, false} })},
		"sys.views": {object, objectsOf(func(t *Table) bool { return t.view != nil },
			func(*Table) []any { return nil })},
		"sys.sequences": {object + "start_value:l increment:l current_value:l", sequences},
		"sys.schemas": {"name:n schema_id:i principal_id:i", func(_ *Session, db *Database, add func(...any)) {
			for name, id := range db.schemas {
				add(name, id, 1)
			}
		}},
		"sys.columns": {columns, func(s *Session, db *Database, add func(...any)) {
			each(s, db, func(t *Table) {
				for _, c := range t.Columns {
					add(columnRow(t, c)...)
				}
			})
		}},
		"sys.types": {"name:n system_type_id:t user_type_id:i schema_id:i is_user_defined:b " +
			"is_assembly_type:b", typeRows},
		"sys.indexes": {"object_id:i name:n index_id:i type:t type_desc:w is_unique:b is_primary_key:b " +
			"is_unique_constraint:b ignore_dup_key:b is_disabled:b has_filter:b filter_definition:m", indexRows},
		"sys.index_columns": {"object_id:i index_id:i index_column_id:i column_id:i key_ordinal:t " +
			"is_descending_key:b is_included_column:b", indexColumns},
		"sys.check_constraints": {object + "is_not_trusted:b is_disabled:b definition:m parent_column_id:i",
			checkRows},
		"sys.default_constraints": {object + "parent_column_id:i definition:m", defaultRows},
		"sys.computed_columns":    {columns + "definition:m is_persisted:b", computedRows},
		"sys.identity_columns":    {columns + "seed_value:l increment_value:l last_value:l", identityRows},
		"sys.foreign_keys": {object + "referenced_object_id:i is_disabled:b is_not_trusted:b " +
			"delete_referential_action:t " +
			"delete_referential_action_desc:w update_referential_action_desc:w", foreignRows},
		"sys.foreign_key_columns": {"constraint_object_id:i constraint_column_id:i parent_object_id:i " +
			"parent_column_id:i " +
			"referenced_object_id:i referenced_column_id:i", foreignColumns},
		"sys.triggers": {"name:n object_id:i parent_id:i type:c is_disabled:b is_instead_of_trigger:b",
			func(s *Session, db *Database, add func(...any)) {
				each(s, db, func(t *Table) {
					for _, g := range t.triggers {
						add(g.name, g.id, t.id, "TR", g.off, g.instead)
					}
				})
			}},
		"sys.sql_modules": {"object_id:i definition:m", func(s *Session, db *Database, add func(...any)) {
			each(s, db, func(t *Table) {
				if t.view != nil {
					add(t.id, t.viewText)
				}
				for _, g := range t.triggers {
					add(g.id, g.text)
				}
			})
		}},
		"sys.trigger_events":      {"object_id:i type:i type_desc:w", triggerEvents},
		"sys.extended_properties": {"class:t class_desc:w major_id:i minor_id:i name:n value:v", noteRows},
		"sys.partitions": {"partition_id:l object_id:i index_id:i partition_number:i rows:l", func(s *Session,
			db *Database, add func(...any)) {
			each(s, db, func(t *Table) {
				if t.isTable() {
					add(int64(t.id)*100, t.id, heap(t), 1, int64(t.live))
				}
			})
		}},
		"sys.dm_db_partition_stats": {"partition_id:l object_id:i index_id:i partition_number:i row_count:l " +
			"reserved_page_count:l used_page_count:l",
			func(s *Session, db *Database, add func(...any)) {
				each(s, db, func(t *Table) {
					if t.isTable() {
						add(int64(t.id)*100, t.id, heap(t), 1, int64(t.live), int64(t.live/50+1), int64(t.live/50+1))
					}
				})
			}},
		"sys.databases": {"name:n database_id:i collation_name:n state:t is_read_committed_snapshot_on:b " +
			"snapshot_isolation_state:t compatibility_level:t create_date:d recovery_model_desc:w",
			func(s *Session, _ *Database, add func(...any)) {
				for _, db := range s.srv.databases {
					add(db.Name, db.id, db.Coll.Name, 0, false, 0, s.srv.major()*10, db.made, "FULL")
				}
			}},
		"sys.sql_expression_dependencies": {"referencing_id:i referenced_id:i referenced_entity_name:n " +
			"referenced_schema_name:n is_schema_bound_reference:b", dependencies},
		"sys.dm_exec_sessions": {"session_id:s login_name:n host_name:n program_name:n status:w " +
			"login_time:d is_user_process:b transaction_isolation_level:s open_transaction_count:i", sessionRows},
		"sys.dm_exec_requests": {"session_id:s blocking_session_id:s status:w wait_type:w command:w",
			requestRows},
		"sys.dm_exec_connections": {"session_id:i net_transport:n encrypt_option:n auth_scheme:n " +
			"client_net_address:w", func(s *Session, _ *Database, add func(...any)) {
			add(s.ID, "TCP", "TRUE", "SQL", "127.0.0.1")
		}},
		"sys.dm_tran_locks": {"resource_type:w resource_description:w request_mode:w request_status:w " +
			"request_session_id:i resource_database_id:i", lockRows},
		"sys.database_permissions": {"class:t major_id:i minor_id:i grantee_principal_id:i permission_name:n " +
			"state_desc:w",
			func(*Session, *Database, func(...any)) {}},
		"sys.database_principals": {"name:n principal_id:i type:c", func(_ *Session, _ *Database,
			add func(...any)) {
			add("dbo", 1, "S ")
		}},
		"information_schema.tables": {"TABLE_CATALOG:n TABLE_SCHEMA:n TABLE_NAME:n TABLE_TYPE:w", informationTables},
		"information_schema.columns": {"TABLE_CATALOG:n TABLE_SCHEMA:n TABLE_NAME:n COLUMN_NAME:n " +
			"ORDINAL_POSITION:i COLUMN_DEFAULT:m IS_NULLABLE:w DATA_TYPE:n " +
			"CHARACTER_MAXIMUM_LENGTH:i NUMERIC_PRECISION:i NUMERIC_SCALE:i DATETIME_PRECISION:i COLLATION_NAME:n",
			informationColumns},
	}
}

// heap is the number of the index that a table's rows lie in.
func heap(t *Table) int {
	if slices.ContainsFunc(t.indexes, func(x *index) bool { return x.clustered }) {
		return 1
	}
	return 0
}

func sequences(s *Session, db *Database, add func(...any)) {
	for _, t := range db.visible(s) {
		if t.seq != nil {
			add(append(db.objectRow(t), t.seq.start, t.seq.step, t.seq.last)...)
		}
	}
}

// constraintObjects are the rows of sys.objects that are no tables.
func constraintObjects(db *Database, t *Table, add func(...any)) {
	row := func(name string, id int, code, what string) {
		add(name, id, db.schemas[t.schema], t.id, code, what, t.made, t.made, false)
	}
	for _, k := range t.checks {
		row(k.name, k.id, "C ", "CHECK_CONSTRAINT")
	}
	for _, k := range t.keys {
		row(k.name, k.id, "F ", "FOREIGN_KEY_CONSTRAINT")
	}
	for _, g := range t.triggers {
		row(g.name, g.id, "TR", "SQL_TRIGGER")
	}
}

func typeRows(_ *Session, _ *Database, add func(...any)) {
	for _, x := range specs {
		user := x.id
		if x.kind == Other {
			user = userType(Type{Kind: Other, Name: x.name})
		}
		if x.name == "sysname" {
			user = 256
		}
		if x.name != "rowversion" { // the catalog calls it timestamp
			add(x.name, x.id, user, 4, false, x.kind == Other)
		}
	}
}

func indexRows(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		if heap(t) == 0 && t.isTable() {
			add(t.id, nil, 0, 0, "HEAP", false, false, false, false, false, false, nil)
		}
		for _, x := range t.indexes {
			kind, what := 2, "NONCLUSTERED"
			if x.clustered {
				kind, what = 1, "CLUSTERED"
			}
			add(t.id, x.name, x.id, kind, what, x.unique, x.primary, x.constraint && !x.primary, x.ignore, false,
				false, nil)
		}
	})
}

func indexColumns(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, x := range t.indexes {
			for k, i := range x.cols {
				add(t.id, x.id, k+1, i+1, k+1, false, false)
			}
		}
	})
}

func checkRows(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, k := range t.checks {
			add(k.name, k.id, db.schemas[t.schema], t.id, "C ", "CHECK_CONSTRAINT", t.made, t.made, k.distrust,
				k.off, k.text,
				k.column+1)
		}
	})
}

func defaultRows(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, c := range t.Columns {
			if c.Default != nil {
				add(c.defName, t.id*1000+c.ID, db.schemas[t.schema], t.id, "D ", "DEFAULT_CONSTRAINT", t.made,
					t.made, c.ID, c.defText)
			}
		}
	})
}

func computedRows(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, c := range t.Columns {
			if c.Computed != nil {
				add(append(columnRow(t, c), c.text, c.persisted)...)
			}
		}
	})
}

func identityRows(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		if c := t.identity(); c != nil {
			var last any
			if t.used {
				last = t.next - c.step
			}
			add(append(columnRow(t, c), c.seed, c.step, last)...)
		}
	})
}

func foreignRows(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, f := range t.keys {
			rule := func(r string) string { return strings.ReplaceAll(r, " ", "_") }
			add(f.name, f.id, db.schemas[t.schema], t.id, "F ", "FOREIGN_KEY_CONSTRAINT", t.made, t.made, f.to.id,
				f.off, f.distrust,
				map[string]int{"NO ACTION": 0, "CASCADE": 1, "SET NULL": 2, "SET DEFAULT": 3}[f.onDelete],
				rule(f.onDelete),
				rule(f.onUpdate))
		}
	})
}

func foreignColumns(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, f := range t.keys {
			for k := range f.cols {
				add(f.id, k+1, t.id, f.cols[k]+1, f.to.id, f.keys[k]+1)
			}
		}
	})
}

func triggerEvents(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, g := range t.triggers {
			for _, e := range g.events {
				add(g.id, map[string]int{"INSERT": 1, "UPDATE": 2, "DELETE": 3}[e], e)
			}
		}
	})
}

func noteRows(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for k, text := range t.notes {
			minor, name, _ := strings.Cut(k, "\x00")
			id := 0
			if minor != "" {
				id = t.column(minor) + 1
			}
			add(1, "OBJECT_OR_COLUMN", t.id, id, name, text)
		}
	})
}

func dependencies(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for _, c := range t.Columns {
			if n, is := c.Default.(*tsql.Next); is {
				if o := db.objects[key(n.Sequence.Schema, n.Sequence.Object)]; o != nil {
					add(t.id*1000+c.ID, o.id, o.name, o.schema, false)
				}
			}
		}
		if t.view == nil || t.view.From == nil {
			return
		}
		var walk func(tsql.Source)
		walk = func(src tsql.Source) {
			switch src := src.(type) {
			case *tsql.Join:
				walk(src.L)
				walk(src.R)
			case *tsql.Table:
				if o := db.objects[key(src.Name.Schema, src.Name.Object)]; o != nil {
					add(t.id, o.id, o.name, o.schema, false)
				}
			}
		}
		walk(t.view.From)
	})
}

func sessionRows(s *Session, _ *Database, add func(...any)) {
	for _, o := range s.srv.sessions {
		if s.login.May != nil && o != s && !slices.Contains(s.login.May, "VIEW SERVER STATE") {
			continue
		}
		add(o.ID, o.User, o.Host, o.App, desc(o.statement != nil, "running", "sleeping"), o.begun, true, 2, o.count)
	}
}

func requestRows(s *Session, _ *Database, add func(...any)) {
	for _, o := range s.srv.sessions {
		if o.statement == nil {
			continue
		}
		by := 0
		if o.statement.waits != nil {
			if list := o.statement.waits(); len(list) > 0 {
				by = list[0].s.ID
			}
		}
		add(o.ID, by, desc(by != 0, "suspended", "running"), desc(by != 0, "LCK_M_X", ""), "")
	}
}

func lockRows(s *Session, _ *Database, add func(...any)) {
	for name, l := range s.srv.locks {
		for _, o := range l.owners {
			short := name
			if len(short) > 32 {
				short = short[:32]
			}
			add("APPLICATION", "0:["+short+"]:(00000000)", desc(o.excl, "X", "S"), "GRANT", o.s.ID, o.s.db.id)
		}
	}
}

func informationTables(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) { add(db.Name, t.schema, t.name, desc(t.view != nil, "VIEW", "BASE TABLE")) })
}

func informationColumns(s *Session, db *Database, add func(...any)) {
	each(s, db, func(t *Table) {
		for i, c := range t.Columns {
			var length, prec, scale, dt, def any
			switch {
			case c.Type.IsText() || c.Type.IsBytes():
				length = c.Type.Len
			case c.Type.IsNumber():
				prec, scale = c.Type.Precision(), c.Type.Digits()
			case c.Type.IsTime():
				dt = c.Type.Digits()
			}
			if c.Default != nil {
				def = c.defText
			}
			add(db.Name, t.schema, t.name, c.Name, i+1, def, desc(c.Null, "YES", "NO"), c.Type.spec().name, length,
				prec, scale, dt,
				collationName(c.Type))
		}
	})
}
