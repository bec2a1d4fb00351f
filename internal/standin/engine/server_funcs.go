package engine

import (
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/standin/tsql"
)

// byName finds an object by a name in text, or nil.
func (s *Session) byName(text string) (*Table, error) {
	n, err := tsql.ParseName(text)
	if err != nil {
		return nil, nil
	}
	if strings.EqualFold(n.Database, "tempdb") {
		n.Database, n.Schema = "", ""
	}
	return s.lookup(n)
}

func (s *Session) byID(id int64) *Table {
	for _, t := range s.db.visible(s) {
		if int64(t.id) == id {
			return t
		}
	}
	return nil
}

// serverFunctions tell of the server, the session and the catalog. It is long because each
// has a line.
func serverFunctions() map[string]function {
	str := func(x string) Value { return Value{S: x} }
	of := func(least, most int, t func(*scope, []*expr) Type, f func(s *Session, v []Value) (Value, error)) function {
		return function{least, most, t, func(s *Session, _ []*expr, v []Value) (Value, error) { return f(s, v) }, false}
	}
	plain := func(n int, t func(*scope, []*expr) Type, f func(s *Session, v []Value) Value) function {
		return of(n, n, t, func(s *Session, v []Value) (Value, error) { return f(s, v), nil })
	}
	caught := func(t func(*scope, []*expr) Type, f func(e *Error) Value) function {
		return plain(0, t, func(s *Session, _ []Value) Value {
			if s.caught == nil {
				return null
			}
			return f(s.caught)
		})
	}
	user := plain(0, text(128), func(s *Session, _ []Value) Value { return str(s.User) })
	return map[string]function{
		"OBJECT_ID": of(1, 2, is(intType), objectID),
		"OBJECT_NAME": of(1, 2, text(128), func(s *Session, v []Value) (Value, error) {
			return nameOf(s, v,
				false), nil
		}),
		"OBJECT_SCHEMA_NAME": of(1, 2, text(128), func(s *Session, v []Value) (Value, error) {
			return nameOf(s, v,
				true), nil
		}),
		"SCHEMA_ID": of(0, 1, is(intType), func(s *Session, v []Value) (Value, error) {
			if len(v) == 0 {
				return Value{N: 1}, nil
			}
			for name, id := range s.db.schemas {
				if strings.EqualFold(name, v[0].S) {
					return Value{N: int64(id)}, nil
				}
			}
			return null, nil
		}),
		"SCHEMA_NAME": of(0, 1, text(128), func(s *Session, v []Value) (Value, error) {
			if len(v) == 0 {
				return str("dbo"), nil
			}
			for name, id := range s.db.schemas {
				if int64(id) == v[0].N {
					return str(name), nil
				}
			}
			return null, nil
		}),
		"TYPE_NAME": plain(1, text(128), func(_ *Session, v []Value) Value {
			for _, x := range specs {
				if userType(Type{Kind: x.kind, Name: desc(x.kind == Other, x.name, "")}) == int(v[0].N) &&
					x.name != "rowversion" {
					return str(x.name)
				}
			}
			return null
		}),
		"COL_NAME": plain(2, text(128), func(s *Session, v []Value) Value {
			if t := s.byID(v[0].N); t != nil && v[1].N > 0 && int(v[1].N) <= len(t.Columns) {
				return str(t.Columns[v[1].N-1].Name)
			}
			return null
		}),
		"DB_NAME": of(0, 1, text(128), func(s *Session, v []Value) (Value, error) { return str(s.db.Name), nil }),
		"DB_ID": of(0, 1, is(intType), func(s *Session, v []Value) (Value, error) {
			db := s.db
			if len(v) > 0 {
				db = s.srv.databases[strings.ToLower(v[0].S)]
			}
			if db == nil {
				return null, nil
			}
			return Value{N: int64(db.id)}, nil
		}),
		"SUSER_SNAME": user, "SUSER_NAME": user, "ORIGINAL_LOGIN": user, "SYSTEM_USER": user,
		"USER_NAME":          of(0, 1, text(128), func(*Session, []Value) (Value, error) { return str("dbo"), nil }),
		"USER":               plain(0, text(128), func(*Session, []Value) Value { return str("dbo") }),
		"CURRENT_USER":       plain(0, text(128), func(*Session, []Value) Value { return str("dbo") }),
		"HOST_NAME":          plain(0, text(128), func(s *Session, _ []Value) Value { return str(s.Host) }),
		"APP_NAME":           plain(0, text(128), func(s *Session, _ []Value) Value { return str(s.App) }),
		"SERVERPROPERTY":     plain(1, text(128), serverProperty),
		"DATABASEPROPERTYEX": plain(2, text(128), databaseProperty),
		"COLLATIONPROPERTY":  of(2, 2, is(intType), collationProperty),
		"COLUMNPROPERTY":     plain(3, is(intType), columnProperty),
		"HAS_PERMS_BY_NAME":  of(3, 5, is(intType), hasPerms),
		"XACT_STATE": plain(0, is(Type{Kind: SmallInt}), func(s *Session,
			_ []Value) Value {
			return Value{N: s.state()}
		}),
		"ROWCOUNT_BIG": plain(0, is(Type{Kind: BigInt}), func(s *Session, _ []Value) Value {
			return Value{N: s.rowCount}
		}),
		"SCOPE_IDENTITY": plain(0, is(Type{Kind: Decimal, Prec: 38}), func(s *Session,
			_ []Value) Value {
			return s.identity
		}),
		"IDENT_CURRENT": of(1, 1, is(Type{Kind: Decimal, Prec: 38}), func(s *Session, v []Value) (Value, error) {
			t, err := s.byName(v[0].S)
			if err != nil || t == nil || t.identity() == nil {
				return null, err
			}
			if !t.used {
				return Value{N: t.identity().seed}, nil
			}
			return Value{N: t.next - t.identity().step}, nil
		}),
		"ERROR_NUMBER":    caught(is(intType), func(e *Error) Value { return Value{N: int64(e.Number)} }),
		"ERROR_SEVERITY":  caught(is(intType), func(e *Error) Value { return Value{N: int64(e.Class)} }),
		"ERROR_STATE":     caught(is(intType), func(e *Error) Value { return Value{N: int64(e.State)} }),
		"ERROR_LINE":      caught(is(intType), func(e *Error) Value { return Value{N: int64(e.Line)} }),
		"ERROR_MESSAGE":   caught(text(4000), func(e *Error) Value { return str(e.Message) }),
		"ERROR_PROCEDURE": caught(text(128), func(*Error) Value { return null }),
	}
}

func (s *Session) state() int64 {
	switch {
	case s.tx == nil:
		return 0
	case s.tx.doomed:
		return -1
	}
	return 1
}

func objectID(s *Session, v []Value) (Value, error) {
	t, err := s.byName(v[0].S)
	if err != nil || t == nil {
		return null, err
	}
	if code, _ := t.kind(); len(v) > 1 && !strings.EqualFold(strings.TrimSpace(v[1].S), strings.TrimSpace(code)) {
		return null, nil
	}
	return Value{N: int64(t.id)}, nil
}

func nameOf(s *Session, v []Value, schema bool) Value {
	t := s.byID(v[0].N)
	if t == nil {
		return null
	}
	if schema {
		return Value{S: t.schema}
	}
	return Value{S: t.name}
}

func serverProperty(s *Session, v []Value) Value {
	x, is := map[string]string{"productversion": s.srv.Version, "productmajorversion": fmt.Sprint(s.srv.major()),
		"engineedition": "3", "edition": "Developer Edition (64-bit), simulated", "servername": s.srv.Name,
		"machinename": s.srv.Name, "collation": DefaultCollation, "productlevel": "RTM",
		"isintegratedsecurityonly": "0"}[strings.ToLower(v[0].S)]
	return Value{S: x, Null: !is}
}

func databaseProperty(s *Session, v []Value) Value {
	db := s.srv.databases[strings.ToLower(v[0].S)]
	if db == nil {
		return null
	}
	x, is := map[string]string{"collation": db.Coll.Name, "status": "ONLINE", "updateability": "READ_WRITE",
		"recovery": "FULL"}[strings.ToLower(v[1].S)]
	return Value{S: x, Null: !is}
}

func collationProperty(_ *Session, v []Value) (Value, error) {
	c, err := CollationOf(v[0].S)
	if err != nil {
		return null, nil
	}
	style := 0
	if !c.Binary {
		style = 65536 | 131072
	}
	if c.IgnoreCase {
		style |= 1
	}
	if c.IgnoreAccent {
		style |= 2
	}
	n, is := map[string]int{"codepage": c.CodePage, "lcid": c.LCID, "comparisonstyle": style,
		"version": c.Version}[strings.ToLower(v[1].S)]
	return Value{N: int64(n), Null: !is}, nil
}

func columnProperty(s *Session, v []Value) Value {
	t := s.byID(v[0].N)
	if t == nil || t.column(v[1].S) < 0 {
		return null
	}
	c := t.Columns[t.column(v[1].S)]
	switch strings.ToLower(v[2].S) {
	case "isidentity":
		return boolean(c.Identity)
	case "iscomputed":
		return boolean(c.Computed != nil)
	case "allowsnull":
		return boolean(c.Null)
	case "charmaxlen":
		return Value{N: int64(c.Type.Len)}
	}
	return null
}

func hasPerms(s *Session, v []Value) (Value, error) {
	perm := strings.ToUpper(v[2].S)
	return boolean(s.login.May == nil || slices.Contains(s.login.May, perm)), nil
}

// global is one of the functions that look like variables.
func (sc *scope) global(name string) (*expr, error) {
	n := func(t Type, f func(s *Session) int64) (*expr, error) {
		return &expr{t: t, sure: true, f: func(fr *frame) (Value, error) { return Value{N: f(fr.s)}, nil }}, nil
	}
	t := func(f func(s *Session) string) (*expr, error) {
		return &expr{t: Type{Kind: NVarChar, Len: 300, Coll: sc.s.db.Coll}, sure: true, f: func(fr *frame) (Value,
			error) {
			return Value{S: f(fr.s)}, nil
		}}, nil
	}
	switch name {
	case "@@trancount":
		return n(intType, func(s *Session) int64 { return int64(s.count) })
	case "@@rowcount":
		return n(intType, func(s *Session) int64 { return s.rowCount })
	case "@@error":
		return n(intType, func(s *Session) int64 { return int64(s.lastError) })
	case "@@spid":
		return n(Type{Kind: SmallInt}, func(s *Session) int64 { return int64(s.ID) })
	case "@@lock_timeout":
		return n(intType, func(s *Session) int64 { return s.lockTimeout })
	case "@@options":
		return n(intType, func(*Session) int64 { return 5496 })
	case "@@max_precision":
		return n(Type{Kind: TinyInt}, func(*Session) int64 { return 38 })
	case "@@microsoftversion":
		return n(intType, func(s *Session) int64 { return int64(s.srv.major()) << 24 })
	case "@@identity":
		return &expr{t: Type{Kind: Decimal, Prec: 38}, f: func(fr *frame) (Value, error) {
			return fr.s.identity,
				nil
		}}, nil
	case "@@version":
		return t(func(s *Session) string {
			return "Microsoft SQL Server (simulated by a stand-in of Amber Tray) - " + s.srv.Version
		})
	case "@@servername":
		return t(func(s *Session) string { return s.srv.Name })
	}
	return nil, fail(137, 15, "Must declare the scalar variable \"%s\", or the stand-in does not know it.", name)
}
