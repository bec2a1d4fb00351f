package engine

import (
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/standin/oracle/sql"
)

// The views of the catalog (Database Reference). Of each there is one of all objects that the
// user may see, and one of the user's own, which has no OWNER.

// A part is one view of the catalog: its columns, and what fills it.
type part struct {
	columns string
	rows    func(r *run, add func(vals ...any))
}

// ofObjects are the views of objects: ALL_ and USER_ stand before their names. It is long
// because there are many.
func ofObjects() map[string]part {
	return map[string]part{
		"TABLES": {"OWNER TABLE_NAME NUM_ROWS TEMPORARY BLOCKS DROPPED NESTED SECONDARY", func(r *run,
			add func(...any)) {
			r.eachTable(func(t *table) {
				add(t.owner, t.name, nil, yes(t.temporary, "Y", "N"), nil, "NO", "NO", "N")
			})
		}},
		"VIEWS": {"OWNER VIEW_NAME TEXT_VC", func(r *run, add func(...any)) {
			r.eachView(func(v *view) { add(v.owner, v.name, v.def.Text) })
		}},
		"OBJECTS": {"OWNER OBJECT_NAME OBJECT_ID OBJECT_TYPE STATUS TEMPORARY GENERATED ORACLE_MAINTAINED",
			func(r *run, add func(...any)) {
				r.eachTable(func(t *table) {
					add(t.owner, t.name, t.id, "TABLE", "VALID", yes(t.temporary, "Y", "N"), "N", "N")
				})
				r.eachView(func(v *view) { add(v.owner, v.name, v.id, "VIEW", "VALID", "N", "N", "N") })
			}},
		"TAB_COLUMNS": {tabColumns, tabColumnRows},
		"TAB_COLS":    {tabColumns, tabColumnRows},
		"CONSTRAINTS": {"OWNER CONSTRAINT_NAME CONSTRAINT_TYPE TABLE_NAME SEARCH_CONDITION_VC R_OWNER " +
			"R_CONSTRAINT_NAME DELETE_RULE STATUS DEFERRABLE INDEX_NAME GENERATED", constraintRows},
		"CONS_COLUMNS": {"OWNER CONSTRAINT_NAME TABLE_NAME COLUMN_NAME POSITION", func(r *run, add func(...any)) {
			r.eachTable(func(t *table) {
				for _, k := range t.cons {
					for i, c := range k.cols {
						add(t.owner, k.Name, t.name, t.cols[c].name, i+1)
					}
				}
				eachRequired(t, func(constraint, column string) { add(t.owner, constraint, t.name, column, nil) })
			})
		}},
		"TAB_COMMENTS": {"OWNER TABLE_NAME TABLE_TYPE COMMENTS", func(r *run, add func(...any)) {
			r.eachTable(func(t *table) { add(t.owner, t.name, "TABLE", t.comment) })
			r.eachView(func(v *view) { add(v.owner, v.name, "VIEW", nil) })
		}},
		"COL_COMMENTS": {"OWNER TABLE_NAME COLUMN_NAME COMMENTS", func(r *run, add func(...any)) {
			r.eachTable(func(t *table) {
				for _, c := range t.cols {
					add(t.owner, t.name, c.name, c.comment)
				}
			})
		}},
		"INDEXES": {"OWNER INDEX_NAME TABLE_OWNER TABLE_NAME UNIQUENESS INDEX_TYPE GENERATED", func(r *run,
			add func(...any)) {
			r.eachTable(func(t *table) {
				for _, x := range t.indexes {
					add(t.owner, x.name, t.owner, t.name, yes(x.unique, "UNIQUE", "NONUNIQUE"), "NORMAL", "N")
				}
			})
		}},
		"IND_COLUMNS": {"INDEX_OWNER INDEX_NAME TABLE_OWNER TABLE_NAME COLUMN_NAME COLUMN_POSITION DESCEND",
			func(r *run, add func(...any)) {
				r.eachTable(func(t *table) {
					for _, x := range t.indexes {
						for i, c := range x.cols {
							add(t.owner, x.name, t.owner, t.name, t.cols[c].name, i+1, "ASC")
						}
					}
				})
			}},
		"TRIGGERS": {"OWNER TRIGGER_NAME TRIGGER_TYPE TRIGGERING_EVENT TABLE_OWNER TABLE_NAME STATUS", triggerRows},
		"SEQUENCES": {"SEQUENCE_OWNER SEQUENCE_NAME LAST_NUMBER", func(r *run, add func(...any)) {
			for _, o := range r.s.user.objects {
				if q, is := o.(*sequence); is {
					add(r.s.user.name, q.name, q.next)
				}
			}
		}},
		"TAB_IDENTITY_COLS": {"OWNER TABLE_NAME COLUMN_NAME GENERATION_TYPE", func(r *run, add func(...any)) {
			r.eachTable(func(t *table) {
				for _, c := range t.cols {
					if c.identity != "" {
						add(t.owner, t.name, c.name, c.identity)
					}
				}
			})
		}},
		"USERS": {"USERNAME USER_ID", func(r *run, add func(...any)) {
			for name := range r.s.srv.users {
				add(name, 100)
			}
		}},
		"TAB_PRIVS": {"GRANTOR GRANTEE TABLE_SCHEMA TABLE_NAME PRIVILEGE", func(r *run, add func(...any)) {
			r.eachTable(func(t *table) {
				for to, rights := range t.rights {
					for right := range rights {
						add(t.owner, to, t.owner, t.name, right)
					}
				}
			})
		}},
	}
}

// singles are the views of which there is one only.
var singles = map[string]part{
	"DUAL": {"DUMMY", func(_ *run, add func(...any)) { add("X") }},
	"SESSION_PRIVS": {"PRIVILEGE", func(r *run, add func(...any)) {
		if r.s.user.rights == nil {
			for _, p := range []string{"CREATE SESSION", "CREATE TABLE", "CREATE VIEW", "CREATE SEQUENCE",
				"CREATE TRIGGER",
				"CREATE ANY TABLE", "SELECT ANY TABLE", "INSERT ANY TABLE", "UNLIMITED TABLESPACE"} {
				add(p)
			}
		}
		for p := range r.s.user.rights {
			add(p)
		}
	}},
	"NLS_DATABASE_PARAMETERS": {"PARAMETER VALUE", func(r *run, add func(...any)) {
		add("NLS_CHARACTERSET", r.s.srv.Charset)
		add("NLS_NCHAR_CHARACTERSET", "AL16UTF16")
		add("NLS_RDBMS_VERSION", r.s.srv.Version)
	}},
	"NLS_SESSION_PARAMETERS": {"PARAMETER VALUE", func(r *run, add func(...any)) {
		for k, v := range r.s.nls {
			add(k, v)
		}
	}},
	"PRODUCT_COMPONENT_VERSION": {"PRODUCT VERSION VERSION_FULL STATUS", func(r *run, add func(...any)) {
		add("Oracle Database 19c Enterprise Edition ", r.s.srv.Version, r.s.srv.Version, "Production")
	}},
	"V$VERSION": {"BANNER CON_ID", func(r *run, add func(...any)) {
		add("Oracle Database 19c Enterprise Edition Release "+r.s.srv.Version+" - Production", 0)
	}},
}

func yes(is bool, a, b string) string {
	if is {
		return a
	}
	return b
}

// catalog is a view of it, as a relation.
func (r *run) catalog(n sql.Name) (*relation, error) {
	none := fail(942, "table or view does not exist")
	if n.Schema != "" && n.Schema != "SYS" && n.Schema != "PUBLIC" {
		return nil, none
	}
	name := n.Object
	p, is := singles[name]
	own := false
	if !is {
		what, rest, _ := strings.Cut(name, "_")
		if what != "ALL" && what != "USER" {
			return nil, none
		}
		own = what == "USER"
		if p, is = ofObjects()[rest]; !is {
			return nil, none
		}
	}
	rel := &relation{shape: &shape{}}
	columns := strings.Fields(p.columns)
	hides := own && columns[0] == "OWNER"
	for _, c := range columns {
		if !hides || c != "OWNER" {
			rel.shape.cols = append(rel.shape.cols, field{of: name, schema: "SYS", name: c,
				typ: Type{Kind: Text, Name: "VARCHAR2", Length: most}, known: !strings.HasSuffix(c, "_ID") &&
					!slices.Contains(numeric, c)})
		}
	}
	p.rows(r, func(vals ...any) {
		var row []Value
		for _, v := range vals {
			switch v := v.(type) {
			case string:
				row = append(row, text(v))
			case int:
				row = append(row, whole(int64(v)))
			case int64:
				row = append(row, whole(v))
			default:
				row = append(row, null)
			}
		}
		if own && len(row) > 0 && row[0].S != r.s.user.name && hides {
			return
		}
		if hides {
			row = row[1:]
		}
		rel.rows = append(rel.rows, row)
	})
	return rel, nil
}

// numeric are the columns of the catalog that are numbers.
var numeric = []string{"NUM_ROWS", "BLOCKS", "DATA_LENGTH", "DATA_PRECISION", "DATA_SCALE", "COLUMN_ID",
	"DEFAULT_LENGTH", "CHAR_LENGTH", "POSITION", "COLUMN_POSITION", "LAST_NUMBER"}

// eachTable visits the tables that the user may see, in the order of their making.
func (r *run) eachTable(visit func(*table)) {
	var list []*table
	for _, u := range r.s.srv.users {
		for _, o := range u.objects {
			if t, is := o.(*table); is && (t.owner == r.s.user.name || r.s.user.rights == nil ||
				len(t.rights[r.s.user.name])+len(t.rights["PUBLIC"]) > 0) {
				list = append(list, t)
			}
		}
	}
	slices.SortFunc(list, func(a, b *table) int { return a.id - b.id })
	for _, t := range list {
		visit(t)
	}
}

func (r *run) eachView(visit func(*view)) {
	for _, u := range r.s.srv.users {
		for _, o := range u.objects {
			if v, is := o.(*view); is && (v.owner == r.s.user.name || r.s.user.rights == nil ||
				len(v.rights[r.s.user.name])+len(v.rights["PUBLIC"]) > 0) {
				visit(v)
			}
		}
	}
}

const tabColumns = "OWNER TABLE_NAME COLUMN_NAME DATA_TYPE DATA_LENGTH DATA_PRECISION DATA_SCALE NULLABLE COLUMN_ID " +
	"DEFAULT_LENGTH DATA_DEFAULT CHAR_LENGTH CHAR_USED VIRTUAL_COLUMN IDENTITY_COLUMN HIDDEN_COLUMN USER_GENERATED"

func tabColumnRows(r *run, add func(...any)) {
	row := func(owner, table string, i int, c *column) {
		t := c.typ
		var length, prec, scale, chars, used any
		length = 22
		switch {
		case t.Kind == Text:
			length, chars, used = t.bytes(), t.Length, yes(t.Chars, "C", "B")
		case t.Kind == Number && !t.Free:
			prec, scale = t.Prec, t.Scale
		case t.Kind == Number && t.Prec > 0:
			prec = t.Prec
		case t.Kind == Timestamp || t.Kind == Zoned || t.Kind == Local:
			length, scale = 11, t.Scale
		case t.Kind == Interval:
			length, prec, scale = 11, t.Prec, t.Scale
		case t.Kind == Clob:
			length = 4000
		case t.Kind == Raw:
			length = t.Length
		}
		var def, size any
		if c.defText != "" || c.identity != "" {
			d := c.defText
			if d == "" {
				d = fmt.Sprintf(`%q."ISEQ$$_%d".nextval`, owner, i)
			}
			def, size = d, len(d)
		}
		add(owner, table, c.name, t.Name, length, prec, scale, yes(c.required, "N", "Y"), i+1, size, def, chars, used,
			yes(c.computed != nil, "YES", "NO"), yes(c.identity != "", "YES", "NO"), "NO", "YES")
	}
	r.eachTable(func(t *table) {
		for i, c := range t.cols {
			row(t.owner, t.name, i, c)
		}
	})
	r.eachView(func(v *view) {
		rel, err := r.viewRows(v, v.name)
		if err != nil {
			return
		}
		for i, f := range rel.shape.cols {
			if f.typ.Kind == Null {
				f.typ = columnType(null)
			}
			row(v.owner, v.name, i, &column{name: f.name, typ: f.typ})
		}
	})
}

func constraintRows(r *run, add func(...any)) {
	r.eachTable(func(t *table) {
		for _, k := range t.cons {
			var to, ref, rule, condition, idx any
			if k.Kind == "R" {
				p, cols := r.s.referred(t, k)
				if p != nil {
					to = p.owner
					for _, o := range p.cons {
						if (o.Kind == "P" || o.Kind == "U") && slices.Equal(o.cols, cols) {
							ref = o.Name
						}
					}
				}
				rule = k.OnDelete
			}
			if k.Kind == "C" {
				condition = k.Text
			}
			if k.index != nil {
				idx = k.index.name
			}
			add(t.owner, k.Name, k.Kind, t.name, condition, to, ref, rule, yes(k.Off, "DISABLED", "ENABLED"),
				yes(k.Deferred, "DEFERRABLE", "NOT DEFERRABLE"), idx,
				yes(strings.HasPrefix(k.Name, "SYS_C"), "GENERATED NAME", "USER NAME"))
		}
		eachRequired(t, func(constraint, column string) {
			add(t.owner, constraint, "C", t.name, quotedName(column)+" IS NOT NULL", nil, nil, nil, "ENABLED",
				"NOT DEFERRABLE", nil, "GENERATED NAME")
		})
	})
}

// eachRequired visits the constraints that columns are not null.
func eachRequired(t *table, visit func(constraint, column string)) {
	for i, c := range t.cols {
		if c.required && !t.inKey(i) {
			visit(fmt.Sprintf("SYS_N%d_%d", t.id, i), c.name)
		}
	}
}

func triggerRows(r *run, add func(...any)) {
	row := func(owner, table string, list []*sql.CreateTrigger) {
		for _, g := range list {
			kind := "AFTER EACH ROW"
			switch {
			case g.Instead:
				kind = "INSTEAD OF"
			case g.Before:
				kind = "BEFORE EACH ROW"
			}
			add(owner, g.Trigger.Object, kind, strings.Join(g.Events, " OR "), owner, table, "ENABLED")
		}
	}
	r.eachTable(func(t *table) { row(t.owner, t.name, t.triggers) })
	r.eachView(func(v *view) { row(v.owner, v.name, v.triggers) })
}
