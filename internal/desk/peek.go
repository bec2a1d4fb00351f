package desk

import (
	"context"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
)

// A PeekAnswer is a database's tables, or one table.
type PeekAnswer struct {
	Tables *TablesAnswer
	Table  *TableAnswer
}

// JSON is the document of the answer.
func (a *PeekAnswer) JSON() any {
	if a.Tables != nil {
		return a.Tables
	}
	return a.Table
}

// A TablesAnswer is a database's tables.
type TablesAnswer struct {
	Document
	Tables []db.Listing `json:"tables"`
}

// A TableAnswer is a table.
type TableAnswer struct {
	Document
	Schema  string        `json:"schema"`
	Name    string        `json:"name"`
	Rows    int64         `json:"rows"`
	Columns []TableColumn `json:"columns"`
	First   [][]*string   `json:"first"`
}

// A TableColumn is one column of a table.
type TableColumn struct {
	Name     string `json:"name"`
	Type     string `json:"type"`
	Required bool   `json:"required"`
	Key      int    `json:"key"`

	Column db.Column `json:"-"`
}

// Peek lists the tables of a database, or with a name shows one and its first
// rows.
func (d *Desk) Peek(ctx context.Context, at DatabaseRequest, table string, first int) (*PeekAnswer, error) {
	conn, err := d.connect(ctx, at, toRead)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	lister, ok := conn.(db.Lister)
	if !ok {
		return nil, need("peek: %s cannot be listed", conn.Dialect().Title)
	}
	if table == "" {
		tables, err := lister.List(ctx)
		if err != nil {
			return nil, err
		}
		for i := range tables {
			if strings.HasPrefix(tables[i].Name, dialect.KeepPrefix) {
				tables[i].Kind = "kept"
			}
		}
		return &PeekAnswer{Tables: &TablesAnswer{document("peek"), list(tables)}}, nil
	}
	t, err := findTable(ctx, conn, "peek", table)
	if err != nil {
		return nil, err
	}
	a := &TableAnswer{Document: document("peek-table"), Schema: t.Schema, Name: t.Name, Columns: []TableColumn{}}
	if a.Rows, err = conn.Count(ctx, t); err != nil {
		return nil, err
	}
	if a.First, err = lister.Head(ctx, t.Schema, t.Name, first); err != nil {
		return nil, err
	}
	for _, c := range t.Columns {
		a.Columns = append(a.Columns, TableColumn{c.Name, c.Type, c.Required, c.Key, c})
	}
	return &PeekAnswer{Table: a}, nil
}

// findTable finds a table by its name, or by schema and name, for a verb.
func findTable(ctx context.Context, conn db.Session, verb, name string) (*db.Table, error) {
	t, err := conn.Find(ctx, "", name)
	if schema, table, ok := strings.Cut(name, "."); err == nil && t == nil && ok {
		t, err = conn.Find(ctx, schema, table)
	}
	if err == nil && t == nil {
		hint := "'ambertray peek URL' lists the tables"
		if l, is := conn.(db.Lister); is {
			var names []string
			list, _ := l.List(ctx) // what it may not list, it does not offer
			for _, x := range list {
				names = append(names, x.Name)
			}
			if m := phrase.Meant(name, names); m != "" {
				hint = m
			}
		}
		return nil, need("%s: there is no table %s\n  %s", verb, name, hint)
	}
	return t, err
}
