package db

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// LedgerTable is the name of the table in which a schema keeps what was loaded into
// it, and by whom.
const LedgerTable = "ambertray_ledger"

// A LedgerRow is one source of one load.
type LedgerRow struct {
	Entry, Table, Mode   string
	Source, Part         string
	Bytes                int64
	SHA256               string
	Before, After        int64 // rows of the table
	Read, Loaded, Reject int64 // records of the load
	Sums                 string
	By, At, Version      string
}

// ledger is the definition of the table.
func ledger(schema string) dialect.Table {
	some := func(name string, n int) dialect.Column { // may be empty, which is null in some databases
		return dialect.Column{Name: name, Type: sqltype.Type{Kind: sqltype.VarChar, Length: n}}
	}
	text := func(name string, n int) dialect.Column {
		c := some(name, n)
		c.Required = true
		return c
	}
	number := func(name string) dialect.Column {
		return dialect.Column{Name: name, Type: sqltype.Type{Kind: sqltype.BigInt}, Required: true}
	}
	return dialect.Table{Schema: schema, Name: LedgerTable, Columns: []dialect.Column{
		text("load_entry", 200), text("table_name", 128), text("load_mode", 20),
		text("source_name", 1000), some("source_part", 500), number("source_bytes"),
		some("source_sha256", 64), number("rows_before"), number("rows_after"), number("records_read"),
		number("records_loaded"), number("records_rejected"),
		{Name: "column_sums", Type: sqltype.Type{Kind: sqltype.Text}}, some("loaded_by", 200),
		{Name: "loaded_at", Type: sqltype.Type{Kind: sqltype.Timestamp, Precision: 3}, Required: true},
		some("program_version", 60)}}
}

// A Ledger is what a schema keeps of the loads into its tables.
type Ledger struct {
	Questions
	Schema string
}

// A Ledgerer is a Session whose database can have ledgers.
type Ledgerer interface{ Ledger(schema string) Ledger }

// A Recorder is a Load that writes into the ledger what it has done, such that it is
// there if and only if the rows are.
type Recorder interface {
	Record(ctx context.Context, rows []LedgerRow) error
}

func (l Ledger) table() string { return l.Dialect.Qualified(l.Schema, LedgerTable) }

// Make makes the table where there is none.
func (l Ledger) Make(ctx context.Context) error {
	return l.makeTable(ctx, ledger(l.Schema))
}

// Write adds rows.
func (l Ledger) Write(ctx context.Context, rows []LedgerRow) error {
	for _, r := range rows {
		args := []any{r.Entry, r.Table, r.Mode, r.Source, r.Part, r.Bytes, r.SHA256, r.Before, r.After,
			r.Read, r.Loaded, r.Reject, r.Sums, r.By, r.At, r.Version}
		var marks []string
		for i := range args {
			marks = append(marks, l.Dialect.Parameter(i+1))
		}
		if err := l.Do(ctx, "cannot write into the table "+LedgerTable,
			fmt.Sprintf("INSERT INTO %s VALUES (%s)", l.table(), strings.Join(marks, ", ")), args...); err != nil {
			return err
		}
	}
	return nil
}

// In lists what has come into a table since it was last made or emptied by a load,
// the oldest first.
func (l Ledger) In(ctx context.Context, table string) (rows []LedgerRow, err error) {
	got, err := l.Rows(ctx, "cannot read the table "+LedgerTable,
		"SELECT load_entry, load_mode, source_name, source_part, source_bytes, source_sha256, rows_after, loaded_by, "+
			"loaded_at FROM "+l.table()+" WHERE table_name = "+l.Dialect.Parameter(1)+
			" ORDER BY loaded_at, load_entry", table)
	if err != nil {
		return nil, err
	}
	for _, g := range got {
		var f [9]string
		for i, v := range g {
			if v != nil {
				f[i] = *v
			}
		}
		r := LedgerRow{Entry: f[0], Table: table, Mode: f[1], Source: f[2], Part: f[3], SHA256: f[5], By: f[7],
			At: f[8]}
		r.Bytes, _ = strconv.ParseInt(f[4], 10, 64)
		r.After, _ = strconv.ParseInt(f[6], 10, 64)
		if r.Mode == undone {
			continue
		}
		if n := len(rows); Mode(r.Mode) != Append && Mode(r.Mode) != Merge && n > 0 && rows[n-1].Entry != r.Entry {
			rows = nil
		}
		rows = append(rows, r)
	}
	return rows, nil
}
