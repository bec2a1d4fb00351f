package oracle

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// catalogued is a name as the catalog has it, and shown one of the catalog as people write it.
func catalogued(name string) string { return Dialect.Catalogued(name) }

func shown(name string) string { return Dialect.Shown(name) }

// owner is whose a schema's tables are, as the catalog has it.
func (d *DB) owner(schema string) string {
	if schema == "" {
		return d.schema
	}
	return catalogued(schema)
}

// found is a table with what the program has to know beside.
type found struct {
	*db.Table
	id    string // of the object
	types []native
}

// A native is the server's own type of a column.
type native struct {
	name    string // as it is shown
	typ     string // as the server names it, without length
	length  int
	isFixed bool // filled up with blanks
}

func (f *found) column(name string) *native {
	i := slices.IndexFunc(f.types, func(c native) bool { return c.name == name })
	if i < 0 {
		return nil
	}
	return &f.types[i]
}

// Find describes a table or view.
func (d *DB) Find(ctx context.Context, schema, table string) (*db.Table, error) {
	f, err := d.find(ctx, schema, table)
	if f == nil {
		return nil, err
	}
	return f.Table, err
}

func (d *DB) find(ctx context.Context, schema, table string) (*found, error) {
	q, owner, name := d.questions(), d.owner(schema), catalogued(table)
	const cannot = "cannot be read"
	rows, err := q.Rows(ctx, cannot, `SELECT o.object_type, o.object_id, c.comments FROM all_objects o
		LEFT JOIN all_tab_comments c ON c.owner = o.owner AND c.table_name = o.object_name
		WHERE o.owner = :1 AND o.object_name = :2 AND o.object_type IN ('TABLE', 'VIEW')`, owner, name)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	f := &found{Table: &db.Table{Schema: schema, Name: table, View: *rows[0][0] == "VIEW"}, id: *rows[0][1]}
	if rows[0][2] != nil {
		f.Comment = *rows[0][2]
	}
	rows, err = q.Rows(ctx, cannot, `SELECT c.column_name, c.data_type, c.data_length, c.data_precision, c.data_scale,
		c.char_length, c.char_used, c.nullable, c.default_length, c.virtual_column, c.identity_column, m.comments
		FROM all_tab_cols c LEFT JOIN all_col_comments m ON m.owner = c.owner AND m.table_name = c.table_name
		AND m.column_name = c.column_name WHERE c.owner = :1 AND c.table_name = :2 AND c.hidden_column = 'NO'
		ORDER BY c.column_id`, owner, name)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		c, own := columnOf(r)
		f.Columns, f.types = append(f.Columns, c), append(f.types, own)
	}
	return f, d.keyOf(ctx, f, owner, name)
}

// keyOf finds the primary key, and columns that the server alone numbers.
func (d *DB) keyOf(ctx context.Context, f *found, owner, name string) error {
	at := func(column string) *db.Column {
		i := slices.IndexFunc(f.Columns, func(c db.Column) bool { return c.Name == shown(column) })
		if i < 0 {
			return &db.Column{}
		}
		return &f.Columns[i]
	}
	rows, err := d.questions().Rows(ctx, "cannot be read", `SELECT x.column_name, x.position FROM all_constraints k
		JOIN all_cons_columns x ON x.owner = k.owner AND x.constraint_name = k.constraint_name
		WHERE k.owner = :1 AND k.table_name = :2 AND k.constraint_type = 'P'`, owner, name)
	if err != nil {
		return err
	}
	for _, r := range rows {
		at(*r[0]).Key, _ = strconv.Atoi(*r[1])
	}
	if !slices.ContainsFunc(f.Columns, func(c db.Column) bool { return c.Identity }) {
		return nil
	}
	rows, err = d.questions().Rows(ctx, "cannot be read", `SELECT column_name FROM all_tab_identity_cols
		WHERE owner = :1 AND table_name = :2 AND generation_type = 'ALWAYS'`, owner, name)
	for _, r := range rows {
		at(*r[0]).Generated = true
	}
	return err
}

// columnOf reads one row of the catalog.
func columnOf(r []*string) (db.Column, native) {
	number := func(s *string) (int, bool) {
		if s == nil {
			return 0, false
		}
		n, err := strconv.Atoi(*s)
		return n, err == nil
	}
	c := db.Column{Name: shown(*r[0]), Required: *r[7] == "N", Default: r[8] != nil, Generated: *r[9] == "YES",
		Identity: *r[10] == "YES"}
	if r[11] != nil {
		c.Comment = *r[11]
	}
	length, _ := number(r[2])
	prec, hasPrec := number(r[3])
	scale, hasScale := number(r[4])
	if chars, is := number(r[5]); is && chars > 0 && (r[6] == nil || *r[6] == "C") {
		length = chars
	}
	own := native{name: c.Name, typ: *r[1], length: length}
	c.Type = strings.ToLower(own.typ)
	switch own.typ {
	case "VARCHAR2", "CHAR", "NVARCHAR2", "NCHAR":
		own.isFixed = own.typ == "CHAR" || own.typ == "NCHAR"
		unit := " char"
		if r[6] != nil && *r[6] == "B" {
			unit = " byte"
		}
		if strings.HasPrefix(own.typ, "N") {
			unit = ""
		}
		c.Type = fmt.Sprintf("%s(%d%s)", c.Type, length, unit)
	case "NUMBER":
		switch {
		case hasPrec:
			c.Type = fmt.Sprintf("number(%d,%d)", prec, scale)
		case hasScale:
			c.Type = fmt.Sprintf("number(38,%d)", scale)
			prec, hasPrec = 38, true
		}
	case "FLOAT", "RAW":
		c.Type = fmt.Sprintf("%s(%d)", c.Type, max(prec, length*0))
	}
	standardType(&c, own.typ, length, prec, scale, hasPrec)
	return c, own
}

// standardType finds the standard type that a column's values are read as (SQL Language
// Reference, "Data Types").
func standardType(c *db.Column, typ string, length, prec, scale int, hasPrec bool) {
	name, rest, _ := strings.Cut(typ, "(")
	switch name {
	case "NUMBER":
		numberType(c, prec, scale, hasPrec)
	case "FLOAT":
		c.Keeps.Digits = max(prec*30103/100000, 1)
	case "BINARY_DOUBLE":
		c.SQL = sqltype.Type{Kind: sqltype.Double}
	case "BINARY_FLOAT":
		c.Keeps.Digits = 6
	case "VARCHAR2", "NVARCHAR2":
		c.SQL = sqltype.Type{Kind: sqltype.VarChar, Length: max(length, 1)}
	case "CHAR", "NCHAR":
		c.SQL = sqltype.Type{Kind: sqltype.Char, Length: max(length, 1)}
	case "CLOB", "NCLOB":
		c.SQL = sqltype.Type{Kind: sqltype.Text}
	case "DATE":
		c.SQL = sqltype.Type{Kind: sqltype.Timestamp} // it has a time of the day, in seconds
	case "TIMESTAMP":
		precision, _ := strconv.Atoi(rest[:max(strings.IndexByte(rest, ')'), 0)])
		c.SQL = sqltype.Type{Kind: sqltype.Timestamp, Precision: min(precision, 6)}
		if strings.Contains(typ, "TIME ZONE") {
			c.SQL.Kind = sqltype.TimestampTZ
		}
	case "INTERVAL DAY":
		if _, second, is := strings.Cut(typ, "TO SECOND("); is {
			precision, _ := strconv.Atoi(strings.TrimSuffix(second, ")"))
			c.SQL = sqltype.Type{Kind: sqltype.Time, Precision: min(precision, 6)}
		}
	case "LONG", "LONG RAW", "BLOB", "BFILE", "RAW":
		c.Unfit = "a column of type " + strings.ToLower(typ) + " takes no text; make it a clob, or leave it out"
	}
	if c.SQL.IsText() {
		c.Keeps = reading.Keeps{}
	}
}

// numberType is the type of a NUMBER. Whole ones are bounded by their digits.
func numberType(c *db.Column, prec, scale int, hasPrec bool) {
	whole := func(k sqltype.Kind) {
		most := int64(1)
		for range prec {
			most *= 10
		}
		c.SQL = sqltype.Type{Kind: k}
		if lo, hi := c.SQL.Range(); most-1 < hi {
			c.Lo, c.Hi = max(lo, 1-most), most-1
		}
	}
	switch {
	case !hasPrec:
		c.SQL, c.AnyLength = sqltype.Type{Kind: sqltype.Decimal, Precision: sqltype.MaxPrecision}, true
	case scale == 0 && prec <= 4:
		whole(sqltype.SmallInt)
		c.Truth = prec == 1
	case scale == 0 && prec <= 9:
		whole(sqltype.Integer)
	case scale == 0 && prec <= 18:
		whole(sqltype.BigInt)
	case scale >= 0 && scale <= prec:
		c.SQL = sqltype.Type{Kind: sqltype.Decimal, Precision: prec, Scale: scale}
	}
}
