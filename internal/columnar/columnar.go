// Package columnar keeps a table in files of columns: Apache Parquet, as its format
// specification 2.11 has it. Rows of values go in, and the same values come out.
//
// The model: an [Encoder] makes bytes of a row, side by side with others. A [Writer]
// takes the bytes of many rows, in order, and writes pages of columns, compressed. A
// [File] is such a file, or one that another program wrote: what its columns are is
// found from the file's schema, and what has no type here is said to be Unfit.
package columnar

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"

	pq "github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"ambertray/internal/sqltype"
)

// A Column is one of a table.
type Column struct {
	Name     string
	Type     sqltype.Type
	Required bool
	Comment  string
	// Written is the type as the file has it.
	Written string
	// Unfit, if not empty, says why values of the column cannot be read.
	Unfit string
	// AnyLength tells that the file says nothing of a text's length.
	AnyLength bool

	leaf int // where it is among the file's columns
	form form
}

// A form is how values of a column lie in a file, and in the bytes of a row.
type form uint8

const (
	formNone   form = iota
	formTruth       // BOOLEAN
	formInt32       // INT32
	formInt64       // INT64
	formWide        // FIXED_LEN_BYTE_ARRAY(16), a number of 128 bits
	formDouble      // DOUBLE
	formUUID        // FIXED_LEN_BYTE_ARRAY(16), a UUID
	formText        // BYTE_ARRAY
	// Only read, as others write them.
	formFloat    // FLOAT
	formUnsigned // INT32 or INT64 without sign
	formMillis   // a time or timestamp in thousandths
	formBytes    // a number in bytes of any length
	formOld      // INT96, a timestamp of old: billionths of the day, and the day
)

// The precisions of decimals that fit 32 and 64 bits (LogicalTypes.md, DECIMAL).
const (
	digits32 = 9
	digits64 = 18
)

// formOf is how values of a type are written.
func formOf(t sqltype.Type) form {
	switch t.Kind {
	case sqltype.Boolean:
		return formTruth
	case sqltype.SmallInt, sqltype.Integer, sqltype.Date:
		return formInt32
	case sqltype.BigInt, sqltype.Time, sqltype.Timestamp, sqltype.TimestampTZ:
		return formInt64
	case sqltype.Decimal:
		switch {
		case t.Precision <= digits32:
			return formInt32
		case t.Precision <= digits64:
			return formInt64
		}
		return formWide
	case sqltype.Double:
		return formDouble
	case sqltype.UUID:
		return formUUID
	case sqltype.Char, sqltype.VarChar, sqltype.Text, sqltype.None:
	}
	return formText
}

// TypeName is the type of a column of the file, as the specification writes it.
func TypeName(t sqltype.Type) string { return nodeOf(t).Type().String() }

// nodeOf is the column of a file for values of a type.
func nodeOf(t sqltype.Type) pq.Node {
	switch t.Kind {
	case sqltype.Boolean:
		return pq.Leaf(pq.BooleanType)
	case sqltype.SmallInt:
		return pq.Int(16)
	case sqltype.Integer:
		return pq.Int(32)
	case sqltype.BigInt:
		return pq.Int(64)
	case sqltype.Decimal:
		typ := pq.FixedLenByteArrayType(16)
		switch formOf(t) { // others: wide
		case formInt32:
			typ = pq.Int32Type
		case formInt64:
			typ = pq.Int64Type
		}
		return pq.Decimal(t.Scale, t.Precision, typ)
	case sqltype.Double:
		return pq.Leaf(pq.DoubleType)
	case sqltype.Date:
		return pq.Date()
	case sqltype.Time:
		return pq.TimeAdjusted(pq.Microsecond, false)
	case sqltype.Timestamp:
		return pq.TimestampAdjusted(pq.Microsecond, false)
	case sqltype.TimestampTZ:
		return pq.TimestampAdjusted(pq.Microsecond, true)
	case sqltype.UUID:
		return pq.UUID()
	case sqltype.Char, sqltype.VarChar, sqltype.Text, sqltype.None:
	}
	return pq.String()
}

// A row is the root of a schema whose columns stay in their order.
type row struct {
	pq.Group
	fields []pq.Field
}

func (r row) Fields() []pq.Field { return r.fields }

type field struct {
	pq.Node
	name string
}

func (f field) Name() string { return f.name }

func (f field) Value(base reflect.Value) reflect.Value { return base.MapIndex(reflect.ValueOf(f.name)) }

// schemaOf is the schema of a file with the columns given. A value that comes often is
// written once where that pays: all but truths and doubles begin with a dictionary,
// which the writer leaves when it grows too large.
func schemaOf(name string, columns []Column) *pq.Schema {
	root := row{}
	for _, c := range columns {
		node := nodeOf(c.Type)
		if f := formOf(c.Type); f != formTruth && f != formDouble {
			node = pq.Encoded(node, &pq.RLEDictionary)
		}
		if !c.Required {
			node = pq.Optional(node)
		}
		root.fields = append(root.fields, field{node, c.Name})
	}
	return pq.NewSchema(name, root)
}

// key is under which a file keeps what Parquet has no place for.
const key = "ambertray.table"

// Known is what a file says of its table.
type Known struct {
	Comment string     `json:"description,omitempty"`
	Key     []string   `json:"key,omitempty"`
	Unique  [][]string `json:"unique,omitempty"`
}

// A note is what is kept of a table and its columns.
type note struct {
	Known
	Columns []columnNote `json:"columns"`
}

type columnNote struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Comment string `json:"description,omitempty"`
}

func noteOf(known Known, columns []Column) string {
	n := note{Known: known}
	for _, c := range columns {
		n.Columns = append(n.Columns, columnNote{c.Name, c.Type.String(), c.Comment})
	}
	b, err := json.Marshal(n)
	if err != nil {
		panic(err) // no text of it can be wrong
	}
	return string(b)
}

// columnsOf finds the columns of a file.
func columnsOf(f *pq.File) (out []Column, known Known) {
	for _, c := range f.Root().Columns() {
		x := Column{Name: c.Name(), Required: c.Required(), leaf: -1}
		if !c.Leaf() || c.Repeated() {
			x.Written = "nested"
			x.Unfit = "it has values within values, and a table has rows and columns"
		} else {
			x.leaf = int(c.Index())
			x.Written = c.Type().String()
			x.Type, x.form = typeOf(c.Type())
			if x.form == formNone {
				x.Unfit = "values of type " + x.Written + " are not read"
			}
			x.AnyLength = x.Type.IsText()
			if x.Unfit == "" && packedByLZ4(f, x.leaf) {
				x.Unfit = "its pages are compressed by LZ4, which the library at hand does not always read rightly"
			}
		}
		out = append(out, x)
	}
	text, _ := f.Lookup(key)
	var n note
	if json.Unmarshal([]byte(text), &n) != nil || len(n.Columns) != len(out) {
		return out, Known{}
	}
	for i, n := range n.Columns {
		t, err := sqltype.Parse(n.Type)
		if c := &out[i]; err == nil && n.Name == c.Name && c.Written == TypeName(t) {
			c.Type, c.Comment, c.AnyLength = t, n.Comment, false
		}
	}
	return out, n.Known
}

// packedByLZ4 reports whether a column has pages that were compressed by it. (The library's
// 0.32 makes empty texts of the large pages of a file that other readers read.)
func packedByLZ4(f *pq.File, leaf int) bool {
	return slices.ContainsFunc(f.Metadata().RowGroups, func(g format.RowGroup) bool {
		codec := g.Columns[leaf].MetaData.Codec
		return codec == format.Lz4Raw || codec == format.Lz4
	})
}

// typeOf is what values of a file's type are read as, and how they lie there.
func typeOf(t pq.Type) (sqltype.Type, form) {
	logical := t.LogicalType()
	kind := t.Kind()
	if logical == nil || logical.Value == nil {
		return plainType(kind)
	}
	switch l := logical.Value.(type) {
	case *format.StringType, *format.EnumType, *format.JsonType:
		return sqltype.Type{Kind: sqltype.Text}, formText
	case *format.UUIDType:
		return sqltype.Type{Kind: sqltype.UUID}, formUUID
	case *format.DateType:
		return sqltype.Type{Kind: sqltype.Date}, formInt32
	case *format.IntType:
		return intType(l, kind)
	case *format.DecimalType:
		return decimalType(l, kind)
	case *format.TimeType:
		return clockType(sqltype.Time, l.Unit)
	case *format.TimestampType:
		if l.IsAdjustedToUTC {
			return clockType(sqltype.TimestampTZ, l.Unit)
		}
		return clockType(sqltype.Timestamp, l.Unit)
	}
	return sqltype.Type{}, formNone
}

// plainType is what values are whose file says only how they lie there.
func plainType(kind pq.Kind) (sqltype.Type, form) {
	switch kind {
	case pq.Boolean:
		return sqltype.Type{Kind: sqltype.Boolean}, formTruth
	case pq.Int32:
		return sqltype.Type{Kind: sqltype.Integer}, formInt32
	case pq.Int64:
		return sqltype.Type{Kind: sqltype.BigInt}, formInt64
	case pq.Float:
		return sqltype.Type{Kind: sqltype.Double}, formFloat
	case pq.Double:
		return sqltype.Type{Kind: sqltype.Double}, formDouble
	case pq.Int96:
		return sqltype.Type{Kind: sqltype.Timestamp, Precision: 6}, formOld
	case pq.ByteArray, pq.FixedLenByteArray:
	}
	return sqltype.Type{}, formNone
}

func intType(l *format.IntType, kind pq.Kind) (sqltype.Type, form) {
	f := formInt32
	if kind == pq.Int64 {
		f = formInt64
	}
	switch {
	case !l.IsSigned && l.BitWidth == 64:
		return sqltype.Type{Kind: sqltype.Decimal, Precision: 20}, formUnsigned
	case !l.IsSigned && l.BitWidth == 32:
		return sqltype.Type{Kind: sqltype.BigInt}, formUnsigned
	case l.BitWidth == 64:
		return sqltype.Type{Kind: sqltype.BigInt}, f
	case l.BitWidth == 32 || !l.IsSigned && l.BitWidth == 16:
		return sqltype.Type{Kind: sqltype.Integer}, f
	}
	return sqltype.Type{Kind: sqltype.SmallInt}, f
}

func decimalType(l *format.DecimalType, kind pq.Kind) (sqltype.Type, form) {
	t := sqltype.Type{Kind: sqltype.Decimal, Precision: int(l.Precision), Scale: int(l.Scale)}
	switch {
	case t.Precision > sqltype.MaxPrecision || t.Scale < 0 || t.Scale > t.Precision:
		return sqltype.Type{}, formNone
	case kind == pq.Int32:
		return t, formInt32
	case kind == pq.Int64:
		return t, formInt64
	}
	return t, formBytes
}

// clockType is a time or timestamp. Billionths of a second have no type here.
func clockType(kind sqltype.Kind, unit format.TimeUnit) (sqltype.Type, form) {
	switch unit.Value.(type) {
	case *format.MicroSeconds:
		return sqltype.Type{Kind: kind, Precision: 6}, formInt64
	case *format.MilliSeconds:
		return sqltype.Type{Kind: kind, Precision: 3}, formMillis
	}
	return sqltype.Type{}, formNone
}

// Same reports whether two files have the same columns, and if not, what differs.
func Same(a, b []Column) (differs string) {
	if len(a) != len(b) {
		return fmt.Sprintf("%d columns, and %d", len(a), len(b))
	}
	for i := range a {
		switch {
		case a[i].Name != b[i].Name:
			return fmt.Sprintf("the columns %s and %s", a[i].Name, b[i].Name)
		case a[i].Written != b[i].Written:
			return fmt.Sprintf("column %s is %s and %s", a[i].Name, a[i].Written, b[i].Written)
		}
	}
	return ""
}
